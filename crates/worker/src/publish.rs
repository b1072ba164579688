//! From the temporary name to the final one.
//!
//! A file that bears its final name is whole: it was flushed, read back and checked before, and the
//! change of name is one step of the file system that never takes the place of another file unless
//! that is asked for.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use beryl_core::naming::numbered;
use beryl_core::path::{PathError, StoragePath};
use beryl_core::problem::{Problem, ProblemKind};
use cap_std::ambient_authority;
use cap_std::fs::Dir;
use rustix::fs::{RenameFlags, renameat_with};
use rustix::io::Errno;

/// What became of an attempt to give a file its name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Placed {
    /// It bears the name now.
    Done,
    /// Another file had the name.
    Taken,
    /// The name is that of a file that nothing may replace.
    Protected,
}

/// Which file it is, whatever it is called: its device and its number there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct FileId {
    device: u64,
    inode: u64,
}

impl FileId {
    /// Of a file below a root folder, links followed; nothing where there is none.
    #[must_use]
    pub fn of(root: &Path, path: &StoragePath) -> Option<Self> {
        let root = Dir::open_ambient_dir(root, ambient_authority()).ok()?;
        let metadata = root.metadata(system_path(path)).ok()?;
        use cap_std::fs::MetadataExt;
        Some(Self { device: metadata.dev(), inode: metadata.ino() })
    }
}

fn system_path(path: &StoragePath) -> &Path {
    Path::new(OsStr::from_bytes(path.as_bytes()))
}

/// The temporary name, in the folder of `target`, for what `id` makes.
///
/// # Errors
/// [`PathError`] where the folder's path is too long.
pub fn temporary_name(target: &StoragePath, id: &impl std::fmt::Display) -> Result<StoragePath, PathError> {
    target.parent().join(format!(".beryl-{id}.part").as_bytes())
}

/// The `number`th name to try for `stem` with `extension`: 1 is the plain one.
///
/// # Errors
/// [`PathError`] where the name is too long or leaves the storage.
pub fn candidate(stem: &StoragePath, extension: &str, number: u32) -> Result<StoragePath, PathError> {
    let name = format!("{}.{extension}", numbered(&stem.name(), number));
    stem.parent().join(name.as_bytes())
}

/// The `number`th name to try for a file that is withheld: one that nobody takes for a good file, nor a program for media.
fn withheld_candidate(stem: &StoragePath, extension: &str, number: u32) -> Result<StoragePath, PathError> {
    let name = format!("{}.{extension}.withheld", numbered(&stem.name(), number));
    stem.parent().join(name.as_bytes())
}

/// Gives a file that is not as planned a name under which it waits; the first that is free.
///
/// # Errors
/// A [`Problem`] where the system refuses, the temporary file then being still there.
pub fn withhold(root: &Path, temporary: &StoragePath, stem: &StoragePath, extension: &str) -> Result<StoragePath, Problem> {
    for number in 1..10_000 {
        let name = withheld_candidate(stem, extension, number)
            .map_err(|error| Problem::new(ProblemKind::Invalid, "a file could not be withheld", error.to_string()))?;
        if place(root, temporary, &name, Replacing::Never)? == Placed::Done {
            return Ok(name);
        }
    }
    Err(Problem::new(ProblemKind::NameTaken, "a file could not be withheld", "ten thousand names are taken"))
}

/// Opens `path` below `root` as a folder, making what is missing of it.
///
/// # Errors
/// A [`Problem`] where it is not there and cannot be made, or leads outside.
pub fn open_folder(root: &Path, path: &StoragePath) -> Result<Dir, Problem> {
    let what = || format!("the folder “{path}” could not be opened");
    let failed = |error: std::io::Error| Problem::from_io(what(), &error);
    let root = Dir::open_ambient_dir(root, ambient_authority()).map_err(failed)?;
    if path.is_root() {
        return Ok(root);
    }
    root.create_dir_all(system_path(path)).map_err(failed)?;
    root.open_dir(system_path(path)).map_err(failed)
}

/// Whether a name may be taken from the file that has it.
#[derive(Debug, Clone, Copy)]
pub enum Replacing<'a> {
    /// Never.
    Never,
    /// From any but these.
    AllBut(&'a [FileId]),
}

/// Gives the file called `temporary` the name `target`; both lie in the same folder below `root`.
///
/// # Errors
/// A [`Problem`] where the system refuses, the temporary file then being still there.
pub fn place(root: &Path, temporary: &StoragePath, target: &StoragePath, replacing: Replacing<'_>) -> Result<Placed, Problem> {
    let failed = |error: std::io::Error| Problem::from_io(format!("{} could not be given its name", target.name()), &error);
    if temporary.parent() != target.parent() {
        return Err(Problem::new(
            ProblemKind::Internal,
            format!("{} could not be given its name", target.name()),
            "it lies in another folder",
        ));
    }
    let folder = open_folder(root, &target.parent())?;
    let (from, to) = (OsStr::from_bytes(temporary.name_bytes()), OsStr::from_bytes(target.name_bytes()));
    let replace = match replacing {
        Replacing::Never => false,
        Replacing::AllBut(kept) => {
            if FileId::of(root, target).is_some_and(|present| kept.contains(&present)) {
                return Ok(Placed::Protected);
            }
            true
        }
    };
    let flags = if replace { RenameFlags::empty() } else { RenameFlags::NOREPLACE };
    match renameat_with(&folder, from, &folder, to, flags) {
        Ok(()) => {}
        Err(Errno::EXIST) => return Ok(Placed::Taken),
        // File systems that cannot rename without replacing can link without replacing.
        Err(Errno::INVAL) if !replace => match folder.hard_link(from, &folder, to) {
            Ok(()) => folder.remove_file(from).map_err(failed)?,
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => return Ok(Placed::Taken),
            Err(error) => return Err(failed(error)),
        },
        Err(error) => return Err(failed(error.into())),
    }
    // The name must survive a loss of power as the contents do.
    let synced = folder.open(".").and_then(|folder| folder.sync_all());
    synced.map_err(failed)?;
    Ok(Placed::Done)
}

/// Bytes that an ordinary program may still write below `folder`; nothing where it cannot be reached.
#[must_use]
pub fn free_bytes(folder: &Path) -> Option<u64> {
    let space = rustix::fs::statvfs(folder).ok()?;
    space.f_bavail.checked_mul(space.f_frsize)
}

/// Removes a temporary file; that it is gone already is no fault.
///
/// # Errors
/// A [`Problem`] where the system refuses.
pub fn remove_temporary(root: &Path, temporary: &StoragePath) -> Result<(), Problem> {
    let failed = |error: std::io::Error| Problem::from_io(format!("{} could not be removed", temporary.name()), &error);
    let root = Dir::open_ambient_dir(root, ambient_authority()).map_err(failed)?;
    match root.remove_file(system_path(temporary)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(failed(error)),
        _ => Ok(()),
    }
}
