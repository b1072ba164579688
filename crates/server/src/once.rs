//! Requests that create something and bear an `Idempotency-Key` are answered once: asked again with the same key they
//! get the same answer.

use axum::body::{Body, Bytes, to_bytes};
use axum::extract::{Request, State};
use axum::http::{Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use beryl_store::Database;
use beryl_store::answers::Asked;

use crate::api::{ApiError, LARGEST_BODY};

const KEY: &str = "idempotency-key";
/// Letters that a key may have.
const LONGEST_KEY: usize = 200;
/// Bytes of an answer that is kept.
const LARGEST_ANSWER: usize = 16 << 20;

pub(crate) async fn answer(State(database): State<Database>, request: Request, next: Next) -> Response {
    let Some(key) = request.headers().get(KEY).filter(|_| request.method() == Method::POST) else {
        return next.run(request).await;
    };
    let what = "the request was not taken";
    let Some(key) = key.to_str().ok().filter(|key| !key.is_empty() && key.len() <= LONGEST_KEY).map(str::to_owned) else {
        return ApiError::invalid(what, format!("its key must have 1 to {LONGEST_KEY} plain letters")).into_response();
    };
    let (parts, body) = request.into_parts();
    let Ok(body) = to_bytes(body, LARGEST_BODY).await else {
        return StatusCode::PAYLOAD_TOO_LARGE.into_response();
    };
    let whole = [parts.uri.to_string().as_bytes(), b"\n", &body].concat();
    match database.ask(&key, &whole).await {
        Ok(Asked::First) => {
            // It is answered to its end although nobody may wait for it any more: who asks again gets what came of it.
            let answering = tokio::spawn(async move {
                let run = tokio::spawn(async move { next.run(Request::from_parts(parts, Body::from(body))).await });
                let response = run.await.unwrap_or_else(|_| StatusCode::INTERNAL_SERVER_ERROR.into_response());
                kept(&database, &key, response).await
            });
            answering.await.unwrap_or_else(|_| StatusCode::INTERNAL_SERVER_ERROR.into_response())
        }
        Ok(Asked::Before { status, body }) => {
            let status = StatusCode::from_u16(status).unwrap_or(StatusCode::OK);
            (status, [(header::CONTENT_TYPE, "application/json")], body).into_response()
        }
        Ok(Asked::Underway) => ApiError::under_way(what, "the same request is still being answered").into_response(),
        Ok(Asked::Other) => ApiError::invalid(what, "its key was given to another request").into_response(),
        Err(error) => ApiError::from(error).into_response(),
    }
}

/// Keeps an answer that stands; what failed on this side may be asked again.
async fn kept(database: &Database, key: &str, response: Response) -> Response {
    let (parts, body) = response.into_parts();
    let bytes = to_bytes(body, LARGEST_ANSWER).await.unwrap_or_else(|_| Bytes::new());
    let noted = if parts.status.is_server_error() {
        database.forget_request(key).await
    } else {
        database.keep_answer(key, parts.status.as_u16(), &bytes).await
    };
    if let Err(error) = noted {
        tracing::warn!(%error, "an answer could not be kept");
    }
    Response::from_parts(parts, Body::from(bytes))
}
