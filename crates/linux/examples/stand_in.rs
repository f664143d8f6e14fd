//! Writes a made-up machine: `cargo run -p dozor-linux --example stand_in -- laptop FOLDER`.

use dozor_linux::stand_in::Machine;
use std::path::Path;
use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let names = Machine::ALL.map(|(name, _)| name).join(", ");
    let [name, folder] = &arguments[..] else {
        eprintln!("usage: stand_in MACHINE FOLDER (one of: {names})");
        return ExitCode::from(2);
    };
    let Some((_, machine)) = Machine::ALL.iter().find(|(known, _)| known == name) else {
        eprintln!("stand_in: no machine is called '{name}' (one of: {names})");
        return ExitCode::from(2);
    };
    match machine.write(Path::new(folder)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("stand_in: {folder}: {error}");
            ExitCode::FAILURE
        }
    }
}
