//! Sound: where channels belong, how many become few, and what tracks are made of.

pub mod downmix;
pub mod layout;
pub mod track;
