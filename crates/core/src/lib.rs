//! Dozor's computation, without interface code and without system calls.
//!
//! A *source* yields [`reading::Reading`]s; two consecutive readings give a [`sample::Sample`]; the
//! [`catalogue`] says what every number in a sample means; [`rank`] narrows, orders and arranges its processes, by [`expr`]essions;
//! a [`timeline::Timeline`] keeps samples in order and [`recording`] keeps them on disk. [`demo`] is a
//! simulated machine. Time always comes in as an argument: nothing here reads a clock or the environment.
#![forbid(unsafe_code)]

pub mod burn;
pub mod catalogue;
pub mod chart;
pub mod clock;
pub mod compare;
pub mod cores;
pub mod deed;
pub mod demo;
pub mod exited;
pub mod expr;
pub mod findings;
pub mod inside;
pub mod known;
pub mod lane;
pub mod limits;
pub mod listening;
pub mod parts;
pub mod ports;
pub mod query;
pub mod rank;
pub mod reading;
pub mod recording;
pub mod row;
pub mod run;
pub mod sample;
pub mod signals;
pub mod sorting;
pub mod source;
pub mod text;
pub mod thinning;
pub mod timeline;
pub mod units;
pub mod wanted;
pub mod when;
