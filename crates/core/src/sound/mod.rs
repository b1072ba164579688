//! Sound: where channels belong, and how many become few.

pub mod downmix;
pub mod layout;
