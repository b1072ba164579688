//! What tracks of sound are made of: streams of the source, or some of their channels, and how loud each is heard.

use serde::{Deserialize, Deserializer, Serialize};
use utoipa::ToSchema;

use super::downmix::{MOST_CHANNELS, Mix, factor};
use crate::catalogue::{Kind, Valued};

/// A stream of the source, or some of its channels.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TrackSource {
    /// The stream's place in the file, from 0.
    pub stream: u32,
    /// Its channels, from 0, in the order in which they are taken; left out, all of them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(required = false)]
    pub channels: Vec<u32>,
}

impl TrackSource {
    /// All of a stream.
    #[must_use]
    pub const fn all_of(stream: u32) -> Self {
        Self { stream, channels: Vec::new() }
    }

    /// In words: “stream 2”, “channels 1 and 2 of stream 2”, both counted from 1.
    #[must_use]
    pub fn words(&self) -> String {
        let stream = format!("stream {}", u64::from(self.stream) + 1);
        let numbers: Vec<String> = self.channels.iter().map(|channel| (u64::from(*channel) + 1).to_string()).collect();
        match numbers.as_slice() {
            [] => stream,
            [one] => format!("channel {one} of {stream}"),
            [some @ .., last] => format!("channels {} and {last} of {stream}", some.join(", ")),
        }
    }
}

/// What tracks are made of, as plans have it; those of earlier versions name one stream.
///
/// # Errors
/// Neither a list nor the number of a stream.
pub fn sources<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<TrackSource>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Written {
        Stream(u32),
        Sources(Vec<TrackSource>),
    }
    Ok(match Written::deserialize(from)? {
        Written::Stream(stream) => vec![TrackSource::all_of(stream)],
        Written::Sources(sources) => sources,
    })
}

/// How loud each channel that goes in is heard in each that comes out: a row for each that comes out, in decibels (three
/// less is the factor 1/√2, six less a half); nothing where it is not heard.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
pub struct Matrix(pub Vec<Vec<Option<i8>>>);

/// What is wrong with a matrix, whatever it is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum MatrixError {
    /// It has no row, or too many.
    #[error("a matrix has 1 to {MOST_CHANNELS} rows, one for each channel that comes out")]
    Rows,
    /// Its rows have different lengths, or none.
    #[error("all rows of a matrix are equally long, with a level for each channel that goes in")]
    Uneven,
    /// A level is no level.
    #[error("levels of a matrix are -60 to 6 dB")]
    Level,
}

impl Matrix {
    /// Whether it can be one at all.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn check(&self) -> Result<(), MatrixError> {
        if self.0.is_empty() || self.0.len() > MOST_CHANNELS as usize {
            return Err(MatrixError::Rows);
        }
        if self.taken() == 0 || self.0.iter().any(|row| row.len() != self.taken()) {
            return Err(MatrixError::Uneven);
        }
        let is_level = |level: &i8| (-60..=6).contains(level);
        if self.0.iter().flatten().flatten().all(is_level) { Ok(()) } else { Err(MatrixError::Level) }
    }

    /// How many channels go in.
    #[must_use]
    pub fn taken(&self) -> usize {
        self.0.first().map_or(0, Vec::len)
    }

    /// As factors.
    #[must_use]
    pub fn mix(&self) -> Mix {
        let row = |row: &Vec<Option<i8>>| row.iter().map(|level| level.map_or(0.0, factor)).collect();
        Mix { rows: self.0.iter().map(row).collect() }
    }
}

/// A track that is asked for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TrackWish {
    /// What it is made of, in the order of its channels.
    pub from: Vec<TrackSource>,
    /// How these channels become its own; left out, as the preset has it for all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(required = false)]
    pub matrix: Option<Matrix>,
    /// Its language, by its code of ISO 639; left out, as the source has it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(required = false)]
    pub language: Option<String>,
    /// Its title; left out, as the source has it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(required = false)]
    pub title: Option<String>,
}

impl TrackWish {
    /// A track of a stream as it is, or of some of its channels.
    #[must_use]
    pub fn of(source: TrackSource) -> Self {
        Self { from: vec![source], matrix: None, language: None, title: None }
    }
}

impl Valued for Vec<TrackWish> {
    fn kind() -> Kind {
        Kind::Tracks
    }
}
