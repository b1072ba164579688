//! Files of storages: always resolved below their root.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use beryl_core::media_types::{image_name, image_number, looks_like_media, looks_like_sequence_image};
use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use beryl_core::protocol::{FileRef, Sequence, SourceRef};
use beryl_core::rational::Rational;
use beryl_core::units::ByteSize;
use beryl_core::watch::Stamp;
use beryl_store::sources::Source;
use beryl_store::storages::Storage;
use cap_std::ambient_authority;
use cap_std::fs::{Dir, Metadata};
use serde::Serialize;
use utoipa::ToSchema;

/// One entry of a folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub(crate) struct Entry {
    /// Name for people.
    pub(crate) name: String,
    /// Path in the storage.
    pub(crate) path: StoragePath,
    /// Whether it is a folder.
    pub(crate) is_folder: bool,
    /// Bytes, for files.
    pub(crate) size: u64,
    /// Whether it looks like something that can be a source.
    pub(crate) is_media: bool,
    /// Nanoseconds of its last change since 1970.
    #[serde(skip)]
    pub(crate) modified: i64,
}

/// Something found that can be a source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Found {
    pub(crate) path: StoragePath,
    pub(crate) sequence: Option<Sequence>,
    /// Folders between the one that was chosen and the file.
    pub(crate) folder: String,
    /// Size and time; of a sequence, the sum and the latest of all its images.
    pub(crate) stamp: Stamp,
}

/// Frames a second of image sequences, which say nothing of it themselves.
const SEQUENCE_RATE: Rational = Rational::whole(25);
/// Fewer images than this are pictures and no sequence.
const SHORTEST_SEQUENCE: u32 = 3;
/// Folders in folders, at most.
const DEEPEST: usize = 32;

pub(crate) fn system_path(path: &StoragePath) -> &Path {
    if path.is_root() { Path::new(".") } else { Path::new(OsStr::from_bytes(path.as_bytes())) }
}

pub(crate) fn open_storage(storage: &Storage) -> Result<Dir, Problem> {
    Dir::open_ambient_dir(&storage.root, ambient_authority())
        .map_err(|error| Problem::from_io(format!("the storage “{}” could not be opened", storage.name), &error))
}

pub(crate) fn file_ref(storage: &Storage, path: &StoragePath) -> FileRef {
    FileRef { root: storage.root.clone(), path: path.clone() }
}

pub(crate) fn source_ref(storage: &Storage, source: &Source) -> SourceRef {
    SourceRef { file: file_ref(storage, &source.path), sequence: source.sequence }
}

/// All files of a source: itself, or the images of its sequence.
pub(crate) fn files_of(path: &StoragePath, sequence: Option<Sequence>) -> Vec<StoragePath> {
    let Some(sequence) = sequence else { return vec![path.clone()] };
    let images = (0..sequence.count).filter_map(|number| image_name(path.name_bytes(), number.into()));
    images.filter_map(|name| path.parent().join(&name).ok()).collect()
}

/// The entries of a folder, folders first; hidden ones are left out.
pub(crate) fn list(storage: &Storage, path: &StoragePath) -> Result<Vec<Entry>, Problem> {
    let failed = |error: std::io::Error| {
        Problem::from_io(format!("the folder “{path}” of “{}” could not be opened", storage.name), &error)
    };
    let folder = open_storage(storage)?.open_dir(system_path(path)).map_err(failed)?;
    let mut entries = Vec::new();
    for entry in folder.entries().map_err(failed)? {
        let entry = entry.map_err(failed)?;
        let name = entry.file_name();
        if name.as_bytes().first() == Some(&b'.') {
            continue;
        }
        // What cannot be looked at (a link that leads outside, a file just removed) is not offered.
        let Ok(metadata) = folder.metadata(&name) else { continue };
        let Ok(path) = path.join(name.as_bytes()) else { continue };
        let is_media = metadata.is_file() && (looks_like_media(&path) || looks_like_sequence_image(&path));
        let modified = modified(&metadata);
        entries.push(Entry { name: path.name(), is_folder: metadata.is_dir(), size: metadata.len(), is_media, path, modified });
    }
    entries.sort_by(|one, other| {
        other.is_folder.cmp(&one.is_folder).then_with(|| one.name.to_lowercase().cmp(&other.name.to_lowercase()))
    });
    Ok(entries)
}

fn modified(metadata: &Metadata) -> i64 {
    let since = metadata.modified().ok().and_then(|time| time.into_std().duration_since(std::time::UNIX_EPOCH).ok());
    since.and_then(|since| i64::try_from(since.as_nanos()).ok()).unwrap_or_default()
}

/// Everything at or below `chosen` that can be a source; a file that was chosen itself always is.
pub(crate) fn find_sources(storage: &Storage, chosen: &StoragePath) -> Result<Vec<Found>, Problem> {
    let root = open_storage(storage)?;
    let failed =
        |error: std::io::Error| Problem::from_io(format!("“{chosen}” in “{}” could not be opened", storage.name), &error);
    let metadata = root.metadata(system_path(chosen)).map_err(failed)?;
    if !metadata.is_dir() {
        let stamp = Stamp { size: ByteSize(metadata.len()), modified: modified(&metadata) };
        return Ok(vec![Found { path: chosen.clone(), sequence: None, folder: String::new(), stamp }]);
    }
    let mut found = Vec::new();
    gather(storage, chosen, chosen, 0, &mut found)?;
    Ok(found)
}

fn gather(
    storage: &Storage,
    chosen: &StoragePath,
    folder: &StoragePath,
    depth: usize,
    found: &mut Vec<Found>,
) -> Result<(), Problem> {
    if depth > DEEPEST {
        return Ok(());
    }
    let below = folder.below(chosen).map_or_else(String::new, |path| path.to_string());
    let mut images: Vec<Entry> = Vec::new();
    for entry in list(storage, folder)? {
        if entry.is_folder {
            gather(storage, chosen, &entry.path, depth + 1, found)?;
        } else if looks_like_sequence_image(&entry.path) {
            images.push(entry);
        } else if entry.is_media {
            let stamp = Stamp { size: ByteSize(entry.size), modified: entry.modified };
            found.push(Found { path: entry.path, sequence: None, folder: below.clone(), stamp });
        }
    }
    let sequences = sequences(images).into_iter();
    found.extend(sequences.map(|(path, sequence, stamp)| Found { path, sequence: Some(sequence), folder: below.clone(), stamp }));
    Ok(())
}

/// The sequences that images of one folder form: same name, numbers without a gap.
fn sequences(mut images: Vec<Entry>) -> Vec<(StoragePath, Sequence, Stamp)> {
    images.sort_by_key(|image| {
        image_number(image.path.name_bytes())
            .map(|(before, figures, number, after)| (before.to_vec(), after.to_vec(), figures, number))
    });
    let mut runs: Vec<(StoragePath, u32, Stamp)> = Vec::new();
    for image in images {
        if let Some((first, count, stamp)) = runs.last_mut()
            && image_name(first.name_bytes(), u64::from(*count)).as_deref() == Some(image.path.name_bytes())
        {
            *count += 1;
            stamp.size.0 += image.size;
            stamp.modified = stamp.modified.max(image.modified);
        } else {
            runs.push((image.path, 1, Stamp { size: ByteSize(image.size), modified: image.modified }));
        }
    }
    let long = runs.into_iter().filter(|(_, count, _)| *count >= SHORTEST_SEQUENCE);
    long.map(|(first, count, stamp)| (first, Sequence { count, rate: SEQUENCE_RATE }, stamp)).collect()
}
