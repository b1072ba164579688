//! Formats that can be written: containers, codecs, their limits, and what files of them are made of.

mod container;
mod declared;
pub mod ebml;
pub mod interleave;
pub mod iso;
pub mod language;
pub mod level;
pub mod media_types;
mod picture;
mod rate;
mod sound;
pub mod wholeness;

pub use container::{Chapters, Container, ContainerTraits, TimecodeAs};
pub use level::Level;
pub use picture::{
    FieldsIn, FrameRates, FullRange, Groups, PictureCodec, PictureDeclaration, PictureFormat, ProfileDeclaration, ProfileName,
    Rates, SizeModel, Stores,
};
pub use rate::{Effort, RateControl, RateControlForm, RateControlPatch};
pub use sound::{Blocks, SoundCodec, SoundCoding, SoundDeclaration, copies_into};

/// A text that looks like a number and may be written as one, such as the level 4.1 or the profile 4444.
pub(crate) fn text_or_number<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<String, D::Error> {
    use serde::Deserialize as _;
    match serde_json::Value::deserialize(deserializer)? {
        serde_json::Value::String(text) => Ok(text),
        serde_json::Value::Number(number) => Ok(number.to_string()),
        other => Err(serde::de::Error::custom(format!("{other} is neither a text nor a number"))),
    }
}
