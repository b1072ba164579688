//! What happens over time: runs, their tasks and the names of their files, watched files, and the forecast of the night.

pub mod placing;
pub mod run;
pub mod schedule;
pub mod tasks;
pub mod watch;
