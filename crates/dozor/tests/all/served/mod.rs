//! `dozor serve` for tests: started on a port that the kernel chooses, ended with the test.

use std::io::{BufRead as _, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};

pub const DOZOR: &str = env!("CARGO_BIN_EXE_dozor");

pub struct Serving {
    child: Child,
    address: String,
    arguments: Vec<String>,
}

/// Starts it and gives the address that it says.
fn spawn(listen: &str, arguments: &[String]) -> (Child, String) {
    let mut child = Command::new(DOZOR)
        .args(["serve", "--listen", listen])
        .args(arguments)
        .stderr(Stdio::piped())
        .spawn()
        .expect("it starts");
    let mut lines = BufReader::new(child.stderr.take().expect("its messages")).lines();
    let line = lines.next().expect("it says where it listens").expect("text");
    let address = line.split("http://").nth(1).and_then(|rest| rest.split(' ').next());
    let address = address.unwrap_or_else(|| panic!("no address: {line}")).trim().to_owned();
    std::thread::spawn(move || lines.for_each(drop));
    (child, address)
}

impl Serving {
    pub fn start(arguments: &[&str]) -> Serving {
        let arguments: Vec<String> = arguments.iter().map(|text| (*text).to_owned()).collect();
        let (child, address) = spawn("127.0.0.1:0", &arguments);
        Serving { child, address, arguments }
    }

    pub fn address(&self) -> String {
        self.address.clone()
    }

    pub fn url(&self, path: &str) -> String {
        format!("http://{}{path}", self.address)
    }

    pub fn pid(&self) -> u32 {
        self.child.id()
    }

    pub fn stop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }

    pub fn start_again(&mut self) {
        (self.child, self.address) = spawn(&self.address, &self.arguments);
    }
}

impl Drop for Serving {
    fn drop(&mut self) {
        self.stop();
    }
}

/// A folder with a recording of the simulated observatory, with a note in it.
pub fn recorded(name: &str) -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a scratch folder");
    let path = folder.path().join(format!("{name}.dozor"));
    dozor(&["demo", "--record", text(&path), "--for", "4m", "--every", "2s"]);
    dozor(&["note", text(&path), "the dome opens", "--at", "02:05"]);
    folder
}

pub fn text(path: &Path) -> &str {
    path.to_str().expect("a path")
}

/// Runs it and gives what it printed.
pub fn dozor(arguments: &[&str]) -> Vec<u8> {
    let output = Command::new(DOZOR).args(arguments).output().expect("it runs");
    assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    output.stdout
}
