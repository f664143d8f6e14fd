//! Hints that this machine runs inside something else.

use super::text_in;
use crate::Roots;
use crate::proc::{lines, read_file};

/// `virtual machine (…)`, `container`, both, or nothing on bare hardware.
pub fn hints(roots: &Roots) -> String {
    let mut hints = vec![];
    let flags = read_file(&roots.proc.join("cpuinfo")).unwrap_or_default();
    let virtual_machine = lines(&flags)
        .find(|line| line.starts_with(b"flags"))
        .is_some_and(|line| line.split(|byte| *byte == b' ').any(|flag| flag == b"hypervisor"));
    if virtual_machine || roots.sys.join("hypervisor/type").exists() {
        let maker = text_in(&roots.sys.join("hypervisor/type"))
            .or_else(|| text_in(&roots.sys.join("class/dmi/id/sys_vendor")));
        hints.push(
            maker.map_or_else(|| "virtual machine".to_owned(), |maker| format!("virtual machine ({maker})")),
        );
    }
    if roots.run.join("systemd/container").exists() || roots.run.join(".containerenv").exists() {
        hints.push("container".to_owned());
    }
    hints.join(", ")
}

#[cfg(test)]
mod tests {
    use super::super::tests::tree;
    use super::*;

    #[test]
    fn a_flag_of_the_processor_and_a_file_give_it_away() {
        let root = tree(&[
            ("proc/cpuinfo", "processor : 0\nflags\t\t: fpu hypervisor sse\n"),
            ("sys/class/dmi/id/sys_vendor", "Made-up Cloud\n"),
            ("run/systemd/container", "pod\n"),
        ]);
        let at = |name: &str| root.path().join(name);
        let roots = Roots { proc: at("proc"), sys: at("sys"), run: at("run"), lib: at("lib") };
        assert_eq!(hints(&roots), "virtual machine (Made-up Cloud), container");
        let bare = Roots { proc: at("none"), sys: at("none"), run: at("none"), lib: at("none") };
        assert_eq!(hints(&bare), "");
    }
}
