//! What sources say and hold, in every codec and every container: made as planned, or refused in the plan.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_sign_loss)]

mod making;
#[path = "../material/mod.rs"]
mod material;
mod shapes;
mod sound;
mod sources;
mod words;
