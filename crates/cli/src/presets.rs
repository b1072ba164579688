//! `beryl presets`

use std::process::ExitCode;

use beryl_core::preset::preset_schema;
use beryl_core::problem::Problem;

use crate::arguments::PresetsTask;
use crate::terminal::{all_presets, json_line, report, say};

pub(crate) fn run(task: &PresetsTask) -> Result<ExitCode, Problem> {
    let (presets, unreadable) = all_presets(&task.state);
    unreadable.iter().for_each(report);
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
