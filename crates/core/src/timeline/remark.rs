//! What a source's timeline was like, where it was not plain.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::picture::PixelFormat;
use crate::time::{Rational, moment_text};

/// The form of a picture: columns, lines, pixel format.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PictureForm {
    /// Columns.
    pub width: u32,
    /// Lines.
    pub height: u32,
    /// Width of a pixel over its height.
    pub pixel_aspect: Rational,
    /// The pixel format in the library's short name.
    pub pixel_format: PixelFormat,
}

/// Something about a source that an editor should know of although it was dealt with. Moments are
/// seconds from the beginning of what was taken.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "remark", rename_all = "snake_case")]
pub enum Remark {
    /// The clock of the file jumps; everything goes on behind it.
    ClockJump {
        /// Where.
        at: Rational,
        /// By how many seconds.
        by: Rational,
    },
    /// Sound is missing and was filled with silence, or is there twice and was left out once.
    SoundGap {
        /// The stream of the source.
        stream: u32,
        /// Where.
        at: Rational,
        /// Seconds that are missing; below nought where there were too many.
        length: Rational,
    },
    /// The form of the picture changes and was fitted into the one before.
    FormChange {
        /// Where.
        at: Rational,
        /// The form that the picture has in what was made.
        from: PictureForm,
        /// The form that it has from there on.
        to: PictureForm,
    },
    /// Something could not be decoded.
    Fault {
        /// Where, as far as it is known.
        at: Option<Rational>,
        /// How many packets in a row, or close together.
        count: u64,
    },
}

/// Remarks of one kind that are listed one by one; more are counted.
pub const MOST_LISTED: usize = 40;

impl Remark {
    /// In a sentence.
    #[must_use]
    pub fn words(&self) -> String {
        let milliseconds = |time: Rational| format!("{:.0} ms", time.abs().to_f64() * 1e3);
        match self {
            Self::ClockJump { at, by } => {
                let way = if by.is_positive() { "forward" } else { "back" };
                format!(
                    "At {} the file's clock jumps {way} by {:.1} s; picture and sound go on without a break.",
                    moment_text(*at),
                    by.abs().to_f64()
                )
            }
            Self::SoundGap { stream, at, length } if length.is_positive() => {
                format!("At {} sound stream {stream} lacks {}; silence stands there.", moment_text(*at), milliseconds(*length))
            }
            Self::SoundGap { stream, at, length } => {
                format!(
                    "At {} sound stream {stream} has {} twice; they were left out once.",
                    moment_text(*at),
                    milliseconds(*length)
                )
            }
            Self::FormChange { at, from, to } => {
                let form = |form: &PictureForm| format!("{}×{} {}", form.width, form.height, form.pixel_format);
                format!(
                    "At {} the picture changes from {} to {}; it was fitted into the frame.",
                    moment_text(*at),
                    form(from),
                    form(to)
                )
            }
            Self::Fault { at: Some(at), count: 1 } => {
                format!("At {} a packet could not be decoded; look at the output there.", moment_text(*at))
            }
            Self::Fault { at: Some(at), count } => {
                format!("From {} on {count} packets could not be decoded; look at the output there.", moment_text(*at))
            }
            Self::Fault { at: None, count: 1 } => "Facts met damage at a place that is not known.".to_owned(),
            Self::Fault { at: None, count } => format!("Facts met damage {count} times, at places that are not known."),
        }
    }
}
