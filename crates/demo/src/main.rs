//! Makes the demo media in a folder, on all cores; what is there already stays.

use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Mutex;

use beryl_demo::{clips, make};
use clap::Parser;

/// Draws and sounds the demo media.
#[derive(Debug, Parser)]
struct Arguments {
    /// The folder; made where it is missing.
    folder: PathBuf,
}

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    // The longest first, so that no core waits for the other at the end.
    let mut waiting = clips();
    waiting.sort_by_key(|clip| {
        clip.recording.picture.as_ref().map_or(0, |picture| picture.width * picture.height)
            * u32::try_from(clip.seconds).unwrap_or(1)
    });
    let waiting = Mutex::new(waiting);
    let failed = Mutex::new(false);
    let workers = std::thread::available_parallelism().map_or(1, usize::from);
    std::thread::scope(|scope| {
        for _ in 0..workers {
            scope.spawn(|| {
                while let Some(clip) = waiting.lock().ok().and_then(|mut clips| clips.pop()) {
                    if let Err(problem) = make(&clip, &arguments.folder) {
                        eprintln!("{problem}. {} {}", problem.next, problem.details);
                        if let Ok(mut failed) = failed.lock() {
                            *failed = true;
                        }
                    }
                }
            });
        }
    });
    match failed.into_inner() {
        Ok(false) => ExitCode::SUCCESS,
        Ok(true) | Err(_) => ExitCode::from(1),
    }
}
