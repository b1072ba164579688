//! Pictures: their size and place, fields, samples, colour and light.

mod colour;
mod fields;
mod geometry;
mod h273;
pub mod ink;
pub mod jfif;
pub mod light;
mod orientation;
mod pixels;
mod samples;
pub mod spline;
pub mod tone;

pub use colour::{Colour, Hdr};
pub use fields::FieldOrder;
pub use geometry::{Frame, Rectangle, crop_to_shape, even, fitted};
pub(crate) use geometry::{half_even, inside};
pub use h273::{MatrixCoefficients, Primaries, Range, Transfer};
pub use orientation::Orientation;
pub use pixels::{PixelForm, PixelFormat};
pub use samples::{ChromaSite, ColourSpace, Conversion, Samples};
