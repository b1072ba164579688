//! The rules of the job and their arithmetic.
//!
//! Everything here is pure: no input or output, no clock, no randomness, no globals. The way of the
//! data is one direction: a source's [`reading`] and a [`preset`] (with the editor's own overrides)
//! become a [`plan`]; an engine obeys it (told through [`protocol`]); [`check`] holds the file
//! against it. [`run`] and [`watch`] are the state machines around that.

pub mod check;
pub mod downmix;
pub mod ebml;
pub mod film;
pub mod findings;
pub mod forecast;
pub mod geometry;
pub mod ink;
pub mod interleave;
pub mod iso;
pub mod jfif;
pub mod language;
pub mod layout;
pub mod level;
pub mod light;
pub mod lut;
pub mod media_types;
pub mod memory;
pub mod naming;
pub mod night;
pub mod orientation;
pub mod pace;
pub mod parts;
pub mod path;
pub mod pixels;
pub mod plan;
pub mod preset;
pub mod problem;
pub mod proof;
pub mod protocol;
pub mod quality;
pub mod rational;
pub mod reading;
pub mod run;
pub mod sample;
pub mod spline;
pub mod stages;
pub mod timecode;
pub mod timeline;
pub mod tone;
pub mod units;
pub mod viewing;
pub mod watch;
pub mod wholeness;
