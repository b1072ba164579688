//! Making proofs: all that wait for one source in one job, then each is held against its source.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use beryl_core::after::check::{Measured, judge, problem_of};
use beryl_core::after::cost::modelled_cost;
use beryl_core::after::proof::ProofResult;
use beryl_core::after::quality::{Comparison, FrameQuality};
use beryl_core::after::sample::Sample;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{EncodeRun, Event, FileRef, Job, PairFilm, Reference, RunNews, SourceRef};
use beryl_store::proofs::Proof;
use beryl_store::{Database, StoreError, patiently};
use beryl_worker::{Engine, remove_temporary, replace};
use tokio::sync::{Notify, watch};
use uuid::Uuid;

use crate::app::ending;
use crate::assets::Assets;
use crate::cache::{Cache, film_name, proof_name, temporary_in_cache};
use crate::events::{Change, Hub};
use crate::files::source_ref;
use crate::reader::tell_source;
use crate::scheduler::Slots;

/// Proofs that one engine makes together, at most.
const TOGETHER: u32 = 12;
/// How long the end of a proof waits for the database.
const PATIENCE: Duration = Duration::from_secs(600);
/// Columns of the film of both, at most: it is for motion; single pictures come from the files themselves.
const FILM_WIDTH: u32 = 1280;

/// Makes proofs, and knows how far they are.
#[derive(Debug)]
pub(crate) struct Proving {
    database: Database,
    engine: Engine,
    hub: Arc<Hub>,
    slots: Arc<Slots>,
    cache: Cache,
    assets: Assets,
    called: Notify,
    /// The part of each that is made, 0 to 1.
    underway: Mutex<HashMap<Uuid, f64>>,
}

impl Proving {
    pub(crate) fn new(database: &Database, engine: &Engine, hub: &Arc<Hub>, slots: &Arc<Slots>, assets: &Assets) -> Self {
        Self {
            database: database.clone(),
            engine: engine.clone(),
            hub: Arc::clone(hub),
            slots: Arc::clone(slots),
            cache: assets.cache.clone(),
            assets: assets.clone(),
            called: Notify::new(),
            underway: Mutex::default(),
        }
    }

    /// New proofs wait.
    pub(crate) fn call(&self) {
        self.called.notify_one();
    }

    /// The part of a proof that is made, where it is being made.
    pub(crate) fn fraction(&self, id: Uuid) -> Option<f64> {
        self.underway.lock().unwrap_or_else(PoisonError::into_inner).get(&id).copied()
    }

    fn reach(&self, id: Uuid, fraction: Option<f64>) {
        let mut underway = self.underway.lock().unwrap_or_else(PoisonError::into_inner);
        match fraction {
            Some(fraction) => underway.insert(id, fraction),
            None => underway.remove(&id),
        };
    }
}

impl Proving {
    /// Makes proofs until the server ends.
    pub(crate) async fn run(self: Arc<Self>, mut stopped: watch::Receiver<bool>) {
        if let Err(error) = self.database.take_up_proofs().await {
            tracing::warn!(%error, "proofs that were begun could not be taken up");
        }
        loop {
            let pause = tokio::select! {
                outcome = self.prove_next() => match outcome {
                    Ok(true) => Duration::ZERO,
                    Ok(false) => Duration::from_secs(30),
                    Err(error) => {
                        tracing::warn!(%error, "proofs could not be made now");
                        Duration::from_secs(5)
                    }
                },
                // The engine ends with its job; the proof is made after the next start.
                () = ending(&mut stopped) => return,
            };
            tokio::select! {
                () = tokio::time::sleep(pause) => {}
                () = self.called.notified() => {}
                () = ending(&mut stopped) => return,
            }
        }
    }

    /// Makes the proofs that wait for one source; answers whether there were any.
    async fn prove_next(&self) -> Result<bool, StoreError> {
        let proofs = self.database.waiting_proofs(TOGETHER).await?;
        let Some(first) = proofs.first() else { return Ok(false) };
        let id = first.source;
        let source = self.database.source(id).await?;
        let storage = self.database.storage(source.storage).await?;
        for proof in &proofs {
            self.database.begin_proof(proof.id).await?;
            self.reach(proof.id, Some(0.0));
            self.tell(proof);
        }
        self.prove(&proofs, &source_ref(&storage, &source)).await?;
        self.cache.limit_proofs().await?;
        tell_source(&self.database, &self.hub, id).await?;
        // What it foretells is shown wherever the source is.
        let sheets: std::collections::BTreeSet<Uuid> = proofs.iter().map(|proof| proof.sheet).collect();
        for id in sheets {
            self.hub.tell(Change::Sheet { id });
        }
        Ok(true)
    }

    fn tell(&self, proof: &Proof) {
        self.hub.tell(Change::Proof { source: proof.source, deliverable: proof.deliverable });
    }

    /// Keeps what became of a proof and tells of it.
    async fn end(&self, proof: &Proof, outcome: Result<(ProofResult, Vec<FrameQuality>), Problem>) -> Result<(), StoreError> {
        let kept = || outcome.as_ref().map(|(result, frames)| (result, frames.as_slice()));
        patiently(PATIENCE, || self.database.end_proof(proof.id, kept())).await?;
        self.reach(proof.id, None);
        self.tell(proof);
        Ok(())
    }

    async fn prove(&self, proofs: &[Proof], source: &SourceRef) -> Result<(), StoreError> {
        let made = self.make(proofs, source).await;
        let all_cost: f64 = proofs.iter().map(|proof| modelled_cost(&proof.plan)).sum();
        // Where the system does not tell what each took, the whole is shared out by what they should take.
        let cpu_seconds = |proof: &Proof, measured: &Measured| {
            let share = if all_cost > 0.0 { modelled_cost(&proof.plan) / all_cost } else { 0.0 };
            measured.cpu_milliseconds.map_or(made.cpu_seconds * share, |milliseconds| milliseconds as f64 / 1000.0)
        };
        // What they foretell is kept before anybody hears that they are done.
        let sample = |proof: &Proof| {
            let measured = made.outcomes.get(&proof.id)?.as_ref().ok()?;
            Sample::of(&proof.plan, measured, cpu_seconds(proof, measured))
        };
        let samples: Vec<Sample> = proofs.iter().filter_map(sample).collect();
        let of = proofs.first().map_or_else(Uuid::nil, |proof| proof.source);
        patiently(PATIENCE, || self.database.add_samples(of, &samples)).await?;
        for proof in proofs {
            let outcome = match made.outcomes.get(&proof.id) {
                None => Err(made.problem.clone().unwrap_or_else(|| lost(proof))),
                Some(Err(problem)) => Err(problem.clone()),
                Some(Ok(measured)) => self.hold(proof, source).await.map(|comparison| {
                    let (quality, frames) = comparison.map(|comparison| (comparison.quality, comparison.frames)).unzip();
                    let frames: Vec<FrameQuality> = frames.unwrap_or_default();
                    let cpu_seconds = cpu_seconds(proof, measured);
                    (ProofResult { size: measured.facts.size, cpu_seconds, quality, frames: frames.len() }, frames)
                }),
            };
            self.end(proof, outcome).await?;
        }
        Ok(())
    }

    async fn make(&self, proofs: &[Proof], source: &SourceRef) -> Made {
        let mut made = Made::default();
        let root = self.cache.folder().display().to_string();
        let mut runs = Vec::new();
        for proof in proofs {
            // What an earlier start has left of it.
            drop(std::fs::remove_file(self.cache.file(&proof_name(proof))));
            let assets = match self.assets.assets_for(proof.plan.steps()).await {
                Ok(assets) => assets,
                Err(problem) => {
                    made.outcomes.insert(proof.id, Err(problem));
                    continue;
                }
            };
            let path = temporary_in_cache(&proof.id);
            drop(remove_temporary(self.cache.folder(), &path));
            let outputs = vec![FileRef::within(root.clone(), path)];
            runs.push(EncodeRun { id: proof.id, plan: proof.plan.clone(), outputs, assets });
        }
        if runs.is_empty() {
            return made;
        }
        let mut running =
            match self.engine.start(&Job::Encode { source: source.clone(), runs: runs.clone(), share: self.slots.share() }).await
            {
                Ok(running) => running,
                Err(problem) => {
                    made.problem = Some(problem);
                    return made;
                }
            };
        while let Some(event) = running.next().await {
            match event {
                Event::Run { id, news } => {
                    let run = runs.iter().find(|run| run.id == id);
                    if let (Some(run), Some(proof)) = (run, proofs.iter().find(|proof| proof.id == id)) {
                        self.take_news(run, proof, news, &mut made);
                    }
                }
                Event::Failed { problem } => made.problem = Some(problem),
                Event::Ended { cpu_seconds, .. } => made.cpu_seconds = cpu_seconds,
                Event::Answer(_) => {}
            }
        }
        for run in runs.iter().filter(|run| !made.outcomes.contains_key(&run.id)) {
            self.put_away(run);
        }
        made
    }

    fn take_news(&self, run: &EncodeRun, proof: &Proof, news: RunNews, made: &mut Made) {
        match news {
            RunNews::Progress { progress } => {
                // The last part is comparing.
                self.reach(proof.id, Some(progress.fraction * 0.8));
                self.tell(proof);
            }
            RunNews::Written { measured } => {
                let report = judge(&run.plan, &measured);
                let outcome = match (problem_of(&run.plan, &measured, &report), run.outputs.first(), measured.into_iter().next())
                {
                    (None, Some(output), Some(measured)) => {
                        replace(self.cache.folder(), &output.path, &proof_name(proof)).map(|()| measured)
                    }
                    (Some(problem), ..) => Err(problem),
                    (None, ..) => Err(Problem::new(ProblemKind::Internal, "a proof could not be kept", "it has no file")),
                };
                if outcome.is_err() {
                    self.put_away(run);
                }
                made.outcomes.insert(proof.id, outcome);
            }
            RunNews::Failed { problem } => {
                made.outcomes.entry(proof.id).or_insert(Err(problem));
            }
            RunNews::Reading => {}
        }
    }

    /// Removes what was begun.
    fn put_away(&self, run: &EncodeRun) {
        for output in &run.outputs {
            drop(remove_temporary(self.cache.folder(), &output.path));
        }
    }

    /// Holds a proof against its source, and makes the film of both; nothing where it has no picture.
    async fn hold(&self, proof: &Proof, source: &SourceRef) -> Result<Option<Comparison>, Problem> {
        let Some(picture) = &proof.plan.picture else { return Ok(None) };
        let root = self.cache.folder().display().to_string();
        let (film, file) = (film_name(proof), proof_name(proof));
        let temporary = temporary_in_cache(&proof.id);
        drop(remove_temporary(self.cache.folder(), &temporary));
        let (width, height) = picture.shown_within(FILM_WIDTH);
        let reference = Reference {
            source: source.clone(),
            origin: proof.plan.origin,
            parts: proof.plan.parts.clone(),
            steps: picture.steps.clone(),
            assets: self.assets.assets_for(&picture.steps).await?,
        };
        let output = FileRef::within(root.clone(), temporary.clone());
        let wanted = PairFilm { seen: picture.seen_steps(), width, height, output };
        let made = SourceRef::of(FileRef::within(root, file));
        let length = proof.plan.known_duration().to_f64().max(0.04);
        let compared = self
            .engine
            .compare(reference, made, Some(wanted), |position| {
                self.reach(proof.id, Some(0.8 + 0.2 * (position / length).min(1.0)));
                self.tell(proof);
            })
            .await;
        match compared {
            Ok(comparison) => replace(self.cache.folder(), &temporary, &film).map(|()| Some(comparison)),
            Err(problem) => {
                drop(remove_temporary(self.cache.folder(), &temporary));
                Err(problem)
            }
        }
    }
}

fn lost(proof: &Proof) -> Problem {
    let what = format!("the proof of {} could not be made", proof.plan.preset_name);
    Problem::new(ProblemKind::EngineLost, what, "the engine gave no answer")
}

/// What an engine made of some proofs.
#[derive(Default)]
struct Made {
    outcomes: HashMap<Uuid, Result<Measured, Problem>>,
    /// Why there is nothing of those that have no outcome.
    problem: Option<Problem>,
    cpu_seconds: f64,
}
