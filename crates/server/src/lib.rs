//! The server: the API, the event stream, the scheduler and the page.
//!
//! It links no media library: everything that touches media happens in engine processes.

mod api;
mod app;
mod assets;
mod cache;
mod clock;
mod door;
mod events;
mod files;
mod forecasts;
mod guard;
mod house_presets;
mod once;
mod outputs;
mod page;
mod pictures;
mod proving;
mod publish;
mod reader;
mod scanner;
mod scheduler;
mod server;
mod stills;
mod storages;
mod turns;
mod upkeep;
mod viewing;
mod views;
mod watching;

pub use api::describe;
pub use server::{Config, Server, ServerError};
