//! `beryl compare`

use std::process::ExitCode;

use beryl_core::after::quality::{Comparison, FrameQuality};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::Reference;
use beryl_worker::Engine;

use crate::arguments::CompareTask;
use crate::terminal::{json_line, say, source_ref};

pub(crate) async fn run(task: &CompareTask) -> Result<ExitCode, Problem> {
    let reference = Reference::of(source_ref(&task.reference, None)?);
    let comparison = Engine::locate()?.compare(reference, source_ref(&task.file, None)?, None, |_| {}).await?;
    if comparison.frames.is_empty() {
        let what = format!("{} could not be compared", task.file.display());
        return Err(Problem::new(ProblemKind::NotMedia, what, "the two have not one moment in common"));
    }
    if task.json {
        let frames = if task.frames { comparison.frames.clone() } else { Vec::new() };
        json_line(&Comparison { frames, ..comparison });
        return Ok(ExitCode::SUCCESS);
    }
    say!("{} frames: {}", comparison.frames.len(), comparison.words());
    print_frames(&comparison, task.frames);
    Ok(ExitCode::SUCCESS)
}

/// Each frame, or those at which the curve is lowest.
pub(crate) fn print_frames(comparison: &Comparison, all: bool) {
    let told: Vec<&FrameQuality> = if all {
        comparison.frames.iter().collect()
    } else {
        comparison.quality.valleys.iter().filter_map(|place| comparison.frames.get(*place)).collect()
    };
    if !all && !told.is_empty() {
        say!("  Lowest at:");
    }
    for frame in told {
        say!("  {:>9.3} s  SSIM {:.4}  PSNR {:.1} dB", frame.at as f64 / 1e3, frame.ssim, frame.psnr);
    }
}
