//! The page, built into the program.

use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../web/dist"]
struct Page;

/// A file of the page, or the page itself for its own addresses.
pub(crate) async fn serve(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path.starts_with("api/") {
        return (StatusCode::NOT_FOUND, "there is no such call\n").into_response();
    }
    let name = if Page::get(path).is_some() { path } else { "index.html" };
    let Some(file) = Page::get(name) else {
        return (StatusCode::NOT_FOUND, "the page is not built: run `npm ci && npm run build` in web/, then build the program\n")
            .into_response();
    };
    let kind = mime_guess::from_path(name).first_or_octet_stream();
    // Names of scripts and styles change with their contents.
    let keep = if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    ([(header::CONTENT_TYPE, kind.as_ref().to_owned()), (header::CACHE_CONTROL, keep.to_owned())], file.data).into_response()
}
