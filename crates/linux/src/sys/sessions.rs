//! Who is logged in: the login manager's session files, else `utmp(5)`.

use crate::proc::{lines, read_file};
use dozor_core::known::Raw;
use std::path::Path;

/// Bytes of a record and the type of a user's session; `utmp(5)` on 64-bit Linux.
const UTMP_RECORD: usize = 384;
const USER_PROCESS: i16 = 7;

/// Number of sessions of users; absent where neither file is there.
pub fn count(run: &Path) -> Raw {
    let sessions = std::fs::read_dir(run.join("systemd/sessions")).map(|entries| {
        let files = entries.flatten().filter_map(|entry| read_file(&entry.path()).ok());
        files.filter(|text| is_user_session(text)).count()
    });
    let utmp = read_file(&run.join("utmp")).map(|bytes| count_utmp(&bytes));
    match (sessions, utmp) {
        (Ok(sessions), Ok(utmp)) => Raw::new(sessions.max(utmp) as i64),
        (Ok(count), _) | (_, Ok(count)) => Raw::new(count as i64),
        _ => Raw::ABSENT,
    }
}

fn is_user_session(text: &[u8]) -> bool {
    let has = |wanted: &[u8]| lines(text).any(|line| line == wanted);
    has(b"CLASS=user") && !has(b"STATE=closing")
}

fn count_utmp(bytes: &[u8]) -> usize {
    let records = bytes.chunks_exact(UTMP_RECORD);
    records.filter(|record| i16::from_le_bytes([record[0], record[1]]) == USER_PROCESS).count()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_sessions_of_users_count() {
        let root = tempfile::tempdir().expect("a scratch folder");
        assert_eq!(count(root.path()), Raw::ABSENT, "nobody knows is not nobody");
        let folder = root.path().join("systemd/sessions");
        std::fs::create_dir_all(&folder).expect("a folder");
        assert_eq!(count(root.path()), Raw::new(0));
        std::fs::write(folder.join("1"), "CLASS=user\nSTATE=active\n").expect("a file");
        std::fs::write(folder.join("2"), "CLASS=manager\nSTATE=active\n").expect("a file");
        std::fs::write(folder.join("3"), "CLASS=user\nSTATE=closing\n").expect("a file");
        assert_eq!(count(root.path()), Raw::new(1));
        let mut utmp = vec![0u8; 2 * UTMP_RECORD + 5];
        (utmp[0], utmp[UTMP_RECORD]) = (7, 7);
        std::fs::write(root.path().join("utmp"), utmp).expect("a file");
        assert_eq!(count(root.path()), Raw::new(2));
    }
}
