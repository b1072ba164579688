//! Settings of the house.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use beryl_store::{Database, StoreError};
use chrono_tz::Tz;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::ApiError;
use crate::app::App;
use crate::events::HousePart;
use crate::scheduler::{MOST_SLOTS, SLOTS_SETTING};

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(settings, save_settings))
}

/// Settings of the house.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
struct Settings {
    /// Jobs that run at the same time, 1 to 64.
    engine_slots: usize,
    /// Days after which a withheld file has waited long, 1 to 365. It is shown then, never removed.
    withheld_days: u32,
    /// The house's time zone, by its name in the IANA database. Left out, it stays.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    time_zone: Option<String>,
}

const WITHHELD_DAYS_SETTING: &str = "withheld_days";
const USUAL_WITHHELD_DAYS: u32 = 7;

/// Days after which a withheld file has waited long.
pub(super) async fn withheld_days(database: &Database) -> Result<u32, StoreError> {
    Ok(database.setting(WITHHELD_DAYS_SETTING).await?.unwrap_or(USUAL_WITHHELD_DAYS))
}

/// The settings.
#[utoipa::path(get, path = "/api/settings", responses((status = 200, body = Settings)))]
async fn settings(State(app): State<Arc<App>>) -> Result<Json<Settings>, ApiError> {
    let time_zone = Some(app.clock.zone().name().to_owned());
    Ok(Json(Settings { engine_slots: app.slots.count(), withheld_days: withheld_days(&app.database).await?, time_zone }))
}

/// Saves the settings.
#[utoipa::path(put, path = "/api/settings", request_body = Settings, responses((status = 200, body = Settings)))]
async fn save_settings(State(app): State<Arc<App>>, Json(settings): Json<Settings>) -> Result<Json<Settings>, ApiError> {
    if !(1..=MOST_SLOTS).contains(&settings.engine_slots) {
        return Err(ApiError::invalid("the settings could not be saved", "engine slots must be 1 to 64"));
    }
    if !(1..=365).contains(&settings.withheld_days) {
        return Err(ApiError::invalid("the settings could not be saved", "withheld files wait 1 to 365 days"));
    }
    if let Some(zone) = &settings.time_zone {
        let refuse = |_| ApiError::invalid("the settings could not be saved", format!("there is no time zone “{zone}”"));
        let zone: Tz = zone.parse().map_err(refuse)?;
        app.clock.set_zone(&app.database, zone).await?;
    }
    app.database.save_setting(WITHHELD_DAYS_SETTING, &settings.withheld_days).await?;
    app.database.save_setting(SLOTS_SETTING, &settings.engine_slots).await?;
    app.slots.set_count(settings.engine_slots);
    app.hub.tell_house(HousePart::Settings);
    Ok(Json(settings))
}
