//! Dozor: watches a Linux machine in the terminal and says what is wrong with it.
#![forbid(unsafe_code)]

fn main() -> std::process::ExitCode {
    dozor::cli::main()
}
