//! `beryl presets`

use std::process::ExitCode;

use beryl_core::preset::{builtin_presets, preset_schema};
use beryl_core::problem::Problem;

use crate::arguments::PresetsTask;
use crate::terminal::{json_line, say};

// The same form as the other commands, which can fail.
#[allow(clippy::unnecessary_wraps)]
pub(crate) fn run(task: &PresetsTask) -> Result<ExitCode, Problem> {
    let presets = builtin_presets();
    if task.schema {
        json_line(&preset_schema());
    } else if task.json {
        json_line(&presets);
    } else {
        for preset in presets {
            say!(
                "{:16} {} ({}, {}, {})",
                preset.id,
                preset.name,
                preset.container.words(),
                preset.headline(),
                preset.frame_words()
            );
            say!("{:16} {}", "", preset.use_when);
        }
    }
    Ok(ExitCode::SUCCESS)
}
