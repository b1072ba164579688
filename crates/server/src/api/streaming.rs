//! Files as answers: whole or in ranges of bytes (RFC 9110, sections 13 and 14).
//!
//! They are other people's. What browsers play is named as what it is; everything else is handed over to be
//! saved, and nothing in it can act as a part of the page.

use std::io::SeekFrom;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use axum::body::Body;
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use beryl_core::path::StoragePath;
use beryl_core::problem::Problem;
use beryl_store::storages::Storage;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use tokio::io::{AsyncReadExt, AsyncSeekExt};
use tokio_util::io::ReaderStream;

use super::ApiError;
use crate::app::App;
use crate::files::open_to_read;

/// What is shown in the page, by the end of its name.
const SHOWN: &[(&str, &str)] = &[
    ("mp4", "video/mp4"),
    ("m4v", "video/mp4"),
    // Browsers that play it know it by this name.
    ("mov", "video/mp4"),
    ("webm", "video/webm"),
    ("mkv", "video/x-matroska"),
    ("m4a", "audio/mp4"),
    ("aac", "audio/aac"),
    ("mp3", "audio/mpeg"),
    ("wav", "audio/wav"),
    ("flac", "audio/flac"),
    ("ogg", "audio/ogg"),
    ("opus", "audio/ogg"),
    ("jpg", "image/jpeg"),
    ("jpeg", "image/jpeg"),
    ("png", "image/png"),
];

fn shown_as(name: &str) -> Option<&'static str> {
    let (_, extension) = name.rsplit_once('.')?;
    SHOWN.iter().find(|(known, _)| extension.eq_ignore_ascii_case(known)).map(|(_, kind)| *kind)
}

/// Which bytes are asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Wanted {
    All,
    /// From the first to the last.
    Part(u64, u64),
    /// Outside of the file.
    Nothing,
}

/// What `Range: bytes=a-b` asks for. A range of another kind, several at once, and one that is for another
/// version of the file (`If-Range`) are answered with all of it, which is right as well.
fn wanted(headers: &HeaderMap, size: u64, version: &str) -> Wanted {
    let text = |name| headers.get(name).and_then(|value: &HeaderValue| value.to_str().ok());
    if text(header::IF_RANGE).is_some_and(|range_of| range_of != version) {
        return Wanted::All;
    }
    let range = text(header::RANGE).and_then(|range| range.strip_prefix("bytes=")).filter(|range| !range.contains(','));
    let Some((first, last)) = range.and_then(|range| range.split_once('-')) else { return Wanted::All };
    let end = size.saturating_sub(1);
    let (first, last) = match (first.parse::<u64>(), last.parse::<u64>()) {
        (Ok(first), Ok(last)) => (first, last.min(end)),
        (Ok(first), Err(_)) if last.is_empty() => (first, end),
        (Err(_), Ok(length)) if first.is_empty() => (size.saturating_sub(length), end),
        _ => return Wanted::All,
    };
    if first > last || first >= size { Wanted::Nothing } else { Wanted::Part(first, last) }
}

/// A file of a storage, as far as `headers` ask for it.
pub(super) async fn stream(app: &App, storage: Storage, path: StoragePath, headers: &HeaderMap) -> Result<Response, ApiError> {
    let name = path.name();
    let root = storage.root.clone();
    let opening = move || {
        let file = open_to_read(&storage, &path)?;
        let metadata = file.metadata().map_err(|error| Problem::from_io(format!("{} could not be read", path.name()), &error))?;
        Ok((file, metadata))
    };
    let (file, metadata) = app.door.work(Path::new(&root), opening).await?;
    let size = metadata.len();
    let version = format!("\"{:x}-{:x}-{:x}.{:x}\"", size, metadata.ino(), metadata.mtime(), metadata.mtime_nsec());
    let mut answer = HeaderMap::new();
    let mut say = |name: HeaderName, value: &str| {
        if let Ok(value) = HeaderValue::from_str(value) {
            answer.insert(name, value);
        }
    };
    say(header::ACCEPT_RANGES, "bytes");
    say(header::ETAG, &version);
    say(header::CACHE_CONTROL, "private, no-cache");
    say(header::X_CONTENT_TYPE_OPTIONS, "nosniff");
    say(header::CONTENT_SECURITY_POLICY, "sandbox; default-src 'none'");
    match shown_as(&name) {
        Some(kind) => say(header::CONTENT_TYPE, kind),
        None => {
            say(header::CONTENT_TYPE, "application/octet-stream");
            let name = utf8_percent_encode(&name, NON_ALPHANUMERIC);
            say(header::CONTENT_DISPOSITION, &format!("attachment; filename*=UTF-8''{name}"));
        }
    }
    let known = headers.get(header::IF_NONE_MATCH).and_then(|value| value.to_str().ok());
    if known.is_some_and(|known| known.split(',').any(|known| known.trim().trim_start_matches("W/") == version)) {
        return Ok((StatusCode::NOT_MODIFIED, answer).into_response());
    }
    let mut file = tokio::fs::File::from_std(file);
    let (status, first, length) = match wanted(headers, size, &version) {
        Wanted::All => (StatusCode::OK, 0, size),
        Wanted::Part(first, last) => (StatusCode::PARTIAL_CONTENT, first, last - first + 1),
        Wanted::Nothing => {
            let range = [(header::CONTENT_RANGE, format!("bytes */{size}"))];
            return Ok((StatusCode::RANGE_NOT_SATISFIABLE, range).into_response());
        }
    };
    if status == StatusCode::PARTIAL_CONTENT {
        let failed = |error: std::io::Error| Problem::from_io(format!("{name} could not be read"), &error);
        file.seek(SeekFrom::Start(first)).await.map_err(failed)?;
        answer.insert(header::CONTENT_RANGE, content_range(first, length, size));
    }
    answer.insert(header::CONTENT_LENGTH, HeaderValue::from(length));
    Ok((status, answer, Body::from_stream(ReaderStream::new(file.take(length)))).into_response())
}

fn content_range(first: u64, length: u64, size: u64) -> HeaderValue {
    let last = first + length - 1;
    // Figures and signs of ASCII alone.
    HeaderValue::from_str(&format!("bytes {first}-{last}/{size}")).unwrap_or(HeaderValue::from_static("bytes"))
}
