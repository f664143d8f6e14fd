//! The inspector: everything about one process over the whole screen, with the time axis above. What is asked of the present
//! is asked while the present is shown; at another moment there is what was recorded, and the rest says that it was not.

mod drawing;
mod head;
mod inspector;
mod pages;
mod sheet;
mod table;

pub use inspector::Inspector;
