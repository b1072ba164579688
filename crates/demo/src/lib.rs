//! Draws and sounds the demo media: clips of *The Kiln Year*, deterministic and small.
//!
//! Interlaced clips are truly so: their two fields show different moments. The telecined film is
//! made from 24 drawn frames a second, spread over fields by 3:2.

pub mod canvas;
pub mod clips;
pub mod scenes;
pub mod sounds;

pub use clips::{Clip, clips, make};
