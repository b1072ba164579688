//! What happens over time: runs, watched files, and the forecast of the night.

pub mod night;
pub mod run;
pub mod watch;
