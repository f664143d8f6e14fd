//! How benchmarks tell times.

use std::time::Duration;

/// The median, and what nearly all of them stay below.
pub fn report(what: &str, mut times: Vec<Duration>, budget: &str) {
    times.sort_unstable();
    let ms = |time: Duration| time.as_secs_f64() * 1e3;
    let (median, slow) = (times[times.len() / 2], times[times.len() * 95 / 100]);
    println!("{what:<44} median {:.2} ms, 95 % within {:.2} ms{budget}", ms(median), ms(slow));
}
