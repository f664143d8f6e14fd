//! Who may ask. Without a token only this machine may, and only by its own names: a page of somebody else that a browser here shows
//! cannot reach it under another name. Of its users only the one who serves, and root: what is served has command lines of others. What
//! collectors take has none, and is for all. With a token whoever knows it.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use hyper::HeaderMap;
use hyper::header::{AUTHORIZATION, HOST};

/// Who may ask.
#[derive(Clone, Debug, Default)]
pub struct Guard {
    /// The token, where one is needed.
    pub token: Option<String>,
    /// Names of hosts and users are looked at: it listens on an address of this machine alone.
    pub local: bool,
    /// Every user of this machine may ask for everything.
    pub open: bool,
    /// User who serves.
    pub owner: u32,
}

/// What every user of this machine may ask for: it holds no command line.
const FOR_ALL: [&str; 2] = ["/health", "/metrics"];

/// Why somebody may not ask.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// The token is missing or wrong.
    Token,
    /// It is asked for under a name that is not this machine's.
    Host,
    /// Another user of this machine asks.
    User,
}

/// The shortest token.
pub const SHORTEST: usize = 16;

/// Compares in a time that does not tell where two texts differ.
fn same(a: &[u8], b: &[u8]) -> bool {
    let longest = a.len().max(b.len());
    let mut different = a.len() ^ b.len();
    for at in 0..longest {
        let (a, b) = (a.get(at).copied().unwrap_or(0), b.get(at).copied().unwrap_or(0));
        different |= usize::from(a ^ b);
    }
    std::hint::black_box(different) == 0
}

impl Guard {
    /// Whether users at the other end matter.
    pub fn asks_for_user(&self) -> bool {
        self.token.is_none() && self.local && !self.open
    }

    /// Whether a request for a path with these headers may be answered to this user, where that is known.
    pub fn check(&self, path: &str, headers: &HeaderMap, user: Option<u32>) -> Result<(), Refusal> {
        if let Some(token) = &self.token {
            let given = headers.get(AUTHORIZATION).and_then(|value| value.to_str().ok()).unwrap_or_default();
            let (kind, rest) = given.split_once(' ').unwrap_or_default();
            let given = if kind.eq_ignore_ascii_case("bearer") {
                rest.trim().as_bytes().to_vec()
            } else if kind.eq_ignore_ascii_case("basic") {
                // A browser asks for a name and a password: the password is the token.
                let both = BASE64.decode(rest.trim()).unwrap_or_default();
                let at = both.iter().position(|byte| *byte == b':').map_or(both.len(), |at| at + 1);
                both[at..].to_vec()
            } else {
                vec![]
            };
            return if same(&given, token.as_bytes()) { Ok(()) } else { Err(Refusal::Token) };
        }
        if !self.local {
            return Ok(());
        }
        let mut hosts = headers.get_all(HOST).iter();
        let is_own = hosts.next().and_then(|host| host.to_str().ok()).is_some_and(is_own_name);
        // Who reads the first and who reads the last of two would not mean the same.
        if !is_own || hosts.next().is_some() {
            return Err(Refusal::Host);
        }
        let may = !self.asks_for_user()
            || FOR_ALL.contains(&path)
            || user.is_some_and(|user| [0, self.owner].contains(&user));
        if may { Ok(()) } else { Err(Refusal::User) }
    }
}

/// Whether a host, with its port where there is one, is this machine itself.
fn is_own_name(host: &str) -> bool {
    let (name, port) = match host.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
        Some(both) => both,
        None => host.split_at(host.find(':').unwrap_or(host.len())),
    };
    let is_port = |text: &str| text.len() <= 5 && text.bytes().all(|digit| digit.is_ascii_digit());
    let has_port = port.is_empty() || port.strip_prefix(':').is_some_and(is_port);
    let is_name = name.eq_ignore_ascii_case("localhost")
        || name.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback());
    has_port && is_name
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(all: &[(&'static str, &str)]) -> HeaderMap {
        all.iter()
            .map(|(key, value)| (key.parse().expect("a key"), value.parse().expect("a value")))
            .collect::<HeaderMap>()
    }

    #[test]
    fn a_token_is_needed_whole_however_it_is_given() {
        let guard = Guard { token: Some("correct-horse-battery".to_owned()), ..Guard::default() };
        let check = |value: &str| guard.check("/sample", &headers(&[("authorization", value)]), None);
        assert_eq!(check("Bearer correct-horse-battery"), Ok(()));
        assert_eq!(check("bearer  correct-horse-battery"), Ok(()));
        assert_eq!(check("Basic YXN0cm86Y29ycmVjdC1ob3JzZS1iYXR0ZXJ5"), Ok(()));
        for wrong in [
            "",
            "Bearer",
            "Bearer correct-horse-batter",
            "Bearer correct-horse-batteryy",
            "Basic !!!!",
            "Basic YXN0cm8=",
        ] {
            assert_eq!(check(wrong), Err(Refusal::Token), "{wrong}");
        }
        assert_eq!(guard.check("/metrics", &HeaderMap::new(), Some(0)), Err(Refusal::Token));
    }

    #[test]
    fn without_a_token_only_names_of_this_machine_are_answered() {
        let guard = Guard { local: true, owner: 1_000, ..Guard::default() };
        let check = |host: &str| guard.check("/sample", &headers(&[("host", host)]), Some(1_000));
        // `HeaderMap` keeps both of two.
        let mut twice = headers(&[("host", "localhost")]);
        twice.append(HOST, "board.example".parse().expect("a value"));
        assert_eq!(guard.check("/sample", &twice, Some(1_000)), Err(Refusal::Host));
        for own in ["localhost:7373", "127.0.0.1", "127.9.0.1:80", "[::1]:7373", "LOCALHOST"] {
            assert_eq!(check(own), Ok(()), "{own}");
        }
        for other in [
            "lynx.example",
            "lynx.example:7373",
            "",
            "10.0.0.1",
            "localhost.example",
            "[::1].example",
            "[::1",
            "[::1]x",
            "localhost:80.example",
        ] {
            assert_eq!(check(other), Err(Refusal::Host), "{other}");
        }
    }

    #[test]
    fn other_users_of_the_machine_get_what_has_no_command_lines() {
        let guard = Guard { local: true, owner: 1_000, ..Guard::default() };
        let check =
            |guard: &Guard, path: &str, user| guard.check(path, &headers(&[("host", "localhost")]), user);
        for path in ["/", "/sample", "/events", "/stream", "/recordings", "/lanes", "/findings"] {
            for user in [Some(1_000), Some(0)] {
                assert_eq!(check(&guard, path, user), Ok(()), "{path}");
            }
            for user in [Some(1_001), None] {
                assert_eq!(check(&guard, path, user), Err(Refusal::User), "{path}");
            }
        }
        for path in ["/health", "/metrics"] {
            assert_eq!(check(&guard, path, Some(1_001)), Ok(()));
            assert_eq!(check(&guard, path, None), Ok(()));
        }
        assert_eq!(check(&Guard { open: true, ..guard }, "/sample", Some(1_001)), Ok(()));
    }
}
