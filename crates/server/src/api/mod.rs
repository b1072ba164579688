//! The API: described once, here, and generated from that for the page.

mod assets;
mod bench;
mod cells;
mod error;
mod events;
mod machine;
mod media;
mod presets;
mod proofs;
mod queue;
mod settings;
mod sheets;
mod storages;
mod streaming;
mod uploads;
mod watch;

use std::sync::Arc;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::middleware::{from_fn, from_fn_with_state};
use axum::routing::get;
use tower_http::CompressionLevel;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{DefaultPredicate, NotForContentType, Predicate};
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;

use crate::app::App;
use crate::{guard, once, page};

pub(crate) use error::ApiError;
pub(crate) use uploads::clear_abandoned;

/// Bodies of calls (not of uploads) may be this large.
pub(crate) const LARGEST_BODY: usize = 4 << 20;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Beryl",
        description = "Compresses and transcodes video in batches. Sizes are bytes, rates bit/s, times seconds as exact fractions."
    ),
    components(schemas(crate::events::Event, beryl_core::preset::Preset, beryl_core::protocol::ShownField))
)]
struct Description;

fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::with_openapi(Description::openapi())
        .merge(storages::calls())
        .merge(sheets::calls())
        .merge(queue::calls())
        .merge(machine::calls())
        .merge(media::calls())
        .merge(presets::calls())
        .merge(settings::calls())
        .merge(cells::calls())
        .merge(bench::calls())
        .merge(proofs::calls())
        .merge(assets::calls())
        .merge(watch::calls())
        .merge(uploads::calls())
        .merge(events::calls())
}

/// The description of the API as JSON.
#[must_use]
pub fn describe() -> String {
    let (_, description) = calls().split_for_parts();
    description.to_pretty_json().unwrap_or_default()
}

/// Media is as small as it gets, and a part of a file is a part of the file as it is.
fn is_worth_compressing() -> impl Predicate {
    DefaultPredicate::new()
        .and(NotForContentType::const_new("video/"))
        .and(NotForContentType::const_new("audio/"))
        .and(NotForContentType::const_new("application/octet-stream"))
}

/// Everything that can be asked for.
pub(crate) fn router(app: Arc<App>) -> Router {
    let (router, description) = calls().split_for_parts();
    let description = Arc::new(description);
    router
        .route("/api/openapi.json", get(move || async move { axum::Json(description.as_ref().clone()) }))
        .fallback(page::serve)
        .layer(from_fn_with_state(app.database.clone(), once::answer))
        .layer(DefaultBodyLimit::max(LARGEST_BODY))
        .layer(from_fn(guard::refusals_are_problems))
        .layer(CompressionLayer::new().quality(CompressionLevel::Fastest).compress_when(is_worth_compressing()))
        .layer(CatchPanicLayer::new())
        .layer(from_fn(guard::hear_out))
        .layer(from_fn(guard::only_this_machine))
        .with_state(app)
}
