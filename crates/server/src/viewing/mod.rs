//! Viewing copies: small files, made on demand, of what browsers cannot play.

mod copies;

use std::collections::hash_map::Entry;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use beryl_core::after::check::{judge, problem_of};
use beryl_core::facts::Facts;
use beryl_core::facts::viewing::plays_in_browsers;
use beryl_core::path::StoragePath;
use beryl_core::plan::plan;
use beryl_core::preset::{PresetPatch, viewing_preset};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{EncodeRun, Event, Job, RunNews, SourceRef};
use beryl_core::reading::Reading;
use beryl_core::sound::track::{TrackSource, TrackWish};
use beryl_worker::{Engine, remove_temporary, replace};
use serde::Serialize;
use utoipa::ToSchema;
use uuid::Uuid;

use crate::cache::{Cache, temporary_in_cache};
use crate::events::{Change, Hub};
use crate::scheduler::Slots;

pub(crate) use copies::Copies;
use copies::Making;

/// Bytes of all viewing copies together; beyond that the oldest go.
const MOST_BYTES: u64 = 10_000_000_000;

/// Whether something can be played in the page.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[serde(tag = "state", rename_all = "snake_case")]
pub(crate) enum Viewing {
    /// It plays from this address, as it is or as a viewing copy.
    Ready {
        /// Where.
        url: String,
        /// Whether it is a copy.
        is_copy: bool,
    },
    /// A viewing copy is being made; an event tells when to ask again.
    Making {
        /// The part that is made, 0 to 1.
        fraction: f64,
    },
    /// No viewing copy can be made.
    Failed {
        /// Why.
        problem: Problem,
    },
}

/// Something to look at: a source or a finished file.
#[derive(Debug, Clone)]
pub(crate) struct Subject {
    /// The source's or the run's id.
    pub(crate) id: Uuid,
    /// Where it is.
    pub(crate) source: SourceRef,
    /// What is known of it.
    pub(crate) reading: Reading,
    /// The one stream of sound that is to be heard, by its place in the file; the usual one where none is chosen.
    pub(crate) heard: Option<u32>,
    /// The address of the file as it is.
    pub(crate) direct: String,
    /// The address of its viewing copy.
    pub(crate) copy: String,
}

/// The name of a viewing copy in the cache. A source that has changed has another size.
pub(crate) fn copy_name(id: Uuid, facts: &Facts, heard: Option<u32>) -> StoragePath {
    let heard = heard.map_or_else(String::new, |stream| format!("-s{stream}"));
    format!("viewing-{id}-{}{heard}.mp4", facts.size.0).parse().unwrap_or_default()
}

/// Makes viewing copies.
#[derive(Debug, Clone)]
pub(crate) struct Viewings {
    pub(crate) engine: Engine,
    pub(crate) hub: Arc<Hub>,
    pub(crate) slots: Arc<Slots>,
    pub(crate) cache: Cache,
    pub(crate) copies: Arc<Copies>,
}

impl Viewings {
    /// Answers from where the subject plays, and begins to make a copy where there must be one.
    pub(crate) fn view(&self, subject: Subject) -> Viewing {
        // Browsers play the first stream of sound and offer no other.
        if subject.heard.is_none() && subject.source.sequence.is_none() && plays_in_browsers(&subject.reading.facts) {
            return Viewing::Ready { url: subject.direct, is_copy: false };
        }
        let name = copy_name(subject.id, &subject.reading.facts, subject.heard);
        if self.cache.file(&name).is_file() {
            return Viewing::Ready { url: subject.copy, is_copy: true };
        }
        match self.copies.making().entry(name.clone()) {
            Entry::Occupied(entry) => {
                return match entry.get().clone() {
                    Making::Underway(fraction) => Viewing::Making { fraction },
                    // Asked for again, it is tried again.
                    Making::Failed(problem) => {
                        entry.remove();
                        Viewing::Failed { problem }
                    }
                };
            }
            Entry::Vacant(entry) => {
                entry.insert(Making::Underway(0.0));
            }
        }
        let own = self.clone();
        tokio::spawn(async move {
            let outcome = own.make(&subject, &name).await;
            match outcome {
                Ok(()) => {
                    own.copies.making().remove(&name);
                    let cache = own.cache.folder().to_path_buf();
                    drop(tokio::task::spawn_blocking(move || clear_old(&cache, MOST_BYTES)).await);
                }
                Err(problem) => {
                    own.copies.making().insert(name, Making::Failed(problem));
                }
            }
            own.hub.tell(Change::Viewing { id: subject.id });
        });
        Viewing::Making { fraction: 0.0 }
    }

    async fn make(&self, subject: &Subject, name: &StoragePath) -> Result<(), Problem> {
        let what = || format!("{} could not be made playable here", subject.source.file.path.name());
        let lost = |why: &str| Problem::new(ProblemKind::EngineLost, what(), why);
        let _turn = self.copies.turn().await.ok_or_else(|| lost("the server is ending"))?;
        let mut preset = viewing_preset(subject.reading.facts.picture().is_some());
        if let Some((stream, sound)) = subject.heard.zip(preset.sound.as_mut()) {
            sound.tracks = vec![TrackWish::of(TrackSource::all_of(stream))];
        }
        let plan = plan(&subject.reading, &preset, &PresetPatch::default())
            .map_err(|error| Problem::new(ProblemKind::Unsupported, what(), error.to_string()))?;
        let id = Uuid::now_v7();
        let temporary = temporary_in_cache(&id);
        let output = self.cache.reference(temporary.clone());
        let job = Job::Encode {
            source: subject.source.clone(),
            runs: vec![EncodeRun { id, plan: plan.clone(), outputs: vec![output], assets: Vec::new() }],
            share: self.slots.share(),
        };
        let mut running = self.engine.start(&job).await?;
        while let Some(event) = running.next().await {
            match event {
                Event::Run { news: RunNews::Progress { progress }, .. } => {
                    self.copies.making().insert(name.clone(), Making::Underway(progress.fraction));
                    self.hub.tell(Change::Viewing { id: subject.id });
                }
                Event::Run { news: RunNews::Written { measured }, .. } => {
                    let report = judge(&plan, &measured);
                    if let Some(problem) = problem_of(&plan, &measured, &report) {
                        drop(remove_temporary(self.cache.folder(), &temporary));
                        return Err(problem);
                    }
                    return replace(self.cache.folder(), &temporary, name);
                }
                Event::Run { news: RunNews::Failed { problem }, .. } | Event::Failed { problem } => {
                    drop(remove_temporary(self.cache.folder(), &temporary));
                    return Err(problem);
                }
                Event::Run { news: RunNews::Reading, .. } | Event::Answer(_) | Event::Ended { .. } => {}
            }
        }
        Err(lost("the engine gave no answer"))
    }
}

/// Removes the oldest viewing copies until all together weigh no more than `most`.
fn clear_old(cache: &Path, most: u64) {
    let Ok(entries) = std::fs::read_dir(cache) else { return };
    let mut copies: Vec<(std::time::SystemTime, u64, PathBuf)> = entries
        .flatten()
        .filter(|entry| entry.file_name().to_string_lossy().starts_with("viewing-"))
        .filter_map(|entry| {
            let metadata = entry.metadata().ok()?;
            Some((metadata.modified().ok()?, metadata.len(), entry.path()))
        })
        .collect();
    copies.sort();
    let mut whole: u64 = copies.iter().map(|(_, size, _)| size).sum();
    for (_, size, path) in copies {
        if whole <= most {
            return;
        }
        // One that cannot be removed now goes the next time.
        drop(std::fs::remove_file(path));
        whole -= size;
    }
}
