//! Files and folders of a storage, as far as giving names needs them.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use cap_std::ambient_authority;
use cap_std::fs::{Dir, Metadata, MetadataExt};
use rustix::fs::{RenameFlags, renameat_with};
use rustix::io::Errno;

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
        Some(Self::of_metadata(&metadata))
    }

    pub(crate) fn of_metadata(metadata: &Metadata) -> Self {
        Self { device: metadata.dev(), inode: metadata.ino() }
    }
}

pub(crate) fn system_path(path: &StoragePath) -> &Path {
    Path::new(OsStr::from_bytes(path.as_bytes()))
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

/// Renames a file below a folder where the new name is free; answers whether it was.
pub(crate) fn rename_to_free(folder: &Dir, from: &Path, to: &Path) -> std::io::Result<bool> {
    match renameat_with(folder, from, folder, to, RenameFlags::NOREPLACE) {
        Ok(()) => Ok(true),
        Err(Errno::EXIST) => Ok(false),
        // File systems that cannot rename without replacing can link without replacing.
        Err(Errno::INVAL) => match folder.hard_link(from, folder, to) {
            Ok(()) => folder.remove_file(from).map(|()| true),
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => Ok(false),
            Err(error) => Err(error),
        },
        Err(error) => Err(error.into()),
    }
}

/// Gives a file the name of another one in its folder, which goes, or a free name; both lie in the same folder below `root`.
///
/// # Errors
/// A [`Problem`] where the system refuses, both files then being still there.
pub fn replace(root: &Path, from: &StoragePath, to: &StoragePath) -> Result<(), Problem> {
    let failed = |error: std::io::Error| Problem::from_io(format!("{} could not be given its name", to.name()), &error);
    let folder = open_folder(root, &to.parent())?;
    let (from, to) = (OsStr::from_bytes(from.name_bytes()), OsStr::from_bytes(to.name_bytes()));
    folder.rename(from, &folder, to).and_then(|()| keep_names(&folder)).map_err(failed)
}

/// Names must survive a loss of power as contents do.
pub(crate) fn keep_names(folder: &Dir) -> std::io::Result<()> {
    folder.open(".").and_then(|folder| folder.sync_all())
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
