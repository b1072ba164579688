//! Problems as answers.

use axum::Json;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use beryl_core::path::PathError;
use beryl_core::preset::PresetError;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_store::StoreError;

use crate::publish::PublishError;

/// Letters of a refusal in words that are passed on.
const MOST_WORDS: usize = 500;

/// A refusal: a status and a [`Problem`] as its body.
#[derive(Debug)]
pub(crate) struct ApiError {
    status: StatusCode,
    problem: Box<Problem>,
}

impl ApiError {
    fn new(status: StatusCode, problem: Problem) -> Self {
        Self { status, problem: Box::new(problem) }
    }

    /// What was asked contradicts itself or the rules.
    pub(crate) fn invalid(what: impl Into<String>, why: impl Into<String>) -> Self {
        Self::new(StatusCode::UNPROCESSABLE_ENTITY, Problem::new(ProblemKind::Invalid, what, why))
    }

    /// It is done already, by somebody else.
    pub(crate) fn under_way(what: impl Into<String>, why: impl Into<String>) -> Self {
        let next = "Wait a moment and look what came of it.";
        Self::new(StatusCode::CONFLICT, Problem::new(ProblemKind::Invalid, what, why).with_next(next))
    }

    /// A refusal in bare words.
    pub(crate) fn of_words(status: StatusCode, words: &str) -> Self {
        let kind = if status == StatusCode::NOT_FOUND { ProblemKind::Missing } else { ProblemKind::Invalid };
        let why: String = words.trim().chars().take(MOST_WORDS).collect();
        let why = if why.is_empty() { status.canonical_reason().unwrap_or("it was refused").to_lowercase() } else { why };
        Self::new(status, Problem::new(kind, "the request could not be taken", why))
    }

    /// There is no such thing.
    pub(crate) fn missing(what: impl Into<String>, why: impl Into<String>) -> Self {
        let next = "Look again: it may have been removed.";
        Self::new(StatusCode::NOT_FOUND, Problem::new(ProblemKind::Missing, what, why).with_next(next))
    }
}

impl From<Problem> for ApiError {
    fn from(problem: Problem) -> Self {
        let status = match problem.kind {
            ProblemKind::Missing => StatusCode::NOT_FOUND,
            ProblemKind::Denied | ProblemKind::RefersElsewhere => StatusCode::FORBIDDEN,
            ProblemKind::DiskFull => StatusCode::INSUFFICIENT_STORAGE,
            ProblemKind::Unreachable => StatusCode::GATEWAY_TIMEOUT,
            ProblemKind::NameTaken | ProblemKind::Cancelled => StatusCode::CONFLICT,
            ProblemKind::NotMedia
            | ProblemKind::CutShort
            | ProblemKind::Unsupported
            | ProblemKind::Invalid
            | ProblemKind::CheckFailed => StatusCode::UNPROCESSABLE_ENTITY,
            ProblemKind::EngineLost | ProblemKind::OutOfMemory | ProblemKind::Internal => StatusCode::INTERNAL_SERVER_ERROR,
        };
        Self::new(status, problem)
    }
}

impl From<StoreError> for ApiError {
    fn from(error: StoreError) -> Self {
        let what = "it could not be done";
        match &error {
            StoreError::NotFound(_) => Self::missing(what, error.to_string()),
            StoreError::Changed => Self::new(
                StatusCode::CONFLICT,
                Problem::new(ProblemKind::Invalid, what, error.to_string())
                    .with_next("Look at its present state and decide again."),
            ),
            StoreError::NameTaken(_) => {
                Self::new(StatusCode::CONFLICT, Problem::new(ProblemKind::NameTaken, what, error.to_string()))
            }
            StoreError::InUse(_) => Self::new(
                StatusCode::CONFLICT,
                Problem::new(ProblemKind::Invalid, what, error.to_string()).with_next("Remove what uses it first."),
            ),
            StoreError::Unfit(_) => Self::invalid(what, error.to_string()),
            StoreError::Setup(_) | StoreError::Database(_) => Self::new(
                StatusCode::SERVICE_UNAVAILABLE,
                Problem::new(ProblemKind::Internal, what, "the database does not answer")
                    .with_details(error.to_string())
                    .with_next("Wait a moment and try again."),
            ),
        }
    }
}

impl From<PublishError> for ApiError {
    fn from(error: PublishError) -> Self {
        match error {
            PublishError::Store(error) => error.into(),
            PublishError::Refused(problem) => problem.into(),
        }
    }
}

impl From<PathError> for ApiError {
    fn from(error: PathError) -> Self {
        Self::invalid("the path cannot be used", error.to_string())
    }
}

impl From<PresetError> for ApiError {
    fn from(error: PresetError) -> Self {
        let problem = Problem::new(ProblemKind::Invalid, "the preset cannot be used", error.to_string());
        problem.with_faults(error.faults()).into()
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        (self.status, Json(self.problem)).into_response()
    }
}
