//! Pictures, sources and finished files, in ranges of bytes.

use std::path::PathBuf;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use beryl_core::flow::run::RunState;
use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use beryl_core::protocol::{Scope, ShownField, SourceRef, Still, StillShape};
use beryl_core::time::Rational;
use beryl_store::storages::Storage;
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use super::streaming::stream;
use crate::app::App;
use crate::files::{file_ref, source_ref};
use crate::outputs::reading_of;
use crate::reader::{thumbnail_moment, thumbnail_name};
use crate::viewing::{Subject, Viewing, copy_name};

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(thumbnail))
        .routes(routes!(source_media))
        .routes(routes!(run_media))
        .routes(routes!(source_viewing))
        .routes(routes!(run_viewing))
        .routes(routes!(source_copy))
        .routes(routes!(run_copy))
}

/// A small picture of a source.
#[utoipa::path(get, path = "/api/sources/{id}/thumbnail", params(("id" = Uuid, Path)), responses((status = 200, content_type = "image/jpeg", body = Vec<u8>)))]
async fn thumbnail(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<Response, ApiError> {
    let source = app.database.source(id).await?;
    let storage = app.database.storage(source.storage).await?;
    let moment = reading_of(&source).map_or(Rational::ZERO, thumbnail_moment);
    let bytes = app.pictures.small_picture(&source_ref(&storage, &source), &[moment], &thumbnail_name(id)).await?;
    Ok(picture(bytes))
}

/// A JPEG that a browser may keep for a while.
pub(super) fn picture(bytes: Vec<u8>) -> Response {
    ([(header::CONTENT_TYPE, "image/jpeg"), (header::CACHE_CONTROL, "private, max-age=3600")], bytes).into_response()
}

/// A source as it is.
#[utoipa::path(get, path = "/api/sources/{id}/media", params(("id" = Uuid, Path)), responses((status = 206, body = Vec<u8>)))]
async fn source_media(State(app): State<Arc<App>>, Path(id): Path<Uuid>, headers: HeaderMap) -> Result<Response, ApiError> {
    let source = app.database.source(id).await?;
    let storage = app.database.storage(source.storage).await?;
    stream(&app, storage, source.path, &headers).await
}

/// Which file of a run.
#[derive(Debug, Deserialize, IntoParams)]
struct Which {
    /// Its place among those that belong together, from nought.
    #[serde(default)]
    file: usize,
}

/// A finished file.
#[utoipa::path(get, path = "/api/runs/{id}/media", params(("id" = Uuid, Path), Which), responses((status = 206, body = Vec<u8>)))]
async fn run_media(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Query(which): Query<Which>,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    let (storage, target) = finished_file(&app, id, which.file).await?;
    stream(&app, storage, target, &headers).await
}

/// What is to be heard.
#[derive(Debug, Deserialize, IntoParams)]
struct Heard {
    /// A stream of sound, by its place in the file; left out, the usual one.
    sound: Option<u32>,
}

async fn source_subject(app: &App, id: Uuid, heard: Option<u32>) -> Result<Subject, ApiError> {
    let source = app.database.source(id).await?;
    let storage = app.database.storage(source.storage).await?;
    let reading = reading_of(&source)?.clone();
    if let Some(stranger) = heard.filter(|heard| !reading.facts.sounds().any(|(stream, _)| stream.index == *heard)) {
        let why = format!("stream {} of {} is no sound", u64::from(stranger) + 1, source.path.name());
        return Err(ApiError::missing("the sound could not be heard", why));
    }
    Ok(Subject {
        id,
        reading,
        source: source_ref(&storage, &source),
        heard,
        direct: format!("/api/sources/{id}/media"),
        copy: format!("/api/sources/{id}/viewing-copy{}", heard.map_or_else(String::new, |heard| format!("?sound={heard}"))),
    })
}

async fn run_subject(app: &App, id: Uuid) -> Result<Subject, ApiError> {
    let (storage, target) = finished_file(app, id, 0).await?;
    let missing = || ApiError::missing("the file could not be shown", "its facts were not kept");
    Ok(Subject {
        id,
        reading: app.database.run_details(id).await?.facts.into_iter().next().ok_or_else(missing)?.into(),
        source: SourceRef::of(file_ref(&storage, &target)),
        heard: None,
        direct: format!("/api/runs/{id}/media"),
        copy: format!("/api/runs/{id}/viewing-copy"),
    })
}

async fn finished_file(app: &App, id: Uuid, file: usize) -> Result<(Storage, StoragePath), ApiError> {
    let run = app.database.run(id).await?;
    let target = match run.state {
        // What is withheld is looked at before it is released or discarded.
        RunState::Done | RunState::Withheld => run.paths().nth(file).cloned(),
        _ => None,
    };
    let target =
        target.ok_or_else(|| ApiError::missing("the file could not be shown", "the run has made none, or not so many"))?;
    Ok((app.database.storage(run.storage).await?, target))
}

/// From where a source can be played in the page. Where browsers cannot play it, this begins to
/// make a small copy, and an event says when it is there.
#[utoipa::path(post, path = "/api/sources/{id}/viewing", params(("id" = Uuid, Path), Heard), responses((status = 200, body = Viewing)))]
async fn source_viewing(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Query(heard): Query<Heard>,
) -> Result<Json<Viewing>, ApiError> {
    Ok(Json(app.viewings.view(source_subject(&app, id, heard.sound).await?)))
}

/// From where a finished file can be played in the page.
#[utoipa::path(post, path = "/api/runs/{id}/viewing", params(("id" = Uuid, Path)), responses((status = 200, body = Viewing)))]
async fn run_viewing(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<Json<Viewing>, ApiError> {
    Ok(Json(app.viewings.view(run_subject(&app, id).await?)))
}

/// The viewing copy of a source, once it is made.
#[utoipa::path(get, path = "/api/sources/{id}/viewing-copy", params(("id" = Uuid, Path), Heard), responses((status = 206, body = Vec<u8>)))]
async fn source_copy(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    Query(heard): Query<Heard>,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    let subject = source_subject(&app, id, heard.sound).await?;
    stream_copy(&app, &subject, &headers).await
}

/// The viewing copy of a finished file, once it is made.
#[utoipa::path(get, path = "/api/runs/{id}/viewing-copy", params(("id" = Uuid, Path)), responses((status = 206, body = Vec<u8>)))]
async fn run_copy(State(app): State<Arc<App>>, Path(id): Path<Uuid>, headers: HeaderMap) -> Result<Response, ApiError> {
    let subject = run_subject(&app, id).await?;
    stream_copy(&app, &subject, &headers).await
}

async fn stream_copy(app: &App, subject: &Subject, headers: &HeaderMap) -> Result<Response, ApiError> {
    stream(app, cache_storage(app), copy_name(subject.id, &subject.reading.facts, subject.heard), headers).await
}

/// The cache, as if it were a storage.
pub(super) fn cache_storage(app: &App) -> Storage {
    Storage {
        id: Uuid::nil(),
        name: "viewing copies".to_owned(),
        root: app.cache.folder().display().to_string(),
        is_retired: false,
        is_marked: false,
    }
}

/// A picture of a source, in the form that this extension names.
pub(super) async fn still_bytes(app: &App, source: &SourceRef, wish: WishedStill, extension: &str) -> Result<Vec<u8>, ApiError> {
    let name: StoragePath = format!("still-{}.{extension}", Uuid::now_v7()).parse().unwrap_or_default();
    let WishedStill { at, width, field, shape, scope } = wish;
    let output = app.cache.reference(name.clone());
    let file = Passing(app.cache.file(&name));
    app.stills.write(&app.engine, source, Still { at, width, field, shape, scope, output }).await?;
    let bytes = tokio::fs::read(&file.0).await;
    Ok(bytes.map_err(|error| Problem::from_io("the picture could not be read", &error))?)
}

/// A file of the cache that goes when it is given out, also where whoever asked for it has gone away.
struct Passing(PathBuf);

impl Drop for Passing {
    fn drop(&mut self) {
        // What could not be removed now is swept with the cache.
        drop(std::fs::remove_file(&self.0));
    }
}

/// Which picture, and how.
pub(super) struct WishedStill {
    pub(super) at: Rational,
    pub(super) width: u32,
    pub(super) field: ShownField,
    pub(super) shape: Option<StillShape>,
    pub(super) scope: Option<Scope>,
}
