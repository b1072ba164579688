//! Who may ask: pages of this server, on this machine.

use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;

use axum::body::{Body, to_bytes};
use axum::extract::Request;
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use futures::StreamExt;
use tokio::sync::Mutex;
use tokio::time::timeout;

use crate::api::ApiError;

/// Bytes of a refusal in words.
const MOST_WORDS: usize = 1 << 20;
/// Bytes of a refused body that are read, and for how long.
const MOST_HEARD: usize = 64 << 20;
const LONGEST_HEARING: Duration = Duration::from_secs(10);

/// The page may load from this server alone.
const POLICY: &str = "default-src 'self'; img-src 'self' data: blob:; media-src 'self' blob:; style-src 'self' 'unsafe-inline'; \
    script-src 'self'; connect-src 'self'; font-src 'self'; object-src 'none'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'";

/// Refuses requests that were meant for another host (a page elsewhere whose name was bent to this
/// machine) or come from a page of another origin.
pub(crate) async fn only_this_machine(request: Request, next: Next) -> Response {
    if !is_local_host(request.headers()) {
        return (StatusCode::FORBIDDEN, "this server answers to localhost only\n").into_response();
    }
    if !is_own_origin(request.headers()) {
        return (StatusCode::FORBIDDEN, "this server answers to its own page only\n").into_response();
    }
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    // Files of other people bring one that is narrower still.
    headers.entry(header::CONTENT_SECURITY_POLICY).or_insert(HeaderValue::from_static(POLICY));
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    headers.insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    response
}

/// What the framework refuses in bare words (a body that is no JSON, an id that is none, a call that is not there) is
/// refused as everything else is.
pub(crate) async fn refusals_are_problems(request: Request, next: Next) -> Response {
    let is_call = request.uri().path().starts_with("/api/") && request.method() != Method::HEAD;
    let response = next.run(request).await;
    let is_told = response.headers().get(header::CONTENT_TYPE).is_some_and(|kind| kind == "application/json");
    if !is_call || is_told || !response.status().is_client_error() || response.status() == StatusCode::RANGE_NOT_SATISFIABLE {
        return response;
    }
    let (parts, body) = response.into_parts();
    let words = to_bytes(body, MOST_WORDS).await.unwrap_or_default();
    let mut problem = ApiError::of_words(parts.status, &String::from_utf8_lossy(&words)).into_response();
    for (name, value) in
        parts.headers.iter().filter(|(name, _)| **name != header::CONTENT_TYPE && **name != header::CONTENT_LENGTH)
    {
        problem.headers_mut().insert(name.clone(), value.clone());
    }
    problem
}

/// Reads on, up to a bound, where a body was refused for its size: closing while somebody still sends
/// resets the connection, and the answer would be lost with it.
pub(crate) async fn hear_out(request: Request, next: Next) -> Response {
    let (parts, body) = request.into_parts();
    let pieces = Arc::new(Mutex::new(body.into_data_stream()));
    let shared = Arc::clone(&pieces);
    let body = futures::stream::poll_fn(move |context| match shared.try_lock() {
        Ok(mut pieces) => pieces.poll_next_unpin(context),
        // Whoever reads it here does so only after the handler has ended.
        Err(_) => Poll::Ready(None),
    });
    let response = next.run(Request::from_parts(parts, Body::from_stream(body))).await;
    if response.status() == StatusCode::PAYLOAD_TOO_LARGE {
        let mut pieces = pieces.lock().await;
        let rest = async {
            let mut heard = 0;
            while let Some(Ok(piece)) = pieces.next().await {
                heard += piece.len();
                if heard > MOST_HEARD {
                    break;
                }
            }
        };
        // Who sends so slowly may miss the answer.
        drop(timeout(LONGEST_HEARING, rest).await);
    }
    response
}

fn host_name(authority: &str) -> &str {
    match authority.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or_default(),
        None => authority.split(':').next().unwrap_or_default(),
    }
}

fn is_local_host(headers: &HeaderMap) -> bool {
    let host = headers.get(header::HOST).and_then(|host| host.to_str().ok());
    host.is_some_and(|host| matches!(host_name(host), "localhost" | "127.0.0.1" | "::1"))
}

fn is_own_origin(headers: &HeaderMap) -> bool {
    let Some(origin) = headers.get(header::ORIGIN) else { return true };
    let host = headers.get(header::HOST).and_then(|host| host.to_str().ok());
    let origin = origin.to_str().ok().and_then(|origin| origin.strip_prefix("http://"));
    origin.is_some() && origin == host
}
