//! Names of users through the system's own lookup, remembered.

use dozor_core::text::{Text, clean};
use std::collections::HashMap;
use std::ffi::{CStr, CString};

/// Names of users by their number. A number without a name is shown as the number.
#[derive(Default)]
pub struct Users(HashMap<u32, Text>);

impl Users {
    /// The name of a user.
    pub fn name(&mut self, uid: u32) -> Text {
        self.0
            .entry(uid)
            .or_insert_with(|| Text::from(look_up(uid).unwrap_or_else(|| uid.to_string())))
            .clone()
    }
}

/// The name of a user as the C library has it, and through it whatever the system is set up to ask; `getpwuid_r(3)`.
fn look_up(uid: u32) -> Option<String> {
    // SAFETY: the pointers are those that `entry` gives, valid for the call.
    entry(|entry, buffer, length, found| unsafe { libc::getpwuid_r(uid, entry, buffer, length, found) })
}

/// Whether there is a user of this name; `getpwnam_r(3)`.
pub fn exists(name: &str) -> bool {
    let Ok(name) = CString::new(name) else { return false };
    // SAFETY: the name is a C string that lives as long, the other pointers are those that `entry` gives.
    entry(|entry, buffer, length, found| unsafe {
        libc::getpwnam_r(name.as_ptr(), entry, buffer, length, found)
    })
    .is_some()
}

/// Asks for an entry of the user database with a buffer that is large enough; gives its name.
fn entry(
    ask: impl Fn(*mut libc::passwd, *mut libc::c_char, usize, *mut *mut libc::passwd) -> libc::c_int,
) -> Option<String> {
    let mut buffer = vec![0u8; 1024];
    loop {
        // SAFETY: a passwd of zeros is a valid value of this plain C struct (null pointers and zero numbers).
        let mut entry: libc::passwd = unsafe { std::mem::zeroed() };
        let mut found = std::ptr::null_mut();
        let status = ask(&raw mut entry, buffer.as_mut_ptr().cast(), buffer.len(), &raw mut found);
        if status == libc::ERANGE && buffer.len() < 1 << 20 {
            buffer.resize(buffer.len() * 4, 0);
            continue;
        }
        if status != 0 || found.is_null() || entry.pw_name.is_null() {
            return None;
        }
        // SAFETY: on success pw_name points to a C string inside `buffer`, which still lives.
        let name = unsafe { CStr::from_ptr(entry.pw_name) };
        return Some(clean(name.to_bytes()));
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn root_has_its_name_and_a_stranger_its_number() {
        let mut users = super::Users::default();
        assert_eq!(&*users.name(0), "root");
        assert_eq!(&*users.name(3_999_999_001), "3999999001");
        assert!(super::exists("root") && !super::exists("no such user"));
    }
}
