//! Files that a browser sends into a storage, in pieces that can be resumed: the tus protocol 1.0.0
//! with its extensions `creation` and `termination`.

use std::path::{Path as SystemPath, PathBuf};
use std::sync::Arc;
use std::time::Duration;

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
use beryl_store::Database;
use beryl_store::storages::Storage;
use beryl_store::uploads::Upload;
use beryl_worker::{
    MOST_NUMBERS, Placed, Placing, Replacing, candidate, free_bytes, made, open_folder, place, remove_temporary, temporary_name,
};
use futures::StreamExt;
use rustix::fs::{FallocateFlags, fallocate};
use rustix::io::Errno;
use serde::Serialize;
use tokio::io::AsyncWriteExt;
use tokio::time::timeout;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use crate::app::App;
use crate::door::Door;
use crate::files::{last_change, open_storage, size_of, system_path};

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
/// Bytes of a name, with room for a number.
const LONGEST_NAME: usize = 248;
/// How long a line may be silent within a piece.
const SILENCE: Duration = Duration::from_secs(15);

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
    let wanted = cleaned(&path)?;
    let storage = app.database.storage(storage).await?;
    let root = PathBuf::from(&storage.root);
    let folder = root.clone();
    let free = app.door.work(&root, move || Ok(free_bytes(&folder))).await?;
    if free.is_some_and(|free| free < length) {
        let why = format!("it has {}, and {} are free in “{}”", ByteSize(length), ByteSize(free.unwrap_or(0)), storage.name);
        return Err(Problem::new(ProblemKind::DiskFull, format!("{} could not be taken in", wanted.name()), why).into());
    }
    let upload = app.database.add_upload(storage.id, &wanted, length).await?;
    let temporary = temporary_name(&wanted, &upload.id)?;
    let folder = root.clone();
    if let Err(problem) = app.door.work(&root, move || begin(&folder, &temporary, length)).await {
        app.database.remove_upload(upload.id).await?;
        return Err(problem.into());
    }
    if length == 0 {
        finish(&app, &upload).await?;
    }
    let location = format!("/api/uploads/{}", upload.id);
    Ok((StatusCode::CREATED, tus_headers(&[("location", location), (OFFSET, "0".to_owned())])).into_response())
}

/// The path as a storage takes it: no hidden part, no signs that cannot be seen, room for a number.
fn cleaned(path: &str) -> Result<StoragePath, ApiError> {
    let clean = |part: &str| part.chars().filter(|sign| !sign.is_control()).collect::<String>().trim().to_owned();
    let parts: Vec<String> = path.split('/').map(clean).collect();
    let refused = |why: &str| ApiError::invalid(format!("“{}” could not be taken in", parts.join("/")), why);
    if parts.iter().any(|part| part.is_empty() || part.starts_with('.')) {
        return Err(refused("its name is empty or hidden"));
    }
    if parts.last().is_some_and(|name| name.len() > LONGEST_NAME) {
        return Err(refused("its name is too long"));
    }
    // A name from a browser is plain text: a percent sign in it is one.
    Ok(StoragePath::from_bytes(parts.join("/").as_bytes())?)
}

/// Makes the file into which pieces come, and keeps room for all of it where the file system can.
fn begin(root: &SystemPath, temporary: &StoragePath, length: u64) -> Result<(), Problem> {
    let failed = |error: std::io::Error| Problem::from_io(format!("{} could not be taken in", temporary.name()), &error);
    let folder = open_folder(root, &temporary.parent())?;
    let name = system_path(temporary).file_name().unwrap_or_default();
    let file = folder.create(name).map_err(failed)?;
    if length == 0 {
        return Ok(());
    }
    match fallocate(&file, FallocateFlags::KEEP_SIZE, 0, length) {
        Err(Errno::NOSPC | Errno::DQUOT) => {
            drop(folder.remove_file(name));
            Err(failed(Errno::NOSPC.into()))
        }
        // Where room cannot be kept, a full disk is told of when it is full.
        Ok(()) | Err(_) => Ok(()),
    }
}

/// How much of a file has come.
async fn offset(app: &App, upload: &Upload) -> Result<(Storage, StoragePath, u64), ApiError> {
    let storage = app.database.storage(upload.storage).await?;
    let temporary = temporary_name(&upload.wanted, &upload.id)?;
    if upload.placed.is_some() {
        return Ok((storage, temporary, upload.length));
    }
    let (root, path, target) = (PathBuf::from(&storage.root), temporary.clone(), upload.target.clone());
    let folder = root.clone();
    let looking = move || {
        let come = size_of(&folder, &path)?;
        let named = target.map(|target| size_of(&folder, &target)).transpose()?.flatten();
        Ok((come, named))
    };
    match app.door.work(&root, looking).await? {
        (Some(come), _) => Ok((storage, temporary, come)),
        // It got its name, and a crash came before that was noted.
        (None, Some(size)) if size == upload.length => Ok((storage, temporary, size)),
        (None, _) => {
            let what = format!("what came of {} could not be found", upload.wanted.name());
            Err(Problem::new(ProblemKind::Missing, what, "its temporary file is gone").with_next("Send it again.").into())
        }
    }
}

/// How much of a file has come, in `Upload-Offset`. Where all of it is there and its name is missing, it gets
/// that first: an offset that equals the length means that nothing is left to do.
#[utoipa::path(head, path = "/api/uploads/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn upload_offset(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<Response, ApiError> {
    let mut upload = app.database.upload(id).await?;
    let (_, _, come) = offset(&app, &upload).await?;
    if come == upload.length && upload.placed.is_none() {
        let _turn = app.uploads.lock(id).await;
        upload = app.database.upload(id).await?;
        finish(&app, &upload).await?;
    }
    let headers = [(OFFSET, come.to_string()), (LENGTH, upload.length.to_string())];
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
    let come = append(&app, storage, temporary, &upload, come, body).await?;
    if come == upload.length {
        finish(&app, &upload).await?;
    }
    Ok((StatusCode::NO_CONTENT, tus_headers(&[(OFFSET, come.to_string())])).into_response())
}

/// Writes what comes; where the line breaks or stands still, what has come stays and counts.
async fn append(
    app: &App,
    storage: Storage,
    temporary: StoragePath,
    upload: &Upload,
    from: u64,
    body: Body,
) -> Result<u64, ApiError> {
    let name = upload.wanted.name();
    let failed = |name: &str, error: std::io::Error| Problem::from_io(format!("{name} could not be written"), &error);
    let (root, shown) = (PathBuf::from(&storage.root), name.clone());
    let opening = move || {
        let mut options = cap_std::fs::OpenOptions::new();
        options.append(true);
        let file = open_storage(&storage)?.open_with(system_path(&temporary), &options);
        Ok(file.map_err(|error| failed(&shown, error))?.into_std())
    };
    let mut file = tokio::fs::File::from_std(app.door.work(&root, opening).await?);
    let failed = |error: std::io::Error| failed(&name, error);
    let mut come = from;
    let mut pieces = body.into_data_stream();
    // A line that is dead and does not know it must not stand in the way of the next.
    while let Ok(Some(Ok(piece))) = timeout(SILENCE, pieces.next()).await {
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

/// Gives a whole file its name, or the next free one with a number. The name is noted before it is given.
async fn finish(app: &App, upload: &Upload) -> Result<(), ApiError> {
    if upload.placed.is_some() {
        return Ok(());
    }
    let storage = app.database.storage(upload.storage).await?;
    let root = PathBuf::from(&storage.root);
    let temporary = temporary_name(&upload.wanted, &upload.id)?;
    if let Some(target) = &upload.target {
        let (folder, path, named) = (root.clone(), temporary.clone(), target.clone());
        let looking = move || Ok((size_of(&folder, &path)?, size_of(&folder, &named)?));
        if app.door.work(&root, looking).await? == (None, Some(upload.length)) {
            return Ok(app.database.finish_upload(upload.id, target).await?);
        }
    }
    for number in 1..MOST_NUMBERS {
        let target = numbered(&upload.wanted, number)?;
        app.database.set_upload_target(upload.id, &target).await?;
        let (folder, path, named) = (root.clone(), temporary.clone(), target.clone());
        let placing = move || {
            let made = made(&folder, &path)?;
            place(&folder, &[Placing { temporary: path, target: named, made }], &Replacing::Never)
        };
        if app.door.surely(&root, placing).await? == Placed::Done {
            return Ok(app.database.finish_upload(upload.id, &target).await?);
        }
    }
    let what = format!("{} could not be named", upload.wanted.name());
    Err(Problem::new(ProblemKind::NameTaken, what, "all numbers are taken").into())
}

fn numbered(wanted: &StoragePath, number: u32) -> Result<StoragePath, ApiError> {
    // The extension as it was written, not as it is compared.
    let name = wanted.name();
    let ending = name.rfind('.').filter(|dot| *dot > 0).map_or("", |dot| &name[dot..]);
    if number == 1 {
        return Ok(wanted.clone());
    }
    let stem = wanted.parent().join(wanted.stem().as_bytes())?;
    Ok(candidate(&stem, ending, number)?)
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
    remove(&app.database, &app.door, &upload).await?;
    Ok((StatusCode::NO_CONTENT, tus_headers(&[])).into_response())
}

async fn remove(database: &Database, door: &Door, upload: &Upload) -> Result<(), ApiError> {
    let storage = database.storage(upload.storage).await?;
    let temporary = temporary_name(&upload.wanted, &upload.id)?;
    let root = PathBuf::from(storage.root);
    let folder = root.clone();
    door.work(&root, move || remove_temporary(&folder, &temporary)).await?;
    database.remove_upload(upload.id).await?;
    Ok(())
}

/// Days without a byte after which a file that never came whole is given up.
const ABANDONED: u32 = 7;

/// Clears away what never came to its end and of which nothing has come for long.
pub(crate) async fn clear_abandoned(database: &Database, door: &Door) {
    let old = database.abandoned_uploads(ABANDONED).await.unwrap_or_default();
    for upload in old {
        match is_still_coming(database, door, &upload).await {
            Ok(true) => {}
            Ok(false) if remove(database, door, &upload).await.is_ok() => {}
            Ok(false) | Err(_) => tracing::info!(upload = %upload.id, "an abandoned upload could not be cleared away now"),
        }
    }
}

/// Whether a byte of it has come lately.
async fn is_still_coming(database: &Database, door: &Door, upload: &Upload) -> Result<bool, ApiError> {
    let storage = database.storage(upload.storage).await?;
    let temporary = temporary_name(&upload.wanted, &upload.id)?;
    let root = PathBuf::from(&storage.root);
    let last = door.work(&root, move || Ok(last_change(&storage, &temporary)));
    let abandoned = Duration::from_secs(u64::from(ABANDONED) * 86_400);
    Ok(last.await?.and_then(|last| last.elapsed().ok()).is_some_and(|silence| silence < abandoned))
}
