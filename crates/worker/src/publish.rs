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

/// Gives the file called `temporary` the name `target`; both lie in the same folder below `root`.
///
/// # Errors
/// A [`Problem`] where the system refuses, the temporary file then being still there.
pub fn place(root: &Path, temporary: &StoragePath, target: &StoragePath, replace: bool) -> Result<Placed, Problem> {
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
