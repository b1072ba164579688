//! Storages as files and engines know them: by their ids, and by a marker file in each.
//!
//! A storage is often a mounted volume. Where the volume is missing, its folder is still there, and empty: what is read from it
//! is missing, and what is written fills the wrong disk. The marker at the root tells the two apart.

use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// The name of the marker, at the root of a storage.
pub const MARKER: &str = ".beryl-storage";

/// A storage by its id; its name is for people.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct StorageName {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
}

/// Where a storage is on a machine on which engines run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StorageRoot {
    /// Its id.
    pub id: Uuid,
    /// The folder, as a path of that machine.
    pub folder: String,
    /// Whether it bears a marker, without which it is not there.
    pub is_marked: bool,
}

/// Whether the text of a marker names a storage. A folder may be a storage of several houses: each has a line in it.
#[must_use]
pub fn names(marker: &str, id: Uuid) -> bool {
    marker.lines().any(|line| line.split_whitespace().next().is_some_and(|word| word == id.to_string()))
}

/// The text of a marker that names one more storage.
#[must_use]
pub fn with_storage(marker: &str, storage: &StorageName) -> String {
    if names(marker, storage.id) {
        return marker.to_owned();
    }
    let before = if marker.is_empty() || marker.ends_with('\n') { marker.to_owned() } else { format!("{marker}\n") };
    let name: String = storage.name.chars().map(|letter| if letter.is_control() { ' ' } else { letter }).collect();
    format!("{before}{} {name}\n", storage.id)
}
