//! Files of storages: always resolved below their root.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use beryl_core::flow::watch::Stamp;
use beryl_core::formats::media_types::{image_name, image_number, looks_like_media, looks_like_sequence_image};
use beryl_core::path::StoragePath;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{FileRef, Root, Sequence, SourceRef};
use beryl_core::time::Rational;
use beryl_core::units::ByteSize;
use beryl_store::sources::{Knowledge, Source};
use beryl_store::storages::Storage;
use cap_std::ambient_authority;
use cap_std::fs::{Dir, Metadata, MetadataExt, OpenOptionsExt};
use rustix::fs::OFlags;
use serde::Serialize;
use utoipa::ToSchema;

use crate::door::Walk;

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
    /// Whether a run has made it.
    pub(crate) is_own: bool,
    /// Nanoseconds of its last change since 1970.
    #[serde(skip)]
    pub(crate) modified: i64,
    /// Whether it is a link.
    #[serde(skip)]
    is_link: bool,
    /// Its number in its file system.
    #[serde(skip)]
    file: u64,
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
    /// Its number in its file system; of a sequence, that of its first image.
    pub(crate) file: u64,
}

/// Frames a second of image sequences, which say nothing of it themselves.
const SEQUENCE_RATE: Rational = Rational::whole(25);
/// Fewer images than this are pictures and no sequence.
const SHORTEST_SEQUENCE: u32 = 3;
/// Folders in folders, at most.
const DEEPEST: usize = 32;
/// Files that one look finds, at most.
const MOST_FOUND: usize = 200_000;

pub(crate) fn system_path(path: &StoragePath) -> &Path {
    if path.is_root() { Path::new(".") } else { Path::new(OsStr::from_bytes(path.as_bytes())) }
}

pub(crate) fn open_storage(storage: &Storage) -> Result<Dir, Problem> {
    Dir::open_ambient_dir(&storage.root, ambient_authority())
        .map_err(|error| Problem::from_io(format!("the storage “{}” could not be opened", storage.name), &error))
}

/// Opens a file of a storage for reading. Nothing but a file: a pipe would wait for its other end.
pub(crate) fn open_to_read(storage: &Storage, path: &StoragePath) -> Result<std::fs::File, Problem> {
    let what = || format!("{} could not be read", path.name());
    let failed = |error: std::io::Error| Problem::from_io(what(), &error);
    let mut options = cap_std::fs::OpenOptions::new();
    options.read(true).custom_flags(OFlags::NONBLOCK.bits().cast_signed());
    let file = open_storage(storage)?.open_with(system_path(path), &options).map_err(failed)?;
    if !file.metadata().map_err(failed)?.is_file() {
        return Err(Problem::new(ProblemKind::NotMedia, what(), "it is a folder, a device or a pipe, not a file"));
    }
    Ok(file.into_std())
}

/// The bytes of a file; nothing where there is none.
pub(crate) fn size_of(root: &Path, path: &StoragePath) -> Result<Option<u64>, Problem> {
    let what = || format!("{} could not be looked for", path.name());
    let root = Dir::open_ambient_dir(root, ambient_authority()).map_err(|error| Problem::from_io(what(), &error))?;
    match root.metadata(system_path(path)) {
        Ok(metadata) => Ok(Some(metadata.len())),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(Problem::from_io(what(), &error)),
    }
}

/// When a file was last changed; nothing where there is none.
pub(crate) fn last_change(storage: &Storage, path: &StoragePath) -> Option<std::time::SystemTime> {
    let metadata = open_storage(storage).ok()?.metadata(system_path(path)).ok()?;
    Some(metadata.modified().ok()?.into_std())
}

pub(crate) fn file_ref(storage: &Storage, path: &StoragePath) -> FileRef {
    FileRef { root: Root::Storage(storage.named()), path: path.clone() }
}

pub(crate) fn source_ref(storage: &Storage, source: &Source) -> SourceRef {
    let known = SourceRef { sequence: source.sequence, ..SourceRef::of(file_ref(storage, &source.path)) };
    match &source.knowledge {
        Knowledge::Read(read) => known.known_by(&read.reading),
        Knowledge::Unreadable(_) | Knowledge::Unread => known,
    }
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
    let root = open_storage(storage)?;
    let folder = root.open_dir(system_path(path)).map_err(failed)?;
    let mut entries = Vec::new();
    for entry in folder.entries().map_err(failed)? {
        let entry = entry.map_err(failed)?;
        let name = entry.file_name();
        if name.as_bytes().first() == Some(&b'.') {
            continue;
        }
        let Ok(path) = path.join(name.as_bytes()) else { continue };
        // What cannot be looked at (a link that leads out of the storage, a file just removed) is not offered.
        let Ok(metadata) = root.metadata(system_path(&path)) else { continue };
        let is_media = metadata.is_file() && (looks_like_media(&path) || looks_like_sequence_image(&path));
        entries.push(Entry {
            name: path.name(),
            is_folder: metadata.is_dir(),
            size: metadata.len(),
            is_media,
            is_own: false,
            path,
            modified: modified(&metadata),
            is_link: entry.file_type().is_ok_and(|kind| kind.is_symlink()),
            file: metadata.ino(),
        });
    }
    entries.sort_by(|one, other| {
        other.is_folder.cmp(&one.is_folder).then_with(|| one.name.to_lowercase().cmp(&other.name.to_lowercase()))
    });
    Ok(entries)
}

fn stamp(metadata: &Metadata) -> Stamp {
    Stamp { size: ByteSize(metadata.len()), modified: modified(metadata) }
}

/// Size and time of a file.
pub(crate) fn stamp_of(storage: &Storage, path: &StoragePath) -> Result<Stamp, Problem> {
    let found = open_storage(storage)?.metadata(system_path(path));
    found.map(|metadata| stamp(&metadata)).map_err(|error| Problem::from_io(format!("{} could not be read", path.name()), &error))
}

fn modified(metadata: &Metadata) -> i64 {
    let since = metadata.modified().ok().and_then(|time| time.into_std().duration_since(std::time::UNIX_EPOCH).ok());
    since.and_then(|since| i64::try_from(since.as_nanos()).ok()).unwrap_or_default()
}

/// Everything at or below `chosen` that can be a source; a file that was chosen itself always is. Each folder is
/// looked into once, by its own path where there is one and by a link otherwise.
pub(crate) fn find_sources(storage: &Storage, chosen: &StoragePath, walk: &Walk) -> Result<Vec<Found>, Problem> {
    let root = open_storage(storage)?;
    let failed =
        |error: std::io::Error| Problem::from_io(format!("“{chosen}” in “{}” could not be opened", storage.name), &error);
    let metadata = root.metadata(system_path(chosen)).map_err(failed)?;
    if !metadata.is_dir() {
        let (stamp, file) = (stamp(&metadata), metadata.ino());
        return Ok(vec![Found { path: chosen.clone(), sequence: None, folder: String::new(), stamp, file }]);
    }
    let mut gathering = Gathering { storage, chosen, walk, seen: HashSet::new(), links: Vec::new(), found: Vec::new() };
    gathering.enter(chosen, 0)?;
    while let Some((link, depth)) = gathering.links.pop() {
        gathering.enter(&link, depth)?;
    }
    Ok(gathering.found)
}

struct Gathering<'a> {
    storage: &'a Storage,
    chosen: &'a StoragePath,
    walk: &'a Walk,
    /// Device and number of the folders that were entered.
    seen: HashSet<(u64, u64)>,
    /// Links to folders, which are followed last, where the folder is not known by then.
    links: Vec<(StoragePath, usize)>,
    found: Vec<Found>,
}

impl Gathering<'_> {
    fn enter(&mut self, folder: &StoragePath, depth: usize) -> Result<(), Problem> {
        self.walk.goes_on()?;
        let is_new = open_storage(self.storage)?
            .metadata(system_path(folder))
            .is_ok_and(|metadata| self.seen.insert((metadata.dev(), metadata.ino())));
        if depth > DEEPEST || !is_new {
            return Ok(());
        }
        let below = folder.below(self.chosen).map_or_else(String::new, |path| path.to_string());
        let mut images: Vec<Entry> = Vec::new();
        for entry in list(self.storage, folder)? {
            if entry.is_folder && entry.is_link {
                self.links.push((entry.path, depth + 1));
            } else if entry.is_folder {
                self.enter(&entry.path, depth + 1)?;
            } else if looks_like_sequence_image(&entry.path) {
                images.push(entry);
            } else if entry.is_media {
                let stamp = Stamp { size: ByteSize(entry.size), modified: entry.modified };
                self.found.push(Found { path: entry.path, sequence: None, folder: below.clone(), stamp, file: entry.file });
            }
        }
        let of_images = |(first, sequence, stamp): (Entry, Sequence, Stamp)| Found {
            path: first.path,
            sequence: Some(sequence),
            folder: below.clone(),
            stamp,
            file: first.file,
        };
        self.found.extend(sequences(images).into_iter().map(of_images));
        if self.found.len() > MOST_FOUND {
            let what = format!("“{}” in “{}” could not be looked through", self.chosen, self.storage.name);
            let why = format!("it holds more than {MOST_FOUND} files that can be sources");
            return Err(Problem::new(ProblemKind::Invalid, what, why).with_next("Choose a folder further down."));
        }
        Ok(())
    }
}

/// The sequences that images of one folder form: same name, numbers without a gap.
fn sequences(mut images: Vec<Entry>) -> Vec<(Entry, Sequence, Stamp)> {
    images.sort_by_key(|image| {
        image_number(image.path.name_bytes())
            .map(|(before, figures, number, after)| (before.to_vec(), after.to_vec(), figures, number))
    });
    let mut runs: Vec<(Entry, u32, Stamp)> = Vec::new();
    for image in images {
        if let Some((first, count, stamp)) = runs.last_mut()
            && image_name(first.path.name_bytes(), u64::from(*count)).as_deref() == Some(image.path.name_bytes())
        {
            *count += 1;
            stamp.size.0 += image.size;
            stamp.modified = stamp.modified.max(image.modified);
        } else {
            let stamp = Stamp { size: ByteSize(image.size), modified: image.modified };
            runs.push((image, 1, stamp));
        }
    }
    let long = runs.into_iter().filter(|(_, count, _)| *count >= SHORTEST_SEQUENCE);
    long.map(|(first, count, stamp)| (first, Sequence { count, rate: SEQUENCE_RATE }, stamp)).collect()
}
