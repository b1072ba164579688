//! Starting the application and a browser for tests of the interface, and for pictures of it.

mod application;
mod browser;

pub use application::{Application, make_clips, names_in};
pub use browser::Browser;

/// What helpers of tests answer.
pub type Outcome<T> = Result<T, Box<dyn std::error::Error + Send + Sync>>;
