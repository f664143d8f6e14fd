//! Takes the terminal and panics: for the test that the terminal comes back.

fn main() {
    let _screen = dozor::ui::terminal::Screen::open(true).expect("a terminal");
    panic!("on purpose");
}
