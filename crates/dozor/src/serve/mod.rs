//! What is watched here for others: a read-only endpoint over HTTP, and pushing to a collector.
//!
//! One thread samples ([`sampling`]), one serves ([`server`]: a small event loop, so a slow reader costs no thread), one pushes
//! ([`push`]). What is served is made once for each sample and shared by all who ask ([`current`]); a client that does not read
//! what it asked for is dropped, never waited for.

mod answer;
mod current;
mod guard;
mod noted;
mod past;
pub mod push;
mod sampling;
pub mod server;
mod steady;

use dozor_export::hues;
use std::sync::LazyLock;

pub use answer::{FOLLOWERS, Service};

pub use guard::{Guard, SHORTEST as SHORTEST_TOKEN};
pub use noted::Noted;
pub use past::Past;
pub use sampling::{Sampling, sample_on};
pub use server::{Listen, Server};

/// The live page, all in one file, with the colours that everything has.
fn page() -> &'static str {
    static PAGE: LazyLock<String> = LazyLock::new(|| {
        include_str!("page.html").replacen("/* the colours */", &hues::style(hues::SCREEN[1]), 1)
    });
    &PAGE
}
