//! The live page in a real browser: headless Chromium, driven by the W3C WebDriver protocol with real clicks and keys.

use crate::browser::Browser;
use crate::served::{Serving, recorded};
use serde_json::json;
use std::time::Duration;

const WIDE: (u32, u32) = (1280, 900);
const NARROW: (u32, u32) = (390, 844);

/// The texts of a column of the table.
fn column(browser: &Browser, at: usize) -> Vec<String> {
    let script =
        format!("return [...document.querySelectorAll('#rows tr')].map(r=>r.children[{at}].textContent)");
    let cells = browser.run(&script);
    cells.as_array().expect("cells").iter().map(|cell| cell.as_str().unwrap_or_default().to_owned()).collect()
}

#[test]
fn the_page_shows_what_is_so_now_and_goes_on() {
    let serving = Serving::start(&["--every", "200ms"]);
    let browser = Browser::start(WIDE);
    browser.open(&serving.url("/"));
    browser.wait("live", "return document.getElementById('state').textContent.startsWith('LIVE')");
    browser.wait("processes", "return document.querySelectorAll('#rows tr').length > 3");
    assert_eq!(browser.run("return document.querySelectorAll('.lane').length"), json!(5));
    let before = browser.run("return last.wall");
    browser.wait("another sample", &format!("return last.wall > {before}"));
    // Nothing came from anywhere else, and nothing went wrong.
    let from = browser.run("return performance.getEntriesByType('resource').map(e=>new URL(e.name).host)");
    let own = serving.address();
    assert!(from.as_array().expect("a list").iter().all(|host| host == own.as_str()), "{from}");
    assert_eq!(browser.complaints(), Vec::<String>::new());
}

#[test]
fn a_click_orders_and_typing_narrows() {
    let folder = recorded("page-orders");
    let serving = Serving::start(&["--recordings", folder.path().to_str().expect("a path")]);
    let browser = Browser::start(WIDE);
    browser.open(&serving.url("/"));
    browser.wait("recordings", "return document.querySelectorAll('#source option').length == 2");
    browser.choose("#source", 1);
    browser.wait("the recorded host", "return document.getElementById('host').textContent == 'lynx-obs'");
    browser.wait("a replay", "return document.getElementById('state').textContent.startsWith('REPLAY')");
    browser.click("th button[data-column='rss']");
    let sorted = "const a=last.processes.map(r=>r[last.columns.indexOf('rss')]).filter(v=>v!=null);return shown('rss',Math.max(...a))";
    assert_eq!(json!(column(&browser, 5)[0]), browser.run(sorted), "the largest first");
    assert_eq!(browser.run("return document.querySelector('th[aria-sort]').textContent"), json!("rss ▾"));
    browser.click("th button[data-column='name']");
    let names = column(&browser, 1);
    assert!(names[0].to_lowercase() <= names[names.len() - 1].to_lowercase(), "{names:?}");
    browser.type_into("#narrow", "stacker");
    browser.wait("narrowed", "return document.querySelectorAll('#rows tr').length == 1");
    assert_eq!(column(&browser, 1), ["stacker"]);
    // By the keyboard alone: the heading keeps the focus, enter turns the order round.
    browser.type_into("#narrow", "\u{e003}\u{e003}\u{e003}\u{e003}\u{e003}\u{e003}\u{e003}");
    browser.wait("everybody", "return document.querySelectorAll('#rows tr').length > 50");
    browser.run("document.querySelector(\"th button[data-column='name']\").focus()");
    browser.keys("\u{e007}");
    assert_eq!(
        browser.run("return document.querySelector('th[aria-sort]').getAttribute('aria-sort')"),
        json!("descending")
    );
    assert_eq!(browser.run("return document.activeElement.dataset.column"), json!("name"));
    assert_eq!(browser.complaints(), Vec::<String>::new());
}

#[test]
fn the_slider_goes_through_a_recording() {
    let folder = recorded("page-slides");
    let serving = Serving::start(&["--recordings", folder.path().to_str().expect("a path")]);
    let browser = Browser::start(WIDE);
    browser.open(&serving.url("/"));
    browser.wait("recordings", "return document.querySelectorAll('#source option').length == 2");
    browser.choose("#source", 1);
    browser.wait("a replay", "return document.getElementById('state').textContent.startsWith('REPLAY')");
    let end = browser.run("return last.wall");
    assert_eq!(end, browser.run("return points.times[points.times.length-1]"));
    browser.click("#back");
    browser.wait("an earlier moment", &format!("return last.wall < {end}"));
    browser.click("#on");
    browser.wait("the end again", &format!("return last.wall == {end}"));
    browser.run("const t=document.getElementById('time');t.focus()");
    browser.keys("\u{e011}");
    browser.wait("the beginning", "return last.gap");
    let marks = browser.run("return document.getElementById('marks').textContent");
    assert!(marks.as_str().is_some_and(|text| text.contains("the dome opens")), "{marks}");
}

#[test]
fn it_fits_a_phone_and_a_reader_of_screens() {
    let serving = Serving::start(&["--every", "300ms"]);
    let browser = Browser::start(NARROW);
    browser.open(&serving.url("/"));
    browser.wait("processes", "return document.querySelectorAll('#rows tr').length > 3");
    let fits = "return document.documentElement.scrollWidth <= document.documentElement.clientWidth";
    assert_eq!(browser.run(fits), json!(true), "the page itself does not scroll sideways");
    // Whatever can be pressed has a name, each strip and sign says what it shows.
    let nameless = "return [...document.querySelectorAll('button,input,select')].filter(e=>!(e.textContent.trim()||e.getAttribute('aria-label')||e.closest('label'))).length";
    assert_eq!(browser.run(nameless), json!(0));
    let silent = "return [...document.querySelectorAll('.lane svg,.lane [role=img]')].filter(e=>!e.getAttribute('aria-label')).length";
    assert_eq!(browser.run(silent), json!(0));
    assert_eq!(browser.run("return document.documentElement.lang"), json!("en"));
}

#[test]
fn a_server_that_goes_is_said_and_one_that_comes_back_is_found() {
    let mut serving = Serving::start(&["--every", "200ms"]);
    let browser = Browser::start(WIDE);
    browser.open(&serving.url("/"));
    browser.wait("live", "return document.getElementById('state').textContent.startsWith('LIVE')");
    serving.stop();
    browser.wait(
        "that it is gone",
        "return document.getElementById('state').textContent.includes('trying again')",
    );
    serving.start_again();
    std::thread::sleep(Duration::from_millis(100));
    browser.wait("live again", "return document.getElementById('state').textContent.startsWith('LIVE')");
}
