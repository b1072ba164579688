//! Writing to the terminal, and files as the engine wants them.

use std::ffi::OsStr;
use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::time::Duration;

use beryl_core::formats::media_types::image_name;
use beryl_core::path::StoragePath;
use beryl_core::preset::{Preset, PresetError, builtin_presets};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{FileRef, Sequence, SourceRef};
use beryl_core::time::Rational;

/// Writes a line. Where nobody reads any more (the end of a pipe, a terminal that is closed), the work
/// goes on all the same.
pub(crate) fn write_line(text: std::fmt::Arguments<'_>) {
    drop(writeln!(std::io::stdout(), "{text}"));
}

/// Like `println!`, by [`write_line`].
macro_rules! say {
    ($($text:tt)*) => { $crate::terminal::write_line(format_args!($($text)*)) };
}
pub(crate) use say;

/// Says what went wrong, why, and what to do.
pub(crate) fn report(problem: &Problem) {
    eprintln!("beryl: {problem}.");
    eprintln!("       {}", problem.next);
    if !problem.details.is_empty() {
        eprintln!("       technical details: {}", problem.details);
    }
}

/// Writes a value as one line of JSON.
pub(crate) fn json_line(value: &impl serde::Serialize) {
    match serde_json::to_string(value) {
        Ok(line) => say!("{line}"),
        Err(error) => eprintln!("beryl: {error}"),
    }
}

/// A length of time as clocks show it.
pub(crate) fn human(seconds: f64) -> String {
    let left = Duration::from_secs_f64(seconds.clamp(0.0, 1e7)).as_secs();
    if left < 3600 {
        format!("{}:{:02}", left / 60, left % 60)
    } else {
        format!("{}:{:02}:{:02}", left / 3600, left / 60 % 60, left % 60)
    }
}

/// A file of this machine: its folder as the root, its name below it.
pub(crate) fn file_ref(path: &Path) -> Result<FileRef, Problem> {
    let what = || format!("{} could not be read", path.display());
    let absolute = std::path::absolute(path).map_err(|error| Problem::from_io(what(), &error))?;
    let name = absolute.file_name().ok_or_else(|| Problem::new(ProblemKind::NotMedia, what(), "it is a folder, not a file"))?;
    let folder = absolute.parent().unwrap_or(Path::new("/"));
    let root = folder.to_str().ok_or_else(|| {
        Problem::new(ProblemKind::Invalid, what(), "the name of its folder is not UTF-8")
            .with_next("Change into that folder and name the file alone, or rename the folder.")
    })?;
    let path = StoragePath::from_bytes(name.as_bytes())
        .map_err(|error| Problem::new(ProblemKind::Invalid, what(), error.to_string()))?;
    Ok(FileRef::within(root.to_owned(), path))
}

/// A file of this machine as a source; with a rate, together with the images that follow it by number.
pub(crate) fn source_ref(path: &Path, rate: Option<Rational>) -> Result<SourceRef, Problem> {
    let file = file_ref(path)?;
    let Some(rate) = rate else { return Ok(SourceRef::of(file)) };
    let folder = file.folder().map_err(|error| Problem::from_io("the folder could not be opened", &error))?;
    let is_there = |number: u32| {
        let name = image_name(file.path.name_bytes(), number.into());
        name.is_some_and(|name| folder.join(OsStr::from_bytes(&name)).is_file())
    };
    let count = (0..u32::MAX).take_while(|number| is_there(*number)).count();
    let count = u32::try_from(count).unwrap_or(u32::MAX);
    if count == 0 || !rate.is_positive() {
        let why = if count == 0 { "its name has no number, or it is not there" } else { "its rate must be above 0" };
        return Err(Problem::new(ProblemKind::Invalid, format!("{} begins no image sequence", path.display()), why)
            .with_next("Name the first image, such as frame_0001.png, and its rate, such as --sequence 25."));
    }
    Ok(SourceRef { sequence: Some(Sequence { count, rate }), ..SourceRef::of(file) })
}

/// The preset with this id, built in or of the house whose application keeps its things in `state`, or in the file
/// of this name.
pub(crate) fn find_preset(name: &str, state: &Path) -> Result<Preset, Problem> {
    let (all, unreadable) = all_presets(state);
    if let Some(preset) = all.iter().find(|preset| preset.id == name) {
        return Ok(preset.clone());
    }
    let is_file = Path::new(name).extension().is_some_and(|extension| extension == "json");
    if is_file {
        return preset_in(Path::new(name));
    }
    let known: Vec<String> = all.into_iter().map(|preset| preset.id).collect();
    let mut why = format!("known are {}, and files that end in .json", known.join(", "));
    // It may stand in one of these.
    for problem in unreadable {
        why.push_str(&format!("; {problem}"));
    }
    Err(Problem::new(ProblemKind::Invalid, format!("there is no preset “{name}”"), why))
}

/// The preset in a file.
pub(crate) fn preset_in(file: &Path) -> Result<Preset, Problem> {
    let name = file.display().to_string();
    let text = std::fs::read_to_string(file)
        .map_err(|error| Problem::from_io(format!("the preset {name} could not be read"), &error))?;
    Preset::from_json(&text).map_err(|error| preset_problem(&name, &error))
}

/// The built-in presets and those of the house, which the application keeps in its state folder; and what hinders
/// reading others of these.
pub(crate) fn all_presets(state: &Path) -> (Vec<Preset>, Vec<Problem>) {
    let files = std::fs::read_dir(state.join("presets")).into_iter().flatten().filter_map(Result::ok);
    let mut files: Vec<_> =
        files.map(|entry| entry.path()).filter(|path| path.extension().is_some_and(|end| end == "json")).collect();
    files.sort();
    let mut presets: Vec<Preset> = builtin_presets().into_iter().collect();
    let mut unreadable = Vec::new();
    for file in &files {
        match preset_in(file) {
            Ok(preset) => presets.push(preset),
            Err(problem) => unreadable.push(problem),
        }
    }
    (presets, unreadable)
}

/// What a fault in a preset means for a person.
pub(crate) fn preset_problem(name: &str, error: &PresetError) -> Problem {
    Problem::new(ProblemKind::Invalid, format!("the preset {name} cannot be used"), error.to_string())
}
