//! The rules of the job and their arithmetic.
//!
//! Everything here is pure: no input or output, no clock, no randomness, no globals. The way of the
//! data is one direction: a source's [`reading`] and a [`preset`] (with the editor's own overrides)
//! become a [`plan`]; an engine obeys it (told through [`protocol`]); [`check`] holds the file
//! against it. [`run`] and [`watch`] are the state machines around that.

pub mod check;
pub mod forecast;
pub mod geometry;
pub mod level;
pub mod media_types;
pub mod naming;
pub mod night;
pub mod pace;
pub mod path;
pub mod plan;
pub mod preset;
pub mod problem;
pub mod protocol;
pub mod rational;
pub mod reading;
pub mod run;
pub mod stages;
pub mod timecode;
pub mod units;
pub mod viewing;
pub mod watch;
