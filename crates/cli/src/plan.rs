//! `beryl plan`

use std::process::ExitCode;

use beryl_core::after::forecast::Outlook;
use beryl_core::plan::{Plan, PlanError, plan};
use beryl_core::preset::{Preset, PresetPatch};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::SourceRef;
use beryl_core::reading::Reading;
use beryl_core::time::{Rational, Span};
use beryl_worker::Engine;

use crate::arguments::{PlanTask, PresetChoice};
use crate::terminal::{find_preset, json_line, preset_problem, say, source_ref};

pub(crate) async fn run(task: &PlanTask) -> Result<ExitCode, Problem> {
    let (presets, overrides) = chosen(&task.choice)?;
    let reading = read(&Engine::locate()?, &source_ref(&task.file, task.choice.sequence)?, &task.choice).await?;
    let name = task.file.display().to_string();
    let overrides = marked(&reading, &overrides, &task.choice.ins, &task.outs, &name)?;
    for preset in &presets {
        let outlook = Outlook::of(plan_for(&reading, preset, &overrides, &name)?, &reading.facts, &[]);
        if task.json {
            json_line(&outlook);
        } else {
            print(&outlook);
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// What plans go by: facts alone, or findings as well. Where a clock may jump, marks mean something only once it is
/// known where it does.
pub(crate) async fn read(engine: &Engine, source: &SourceRef, choice: &PresetChoice) -> Result<Reading, Problem> {
    if !choice.analyse {
        let reading = engine.probe(source).await?;
        if choice.ins.is_empty() || !reading.facts.clock_may_jump() {
            return Ok(reading);
        }
    }
    engine.scan(source, false, |_| {}).await.map(|(reading, _)| reading)
}

/// The own settings with the parts that are marked by `--in` and `--out`.
pub(crate) fn marked(
    reading: &Reading,
    overrides: &PresetPatch,
    ins: &[String],
    outs: &[String],
    name: &str,
) -> Result<PresetPatch, Problem> {
    let refuse = |why: String| Problem::new(ProblemKind::Invalid, format!("{name} cannot be marked so"), why);
    let moment = |text: &String| reading.facts.moment(text).map_err(|error| refuse(error.to_string()));
    let parts = match (ins.len(), outs.len()) {
        (0, 0) => return Ok(overrides.clone()),
        (0, 1) => vec![Span { from: Rational::ZERO, to: moment(&outs[0])? }],
        (ins_given, outs_given) if outs_given == ins_given || outs_given + 1 == ins_given => {
            let end =
                reading.facts.duration.map_or_else(|| Err(refuse("it does not say where it ends: name --out".to_owned())), Ok);
            let parts = ins.iter().enumerate().map(|(place, from)| {
                let to = outs.get(place).map_or_else(|| end.clone(), moment)?;
                let start = moment(from)?;
                if let Some(length) = reading.facts.duration.filter(|length| start >= *length) {
                    let (start, length) = (start.to_f64(), length.to_f64());
                    return Err(refuse(format!(
                        "{from} lies {start:.3} s behind its beginning, but it is only {length:.3} s long"
                    )));
                }
                Ok(Span { from: start, to })
            });
            parts.collect::<Result<Vec<_>, Problem>>()?
        }
        (ins_given, outs_given) => {
            return Err(refuse(format!("{ins_given} times --in and {outs_given} times --out do not make pairs")));
        }
    };
    Ok(PresetPatch { parts: Some(parts), ..overrides.clone() })
}

/// The presets and own settings that were chosen.
pub(crate) fn chosen(choice: &PresetChoice) -> Result<(Vec<Preset>, PresetPatch), Problem> {
    let presets = choice.preset.iter().map(|name| find_preset(name, &choice.state)).collect::<Result<Vec<_>, _>>()?;
    let overrides = PresetPatch::from_settings(&choice.settings).map_err(|error| preset_problem("with your settings", &error))?;
    Ok((presets, overrides))
}

/// The plan of one output, or why there is none.
pub(crate) fn plan_for(reading: &Reading, preset: &Preset, overrides: &PresetPatch, name: &str) -> Result<Plan, Problem> {
    plan(reading, preset, overrides).map_err(|error| {
        let what = format!("{} cannot be made of {name}", preset.name);
        match &error {
            PlanError::NothingToMake { .. } => {
                Problem::new(ProblemKind::Invalid, what, error.to_string()).with_next("Choose another preset for this file.")
            }
            PlanError::Impossible(_) | PlanError::Parts(_) | PlanError::Overrides(_) => {
                Problem::new(ProblemKind::Invalid, what, error.to_string())
            }
        }
    })
}

pub(crate) fn print(Outlook { plan, forecast }: &Outlook) {
    say!("{} · about {}", plan.preset_name, forecast.size);
    for decision in &plan.decisions {
        say!("  {}: {}, because {}", decision.subject.words(), decision.what, decision.because);
    }
    if let Some(picture) = plan.picture.as_ref().filter(|picture| !picture.steps.is_empty()) {
        let steps: Vec<String> = picture.step_words();
        say!("  Steps in this order: {}", steps.join(", "));
    }
}
