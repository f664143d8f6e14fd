//! Memory that is wanted soon.
//!
//! Each of thousands of rows is somewhere else, and counting one more owner of it waits for the memory. Asked for all at once,
//! the waits overlap.

use std::sync::Arc;

/// How many bytes come at once.
const LINE: usize = 64;

/// Asks for the count of owners of what is shared.
pub fn fetch<T>(shared: &Arc<T>) {
    // The two counts are before the value.
    ask(Arc::as_ptr(shared).cast::<i8>().wrapping_sub(2 * size_of::<usize>()));
}

/// Asks for all of a value.
pub fn fetch_whole<T>(value: &T) {
    let begin = std::ptr::from_ref(value).cast::<i8>();
    for at in (0..size_of::<T>()).step_by(LINE) {
        ask(begin.wrapping_add(at));
    }
}

fn ask(address: *const i8) {
    #[cfg(target_arch = "x86_64")]
    // SAFETY: asking for memory has no effect but on time, whatever the address.
    unsafe {
        use std::arch::x86_64::{_MM_HINT_T0, _mm_prefetch};
        _mm_prefetch::<_MM_HINT_T0>(address);
    }
    #[cfg(not(target_arch = "x86_64"))]
    let _ = address;
}
