//! Names of containers: from their control group where that holds one, else from what the engines that run them keep
//! below `/var/lib`.

use dozor_core::text::clean;
use serde_json::Value;
use std::path::Path;

/// A container as its control group names it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Container {
    /// By name.
    Named(String),
    /// By a number of 64 hexadecimal digits.
    Numbered(String),
}

/// The container that a control group belongs to; `cgroups(7)`, systemd.special(7), lxc.container.conf(5).
pub fn of_group(path: &str) -> Option<Container> {
    // The outermost one: what runs inside makes groups of its own below.
    path.split('/').find_map(|part| {
        let unit = part.strip_suffix(".scope");
        let scope = unit.unwrap_or(part);
        let number = scope.rsplit('-').next().unwrap_or(scope);
        if number.len() == 64 && number.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            return Some(Container::Numbered(number.to_owned()));
        }
        let name = unit.and_then(|scope| scope.strip_prefix("machine-"));
        let name = name.or_else(|| part.strip_prefix("lxc.payload."));
        name.map(|name| Container::Named(name.replace("\\x2d", "-")))
    })
}

/// What to call a container: its name, else the first twelve digits of its number.
pub fn name(container: &Container, lib: &Path) -> String {
    match container {
        Container::Named(name) => name.clone(),
        Container::Numbered(number) => {
            let known = in_a_file_of_its_own(number, lib).or_else(|| in_a_list(number, lib));
            known.map_or_else(|| number[..12].to_owned(), |name| clean(name.as_bytes()))
        }
    }
}

fn json(path: &Path) -> Option<Value> {
    const LARGEST: u64 = 8 << 20;
    let length = std::fs::metadata(path).ok()?.len();
    if length > LARGEST {
        return None;
    }
    serde_json::from_slice(&crate::proc::read_file(path).ok()?).ok()
}

/// Engines that keep a folder for each container.
fn in_a_file_of_its_own(number: &str, lib: &Path) -> Option<String> {
    let config = json(&lib.join("docker/containers").join(number).join("config.v2.json"))?;
    Some(config.get("Name")?.as_str()?.trim_start_matches('/').to_owned())
}

/// Engines that keep one list of all.
fn in_a_list(number: &str, lib: &Path) -> Option<String> {
    let list = json(&lib.join("containers/storage/overlay-containers/containers.json"))?;
    let entry =
        list.as_array()?.iter().find(|entry| entry.get("id").and_then(Value::as_str) == Some(number))?;
    Some(entry.get("names")?.get(0)?.as_str()?.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn containers_go_by_their_name_where_it_can_be_known() {
        let number = "0123456789abcdef".repeat(4);
        let other = "fedcba9876543210".repeat(4);
        let lib = tempfile::tempdir().expect("a folder");
        let own = lib.path().join("docker/containers").join(&number);
        std::fs::create_dir_all(&own).expect("a folder");
        std::fs::write(own.join("config.v2.json"), "{\"Name\": \"/night-board\"}").expect("a file");
        let list = lib.path().join("containers/storage/overlay-containers");
        std::fs::create_dir_all(&list).expect("a folder");
        let text = format!("[{{\"id\": \"{other}\", \"names\": [\"sky\\u001bcam\"]}}]");
        std::fs::write(list.join("containers.json"), text).expect("a file");
        let called = |path: &str| of_group(path).map(|container| name(&container, lib.path()));
        for (path, expected) in [
            (format!("/system.slice/engine-{number}.scope/inner"), Some("night-board")),
            (format!("/pods/{other}"), Some("sky\\x1bcam")),
            (format!("/pods/{}", "ab".repeat(32)), Some("abababababab")),
            ("/machine.slice/machine-dome\\x2dsim.scope/system.slice/a.service".to_owned(), Some("dome-sim")),
            ("/lxc.payload.archive/b.service".to_owned(), Some("archive")),
            ("/system.slice/domectl.service".to_owned(), None),
        ] {
            assert_eq!(called(&path).as_deref(), expected, "{path}");
        }
        std::fs::write(own.join("config.v2.json"), "{ broken").expect("a file");
        assert_eq!(called(&format!("/x-{number}.scope")).as_deref(), Some("0123456789ab"));
    }
}
