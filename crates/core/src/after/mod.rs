//! What follows from a plan: what it will weigh and cost, how it is shared and proved, and whether a file keeps it.

pub mod check;
pub mod cost;
pub mod forecast;
pub mod memory;
pub mod proof;
pub mod quality;
pub mod sample;
pub mod stages;
pub mod suggestions;
