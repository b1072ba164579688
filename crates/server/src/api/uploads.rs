//! Files that a browser sends into a storage, in pieces that can be resumed: the tus protocol 1.0.0
//! with its extensions `creation` and `termination`.

use std::path::Path as SystemPath;
use std::sync::Arc;

use axum::Json;
use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use beryl_core::path::StoragePath;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::units::ByteSize;
use beryl_store::storages::Storage;
use beryl_store::uploads::Upload;
use beryl_worker::{Placed, Replacing, candidate, free_bytes, open_folder, place, remove_temporary, temporary_name};
use futures::StreamExt;
use serde::Serialize;
use tokio::io::AsyncWriteExt;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use super::storages::blocking;
use crate::app::App;
use crate::files::{open_storage, system_path};

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new().routes(routes!(create_upload, upload_options)).routes(routes!(
        upload_offset,
        append_to_upload,
        upload_state,
        end_upload
    ))
}

/// The version of the protocol.
const VERSION: &str = "1.0.0";
const OFFSET: &str = "upload-offset";
const LENGTH: &str = "upload-length";
/// Names that are tried for a finished file.
const MOST_NUMBERS: u32 = 10_000;

fn tus_headers(more: &[(&'static str, String)]) -> HeaderMap {
    let mut headers = HeaderMap::new();
    headers.insert("tus-resumable", HeaderValue::from_static(VERSION));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    for (name, value) in more {
        if let Ok(value) = HeaderValue::from_str(value) {
            headers.insert(*name, value);
        }
    }
    headers
}

fn number(headers: &HeaderMap, name: &str) -> Result<u64, ApiError> {
    let value = headers.get(name).and_then(|value| value.to_str().ok()).and_then(|value| value.parse().ok());
    value.ok_or_else(|| ApiError::invalid("the file could not be taken in", format!("the header {name} is missing or no number")))
}

/// One value of `Upload-Metadata`: pairs of a key and a value in base64, separated by commas.
fn metadata(headers: &HeaderMap, key: &str) -> Option<String> {
    let all = headers.get("upload-metadata")?.to_str().ok()?;
    let value = all.split(',').find_map(|pair| pair.trim().strip_prefix(key)?.strip_prefix(' '))?;
    String::from_utf8(BASE64.decode(value.trim()).ok()?).ok()
}

/// What the server can do: the protocol's version and extensions.
#[utoipa::path(options, path = "/api/uploads", responses((status = 204)))]
async fn upload_options() -> Response {
    let headers = [("tus-version", VERSION.to_owned()), ("tus-extension", "creation,termination".to_owned())];
    (StatusCode::NO_CONTENT, tus_headers(&headers)).into_response()
}

/// Announces a file of `Upload-Length` bytes. `Upload-Metadata` names its `storage` and its `path`
/// there; the address for its pieces is the answer's `Location`.
#[utoipa::path(post, path = "/api/uploads", responses((status = 201)))]
async fn create_upload(State(app): State<Arc<App>>, headers: HeaderMap) -> Result<Response, ApiError> {
    let missing = |what: &str| ApiError::invalid("the file could not be taken in", format!("its {what} is not said"));
    let length = number(&headers, LENGTH)?;
    let storage = metadata(&headers, "storage").and_then(|id| id.parse().ok()).ok_or_else(|| missing("storage"))?;
    let path = metadata(&headers, "path").ok_or_else(|| missing("path"))?;
    // A name from a browser is plain text: a percent sign in it is one.
    let wanted = StoragePath::from_bytes(path.as_bytes())?;
    if wanted.is_root() || wanted.as_bytes().split(|byte| *byte == b'/').any(|part| part.first() == Some(&b'.')) {
        return Err(ApiError::invalid(format!("{wanted} could not be taken in"), "its name is empty or hidden"));
    }
    let storage = app.database.storage(storage).await?;
    let free = free_bytes(SystemPath::new(&storage.root));
    if free.is_some_and(|free| free < length) {
        let why = format!("it has {}, and {} are free in “{}”", ByteSize(length), ByteSize(free.unwrap_or(0)), storage.name);
        return Err(Problem::new(ProblemKind::DiskFull, format!("{} could not be taken in", wanted.name()), why).into());
    }
    let upload = app.database.add_upload(storage.id, &wanted, length).await?;
    let temporary = temporary_name(&wanted, &upload.id)?;
    let created = blocking(move || {
        let folder = open_folder(SystemPath::new(&storage.root), &temporary.parent())?;
        let made = folder.create(system_path(&temporary).file_name().unwrap_or_default());
        made.map(drop).map_err(|error| Problem::from_io(format!("{} could not be taken in", temporary.name()), &error))
    });
    created.await?;
    if length == 0 {
        finish(&app, &upload).await?;
    }
    let location = format!("/api/uploads/{}", upload.id);
    Ok((StatusCode::CREATED, tus_headers(&[("location", location), (OFFSET, "0".to_owned())])).into_response())
}

/// How much of a file has come.
async fn offset(app: &App, upload: &Upload) -> Result<(Storage, StoragePath, u64), ApiError> {
    let storage = app.database.storage(upload.storage).await?;
    let temporary = temporary_name(&upload.wanted, &upload.id)?;
    if upload.placed.is_some() {
        return Ok((storage, temporary, upload.length));
    }
    let failed =
        |error: std::io::Error| Problem::from_io(format!("what came of {} could not be found", upload.wanted.name()), &error);
    let size = open_storage(&storage)?.metadata(system_path(&temporary)).map_err(failed)?.len();
    Ok((storage, temporary, size))
}

/// How much of a file has come, in `Upload-Offset`.
#[utoipa::path(head, path = "/api/uploads/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn upload_offset(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<Response, ApiError> {
    let upload = app.database.upload(id).await?;
    let (_, _, offset) = offset(&app, &upload).await?;
    let headers = [(OFFSET, offset.to_string()), (LENGTH, upload.length.to_string())];
    Ok((StatusCode::OK, tus_headers(&headers)).into_response())
}

/// The next piece, from `Upload-Offset` on. The last one gives the file its name.
#[utoipa::path(patch, path = "/api/uploads/{id}", params(("id" = Uuid, Path)), request_body(content = Vec<u8>, content_type = "application/offset+octet-stream"), responses((status = 204)))]
async fn append_to_upload(
    State(app): State<Arc<App>>,
    Path(id): Path<Uuid>,
    headers: HeaderMap,
    body: Body,
) -> Result<Response, ApiError> {
    if headers.get(header::CONTENT_TYPE).is_none_or(|kind| kind != "application/offset+octet-stream") {
        return Ok((StatusCode::UNSUPPORTED_MEDIA_TYPE, tus_headers(&[])).into_response());
    }
    let said = number(&headers, OFFSET)?;
    // Two pieces at once would interleave.
    let _turn = app.uploads.lock(id).await;
    let upload = app.database.upload(id).await?;
    let (storage, temporary, come) = offset(&app, &upload).await?;
    if said != come || upload.placed.is_some() {
        return Ok((StatusCode::CONFLICT, tus_headers(&[(OFFSET, come.to_string())])).into_response());
    }
    let come = append(&storage, &temporary, &upload, come, body).await?;
    if come == upload.length {
        finish(&app, &upload).await?;
    }
    Ok((StatusCode::NO_CONTENT, tus_headers(&[(OFFSET, come.to_string())])).into_response())
}

/// Writes what comes; where the line breaks, what has come stays and counts.
async fn append(storage: &Storage, temporary: &StoragePath, upload: &Upload, from: u64, body: Body) -> Result<u64, ApiError> {
    let name = upload.wanted.name();
    let failed = |error: std::io::Error| Problem::from_io(format!("{name} could not be written"), &error);
    let mut options = cap_std::fs::OpenOptions::new();
    options.append(true);
    let file = open_storage(storage)?.open_with(system_path(temporary), &options).map_err(failed)?;
    let mut file = tokio::fs::File::from_std(file.into_std());
    let mut come = from;
    let mut pieces = body.into_data_stream();
    while let Some(Ok(piece)) = pieces.next().await {
        let length = u64::try_from(piece.len()).unwrap_or(u64::MAX);
        if come.saturating_add(length) > upload.length {
            let why = format!("more came than the {} that were announced", ByteSize(upload.length));
            return Err(ApiError::invalid(format!("{name} could not be taken in"), why));
        }
        file.write_all(&piece).await.map_err(failed)?;
        come += length;
    }
    file.flush().await.map_err(failed)?;
    if come == upload.length {
        file.sync_all().await.map_err(failed)?;
    }
    Ok(come)
}

/// Gives a whole file its name, or the next free one with a number.
async fn finish(app: &App, upload: &Upload) -> Result<(), ApiError> {
    let storage = app.database.storage(upload.storage).await?;
    let temporary = temporary_name(&upload.wanted, &upload.id)?;
    let wanted = upload.wanted.clone();
    let placed = blocking(move || place_numbered(SystemPath::new(&storage.root), &temporary, &wanted)).await?;
    app.database.finish_upload(upload.id, &placed).await?;
    Ok(())
}

fn place_numbered(root: &SystemPath, temporary: &StoragePath, wanted: &StoragePath) -> Result<StoragePath, Problem> {
    let not_named = |error: &dyn std::fmt::Display| {
        Problem::new(ProblemKind::Invalid, format!("{} could not be named", wanted.name()), error.to_string())
    };
    // The extension as it was written, not as it is compared.
    let name = wanted.name();
    let extension = name.rfind('.').filter(|dot| *dot > 0).map_or("", |dot| &name[dot + 1..]);
    for number in 1..MOST_NUMBERS {
        let target = if number == 1 {
            wanted.clone()
        } else {
            let stem = wanted.parent().join(wanted.stem().as_bytes()).map_err(|error| not_named(&error))?;
            candidate(&stem, extension, number).map_err(|error| not_named(&error))?
        };
        match place(root, temporary, &target, Replacing::Never)? {
            Placed::Done => return Ok(target),
            Placed::Taken | Placed::Protected => {}
        }
    }
    Err(Problem::new(ProblemKind::NameTaken, format!("{name} could not be named"), "all numbers are taken"))
}

/// A file that comes or has come.
#[derive(Debug, Serialize, ToSchema)]
struct UploadView {
    id: Uuid,
    storage: Uuid,
    /// Bytes of the whole.
    length: u64,
    /// Bytes that have come.
    offset: u64,
    /// Its path in the storage, once it is whole.
    path: Option<StoragePath>,
}

/// What has become of an upload.
#[utoipa::path(get, path = "/api/uploads/{id}", params(("id" = Uuid, Path)), responses((status = 200, body = UploadView)))]
async fn upload_state(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<Json<UploadView>, ApiError> {
    let upload = app.database.upload(id).await?;
    let (_, _, offset) = offset(&app, &upload).await?;
    Ok(Json(UploadView { id, storage: upload.storage, length: upload.length, offset, path: upload.placed }))
}

/// Gives up a file that has not come whole; what came of it goes.
#[utoipa::path(delete, path = "/api/uploads/{id}", params(("id" = Uuid, Path)), responses((status = 204)))]
async fn end_upload(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<Response, ApiError> {
    let _turn = app.uploads.lock(id).await;
    let upload = app.database.upload(id).await?;
    remove(&app, &upload).await?;
    Ok((StatusCode::NO_CONTENT, tus_headers(&[])).into_response())
}

async fn remove(app: &App, upload: &Upload) -> Result<(), ApiError> {
    let storage = app.database.storage(upload.storage).await?;
    let temporary = temporary_name(&upload.wanted, &upload.id)?;
    blocking(move || remove_temporary(SystemPath::new(&storage.root), &temporary)).await?;
    app.database.remove_upload(upload.id).await?;
    Ok(())
}

/// Days after which a file that never came whole is given up.
const ABANDONED: u32 = 7;

/// Clears away what was begun long ago and never came to its end.
pub(crate) async fn clear_abandoned(app: &App) {
    let abandoned = app.database.abandoned_uploads(ABANDONED).await.unwrap_or_default();
    for upload in abandoned {
        if remove(app, &upload).await.is_err() {
            tracing::info!(upload = %upload.id, "an abandoned upload could not be cleared away now");
        }
    }
}
