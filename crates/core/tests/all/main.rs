//! All tests of what core gives to others, in one program: it is linked once.

mod charting;
mod demo;
mod expressions;
mod figures;
mod findings;
mod foreign_reader;
mod hostile;
mod innocents;
mod mutator;
mod parts;
mod questions;
mod recording;
mod rows;
mod sentences;
mod usual;
mod versions;
mod walking;
