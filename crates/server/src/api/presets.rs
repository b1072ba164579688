//! Presets: the built-in ones and those of the house.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use beryl_core::preset::catalogue::{Section, catalogue};
use beryl_core::preset::{Preset, builtin, builtin_presets, preset_schema};
use serde::Serialize;
use serde_json::Value;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::ApiError;
use crate::app::App;
use crate::events::HousePart;
use crate::house_presets;

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(presets, save_preset))
        .routes(routes!(remove_preset))
        .routes(routes!(schema))
        .routes(routes!(settings))
}

/// A preset with what it comes to.
#[derive(Debug, Serialize, ToSchema)]
struct PresetView {
    preset: Preset,
    /// Whether it is part of the program and cannot be changed.
    is_builtin: bool,
    headline: String,
    frame: String,
    /// Bytes of a minute of 1080p25 with stereo sound.
    bytes_per_minute: u64,
}

fn view(preset: Preset, is_builtin: bool) -> PresetView {
    PresetView {
        headline: preset.headline(),
        frame: preset.frame_words(),
        bytes_per_minute: beryl_core::after::forecast::bytes_per_minute(&preset).0,
        preset,
        is_builtin,
    }
}

/// All presets, the built-in ones first.
#[utoipa::path(get, path = "/api/presets", responses((status = 200, body = Vec<PresetView>)))]
async fn presets(State(app): State<Arc<App>>) -> Result<Json<Vec<PresetView>>, ApiError> {
    let own = app.database.own_presets().await?;
    let all = builtin_presets().into_iter().map(|preset| view(preset, true));
    Ok(Json(all.chain(own.into_iter().map(|preset| view(preset, false))).collect()))
}

/// Saves a preset of the house under its id.
#[utoipa::path(post, path = "/api/presets", request_body = Preset, responses((status = 200, body = PresetView)))]
async fn save_preset(State(app): State<Arc<App>>, Json(document): Json<Value>) -> Result<Json<PresetView>, ApiError> {
    let preset = Preset::from_value(document)?;
    if builtin(&preset.id).is_some() {
        return Err(ApiError::invalid(
            format!("the preset “{}” could not be saved", preset.name),
            "its id is that of a built-in preset: give it another id",
        ));
    }
    app.database.save_preset(&preset).await?;
    house_presets::write(&app).await;
    app.hub.tell_house(HousePart::Presets);
    Ok(Json(view(preset, false)))
}

/// Removes a preset of the house; columns made from it keep their copy.
#[utoipa::path(delete, path = "/api/presets/{id}", params(("id" = String, Path)), responses((status = 200)))]
async fn remove_preset(State(app): State<Arc<App>>, Path(id): Path<String>) -> Result<(), ApiError> {
    app.database.remove_preset(&id).await?;
    house_presets::forget(&app, &id).await;
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
