//! From temporary names to final ones.
//!
//! A file that bears its final name is whole: it was flushed, read back and checked before, and the change of name is one
//! step of the file system that never takes the place of another file unless that is asked for. Files that belong together
//! get their names together or not at all, over a crash at any moment: see [`beryl_core::flow::placing`].

use std::path::{Path, PathBuf};

use beryl_core::flow::placing::{Change, Found, Goal, Made, Next, Seen, next};
use beryl_core::path::StoragePath;
use beryl_core::problem::{Problem, ProblemKind};
use cap_std::fs::{Dir, Metadata, MetadataExt};

use crate::files::{FileId, keep_names, open_folder, rename_to_free, system_path};
use crate::naming::{MOST_NUMBERS, withheld_candidate};

/// A file that is to get its name; all names lie in the same folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placing {
    /// Where it is written.
    pub temporary: StoragePath,
    /// The name that it is to get.
    pub target: StoragePath,
    /// By what it is known.
    pub made: Made,
}

/// Whether names may be taken from the files that have them.
#[derive(Debug, Clone)]
pub enum Replacing {
    /// Never.
    Never,
    /// From any but these.
    AllBut(Vec<FileId>),
}

/// What became of an attempt to give files their names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Placed {
    /// All bear their names now.
    Done,
    /// Another file has the name of this one, by its place; all are under their temporary names.
    Taken(usize),
    /// The name of this one is that of a file that nothing may replace; all are under their temporary names.
    Protected(usize),
    /// This one is nowhere; the others are under their temporary names.
    Missing(usize),
}

/// By what a file is known afterwards, under whatever name and on whatever path it is found.
///
/// # Errors
/// A [`Problem`] where it is not there.
pub fn made(root: &Path, path: &StoragePath) -> Result<Made, Problem> {
    let failed = |error: std::io::Error| Problem::from_io(format!("{} could not be found", path.name()), &error);
    let root = Dir::open_ambient_dir(root, cap_std::ambient_authority()).map_err(failed)?;
    root.metadata(system_path(path)).map(|metadata| made_of(&metadata)).map_err(failed)
}

fn made_of(metadata: &Metadata) -> Made {
    let modified = metadata.mtime().saturating_mul(1_000_000_000).saturating_add(metadata.mtime_nsec());
    Made { number: metadata.ino(), modified, size: metadata.len() }
}

/// Gives files below `root` their names. Where that is not possible, all are brought back to their temporary names, and
/// whatever has made room for them to its own.
///
/// What was begun earlier, and was ended by a crash, is taken up.
///
/// # Errors
/// A [`Problem`] where the system refuses.
pub fn place(root: &Path, files: &[Placing], replacing: &Replacing) -> Result<Placed, Problem> {
    let goal = Goal::Names { replace: matches!(replacing, Replacing::AllBut(_)) };
    let outcome = loop {
        match step(root, files, replacing, goal) {
            Ok(Next::Change(..)) => {}
            Ok(Next::Done) => return Ok(Placed::Done),
            Ok(Next::Taken(file)) => break Ok(Placed::Taken(file)),
            Ok(Next::Kept(file)) => break Ok(Placed::Protected(file)),
            Ok(Next::Missing(file)) => break Ok(Placed::Missing(file)),
            Err(problem) => break Err(problem),
        }
    };
    // The first fault says more than one on the way back.
    let back = take_back(root, files);
    outcome.and_then(|placed| back.map(|()| placed))
}

/// Brings files back to their temporary names, and whatever has made room for them to its own.
///
/// # Errors
/// A [`Problem`] where the system refuses.
pub fn take_back(root: &Path, files: &[Placing]) -> Result<(), Problem> {
    while let Next::Change(..) = step(root, files, &Replacing::Never, Goal::Back)? {}
    Ok(())
}

/// Looks where the files lie and makes one change, which it answers, or what else there is to say.
///
/// # Errors
/// A [`Problem`] where the system refuses; nothing is changed then.
pub fn step(root: &Path, files: &[Placing], replacing: &Replacing, goal: Goal) -> Result<Next, Problem> {
    let Some(first) = files.first() else { return Ok(Next::Done) };
    if let Some(strange) = files.iter().find(|file| {
        let folder = first.target.parent();
        file.target.parent() != folder || file.temporary.parent() != folder
    }) {
        let what = format!("{} could not be given its name", strange.target.name());
        return Err(Problem::new(ProblemKind::Internal, what, "it lies in another folder"));
    }
    let folder = open_folder(root, &first.target.parent())?;
    let seen: Vec<Seen> = files.iter().map(|file| look(&folder, file, replacing)).collect::<Result<_, _>>()?;
    let next = next(&seen, goal);
    if let Next::Change(place, change) = next {
        let file = &files[place];
        let failed = |error| Problem::from_io(format!("{} could not be given its name", file.target.name()), &error);
        make(&folder, file, change).and_then(|()| keep_names(&folder)).map_err(failed)?;
    }
    Ok(next)
}

/// The name of a file that makes room for this one.
fn aside(file: &Placing) -> PathBuf {
    PathBuf::from(format!(".beryl-{:x}-{:x}.aside", file.made.number, file.made.modified))
}

fn name(path: &StoragePath) -> &Path {
    use std::os::unix::ffi::OsStrExt;
    Path::new(std::ffi::OsStr::from_bytes(path.name_bytes()))
}

fn look(folder: &Dir, file: &Placing, replacing: &Replacing) -> Result<Seen, Problem> {
    let found = |path: &Path| match folder.symlink_metadata(path) {
        Ok(metadata) if metadata.is_file() && made_of(&metadata).is_same(&file.made) => Ok(Found::Ours),
        Ok(_) => {
            // Where the name is a link, what it leads to is meant.
            let id = folder.metadata(path).ok().map(|metadata| FileId::of_metadata(&metadata));
            let is_kept = matches!((replacing, id), (Replacing::AllBut(kept), Some(id)) if kept.contains(&id));
            Ok(if is_kept { Found::Kept } else { Found::Other })
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Found::Nothing),
        Err(error) => Err(Problem::from_io(format!("{} could not be looked for", file.target.name()), &error)),
    };
    Ok(Seen { temporary: found(name(&file.temporary))?, target: found(name(&file.target))?, aside: found(&aside(file))? })
}

fn make(folder: &Dir, file: &Placing, change: Change) -> std::io::Result<()> {
    let (temporary, target, aside) = (name(&file.temporary), name(&file.target), aside(file));
    let to_free = |from: &Path, to: &Path| match rename_to_free(folder, from, to) {
        // Somebody was faster: the next look shows it.
        Ok(_) => Ok(()),
        Err(error) => Err(error),
    };
    match change {
        Change::Name => to_free(temporary, target),
        Change::NameOver => folder.rename(temporary, folder, target),
        Change::SetAside => to_free(target, &aside),
        Change::TakeBack => to_free(target, temporary),
        Change::PutBack => to_free(&aside, target),
        Change::RemoveAside => folder.remove_file(&aside),
        Change::DropTemporary => folder.remove_file(temporary),
        Change::DropTarget => folder.remove_file(target),
    }
}

/// Gives files that are not as planned names under which they wait; the first that are free.
///
/// # Errors
/// A [`Problem`] where the system refuses, the temporary files then being still there.
pub fn withhold(root: &Path, files: &[StoragePath], stem: &StoragePath, endings: &[String]) -> Result<Vec<StoragePath>, Problem> {
    let refused = |why: String| Problem::new(ProblemKind::Invalid, "a file could not be withheld", why);
    for number in 1..MOST_NUMBERS {
        let placing = |(file, ending): (&StoragePath, &String)| {
            let target = withheld_candidate(stem, ending, number).map_err(|error| refused(error.to_string()))?;
            Ok(Placing { temporary: file.clone(), target, made: made(root, file)? })
        };
        let placing: Vec<Placing> = files.iter().zip(endings).map(placing).collect::<Result<_, Problem>>()?;
        match place(root, &placing, &Replacing::Never)? {
            Placed::Done => return Ok(placing.into_iter().map(|file| file.target).collect()),
            Placed::Taken(_) => {}
            Placed::Protected(_) | Placed::Missing(_) => return Err(refused("it is not there any more".to_owned())),
        }
    }
    Err(Problem::new(ProblemKind::NameTaken, "a file could not be withheld", "ten thousand names are taken"))
}
