//! The server: the API, the event stream, the scheduler and the page.
//!
//! It links no media library: everything that touches media happens in engine processes.

mod api;
mod app;
mod events;
mod files;
mod forecasts;
mod guard;
mod outputs;
mod page;
mod publish;
mod reader;
mod scheduler;
mod server;
mod turns;
mod viewing;
mod views;
mod watching;

pub use api::describe;
pub use server::{Config, Server, ServerError};
