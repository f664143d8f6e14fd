//! Dozor: watches a Linux machine in the terminal and says what is wrong with it.
#![forbid(unsafe_code)]

mod cli;
mod clock;
mod feed;
mod hands;
mod recorder;
mod ui;

use std::process::ExitCode;

fn main() -> ExitCode {
    cli::main()
}
