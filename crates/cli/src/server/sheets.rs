//! `beryl sheet`

use std::collections::BTreeMap;
use std::process::ExitCode;

use beryl_core::flow::run::RunState;
use beryl_core::patch::Patch;
use beryl_core::preset::PresetPatch;
use beryl_core::problem::{Problem, ProblemKind};
use clap::Subcommand;
use reqwest::Method;
use serde_json::{Value, json};

use super::answers::{Cell, Column, SheetItem, SheetView, Suggested};
use super::client::Server;
use super::naming::{pick, picked};
use crate::arguments::IfExists;
use crate::terminal::{preset_problem, say};

/// Sheets of the server: sources, deliverables, and what becomes of each pair.
#[derive(Debug, Subcommand)]
pub(crate) enum SheetTask {
    /// List the sheets.
    List,
    /// Begin an empty sheet.
    New {
        /// Its name.
        name: String,
    },
    /// Show what stands in a sheet, and how far each output is.
    Show {
        /// The sheet: its name, its id, or how one of them begins.
        sheet: String,
    },
    /// Begin a sheet with the sources, deliverables and settings of another one.
    Duplicate {
        /// The sheet.
        sheet: String,
        /// The name of the new one.
        name: String,
    },
    /// Give a sheet another name.
    Rename {
        /// The sheet.
        sheet: String,
        /// The new name.
        name: String,
    },
    /// Remove a sheet; what was made stays.
    Remove {
        /// The sheet.
        sheet: String,
    },
    /// Take a removal back: of a sheet, or of sources and deliverables in it.
    Restore {
        /// The id of the sheet.
        sheet: String,
        /// Ids of sources.
        #[arg(long = "source", value_name = "ID")]
        sources: Vec<String>,
        /// Ids of deliverables.
        #[arg(long = "deliverable", value_name = "ID")]
        deliverables: Vec<String>,
    },
    /// Add files, or all media in folders, as sources.
    Add {
        /// The sheet.
        sheet: String,
        /// Files and folders: “Storage:path”, or paths of this machine in a storage of the server.
        #[arg(required = true)]
        paths: Vec<String>,
    },
    /// Take sources out of a sheet; their files stay.
    TakeOut {
        /// The sheet.
        sheet: String,
        /// The sources.
        #[arg(required = true)]
        sources: Vec<String>,
    },
    /// Add a deliverable: a preset, and where its outputs go.
    Deliver {
        /// The sheet.
        sheet: String,
        /// A preset of the server, or a preset file (.json).
        preset: String,
        #[command(flatten)]
        to: Destination,
    },
    /// Change a deliverable; what was made before stays as it is.
    Change {
        /// The sheet.
        sheet: String,
        /// The deliverable: its id, or its preset.
        deliverable: String,
        /// Another preset.
        #[arg(long)]
        preset: Option<String>,
        #[command(flatten)]
        to: Destination,
    },
    /// Remove a deliverable; what was made stays.
    Drop {
        /// The sheet.
        sheet: String,
        /// The deliverable.
        deliverable: String,
    },
    /// Give sources settings of their own, for all their outputs or for some.
    Set {
        /// The sheet.
        sheet: String,
        #[command(flatten)]
        which: Which,
        /// Settings such as picture.rate.crf=20, on top of those that they have.
        #[arg(required_unless_present = "clear", value_name = "KEY=VALUE")]
        settings: Vec<String>,
        /// Forget those that they have first.
        #[arg(long)]
        clear: bool,
    },
    /// Show what follows from the findings of all sources, and take it.
    Suggestions {
        /// The sheet.
        sheet: String,
        /// Take one of them, by its number in the list; may be repeated.
        #[arg(long, value_name = "NUMBER")]
        take: Vec<usize>,
        /// Take all of them.
        #[arg(long, conflicts_with = "take")]
        take_all: bool,
    },
    /// Switch outputs on or off.
    Switch {
        /// The sheet.
        sheet: String,
        /// On, or off.
        #[arg(value_parser = ["on", "off"])]
        to: String,
        #[command(flatten)]
        which: Which,
    },
    /// Let parts of a source become outputs of their own, each in a row.
    Split {
        /// The sheet.
        sheet: String,
        /// The source.
        source: String,
        /// A part, from and to in seconds from its first frame, such as 10-25.5; may be repeated.
        #[arg(long = "part", required = true, value_name = "FROM-TO")]
        parts: Vec<String>,
    },
    /// Queue outputs: all that are to be made, or some.
    Run {
        /// The sheet.
        sheet: String,
        #[command(flatten)]
        which: Which,
    },
    /// Show how the outputs of a sheet come on, until none is open. The exit status is 1 where one failed.
    Follow {
        /// The sheet.
        sheet: String,
    },
    /// Show everything about one output: its plan with the reasons, and what came out.
    Output {
        /// The sheet.
        sheet: String,
        /// The source.
        source: String,
        /// The deliverable.
        deliverable: String,
    },
}

/// Where outputs go, and what they are called.
#[derive(Debug, clap::Args)]
pub(crate) struct Destination {
    /// The storage; left out, beside the source.
    #[arg(long)]
    storage: Option<String>,
    /// The folder in it.
    #[arg(long)]
    folder: Option<String>,
    /// The pattern of names, such as “<name>_<preset>”.
    #[arg(long)]
    name: Option<String>,
    /// What to do where a file of the name exists.
    #[arg(long, value_enum)]
    if_exists: Option<IfExists>,
}

/// Some outputs of a sheet.
#[derive(Debug, clap::Args)]
pub(crate) struct Which {
    /// A source; may be repeated. Left out, all.
    #[arg(long = "source", value_name = "SOURCE")]
    sources: Vec<String>,
    /// A deliverable; may be repeated. Left out, all.
    #[arg(long = "deliverable", value_name = "DELIVERABLE")]
    deliverables: Vec<String>,
}

pub(crate) async fn run(server: &Server, task: &SheetTask) -> Result<ExitCode, Problem> {
    match task {
        SheetTask::List => server.show(&server.get("/api/sheets").await?, list)?,
        SheetTask::New { name } => {
            let made = server.post("/api/sheets", &json!({ "name": name })).await?;
            server.show(&made, |sheet: SheetView| say!("{} ({})", sheet.name, sheet.id))?;
        }
        SheetTask::Show { sheet } => {
            let id = server.sheet_id(sheet).await?;
            server.show(&server.get(&format!("/api/sheets/{id}")).await?, |sheet: SheetView| print(&sheet))?;
        }
        SheetTask::Duplicate { sheet, name } => {
            let id = server.sheet_id(sheet).await?;
            let made = server.post(&format!("/api/sheets/{id}/duplicate"), &json!({ "name": name })).await?;
            server.show(&made, |sheet: SheetView| say!("{} ({})", sheet.name, sheet.id))?;
        }
        SheetTask::Rename { sheet, name } => {
            let id = server.sheet_id(sheet).await?;
            server.ask(Method::PATCH, &format!("/api/sheets/{id}"), Some(&json!({ "name": name }))).await?;
        }
        SheetTask::Remove { sheet } => {
            let id = server.sheet_id(sheet).await?;
            server.delete(&format!("/api/sheets/{id}")).await?;
            say!("Removed. “beryl sheet restore {id}” brings it back.");
        }
        SheetTask::Restore { sheet, sources, deliverables } => {
            let what = json!({ "sources": sources, "deliverables": deliverables });
            server.post(&format!("/api/sheets/{sheet}/restore"), &what).await?;
        }
        SheetTask::Add { sheet, paths } => add(server, sheet, paths).await?,
        SheetTask::TakeOut { sheet, sources } => {
            let sheet = server.sheet(sheet).await?;
            let ids: Vec<&str> = picked(&sheet.sources, sources)?.iter().map(|source| source.id.as_str()).collect();
            server.ask(Method::DELETE, &format!("/api/sheets/{}/sources", sheet.id), Some(&json!({ "sources": ids }))).await?;
        }
        SheetTask::Deliver { sheet, preset, to } => {
            let sheet = server.sheet_id(sheet).await?;
            let mut column = json!({ "preset": server.preset(preset).await? });
            going_to(server, &mut column, to).await?;
            let made = server.post(&format!("/api/sheets/{sheet}/deliverables"), &column).await?;
            server.show(&made, |column: Column| say!("{} · {} ({})", column.preset.name, column.headline, column.id))?;
        }
        SheetTask::Change { sheet, deliverable, preset, to } => {
            let sheet = server.sheet(sheet).await?;
            let column = pick(&sheet.deliverables, deliverable)?;
            let mut wanted = json!({
                "preset": column.preset, "storage": column.storage, "folder": column.folder,
                "name_pattern": column.name_pattern, "clash": column.clash,
            });
            if let Some(preset) = preset {
                wanted["preset"] = json!(server.preset(preset).await?);
            }
            going_to(server, &mut wanted, to).await?;
            server.put(&format!("/api/deliverables/{}", column.id), &wanted).await?;
        }
        SheetTask::Drop { sheet, deliverable } => {
            let sheet = server.sheet(sheet).await?;
            let id = &pick(&sheet.deliverables, deliverable)?.id;
            server.delete(&format!("/api/deliverables/{id}")).await?;
            say!("Removed. “beryl sheet restore {} --deliverable {id}” brings it back.", sheet.id);
        }
        SheetTask::Set { sheet, which, settings, clear } => set(server, sheet, which, settings, *clear).await?,
        SheetTask::Suggestions { sheet, take, take_all } => suggestions(server, sheet, take, *take_all).await?,
        SheetTask::Switch { sheet, to, which } => {
            let sheet = server.sheet(sheet).await?;
            let cells = Server::cells(&sheet, &which.sources, &which.deliverables)?;
            server.post(&format!("/api/sheets/{}/cells", sheet.id), &json!({ "cells": cells, "enabled": to == "on" })).await?;
        }
        SheetTask::Split { sheet, source, parts } => {
            let sheet = server.sheet(sheet).await?;
            let source = &pick(&sheet.sources, source)?.id;
            let parts = parts.iter().map(|part| span(part)).collect::<Result<Vec<_>, _>>()?;
            server.post(&format!("/api/sheets/{}/sources/{source}/split", sheet.id), &json!({ "parts": parts })).await?;
        }
        SheetTask::Run { sheet, which } => {
            let sheet = server.sheet(sheet).await?;
            let all = which.sources.is_empty() && which.deliverables.is_empty();
            let wanted = match all {
                true => json!({}),
                false => json!({ "cells": Server::cells(&sheet, &which.sources, &which.deliverables)? }),
            };
            let queued = server.post(&format!("/api/sheets/{}/run", sheet.id), &wanted).await?;
            server.show(&queued, |queued: Value| {
                say!("{} queued", queued["runs"].as_array().map_or(0, Vec::len));
                let left = [("passed_over", "cannot be made"), ("unread", "are not read yet")];
                left.iter().filter(|(key, _)| queued[key] != 0).for_each(|(key, words)| say!("{} {words}", queued[key]));
            })?;
        }
        SheetTask::Follow { sheet } => return follow(server, sheet).await,
        SheetTask::Output { sheet, source, deliverable } => {
            let sheet = server.sheet(sheet).await?;
            let (source, column) = (&pick(&sheet.sources, source)?.id, &pick(&sheet.deliverables, deliverable)?.id);
            server.show(&server.get(&format!("/api/outputs/{source}/{column}")).await?, print_output)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn list(sheets: Vec<SheetItem>) {
    for sheet in sheets {
        let SheetItem { id, name, sources, deliverables, open, done, failed, withheld } = sheet;
        say!("{name} ({id})");
        say!("  {sources} sources, {deliverables} deliverables; {open} open, {done} done, {failed} failed, {withheld} withheld");
    }
}

fn print(sheet: &SheetView) {
    say!("{} ({})", sheet.name, sheet.id);
    for column in &sheet.deliverables {
        say!("  → {} · {} ({})", column.preset.name, column.headline, column.id);
    }
    let of_source = |id: &str| sheet.cells.iter().filter(move |cell| cell.source == *id).collect::<Vec<_>>();
    for source in &sheet.sources {
        let folder = if source.folder.is_empty() { String::new() } else { format!("{}/", source.folder) };
        let what = source.summary.clone().or_else(|| source.problem.as_ref().map(|problem| problem.why.clone()));
        say!("{folder}{} · {} ({})", source.name, what.unwrap_or_else(|| "being read".to_owned()), source.id);
        source.findings.iter().for_each(|finding| say!("    {finding}"));
        for cell in of_source(&source.id) {
            let name =
                sheet.deliverables.iter().find(|column| column.id == cell.deliverable).map_or("", |column| &column.preset.name);
            say!("  → {name}: {}", state(cell));
        }
    }
}

/// How far an output is, in a few words.
fn state(cell: &Cell) -> String {
    if let Some(run) = &cell.run {
        let size = run.size.map_or_else(String::new, |size| format!(" · {size}"));
        return match (&run.state, &run.progress, &run.problem) {
            (RunState::Done, ..) => format!("done{size} · {}", run.path),
            (RunState::Running, Some(progress), _) => format!("{:.0} %", progress.fraction * 100.0),
            (state, _, Some(problem)) => format!("{}: {}", state.word(), problem.why),
            (state, ..) => state.word().to_owned(),
        };
    }
    match (cell.enabled, &cell.refusal, cell.forecast) {
        (false, ..) => "off".to_owned(),
        (true, Some(refusal), _) => format!("cannot be made: {refusal}"),
        (true, None, Some(size)) => format!("about {size}"),
        (true, None, None) => "not made".to_owned(),
    }
}

async fn add(server: &Server, sheet: &str, paths: &[String]) -> Result<(), Problem> {
    let sheet = server.sheet_id(sheet).await?;
    let mut by_storage: BTreeMap<String, Vec<Value>> = BTreeMap::new();
    for path in paths {
        let (storage, path) = server.place(path).await?;
        by_storage.entry(storage.id).or_default().push(json!(path));
    }
    for (storage, paths) in by_storage {
        let added = server.post(&format!("/api/sheets/{sheet}/sources"), &json!({ "storage": storage, "paths": paths })).await?;
        server.show(&added, |added: Value| say!("{} of {} added", added["added"], added["found"]))?;
    }
    Ok(())
}

async fn going_to(server: &Server, column: &mut Value, to: &Destination) -> Result<(), Problem> {
    if let Some(storage) = &to.storage {
        column["storage"] = json!(pick(&server.storages().await?, storage)?.id);
    }
    if let Some(folder) = &to.folder {
        column["folder"] = json!(folder);
    }
    if let Some(name) = &to.name {
        column["name_pattern"] = json!(name);
    }
    if let Some(rule) = to.if_exists {
        column["clash"] = json!(beryl_core::flow::run::ClashRule::from(rule));
    }
    Ok(())
}

async fn set(server: &Server, sheet: &str, which: &Which, settings: &[String], clear: bool) -> Result<(), Problem> {
    let sheet = server.sheet(sheet).await?;
    let wanted = PresetPatch::from_settings(settings).map_err(|error| preset_problem("with your settings", &error))?;
    if which.deliverables.is_empty() {
        let sources: Vec<&str> = picked(&sheet.sources, &which.sources)?.iter().map(|source| source.id.as_str()).collect();
        let change = json!({ "sources": sources, "overrides": wanted, "keep": !clear });
        server.post(&format!("/api/sheets/{}/rows", sheet.id), &change).await?;
        return Ok(());
    }
    // One call for all that come to the same.
    let mut alike: Vec<(PresetPatch, Vec<Value>)> = Vec::new();
    for key in Server::cells(&sheet, &which.sources, &which.deliverables)? {
        let own = sheet.cells.iter().find(|cell| key["source"] == cell.source && key["deliverable"] == cell.deliverable);
        let own = own.and_then(|cell| cell.overrides.clone()).filter(|_| !clear).unwrap_or_default();
        let joined = own.under(wanted.clone());
        match alike.iter_mut().find(|(patch, _)| *patch == joined) {
            Some((_, keys)) => keys.push(key),
            None => alike.push((joined, vec![key])),
        }
    }
    for (overrides, cells) in alike {
        server.post(&format!("/api/sheets/{}/cells", sheet.id), &json!({ "cells": cells, "overrides": overrides })).await?;
    }
    Ok(())
}

async fn suggestions(server: &Server, sheet: &str, take: &[usize], take_all: bool) -> Result<(), Problem> {
    let sheet = server.sheet_id(sheet).await?;
    let place = format!("/api/sheets/{sheet}/suggestions");
    let offered: Vec<Suggested> = server.read(&place).await?;
    for number in take {
        if !(1..=offered.len()).contains(number) {
            let why = format!("there are {}", offered.len());
            return Err(Problem::new(ProblemKind::Invalid, format!("there is no suggestion {number}"), why));
        }
    }
    let wanted = (1..).zip(&offered).filter(|(number, _)| take_all || take.contains(number));
    for (_, Suggested { settings, sources, .. }) in wanted {
        let change = json!({ "sources": sources, "overrides": settings, "keep": true });
        server.post(&format!("/api/sheets/{sheet}/rows"), &change).await?;
    }
    server.show(&server.get(&place).await?, |now: Vec<Suggested>| {
        for (number, Suggested { what, because, sources, taken, .. }) in (1..).zip(now) {
            say!("{number}. {what}: {} sources, taken for {}; because {because}", sources.len(), taken.len());
        }
    })
}

/// A part such as `10-25.5`.
pub(super) fn span(text: &str) -> Result<Value, Problem> {
    let invalid = || {
        Problem::new(ProblemKind::Invalid, format!("“{text}” is no part"), "it must name two moments in seconds")
            .with_next("Write it as 10-25.5: from ten seconds on to twenty-five and a half.")
    };
    let (from, to) = text.split_once('-').ok_or_else(invalid)?;
    let seconds = |text: &str| text.trim_end_matches('s').parse::<beryl_core::time::Rational>().map_err(|_| invalid());
    Ok(json!({ "from": seconds(from)?, "to": seconds(to)? }))
}

async fn follow(server: &Server, wanted: &str) -> Result<ExitCode, Problem> {
    let mut sheet = server.sheet(wanted).await?;
    let is_open = |cell: &Cell| cell.run.as_ref().is_some_and(|run| !run.state.is_final());
    let names = |cell: &Cell| {
        let source = sheet.sources.iter().find(|source| source.id == cell.source).map_or("", |source| &source.name);
        let column =
            sheet.deliverables.iter().find(|column| column.id == cell.deliverable).map_or("", |column| &column.preset.name);
        format!("{source} → {column}")
    };
    let known: BTreeMap<String, String> =
        sheet.cells.iter().filter_map(|cell| Some((cell.run.as_ref()?.id.clone(), names(cell)))).collect();
    let mut open: BTreeMap<String, RunState> = sheet
        .cells
        .iter()
        .filter(|cell| is_open(cell))
        .filter_map(|cell| cell.run.as_ref().map(|run| (run.id.clone(), run.state)))
        .collect();
    if open.is_empty() {
        say!("Nothing is open.");
        return Ok(ExitCode::SUCCESS);
    }
    let mut shown: BTreeMap<String, u64> = BTreeMap::new();
    server
        .follow(sheet.seq, |event| {
            if server.wants_json() {
                crate::terminal::json_line(&event);
            }
            let change = &event["change"];
            for run in change["runs"].as_array().into_iter().flatten() {
                let (Some(id), Ok(state)) = (run["id"].as_str(), serde_json::from_value::<RunState>(run["state"].clone())) else {
                    continue;
                };
                if let Some(before) = open.get_mut(id)
                    && *before != state
                {
                    *before = state;
                    if !server.wants_json() {
                        let why = run["problem"]["why"].as_str().map_or_else(String::new, |why| format!(": {why}"));
                        say!("{} · {}{why}", known.get(id).map_or(id, String::as_str), state.word());
                    }
                }
            }
            if let (Some(id), Some(fraction)) = (change["id"].as_str(), change["progress"]["fraction"].as_f64())
                && open.contains_key(id)
                && !server.wants_json()
            {
                // Tenths are enough for whoever reads lines.
                #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
                let tenth = (fraction * 10.0) as u64;
                if shown.insert(id.to_owned(), tenth) != Some(tenth) {
                    say!("{} · {} %", known.get(id).map_or(id, String::as_str), tenth * 10);
                }
            }
            // A page that was away too long is told to look anew.
            change["kind"] == "gap" || open.values().all(|state| state.is_final())
        })
        .await?;
    sheet = server.sheet(&sheet.id).await?;
    if sheet.cells.iter().any(is_open) {
        return Box::pin(follow(server, &sheet.id)).await;
    }
    let failed = |cell: &Cell| {
        cell.run
            .as_ref()
            .is_some_and(|run| open.contains_key(&run.id) && matches!(run.state, RunState::Failed | RunState::Withheld))
    };
    Ok(if sheet.cells.iter().any(failed) { ExitCode::from(1) } else { ExitCode::SUCCESS })
}

fn print_output(output: Value) {
    if let Some(refusal) = output["refusal"].as_str() {
        say!("cannot be made: {refusal}");
    }
    if let Ok(outlook) = serde_json::from_value(output["plan"].clone()) {
        crate::plan::print(&outlook);
    }
    if let Some(state) = output["run"]["state"].as_str() {
        say!("{state}: {}", output["run"]["path"].as_str().unwrap_or_default());
    }
    for item in output["comparison"].as_array().into_iter().flatten() {
        let words = |key: &str| item[key].as_str().unwrap_or_default().to_owned();
        say!("  {}: planned {}, found {}", words("what"), words("expected"), words("found"));
    }
}
