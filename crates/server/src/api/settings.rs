//! Settings of the house.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::ApiError;
use crate::app::App;
use crate::scheduler::{MOST_SLOTS, SLOTS_SETTING};

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(settings, save_settings))
}

/// Settings of the house.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
struct Settings {
    /// Jobs that run at the same time, 1 to 64.
    engine_slots: usize,
}

/// The settings.
#[utoipa::path(get, path = "/api/settings", responses((status = 200, body = Settings)))]
async fn settings(State(app): State<Arc<App>>) -> Result<Json<Settings>, ApiError> {
    Ok(Json(Settings { engine_slots: app.slots.count() }))
}

/// Saves the settings.
#[utoipa::path(put, path = "/api/settings", request_body = Settings, responses((status = 200, body = Settings)))]
async fn save_settings(State(app): State<Arc<App>>, Json(settings): Json<Settings>) -> Result<Json<Settings>, ApiError> {
    if !(1..=MOST_SLOTS).contains(&settings.engine_slots) {
        return Err(ApiError::invalid("the settings could not be saved", "engine slots must be 1 to 64"));
    }
    app.database.save_setting(SLOTS_SETTING, &settings.engine_slots).await?;
    app.slots.set_count(settings.engine_slots);
    Ok(Json(settings))
}
