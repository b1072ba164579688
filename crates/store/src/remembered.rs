//! Values that were made of rows, remembered: a sheet asks for thousands of them again and again, and they seldom
//! change.

use std::sync::{Arc, Mutex, PoisonError};

use foldhash::{HashMap, HashMapExt};
use uuid::Uuid;

/// Bytes of rows whose values are remembered, of one kind; beyond that all are forgotten.
const MOST_BYTES: usize = 32 << 20;

#[derive(Debug)]
struct Kept<Version, Value> {
    bytes: usize,
    values: HashMap<Uuid, (Version, usize, Arc<Value>)>,
}

/// Values by the ids of their rows, each of one version of its row.
#[derive(Debug)]
pub(crate) struct Remembered<Version, Value>(Mutex<Kept<Version, Value>>);

impl<Version, Value> Default for Remembered<Version, Value> {
    fn default() -> Self {
        Self(Mutex::new(Kept { bytes: 0, values: HashMap::new() }))
    }
}

impl<Version: PartialEq, Value> Remembered<Version, Value> {
    /// The values of these rows, in their order, where they are remembered in these versions.
    pub(crate) fn of(&self, rows: &[(Uuid, Version)]) -> Vec<Option<Arc<Value>>> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let known = |(id, version): &(Uuid, Version)| {
            kept.values.get(id).filter(|(known, _, _)| known == version).map(|(_, _, value)| Arc::clone(value))
        };
        rows.iter().map(known).collect()
    }

    /// Remembers the value of a row of so many bytes.
    pub(crate) fn keep(&self, id: Uuid, version: Version, bytes: usize, value: &Arc<Value>) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.bytes > MOST_BYTES {
            *kept = Kept { bytes: 0, values: HashMap::new() };
        }
        kept.bytes += bytes;
        if let Some((_, before, _)) = kept.values.insert(id, (version, bytes, Arc::clone(value))) {
            kept.bytes -= before;
        }
    }
}
