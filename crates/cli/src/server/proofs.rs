//! `beryl proof`

use std::path::PathBuf;
use std::process::ExitCode;

use beryl_core::after::quality::Comparison;
use beryl_core::preset::PresetPatch;
use beryl_core::problem::Problem;
use beryl_core::time::Rational;
use clap::{Subcommand, ValueEnum};
use serde_json::json;

use super::answers::CellProofs;
use super::client::Server;
use super::naming::pick;
use crate::terminal::{preset_problem, say};

/// Proofs of outputs: short stretches made as the whole would be, held against the source.
#[derive(Debug, Subcommand)]
pub(crate) enum ProofTask {
    /// List the proofs of an output.
    List(Which),
    /// Prove an output at some moments.
    New {
        #[command(flatten)]
        which: Which,
        /// A moment, in seconds from the first frame; may be repeated. Left out, the moments that are suggested.
        #[arg(long = "at", value_name = "SECONDS")]
        moments: Vec<Rational>,
        /// Seconds at each moment.
        #[arg(long, default_value = "2")]
        seconds: Rational,
        /// Settings on top of those of the output; may be repeated.
        #[arg(long = "set", value_name = "KEY=VALUE")]
        settings: Vec<String>,
        /// Take evenly spread parts instead, to estimate the total size.
        #[arg(long)]
        size: bool,
    },
    /// Show how near a proof comes to its source.
    Curve {
        /// The id of the proof.
        proof: String,
        /// Show each frame.
        #[arg(long)]
        frames: bool,
    },
    /// Write the film of a proof into a file: the source above, the proof below.
    Film {
        /// The id of the proof.
        proof: String,
        /// The file.
        file: PathBuf,
    },
    /// Write one frame of a proof, or of its source, into a file (PNG).
    Still {
        /// The id of the proof.
        proof: String,
        /// The file.
        file: PathBuf,
        /// Which frame, from 0.
        #[arg(long, default_value_t = 0)]
        frame: u64,
        /// Of which.
        #[arg(long, value_enum, default_value_t = Side::Made)]
        side: Side,
    },
    /// Remove a proof and its files.
    Remove {
        /// The id of the proof.
        proof: String,
    },
}

/// Which output.
#[derive(Debug, clap::Args)]
pub(crate) struct Which {
    /// The sheet.
    sheet: String,
    /// The source.
    source: String,
    /// The deliverable.
    deliverable: String,
}

/// A side of a proof.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Side {
    /// The source.
    Source,
    /// What was made of it.
    Made,
}

pub(crate) async fn run(server: &Server, task: &ProofTask) -> Result<ExitCode, Problem> {
    match task {
        ProofTask::List(which) => {
            let (_, source, deliverable) = ids(server, which).await?;
            server.show(&server.get(&format!("/api/outputs/{source}/{deliverable}/proofs")).await?, print)?;
        }
        ProofTask::New { which, moments, seconds, settings, size } => {
            let (sheet, source, deliverable) = ids(server, which).await?;
            let overrides = PresetPatch::from_settings(settings).map_err(|error| preset_problem("with your settings", &error))?;
            let label = if settings.is_empty() { "as it is".to_owned() } else { settings.join(", ") };
            let moments = if moments.is_empty() && !size {
                let known = server.get(&format!("/api/outputs/{source}/{deliverable}/proofs")).await?;
                known["moments"].as_array().into_iter().flatten().map(|moment| moment["at"].clone()).collect()
            } else {
                json!(moments)
            };
            let wish = json!({
                "sheet": sheet, "source": source, "deliverable": deliverable, "moments": moments, "seconds": seconds,
                "size": size, "variants": [{ "label": label, "overrides": overrides }],
            });
            server.show(&server.post("/api/proofs", &wish).await?, |ids: Vec<String>| ids.iter().for_each(|id| say!("{id}")))?;
        }
        ProofTask::Curve { proof, frames } => {
            server.show(&server.get(&format!("/api/proofs/{proof}/curve")).await?, |comparison: Comparison| {
                say!("{}", comparison.words());
                crate::compare::print_frames(&comparison, *frames);
            })?;
        }
        ProofTask::Film { proof, file } => server.fetch(&format!("/api/proofs/{proof}/film"), file).await?,
        ProofTask::Still { proof, file, frame, side } => {
            let side = match side {
                Side::Source => "source",
                Side::Made => "made",
            };
            server.fetch(&format!("/api/proofs/{proof}/still?frame={frame}&side={side}"), file).await?;
        }
        ProofTask::Remove { proof } => {
            server.delete(&format!("/api/proofs/{proof}")).await?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// The ids of the sheet, the source and the deliverable.
async fn ids(server: &Server, which: &Which) -> Result<(String, String, String), Problem> {
    let sheet = server.sheet(&which.sheet).await?;
    let (source, deliverable) = (pick(&sheet.sources, &which.source)?, pick(&sheet.deliverables, &which.deliverable)?);
    Ok((sheet.id.clone(), source.id.clone(), deliverable.id.clone()))
}

fn print(cell: CellProofs) {
    cell.refusal.iter().for_each(|refusal| say!("it cannot be proved: {refusal}"));
    for proof in cell.proofs {
        let what = match (&proof.problem, &proof.made) {
            (Some(problem), _) => problem.why.clone(),
            (None, Some(made)) => {
                // Of sound alone there is no quality of pictures.
                let quality = if made.quality.ssim > 0.0 { format!(" · SSIM {:.4}", made.quality.ssim) } else { String::new() };
                format!("{}{quality}", made.size)
            }
            (None, None) => format!("{:.0} %", proof.fraction * 100.0),
        };
        say!("{} · {} · {}: {what}", proof.id, proof.label, proof.state);
    }
}
