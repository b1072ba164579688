//! The bench: everything about one source of a sheet, and what is set for all of its outputs.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use beryl_core::after::suggestions::{Suggestion, gathered, suggestions};
use beryl_core::findings::Curves;
use beryl_core::patch::Patch;
use beryl_core::plan::{Crop, crop_of, plan};
use beryl_core::preset::catalogue::idle_settings;
use beryl_core::preset::{CropRule, PresetPatch, viewing_preset, with_overrides};
use beryl_core::protocol::{Scope, ShownField, StillShape};
use beryl_core::reading::Reading;
use beryl_core::time::{Rational, Span};
use beryl_store::sheets::{Deliverable, SheetSource};
use beryl_store::sources::Source;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use super::media::{WishedStill, still_bytes};
use crate::app::App;
use crate::events::Change;
use crate::files::source_ref;
use crate::outputs::reading_of;
use crate::reader::thumbnail_name;
use crate::views::SourceRow;

/// Columns of a still at most.
const WIDEST_STILL: u32 = 3840;

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(bench))
        .routes(routes!(set_rows))
        .routes(routes!(sheet_suggestions))
        .routes(routes!(split))
        .routes(routes!(curves))
        .routes(routes!(still))
        .routes(routes!(crop))
}

/// Everything about one source of a sheet.
#[derive(Debug, Serialize, ToSchema)]
struct BenchView {
    source: SourceRow,
    /// Facts and findings; nothing where it is not read.
    reading: Option<Reading>,
    /// The editor's own settings for all of its outputs, a merge patch on each preset.
    overrides: Option<PresetPatch>,
    /// Settings that mean nothing for it in any column, by their places, and why.
    idle: BTreeMap<String, String>,
    suggestions: Vec<BenchSuggestion>,
}

/// A mending that follows from findings, and whether it is taken.
#[derive(Debug, Serialize, ToSchema)]
struct BenchSuggestion {
    #[serde(flatten)]
    suggestion: Suggestion,
    taken: bool,
}

/// Everything about one source of a sheet.
#[utoipa::path(get, path = "/api/sheets/{id}/sources/{source}", params(("id" = Uuid, Path), ("source" = Uuid, Path)), responses((status = 200, body = BenchView)))]
async fn bench(State(app): State<Arc<App>>, Path((id, source)): Path<(Uuid, Uuid)>) -> Result<Json<BenchView>, ApiError> {
    let (_, row) = app.database.sheet_source(id, source).await?;
    // What proofs have shown is in the forecasts.
    let reading = reading_of(&row.source).ok().cloned();
    let own = row.overrides.clone().unwrap_or_default();
    let findings = reading.as_ref().and_then(|reading| reading.findings.as_ref());
    let suggestions = findings.map_or_else(Vec::new, suggestions);
    let suggestions =
        suggestions.into_iter().map(|suggestion| BenchSuggestion { taken: holds(&own, &suggestion.settings), suggestion });
    let columns = app.database.deliverables(id).await?;
    let idle = reading.as_ref().map_or_else(BTreeMap::new, |reading| idle_in_all(reading, &columns, &own));
    Ok(Json(BenchView {
        suggestions: suggestions.collect(),
        source: SourceRow::of_row(&row),
        reading,
        idle,
        overrides: row.overrides,
    }))
}

/// Settings that mean nothing for a source in any of these columns, as its row has them, and why.
fn idle_in_all(reading: &Reading, columns: &[Deliverable], own: &PresetPatch) -> BTreeMap<String, String> {
    let of_column = |column: &Deliverable| {
        let preset = with_overrides(&column.preset, own).unwrap_or_else(|_| column.preset.clone());
        idle_settings(reading, &preset)
    };
    let all = columns
        .iter()
        .map(of_column)
        .reduce(|idle, other| idle.into_iter().filter(|(place, _)| other.contains_key(place)).collect());
    all.unwrap_or_default()
}

/// Whether a patch sets everything that another one sets, to the same.
fn holds(patch: &PresetPatch, other: &PresetPatch) -> bool {
    patch.clone().under(other.clone()) == *patch
}

/// What to set for all outputs of some sources.
#[derive(Debug, Deserialize, ToSchema)]
struct RowChange {
    sources: Vec<Uuid>,
    /// On the presets of all columns; `{}` for none.
    overrides: PresetPatch,
    /// Whether what is set already stays where the patch says nothing; left out, it goes.
    #[serde(default)]
    keep: bool,
}

/// Settings that some rows have.
#[derive(Debug, Serialize, ToSchema)]
struct RowsBefore {
    sources: Vec<Uuid>,
    overrides: PresetPatch,
}

/// Rows by the settings that they had.
fn alike(before: Vec<(Uuid, PresetPatch)>) -> Vec<RowsBefore> {
    let mut groups: Vec<RowsBefore> = Vec::new();
    for (source, overrides) in before {
        match groups.iter_mut().find(|group| group.overrides == overrides) {
            Some(group) => group.sources.push(source),
            None => groups.push(RowsBefore { sources: vec![source], overrides }),
        }
    }
    groups
}

/// Sets the editor's own settings for all outputs of some sources; single outputs may have others above them. Answers
/// those that they had, by which this can be taken back.
#[utoipa::path(post, path = "/api/sheets/{id}/rows", params(("id" = Uuid, Path)), request_body = RowChange, responses((status = 200, body = Vec<RowsBefore>)))]
async fn set_rows(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Json(change): Json<RowChange>,
) -> Result<Json<Vec<RowsBefore>>, ApiError> {
    for column in &app.database.deliverables(id).await? {
        // A column without picture has nothing to mend, and says so in its cells.
        if column.preset.picture.is_some() {
            with_overrides(&column.preset, &change.overrides)?;
        }
    }
    let before = if change.keep {
        app.database.add_row_settings(id, &change.sources, &change.overrides).await?
    } else {
        let overrides = Some(&change.overrides).filter(|overrides| !overrides.is_empty());
        app.database.set_row_settings(id, &change.sources, overrides).await?
    };
    app.hub.tell(Change::Sheet { id });
    Ok(Json(alike(before)))
}

/// A mending that follows for some sources of a sheet.
#[derive(Debug, Serialize, ToSchema)]
struct SheetSuggestion {
    #[serde(flatten)]
    suggestion: Suggestion,
    sources: Vec<Uuid>,
    /// Those of them for which it is taken.
    taken: Vec<Uuid>,
}

/// What follows from the findings of all sources of a sheet.
#[utoipa::path(get, path = "/api/sheets/{id}/suggestions", params(("id" = Uuid, Path)), responses((status = 200, body = Vec<SheetSuggestion>)))]
async fn sheet_suggestions(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<Json<Vec<SheetSuggestion>>, ApiError> {
    let rows = app.database.sheet_sources(id).await?;
    let each = rows.iter().flat_map(|row| {
        let findings = reading_of(&row.source).ok().and_then(|reading| reading.findings.as_ref());
        findings.map_or_else(Vec::new, suggestions).into_iter().map(move |suggestion| (row, suggestion))
    });
    let shared = gathered(each).into_iter().map(|(suggestion, rows)| {
        let has_it = |row: &&SheetSource| row.overrides.as_ref().is_some_and(|own| holds(own, &suggestion.settings));
        let taken = rows.iter().copied().filter(has_it).map(|row| row.source.id).collect();
        SheetSuggestion { sources: rows.iter().map(|row| row.source.id).collect(), taken, suggestion }
    });
    Ok(Json(shared.collect()))
}

/// Parts that become outputs of their own.
#[derive(Debug, Deserialize, ToSchema)]
struct Split {
    /// Seconds from the first frame, in their order.
    parts: Vec<Span>,
}

/// Parts that one source may be split into.
const MOST_PARTS: usize = 200;

/// Lets each part of a source become outputs of its own: the source stands in a row for each.
#[utoipa::path(post, path = "/api/sheets/{id}/sources/{source}/split", params(("id" = Uuid, Path), ("source" = Uuid, Path)), request_body = Split, responses((status = 200, body = Vec<Uuid>)))]
async fn split(
    State(app): State<Arc<App>>,
    Path((id, source)): Path<(Uuid, Uuid)>,
    Json(split): Json<Split>,
) -> Result<Json<Vec<Uuid>>, ApiError> {
    let (_, row) = app.database.sheet_source(id, source).await?;
    let what = || format!("{} could not be split", row.source.name());
    if split.parts.is_empty() || split.parts.len() > MOST_PARTS {
        return Err(ApiError::invalid(what(), format!("{} parts were named: name 1 to {MOST_PARTS}", split.parts.len())));
    }
    reading_of(&row.source)?.cut_to(&split.parts).map_err(|error| ApiError::invalid(what(), error.to_string()))?;
    let own = row.overrides.clone().unwrap_or_default();
    let settings = split.parts.iter().map(|part| PresetPatch { parts: Some(vec![*part]), ..own.clone() });
    let settings: Vec<PresetPatch> = settings.collect();
    let sources = app.database.split_row(id, source, &settings).await?;
    for copy in sources.iter().filter(|copy| **copy != source) {
        let picture = |id: Uuid| app.cache.file(&thumbnail_name(id));
        // Without a small picture a row has none.
        drop(tokio::fs::copy(picture(source), picture(*copy)).await);
    }
    app.hub.tell(Change::Sheet { id });
    Ok(Json(sources))
}

/// A crop rule to try.
#[derive(Debug, Deserialize, ToSchema)]
struct CropWish {
    rule: CropRule,
}

/// What a crop rule comes to for a source: the part that is kept, and what that costs.
#[utoipa::path(post, path = "/api/sources/{id}/crop", params(("id" = Uuid, Path)), request_body = CropWish, responses((status = 200, body = Crop)))]
async fn crop(State(app): State<Arc<App>>, Path(id): Path<Uuid>, Json(wish): Json<CropWish>) -> Result<Json<Crop>, ApiError> {
    let source = app.database.source(id).await?;
    let name = source.path.name();
    let what = || format!("{name} cannot be cut so");
    let crop = crop_of(reading_of(&source)?, wish.rule).map_err(|error| ApiError::invalid(what(), error.to_string()))?;
    Ok(Json(crop.ok_or_else(|| ApiError::invalid(what(), "it has no picture"))?))
}

/// The curves behind the findings of a source; empty where it was not scanned.
#[utoipa::path(get, path = "/api/sources/{id}/curves", params(("id" = Uuid, Path)), responses((status = 200, body = Curves)))]
async fn curves(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<Json<Curves>, ApiError> {
    Ok(Json(app.database.curves(id).await?.unwrap_or_default()))
}

/// Which picture.
#[derive(Debug, Deserialize, IntoParams)]
struct StillQuery {
    /// Seconds from the first frame, as an exact fraction.
    #[param(value_type = String)]
    at: Rational,
    /// Columns; a picture is never enlarged.
    width: u32,
    /// One field alone.
    #[serde(default)]
    field: ShownField,
    /// Colour, levels and what is laid over, as a JSON merge patch on a preset: the picture is shown so.
    #[serde(default)]
    look: Option<String>,
    /// Its codes measured in this way, in place of the picture.
    #[serde(default)]
    #[param(inline)]
    scope: Option<Scope>,
}

/// What shows a picture of a source with a look.
async fn look_of(app: &App, source: &Source, look: &str) -> Result<StillShape, ApiError> {
    let what = || format!("{} cannot be shown so", source.name());
    let refuse = |why: String| ApiError::invalid(what(), why);
    let look: PresetPatch = serde_json::from_str(look).map_err(|error| refuse(error.to_string()))?;
    let plan = plan(reading_of(source)?, &viewing_preset(true), &look).map_err(|error| refuse(error.to_string()))?;
    let picture = plan.picture.ok_or_else(|| refuse("it has no picture".to_owned()))?;
    let assets = app.assets.assets_for(&picture.steps).await?;
    Ok(StillShape { pixel_aspect: picture.pixel_aspect, steps: picture.steps, assets })
}

/// The frame of a source that is shown at a moment, from the source itself.
#[utoipa::path(get, path = "/api/sources/{id}/still", params(("id" = Uuid, Path), StillQuery), responses((status = 200, content_type = "image/jpeg", body = Vec<u8>)))]
async fn still(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Query(wanted): Query<StillQuery>,
) -> Result<Response, ApiError> {
    let source = app.database.source(id).await?;
    let storage = app.database.storage(source.storage).await?;
    let width = wanted.width.clamp(16, WIDEST_STILL);
    let shape = match &wanted.look {
        Some(look) => Some(look_of(&app, &source, look).await?),
        None => None,
    };
    let bytes = still_bytes(
        &app,
        &source_ref(&storage, &source),
        WishedStill { at: wanted.at, width, field: wanted.field, shape, scope: wanted.scope },
        "jpg",
    )
    .await?;
    Ok(([(header::CONTENT_TYPE, "image/jpeg"), (header::CACHE_CONTROL, "private, max-age=3600")], bytes).into_response())
}
