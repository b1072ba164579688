//! `beryl plan`

use std::process::ExitCode;

use beryl_core::plan::{Plan, PlanError, plan};
use beryl_core::preset::{Preset, overrides_from_settings};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::reading::Reading;
use beryl_worker::Engine;
use serde_json::Value;

use crate::arguments::{PlanTask, PresetChoice};
use crate::terminal::{find_preset, json_line, preset_problem, say, source_ref};

pub(crate) async fn run(task: &PlanTask) -> Result<ExitCode, Problem> {
    let (presets, overrides) = chosen(&task.choice)?;
    let reading = Engine::locate()?.probe(&source_ref(&task.file)?).await?;
    let name = task.file.display().to_string();
    for preset in &presets {
        let plan = plan_for(&reading, preset, &overrides, &name)?;
        if task.json {
            json_line(&plan);
        } else {
            print(&plan);
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// The presets and own settings that were chosen.
pub(crate) fn chosen(choice: &PresetChoice) -> Result<(Vec<Preset>, Value), Problem> {
    let presets = choice.preset.iter().map(|name| find_preset(name)).collect::<Result<Vec<_>, _>>()?;
    let overrides = overrides_from_settings(&choice.settings).map_err(|error| preset_problem("with your settings", &error))?;
    Ok((presets, overrides))
}

/// The plan of one output, or why there is none.
pub(crate) fn plan_for(reading: &Reading, preset: &Preset, overrides: &Value, name: &str) -> Result<Plan, Problem> {
    plan(reading, preset, overrides).map_err(|error| {
        let what = format!("{} cannot be made of {name}", preset.name);
        match &error {
            PlanError::NothingToMake { .. } => {
                Problem::new(ProblemKind::Invalid, what, error.to_string()).with_next("Choose another preset for this file.")
            }
            PlanError::Impossible(_) | PlanError::Overrides(_) => Problem::new(ProblemKind::Invalid, what, error.to_string()),
        }
    })
}

fn print(plan: &Plan) {
    say!("{} · about {}", plan.preset_name, plan.forecast.size);
    for decision in &plan.decisions {
        say!("  {}: {}, because {}", decision.subject.words(), decision.what, decision.because);
    }
}
