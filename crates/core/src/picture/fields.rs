//! The order of fields.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The order of fields as a header declares it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FieldOrder {
    /// Nothing is declared.
    #[default]
    Unknown,
    /// Whole frames.
    Progressive,
    /// Two fields a frame, the upper lines first.
    TopFirst,
    /// Two fields a frame, the lower lines first.
    BottomFirst,
}

impl FieldOrder {
    /// Whether fields are declared.
    #[must_use]
    pub const fn is_interlaced(self) -> bool {
        match self {
            Self::TopFirst | Self::BottomFirst => true,
            Self::Unknown | Self::Progressive => false,
        }
    }

    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Unknown => "fields not declared",
            Self::Progressive => "progressive",
            Self::TopFirst => "interlaced, top field first",
            Self::BottomFirst => "interlaced, bottom field first",
        }
    }
}
