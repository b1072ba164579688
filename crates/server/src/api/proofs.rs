//! Proofs and test strips: a few seconds of an output, made by its real plan.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use beryl_core::after::forecast::{Certainty, Outlook};
use beryl_core::after::proof::{ProofState, frame_time, moments, sample_parts};
use beryl_core::after::quality::{Comparison, Quality};
use beryl_core::findings::Moment;
use beryl_core::patch::Patch;
use beryl_core::preset::PresetPatch;
use beryl_core::problem::Problem;
use beryl_core::protocol::{ShownField, SourceRef, StillShape};
use beryl_core::time::{FromFirst, OutputTime, Rational, Span};
use beryl_core::units::{BitRate, ByteSize};
use beryl_store::proofs::Proof;
use beryl_store::sheets::{Deliverable, SheetSource};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use super::cells::{joined, wish};
use super::media::{WishedStill, cache_storage, still_bytes};
use super::streaming::stream;
use crate::app::App;
use crate::cache::{film_name, proof_name};
use crate::files::source_ref;
use crate::outputs::reading_of;

/// Proofs that one call may ask for.
const MOST_AT_ONCE: usize = 24;
/// Seconds of one proof at most.
const LONGEST: Rational = Rational::whole(60);
const WIDEST_STILL: u32 = 4096;

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(prove))
        .routes(routes!(proofs))
        .routes(routes!(remove_proof))
        .routes(routes!(curve))
        .routes(routes!(film))
        .routes(routes!(still))
}

/// What is to be proved.
#[derive(Debug, Deserialize, ToSchema)]
struct ProofWish {
    sheet: Uuid,
    source: Uuid,
    deliverable: Uuid,
    /// Where, in seconds from the first frame of the source.
    moments: Vec<Rational>,
    /// Seconds of each.
    seconds: Rational,
    /// Instead of moments, one proof of many short stretches of the whole, which foretells the size.
    #[serde(default)]
    size: bool,
    /// What is tried: one variant without label and settings for the output as it is, several for a test strip.
    variants: Vec<Variant>,
}

/// The output with something else set.
#[derive(Debug, Deserialize, ToSchema)]
struct Variant {
    /// What is different, in a few words.
    label: String,
    /// A JSON merge patch above the settings of row and cell.
    overrides: PresetPatch,
}

/// A proof.
#[derive(Debug, Serialize, ToSchema)]
struct ProofView {
    id: Uuid,
    strip: Option<Uuid>,
    label: String,
    overrides: PresetPatch,
    /// Seconds of the source: one stretch, or those of a sample of the size.
    parts: Vec<Span>,
    /// By what factor it plays faster than the source.
    speed: Rational,
    state: ProofState,
    /// The part that is made, 0 to 1.
    fraction: f64,
    problem: Option<Problem>,
    /// What is done to each picture, in a few words each.
    steps: Vec<String>,
    made: Option<MadeView>,
    /// What it foretells for all that is taken of the source; nothing where it cannot be planned any more.
    whole: Option<WholeView>,
}

/// What came out.
#[derive(Debug, Serialize, ToSchema)]
struct MadeView {
    size: ByteSize,
    rate: BitRate,
    /// Columns and lines of its picture, and the width of a pixel over its height.
    width: u32,
    height: u32,
    pixel_aspect: Rational,
    frame_rate: Rational,
    frames: usize,
    #[serde(flatten)]
    quality: Quality,
    cpu_seconds: f64,
}

/// What a proof foretells for the whole.
#[derive(Debug, Serialize, ToSchema)]
struct WholeView {
    size: ByteSize,
    rate: BitRate,
    certainty: Certainty,
    /// Seconds that making it will take on a machine with nothing else to do, where proofs have shown it.
    seconds: Option<f64>,
}

/// The proofs of a cell, and where others would be worth most.
#[derive(Debug, Serialize, ToSchema)]
struct CellProofs {
    /// The newest first.
    proofs: Vec<ProofView>,
    moments: Vec<Moment>,
    /// Whether the output has a picture.
    has_picture: bool,
    /// Why the output cannot be made.
    refusal: Option<String>,
}

/// A cell with all that a proof of it is planned by.
struct ProvedCell {
    place: u32,
    row: SheetSource,
    column: Deliverable,
    own: PresetPatch,
    today: NaiveDate,
}

impl ProvedCell {
    async fn load(app: &App, source: Uuid, deliverable: Uuid) -> Result<Self, ApiError> {
        let column = app.database.deliverable(deliverable).await?;
        let (place, row) = app.database.sheet_source(column.sheet, source).await?;
        let cell = app.database.output_setting(source, deliverable).await?.and_then(|setting| setting.overrides);
        let own = joined(&row, cell.as_ref()).into_owned();
        Ok(Self { place, row, column, own, today: app.clock.today() })
    }

    /// What would be made of a part, or of all that is taken.
    fn outlook(&self, variant: &PresetPatch, parts: Option<&[Span]>) -> Result<Outlook, Problem> {
        let mut own = self.own.clone().under(variant.clone());
        if let Some(parts) = parts {
            own.parts = Some(parts.to_vec());
        }
        wish("", self.place, self.today, &self.row, &self.column, &own).outlook()
    }

    fn view(&self, app: &App, proof: &Proof) -> ProofView {
        let whole = self.outlook(&proof.overrides, None).ok();
        let picture = proof.plan.picture.as_ref();
        let made = proof.result.as_ref().zip(picture).map(|(result, picture)| {
            let quality = result.quality.clone().unwrap_or_default();
            MadeView {
                size: result.size,
                rate: result.size.rate_over(proof.plan.known_duration()),
                width: picture.width,
                height: picture.height,
                pixel_aspect: picture.pixel_aspect,
                frame_rate: picture.frame_rate.rate(),
                frames: result.frames,
                quality,
                cpu_seconds: result.cpu_seconds,
            }
        });
        ProofView {
            id: proof.id,
            strip: proof.strip,
            label: proof.label.clone(),
            overrides: proof.overrides.clone(),
            parts: proof.plan.parts.clone(),
            speed: proof.plan.speed,
            state: proof.state,
            fraction: app.proving.fraction(proof.id).unwrap_or(0.0),
            problem: proof.problem.clone(),
            steps: picture.map_or_else(Vec::new, |picture| picture.step_words()),
            made,
            whole: whole.map(|Outlook { plan, forecast }| WholeView {
                size: forecast.size,
                rate: forecast.size.rate_over(plan.known_duration()),
                certainty: forecast.certainty,
                seconds: forecast.cpu_milliseconds.map(|milliseconds| milliseconds as f64 / 1e3 / cores()),
            }),
        }
    }
}

fn cores() -> f64 {
    std::thread::available_parallelism().map_or(1, usize::from) as f64
}

/// Proves an output at some moments, as it is or in several variants. An event tells how far they are.
#[utoipa::path(post, path = "/api/proofs", request_body = ProofWish, responses((status = 200, body = Vec<Uuid>)))]
async fn prove(State(app): State<Arc<App>>, Json(wish): Json<ProofWish>) -> Result<Json<Vec<Uuid>>, ApiError> {
    let cell = ProvedCell::load(&app, wish.source, wish.deliverable).await?;
    let what = || format!("{} could not be proved", cell.row.source.path.name());
    let reading = reading_of(&cell.row.source)?;
    if !wish.seconds.is_positive() || wish.seconds > LONGEST {
        let why = format!("{} s of each were asked for: ask for more than 0 and at most {LONGEST} s", wish.seconds);
        return Err(ApiError::invalid(what(), why));
    }
    let proved: Vec<Vec<Span>> = if wish.size {
        vec![sample_parts(reading, &cell.outlook(&PresetPatch::default(), None)?.plan.parts)]
    } else {
        if let Some((length, moment)) =
            reading.facts.duration.and_then(|length| Some((length, wish.moments.iter().find(|moment| **moment >= length)?)))
        {
            let (moment, length) = (moment.to_f64(), length.to_f64());
            let why = format!("{moment:.3} s lies behind its end: it is {length:.3} s long");
            return Err(ApiError::invalid(what(), why));
        }
        let latest = reading.facts.duration.map(|length| (length - wish.seconds).max(Rational::ZERO));
        let part = |moment: &Rational| {
            let from = latest.map_or(*moment, |latest| (*moment).min(latest)).max(Rational::ZERO);
            vec![Span { from, to: from + wish.seconds }]
        };
        wish.moments.iter().map(part).collect()
    };
    let count = proved.len() * wish.variants.len();
    if count == 0 || count > MOST_AT_ONCE {
        return Err(ApiError::invalid(what(), format!("{count} proofs were asked for: ask for 1 to {MOST_AT_ONCE}")));
    }
    let strip = (wish.variants.len() > 1).then(Uuid::now_v7);
    let mut proofs = Vec::new();
    for parts in &proved {
        for variant in &wish.variants {
            proofs.push(Proof {
                id: Uuid::now_v7(),
                sheet: wish.sheet,
                source: wish.source,
                deliverable: wish.deliverable,
                strip,
                label: variant.label.chars().take(120).collect(),
                overrides: variant.overrides.clone(),
                // Of several files, the one with the picture is proved.
                plan: cell.outlook(&variant.overrides, Some(parts))?.plan.first_file(),
                state: ProofState::Waiting,
                problem: None,
                result: None,
                created: chrono::Utc::now(),
            });
        }
    }
    app.database.add_proofs(&proofs).await?;
    app.proving.call();
    Ok(Json(proofs.iter().map(|proof| proof.id).collect()))
}

/// The proofs of a cell.
#[utoipa::path(get, path = "/api/outputs/{source}/{deliverable}/proofs", params(("source" = Uuid, Path), ("deliverable" = Uuid, Path)), responses((status = 200, body = CellProofs)))]
async fn proofs(
    State(app): State<Arc<App>>,
    Path((source, deliverable)): Path<(Uuid, Uuid)>,
) -> Result<Json<CellProofs>, ApiError> {
    let cell = ProvedCell::load(&app, source, deliverable).await?;
    let proofs = app.database.proofs(source, deliverable).await?;
    let (plan, refusal) = match cell.outlook(&PresetPatch::default(), None).map(|outlook| outlook.plan) {
        Ok(plan) => (Some(plan), None),
        Err(problem) => (None, Some(problem.why)),
    };
    let parts = plan.as_ref().map_or_else(Vec::new, |plan| plan.parts.clone());
    let offered =
        reading_of(&cell.row.source).map_or_else(|_| Vec::new(), |reading| moments(reading, &parts, Rational::whole(3)));
    let has_picture = plan.is_some_and(|plan| plan.picture.is_some());
    let proofs = proofs.iter().map(|proof| cell.view(&app, proof)).collect();
    Ok(Json(CellProofs { proofs, moments: offered, has_picture, refusal }))
}

/// Removes a proof and its files. What it has shown of the source's weight is kept.
#[utoipa::path(delete, path = "/api/proofs/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn remove_proof(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    let proof = app.database.proof(id).await?;
    if proof.state == ProofState::Running {
        return Err(ApiError::invalid("the proof could not be removed", "it is being made now"));
    }
    app.database.remove_proof(id).await?;
    app.cache.clear_proof(&proof);
    app.hub.tell(crate::events::Change::Proof { source: proof.source, deliverable: proof.deliverable });
    Ok(())
}

/// How near a proof comes to its source, frame by frame.
#[utoipa::path(get, path = "/api/proofs/{id}/curve", params(("id" = Uuid, Path)), responses((status = 200, body = Comparison)))]
async fn curve(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<Json<Comparison>, ApiError> {
    Ok(Json(Comparison::of(app.database.proof_curve(id).await?)))
}

/// The film of a proof: the source in its upper half, the proof in its lower, frame for frame.
#[utoipa::path(get, path = "/api/proofs/{id}/film", params(("id" = Uuid, Path)), responses((status = 206, body = Vec<u8>)))]
async fn film(State(app): State<Arc<App>>, Path(id): Path<Uuid>, headers: HeaderMap) -> Result<Response, ApiError> {
    let proof = app.database.proof(id).await?;
    stream(&app, cache_storage(&app), film_name(&proof), &headers).await
}

/// Which side of a proof.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
enum Side {
    /// The source, in the shape of the output.
    Source,
    /// What was made.
    Made,
}

/// Which picture of a proof.
#[derive(Debug, Deserialize, IntoParams)]
struct ProofStill {
    /// The frame of the proof, from nought.
    frame: usize,
    #[param(inline)]
    side: Side,
}

/// One frame of a proof, or what the source shows at that moment, without loss (PNG), in square pixels.
#[utoipa::path(get, path = "/api/proofs/{id}/still", params(("id" = Uuid, Path), ProofStill), responses((status = 200, content_type = "image/png", body = Vec<u8>)))]
async fn still(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Query(wanted): Query<ProofStill>,
) -> Result<Response, ApiError> {
    let proof = app.database.proof(id).await?;
    let what = "the picture could not be shown";
    let at = frame_time(&proof.plan, &app.database.proof_curve(id).await?, wanted.frame);
    let at = at.ok_or_else(|| ApiError::missing(what, "the proof has no such frame"))?;
    let picture = proof.plan.picture.as_ref().ok_or_else(|| ApiError::missing(what, "the proof has no picture"))?;
    let (width, _) = picture.shown_within(WIDEST_STILL);
    let (source, at, shape) = match wanted.side {
        Side::Made => {
            let file = app.cache.reference(proof_name(&proof));
            (SourceRef::of(file), at, None)
        }
        Side::Source => {
            let source = app.database.source(proof.source).await?;
            let storage = app.database.storage(source.storage).await?;
            let shape = StillShape { steps: picture.seen_steps(), pixel_aspect: picture.pixel_aspect, assets: Vec::new() };
            let FromFirst(at) = proof.plan.time_map().source(OutputTime(at));
            (source_ref(&storage, &source), at, Some(shape))
        }
    };
    let bytes = still_bytes(&app, &source, WishedStill { at, width, field: ShownField::Both, shape, scope: None }, "png").await?;
    Ok(([(header::CONTENT_TYPE, "image/png"), (header::CACHE_CONTROL, "private, max-age=86400, immutable")], bytes)
        .into_response())
}
