//! Exact time: fractions, timecode, stretches, and the rates of the trade.

mod map;
pub mod pace;
mod rates;
mod rational;
mod span;
mod timecode;

pub use map::{FromFirst, OutputTime, SourceTime, TimeMap};
pub(crate) use rates::{near_standard, nominal_rate};
pub use rates::{rate_text, usual_rates};
pub use rational::{NotRational, Rational};
pub use span::{PartsError, Span, check_order, total};
pub use timecode::{Timecode, TimecodeBase, TimecodeError, clock_text, duration_text, moment_text};
