//! `/proc/PID/cgroup`; `proc_pid_cgroup(5)`, `cgroups(7)`.

use super::lines;
use dozor_core::text::clean;

/// The control group that says most: that of version 2, else that of the service manager, else the deepest.
pub fn parse(bytes: &[u8]) -> Option<String> {
    let path = |line: &[u8]| -> Option<(usize, String)> {
        let mut parts = line.splitn(3, |byte| *byte == b':');
        let (hierarchy, controllers, path) = (parts.next()?, parts.next()?, parts.next()?);
        let path = clean(path);
        let rank = match (hierarchy, controllers) {
            _ if path == "/" => 0,
            (b"0", b"") => 1000,
            (_, b"name=systemd") => 999,
            _ => path.matches('/').count(),
        };
        Some((rank, path))
    };
    lines(bytes).filter_map(path).max_by_key(|(rank, _)| *rank).map(|(_, path)| path)
}

/// What a control group stands for: a service, a session's scope, a container's name or short number.
pub fn service(path: &str) -> Option<String> {
    let unit = |part: &'_ str| {
        part.strip_suffix(".service").or_else(|| part.strip_suffix(".scope")).map(str::to_owned)
    };
    if let Some(name) = path.rsplit('/').find_map(unit) {
        // A container's scope is its runtime, a dash and a long number; twelve digits are enough to find it.
        let long = name.rsplit_once('-').filter(|(_, number)| is_container_number(number));
        return Some(long.map_or_else(|| name.clone(), |(kind, number)| format!("{kind} {}", &number[..12])));
    }
    let number = path.rsplit('/').find(|part| is_container_number(part));
    number.map(|number| format!("container {}", &number[..12]))
}

fn is_container_number(text: &str) -> bool {
    text.len() == 64 && text.bytes().all(|byte| byte.is_ascii_hexdigit())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_group_that_says_most_is_taken() {
        assert_eq!(
            parse(b"0::/system.slice/domectl.service\n").as_deref(),
            Some("/system.slice/domectl.service")
        );
        assert_eq!(parse(b"4:memory:/a/b\n1:cpu:/\n0::/\n").as_deref(), Some("/a/b"));
        assert_eq!(parse(b"0::/\n").as_deref(), Some("/"));
        assert_eq!(parse(b"garbage\n"), None);
    }

    #[test]
    fn services_sessions_and_containers_have_names() {
        let number = "0123456789abcdef".repeat(4);
        for (path, name) in [
            ("/system.slice/domectl.service", Some("domectl".to_owned())),
            ("/user.slice/user-1000.slice/session-3.scope", Some("session-3".to_owned())),
            (&format!("/system.slice/pod-{number}.scope"), Some("pod 0123456789ab".to_owned())),
            (&format!("/pods/{number}"), Some("container 0123456789ab".to_owned())),
            ("/", None),
        ] {
            assert_eq!(service(path), name, "{path}");
        }
    }
}
