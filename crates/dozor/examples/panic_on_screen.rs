//! Takes the terminal and panics: for the test that the terminal comes back.

fn main() {
    let _screen = dozor::run::terminal::Console::open().expect("a terminal");
    if std::env::args().any(|argument| argument == "thread") {
        let _ = std::thread::spawn(|| panic!("on purpose")).join();
        println!("and the program went on");
    }
    panic!("on purpose");
}
