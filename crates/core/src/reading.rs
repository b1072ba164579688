//! The reading of a source: its [facts](crate::facts) and, where it was scanned, its [findings](crate::findings).

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::facts::Facts;
use crate::findings::Findings;

/// What is known of a source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reading {
    /// What its headers say.
    #[serde(flatten)]
    pub facts: Facts,
    /// What decoding it showed, where it was scanned.
    #[serde(default)]
    pub findings: Option<Findings>,
}

impl From<Facts> for Reading {
    fn from(facts: Facts) -> Self {
        Self { facts, findings: None }
    }
}
