//! The rules of the job and their arithmetic.
//!
//! Everything here is pure: no input or output, no clock, no randomness, no globals. The way of the
//! data is one direction: a source's [`reading`] and a [`preset`] (with the editor's own overrides)
//! become a [`plan`]; an engine obeys it (told through [`protocol`]); [`after::check`] holds the file
//! against it. [`flow`] has the state machines around that.
//!
//! Modules stand in layers, each importing only those above it; `tests/layers.rs` holds them to it.

pub mod time;
pub mod units;

pub mod lut;
pub mod naming;
pub mod path;
pub mod problem;
pub mod storage;

pub mod catalogue;
pub mod patch;

pub mod picture;
pub mod sound;

pub mod formats;

pub mod facts;

pub mod timeline;

pub mod findings;

pub mod reading;

pub mod preset;

pub mod plan;

pub mod after;

pub mod flow;

pub mod protocol;
