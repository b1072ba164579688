//! Presets: the built-in ones and those of the house.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use beryl_core::after::forecast::{Forecast, bytes_per_minute, forecast};
use beryl_core::plan::plan;
use beryl_core::preset::catalogue::{Section, catalogue};
use beryl_core::preset::{Preset, PresetPatch, builtin, builtin_presets, preset_schema};
use beryl_core::problem::Fault;
use beryl_store::presets::PresetVersion;
use beryl_store::sources::Knowledge;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use crate::app::App;
use crate::events::HousePart;

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(presets, save_preset))
        .routes(routes!(change_preset, remove_preset))
        .routes(routes!(versions))
        .routes(routes!(try_preset))
        .routes(routes!(schema))
        .routes(routes!(settings))
}

/// A preset with what it comes to.
#[derive(Debug, Serialize, ToSchema)]
struct PresetView {
    preset: Preset,
    /// Whether it is part of the program and cannot be changed.
    is_builtin: bool,
    /// The number of its newest version, from 1; built-in ones have none.
    version: Option<u32>,
    headline: String,
    frame: String,
    /// Bytes of a minute of 1080p25 with stereo sound; nothing where the preset wants what such a source does not have.
    bytes_per_minute: Option<u64>,
}

fn view(preset: Preset, version: Option<u32>) -> PresetView {
    PresetView {
        headline: preset.headline(),
        frame: preset.frame_words(),
        bytes_per_minute: bytes_per_minute(&preset).map(|bytes| bytes.0),
        preset,
        is_builtin: version.is_none(),
        version,
    }
}

/// All presets, the built-in ones first.
#[utoipa::path(get, path = "/api/presets", responses((status = 200, body = Vec<PresetView>)))]
async fn presets(State(app): State<Arc<App>>) -> Result<Json<Vec<PresetView>>, ApiError> {
    let own = app.database.own_presets().await?;
    let all = builtin_presets().into_iter().map(|preset| view(preset, None));
    Ok(Json(all.chain(own.into_iter().map(|own| view(own.preset, Some(own.version)))).collect()))
}

/// A preset that is being written.
#[derive(Debug, Deserialize, ToSchema)]
struct TriedPreset {
    /// The preset's document, whole.
    #[schema(value_type = Preset)]
    preset: Value,
    /// A source of which it is to be tried.
    source: Option<Uuid>,
}

/// What comes of a preset that is being written.
#[derive(Debug, Default, Serialize, ToSchema)]
struct Tried {
    /// What cannot be, setting by setting; empty for a sound preset.
    faults: Vec<Fault>,
    /// Bytes of a minute of 1080p25 with stereo sound.
    bytes_per_minute: Option<u64>,
    /// What it is expected to make of the source.
    forecast: Option<Forecast>,
    /// Why nothing can be made of the source.
    refusal: Option<String>,
}

/// Says what is wrong with a preset that is being written, and what it would make of a source; nothing is saved.
#[utoipa::path(post, path = "/api/presets/try", request_body = TriedPreset, responses((status = 200, body = Tried)))]
async fn try_preset(State(app): State<Arc<App>>, Json(tried): Json<TriedPreset>) -> Result<Json<Tried>, ApiError> {
    let preset = match Preset::from_value(tried.preset) {
        Ok(preset) => preset,
        Err(error) => return Ok(Json(Tried { faults: error.faults(), ..Tried::default() })),
    };
    let source = match tried.source {
        Some(source) => Some(app.database.source(source).await?),
        None => None,
    };
    let known = source.as_ref().and_then(|source| match &source.knowledge {
        Knowledge::Read(known) => Some(known),
        Knowledge::Unread | Knowledge::Unreadable(_) => None,
    });
    let made = known.map(|known| {
        let made = plan(&known.reading, &preset, &PresetPatch::default());
        made.map(|plan| forecast(&plan, &known.reading.facts, &known.samples)).map_err(|error| error.to_string())
    });
    let (forecast, refusal) = match made {
        Some(Ok(forecast)) => (Some(forecast), None),
        Some(Err(refusal)) => (None, Some(refusal)),
        None => (None, None),
    };
    Ok(Json(Tried { faults: Vec::new(), bytes_per_minute: bytes_per_minute(&preset).map(|bytes| bytes.0), forecast, refusal }))
}

/// Saves a preset of the house under its id.
#[utoipa::path(post, path = "/api/presets", request_body = Preset, responses((status = 200, body = PresetView)))]
async fn save_preset(State(app): State<Arc<App>>, Json(document): Json<Value>) -> Result<Json<PresetView>, ApiError> {
    let preset = own(document)?;
    let version = app.database.save_preset(&preset).await?;
    app.house_presets.write().await;
    app.hub.tell_house(HousePart::Presets);
    Ok(Json(view(preset, Some(version))))
}

/// A sound preset that can be one of the house.
fn own(document: Value) -> Result<Preset, ApiError> {
    let preset = Preset::from_value(document)?;
    if builtin(&preset.id).is_some() {
        return Err(ApiError::invalid(
            format!("the preset “{}” could not be saved", preset.name),
            "its id is that of a built-in preset: give it another id",
        ));
    }
    Ok(preset)
}

/// Changes a preset of the house, its id too. What it was stays as a version.
#[utoipa::path(put, path = "/api/presets/{id}", params(("id" = String, Path)), request_body = Preset, responses((status = 200, body = PresetView)))]
async fn change_preset(
    State(app): State<Arc<App>>,
    Path(id): Path<String>,
    Json(document): Json<Value>,
) -> Result<Json<PresetView>, ApiError> {
    let preset = own(document)?;
    let version = app.database.change_preset(&id, &preset).await?;
    if preset.id != id {
        app.house_presets.forget(&id).await;
    }
    app.house_presets.write().await;
    app.hub.tell_house(HousePart::Presets);
    Ok(Json(view(preset, Some(version))))
}

/// A preset as it was saved once.
#[derive(Debug, Serialize, ToSchema)]
struct VersionView {
    /// From 1.
    number: u32,
    saved: DateTime<Utc>,
    preset: Preset,
}

/// The versions of a preset of the house, the newest first; one that was removed still has them.
#[utoipa::path(get, path = "/api/presets/{id}/versions", params(("id" = String, Path)), responses((status = 200, body = Vec<VersionView>)))]
async fn versions(State(app): State<Arc<App>>, Path(id): Path<String>) -> Result<Json<Vec<VersionView>>, ApiError> {
    let versions = app.database.preset_versions(&id).await?;
    let view = |PresetVersion { number, preset, saved }| VersionView { number, saved, preset };
    Ok(Json(versions.into_iter().map(view).collect()))
}

/// Removes a preset of the house; columns made from it keep their copy.
#[utoipa::path(delete, path = "/api/presets/{id}", params(("id" = String, Path)), responses((status = 200)))]
async fn remove_preset(State(app): State<Arc<App>>, Path(id): Path<String>) -> Result<(), ApiError> {
    if let Some(preset) = builtin(&id) {
        let what = format!("the preset “{}” could not be removed", preset.name);
        return Err(ApiError::invalid(what, "it comes with the program"));
    }
    app.database.remove_preset(&id).await?;
    app.house_presets.forget(&id).await;
    app.hub.tell_house(HousePart::Presets);
    Ok(())
}

/// The catalogue of settings: each with its name, what it means and its values, in the order in which people decide.
#[utoipa::path(get, path = "/api/catalogue", responses((status = 200, body = Vec<Section>)))]
async fn settings() -> Json<Vec<Section>> {
    Json(catalogue())
}

/// The JSON Schema of preset documents.
#[utoipa::path(get, path = "/api/preset-schema.json", responses((status = 200, body = Object)))]
async fn schema() -> Json<Value> {
    Json(preset_schema())
}
