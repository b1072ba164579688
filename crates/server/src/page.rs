//! The page, built into the program.

use axum::http::{HeaderMap, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../web/dist"]
struct Page;

/// A file of the page, or the page itself for its own addresses.
pub(crate) async fn serve(uri: Uri, headers: HeaderMap) -> Response {
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
    let described = [(header::CONTENT_TYPE, kind.as_ref().to_owned()), (header::CACHE_CONTROL, keep.to_owned())];
    // The build has made texts small already.
    match Page::get(&format!("{name}.br")).filter(|_| takes_brotli(&headers)) {
        Some(small) => {
            let encoded = [(header::CONTENT_ENCODING, "br"), (header::VARY, "accept-encoding")];
            (described, encoded, small.data).into_response()
        }
        None => (described, file.data).into_response(),
    }
}

/// Whether whoever asks can read what was compressed so (RFC 9110, § 12.5.3).
fn takes_brotli(headers: &HeaderMap) -> bool {
    let accepted = headers.get_all(header::ACCEPT_ENCODING).iter().filter_map(|value| value.to_str().ok());
    accepted.flat_map(|value| value.split(',')).any(|one| {
        let (name, quality) = one.split_once(';').unwrap_or((one, ""));
        name.trim().eq_ignore_ascii_case("br") && !matches!(quality.trim(), "q=0" | "q=0.0" | "q=0.00" | "q=0.000")
    })
}
