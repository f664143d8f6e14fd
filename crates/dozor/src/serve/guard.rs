//! Who may ask. Without a token only this machine may, and only by its own names: a page of somebody else that a browser here shows
//! cannot reach it under another name. With a token whoever knows it.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use hyper::HeaderMap;
use hyper::header::{AUTHORIZATION, HOST};

/// Who may ask.
#[derive(Clone, Debug, Default)]
pub struct Guard {
    /// The token, where one is needed.
    pub token: Option<String>,
    /// Names of hosts are looked at: it listens on an address of this machine alone.
    pub local: bool,
}

/// Why somebody may not ask.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// The token is missing or wrong.
    Token,
    /// It is asked for under a name that is not this machine's.
    Host,
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
    /// Whether a request with these headers may be answered.
    pub fn check(&self, headers: &HeaderMap) -> Result<(), Refusal> {
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
        let host = headers.get(HOST).and_then(|value| value.to_str().ok()).unwrap_or_default();
        let name = match host.strip_prefix('[') {
            Some(rest) => rest.split(']').next().unwrap_or_default(),
            None => host.split(':').next().unwrap_or_default(),
        };
        let is_own = name.eq_ignore_ascii_case("localhost")
            || name.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback());
        if is_own { Ok(()) } else { Err(Refusal::Host) }
    }
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
        let guard = Guard { token: Some("correct-horse-battery".to_owned()), local: false };
        let check = |value: &str| guard.check(&headers(&[("authorization", value)]));
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
        assert_eq!(guard.check(&HeaderMap::new()), Err(Refusal::Token));
    }

    #[test]
    fn without_a_token_only_names_of_this_machine_are_answered() {
        let guard = Guard { token: None, local: true };
        for own in ["localhost:7373", "127.0.0.1", "127.9.0.1:80", "[::1]:7373", "LOCALHOST"] {
            assert_eq!(guard.check(&headers(&[("host", own)])), Ok(()), "{own}");
        }
        for other in ["lynx.example", "lynx.example:7373", "", "10.0.0.1", "localhost.example"] {
            assert_eq!(guard.check(&headers(&[("host", other)])), Err(Refusal::Host), "{other}");
        }
    }
}
