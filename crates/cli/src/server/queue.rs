//! `beryl queue`

use std::path::PathBuf;
use std::process::ExitCode;

use beryl_core::problem::{Problem, ProblemKind};
use clap::Subcommand;
use serde_json::{Value, json};
use uuid::Uuid;

use super::answers::{Acted, NightView, QueueView};
use super::client::Server;
use crate::terminal::say;

/// The queue of the server.
#[derive(Debug, Subcommand)]
pub(crate) enum QueueTask {
    /// Show what is under way and what ended last.
    List {
        /// Runs of this sheet alone.
        #[arg(long)]
        sheet: Option<String>,
        /// From this place on.
        #[arg(long, default_value_t = 0)]
        from: u64,
        /// So many.
        #[arg(long, default_value_t = 200)]
        count: u64,
    },
    /// Show when the night will be over, and what waits for a decision.
    Night,
    /// Let runs stand still.
    Hold(Runs),
    /// Let held runs go on.
    Resume(Runs),
    /// End runs without a file.
    Cancel(Runs),
    /// Begin runs again that ended without a file.
    Retry {
        /// Ids of runs.
        #[arg(required = true, value_parser = run_id)]
        runs: Vec<Uuid>,
    },
    /// Move waiting runs, in this order, before another one or to the end.
    Move {
        /// Ids of the runs.
        #[arg(required = true, value_parser = run_id)]
        runs: Vec<Uuid>,
        /// The run to go before.
        #[arg(long, value_parser = run_id)]
        before: Option<Uuid>,
    },
    /// Take a withheld file for good: it gets its name.
    Release {
        /// The id of the run.
        #[arg(value_parser = run_id)]
        run: Uuid,
        /// Why it is good.
        #[arg(long)]
        because: String,
    },
    /// Remove a withheld file.
    Discard {
        /// The id of the run.
        #[arg(value_parser = run_id)]
        run: Uuid,
    },
    /// Fetch a finished file.
    Fetch {
        /// The id of the run.
        #[arg(value_parser = run_id)]
        run: Uuid,
        /// Where to; no file of the name may be there.
        into: PathBuf,
        /// Which of several files that belong together, from 0.
        #[arg(long, default_value_t = 0, conflicts_with = "viewing_copy")]
        file: usize,
        /// The copy that browsers can play, made where it is missing.
        #[arg(long)]
        viewing_copy: bool,
    },
}

/// Some runs.
#[derive(Debug, clap::Args)]
pub(crate) struct Runs {
    /// Ids of runs.
    #[arg(required_unless_present = "all", value_parser = run_id)]
    runs: Vec<Uuid>,
    /// All that are open.
    #[arg(long, conflicts_with = "runs")]
    all: bool,
}

fn run_id(word: &str) -> Result<Uuid, String> {
    word.parse().map_err(|_| format!("“{word}” is no id of a run: “beryl queue list” shows them"))
}

pub(crate) async fn run(server: &Server, task: &QueueTask) -> Result<ExitCode, Problem> {
    match task {
        QueueTask::List { sheet, from, count } => {
            let of_sheet = match sheet {
                Some(sheet) => format!("&sheet={}", server.sheet_id(sheet).await?),
                None => String::new(),
            };
            server.show(&server.get(&format!("/api/queue?from={from}&count={count}{of_sheet}")).await?, print)?;
        }
        QueueTask::Night => server.show(&server.get("/api/night").await?, print_night)?,
        QueueTask::Hold(runs) => act(server, "pause", runs).await?,
        QueueTask::Resume(runs) => act(server, "resume", runs).await?,
        QueueTask::Cancel(runs) => act(server, "cancel", runs).await?,
        QueueTask::Retry { runs } => {
            let again = server.post("/api/runs", &json!({ "action": "retry", "runs": runs })).await?;
            told(server, &again, "begun again", "ended without a file")?;
        }
        QueueTask::Move { runs, before } => {
            let moved = server.post("/api/queue/order", &json!({ "runs": runs, "before": before })).await?;
            told(server, &moved, "moved", "waits")?;
        }
        QueueTask::Release { run, because } => {
            server.post(&format!("/api/runs/{run}/release"), &json!({ "because": because })).await?;
        }
        QueueTask::Discard { run } => {
            server.post(&format!("/api/runs/{run}/discard"), &json!({})).await?;
        }
        QueueTask::Fetch { run, into, file, viewing_copy } => {
            if *viewing_copy {
                viewing(server, &format!("/api/runs/{run}/viewing")).await?;
                server.fetch(&format!("/api/runs/{run}/viewing-copy"), into).await?;
            } else {
                server.fetch(&format!("/api/runs/{run}/media?file={file}"), into).await?;
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

async fn act(server: &Server, action: &str, runs: &Runs) -> Result<(), Problem> {
    if runs.all {
        let acted = server.post("/api/runs", &json!({ "action": action })).await?;
        return server.show(&acted, |acted: Acted| say!("{} changed", acted.done));
    }
    let acted = server.post("/api/runs", &json!({ "action": action, "runs": runs.runs })).await?;
    told(server, &acted, "changed", "is in a state for it")
}

/// Says how many of the runs that were named something was done with. That it was none is no success.
fn told(server: &Server, acted: &Value, what: &str, wanted: &str) -> Result<(), Problem> {
    if acted["done"] == 0 {
        let why = format!("none of these runs {wanted}");
        return Err(
            Problem::new(ProblemKind::Invalid, format!("nothing was {what}"), why).with_next("Look at “beryl queue list”.")
        );
    }
    server.show(acted, |acted: Acted| say!("{} {what}", acted.done))
}

/// Waits until there is a copy that browsers can play.
pub(super) async fn viewing(server: &Server, path: &str) -> Result<(), Problem> {
    loop {
        let answer = server.post(path, &json!({})).await?;
        match answer["state"].as_str() {
            Some("ready") if answer["is_copy"] == true => return Ok(()),
            Some("ready") => {
                let why = "browsers can play the file itself";
                return Err(Problem::new(ProblemKind::Invalid, "there is no viewing copy", why)
                    .with_next("Fetch it without --viewing-copy."));
            }
            Some("failed") => {
                let unknown =
                    |_| Problem::new(ProblemKind::Internal, "the viewing copy could not be made", "the server does not say why");
                return Err(serde_json::from_value(answer["problem"].clone()).unwrap_or_else(unknown));
            }
            _ => tokio::time::sleep(std::time::Duration::from_secs(1)).await,
        }
    }
}

fn print(queue: QueueView) {
    say!("{} at work, {} waiting, {} held; {} in all", queue.at_work, queue.waiting, queue.held, queue.rows);
    for item in queue.items {
        let run = &item.run;
        let how = match (&run.progress, &run.problem) {
            (Some(progress), _) if !run.state.is_final() => format!(" · {:.0} %", progress.fraction * 100.0),
            (_, Some(problem)) => format!(": {}", problem.why),
            _ => String::new(),
        };
        let from = item.origin_name.map_or_else(String::new, |name| format!(" · {name}"));
        say!("{} · {} → {}{from} · {}{how}", run.id, item.source_name, item.preset_name, run.state.word());
    }
}

fn print_night(night: NightView) {
    match night.all_done_in {
        Some(seconds) => say!("All is done in about {}.", crate::terminal::human(seconds)),
        None => say!("It cannot be said yet when all is done."),
    }
    say!("{} jobs on {} lanes, {} further ones", night.jobs.len(), night.lanes, night.further_jobs);
    for item in night.withheld {
        let why = item.run.problem.as_ref().map_or("", |problem| &problem.why);
        say!("{} · {} → {} waits for a decision: {why}", item.run.id, item.source_name, item.preset_name);
    }
}
