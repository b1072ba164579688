//! Readings that were taken from their documents, remembered: a sheet asks for hundreds of them again and again,
//! and they seldom change.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use beryl_core::reading::Reading;
use uuid::Uuid;

use crate::json;

/// Bytes of documents that are remembered; beyond that all are forgotten.
const MOST_BYTES: usize = 32 << 20;

/// The documents of a source: its reading, and the samples that belong to it.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Documents {
    pub(crate) reading: String,
    pub(crate) samples: Option<String>,
}

impl Documents {
    pub(crate) fn value(&self) -> Result<Reading, sqlx::Error> {
        let mut reading: Reading = json::value(&self.reading)?;
        if let Some(samples) = &self.samples {
            reading.samples = json::value(samples)?;
        }
        Ok(reading)
    }

    fn bytes(&self) -> usize {
        self.reading.len() + self.samples.as_ref().map_or(0, String::len)
    }
}

#[derive(Debug, Default)]
struct Kept {
    bytes: usize,
    readings: HashMap<Uuid, (Documents, Arc<Reading>)>,
}

/// What was read last of each source.
#[derive(Debug, Default)]
pub(crate) struct Readings(Mutex<Kept>);

impl Readings {
    /// The reading of a source with these documents.
    pub(crate) fn of(&self, source: Uuid, documents: Documents) -> Result<Arc<Reading>, sqlx::Error> {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((known, reading)) = kept.readings.get(&source)
            && *known == documents
        {
            return Ok(Arc::clone(reading));
        }
        let reading = Arc::new(documents.value()?);
        if kept.bytes > MOST_BYTES {
            *kept = Kept::default();
        }
        kept.bytes += documents.bytes();
        if let Some((before, _)) = kept.readings.insert(source, (documents, Arc::clone(&reading))) {
            kept.bytes -= before.bytes();
        }
        Ok(reading)
    }
}
