//! How a command ended.

/// How a command ended.
pub enum End {
    /// Well.
    Done,
    /// By this signal.
    Signal(i32),
    /// With this exit status.
    Status(u8),
}

impl From<Option<i32>> for End {
    fn from(signal: Option<i32>) -> End {
        signal.map_or(End::Done, End::Signal)
    }
}
