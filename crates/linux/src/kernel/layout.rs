//! Where the fields are that a program of ours reads, or why it cannot be put together.

use super::btf::{Btf, Field};
use super::refused::Refused;

/// The kernel's types, asked for what is needed and for what may be missing.
#[derive(Clone, Copy)]
pub struct Layout<'a>(pub &'a Btf);

impl Layout<'_> {
    /// A field that no kernel since 5.15 is without.
    pub fn need(self, of: &'static str, path: &str) -> Result<Field, Refused> {
        self.has(of, path).ok_or_else(|| Refused::Field(format!("{of}.{path}")))
    }

    /// A field that some kernels do not have.
    pub fn has(self, of: &str, path: &str) -> Option<Field> {
        self.0.field(of, path)
    }
}
