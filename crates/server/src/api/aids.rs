//! Look-up tables and pictures that presets call by name.

use std::sync::Arc;

use axum::Json;
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, Path, Query, State};
use beryl_core::lut::{FENMARK_LOG, Lut, fenmark_to_rec709};
use beryl_store::aids::{Aid, AidKind};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

use super::ApiError;
use crate::app::App;
use crate::events::HousePart;

/// Bytes of a table or a picture, at most.
const LARGEST: usize = 32 << 20;

pub(super) fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(aids))
        .routes(routes!(add_aid))
        .routes(routes!(remove_aid))
        .layer(DefaultBodyLimit::max(LARGEST))
}

/// A look-up table or a picture.
#[derive(Debug, Serialize, ToSchema)]
struct AidView {
    /// Nothing for what ships with the program.
    id: Option<Uuid>,
    kind: AidWord,
    name: String,
    /// What is known of it: the points of a table, the size of a picture.
    detail: String,
}

/// What it is.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
enum AidWord {
    /// A look-up table (`.cube`).
    Lut,
    /// A picture (PNG).
    Picture,
}

impl AidView {
    fn of(aid: Aid) -> Self {
        let kind = match aid.kind {
            AidKind::Lut => AidWord::Lut,
            AidKind::Picture => AidWord::Picture,
        };
        Self { id: Some(aid.id), kind, name: aid.name, detail: aid.detail }
    }
}

/// All tables and pictures.
#[utoipa::path(get, path = "/api/aids", responses((status = 200, body = Vec<AidView>)))]
async fn aids(State(app): State<Arc<App>>) -> Result<Json<Vec<AidView>>, ApiError> {
    let own = fenmark_to_rec709();
    let detail = format!("{}, {}, ships with Beryl", own.title, own.shape.words());
    let shipped = AidView { id: None, kind: AidWord::Lut, name: FENMARK_LOG.to_owned(), detail };
    let kept = app.database.aids().await?.into_iter().map(AidView::of);
    Ok(Json(std::iter::once(shipped).chain(kept).collect()))
}

/// How it is to be called.
#[derive(Debug, Deserialize, IntoParams)]
struct NewAid {
    name: String,
    #[param(inline)]
    kind: AidWord,
}

/// Keeps a table or a picture; one of the same name is replaced. What is not one is refused.
#[utoipa::path(post, path = "/api/aids", params(NewAid), request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 200, body = AidView)))]
async fn add_aid(State(app): State<Arc<App>>, Query(new): Query<NewAid>, bytes: Bytes) -> Result<Json<AidView>, ApiError> {
    let name = new.name.trim().to_owned();
    let what = || format!("{name} could not be added");
    if name.is_empty() || name.len() > 200 || name == FENMARK_LOG {
        return Err(ApiError::invalid("it could not be added", "it needs a name of its own with at most 200 characters"));
    }
    let (kind, detail) = match new.kind {
        AidWord::Lut => {
            let lut =
                Lut::parse(&String::from_utf8_lossy(&bytes)).map_err(|error| ApiError::invalid(what(), error.to_string()))?;
            let title = if lut.title.is_empty() {
                String::new()
            } else {
                format!("{}, ", lut.title.chars().take(80).collect::<String>())
            };
            (AidKind::Lut, format!("{title}{}", lut.shape.words()))
        }
        AidWord::Picture => {
            let (width, height) = png_size(&bytes).ok_or_else(|| ApiError::invalid(what(), "it is not a PNG picture"))?;
            if width == 0 || height == 0 || width > 8192 || height > 8192 {
                return Err(ApiError::invalid(
                    what(),
                    format!("its sides must have 1 to 8192 pixels, and it has {width}×{height}"),
                ));
            }
            (AidKind::Picture, format!("{width}×{height} pixels"))
        }
    };
    let aid = Aid { id: Uuid::now_v7(), kind, name, detail };
    app.database.save_aid(&aid, &bytes).await?;
    app.hub.tell_house(HousePart::Aids);
    Ok(Json(AidView::of(aid)))
}

/// Columns and lines of a PNG picture (ISO/IEC 15948, 11.2.2): its first chunk tells them.
fn png_size(bytes: &[u8]) -> Option<(u32, u32)> {
    let head = bytes.strip_prefix(b"\x89PNG\r\n\x1a\n")?;
    let size = head.get(4..16)?.strip_prefix(b"IHDR")?;
    let number = |part: &[u8]| part.try_into().ok().map(u32::from_be_bytes);
    Some((number(&size[..4])?, number(&size[4..])?))
}

/// Removes a table or a picture. What calls it by name cannot be made any more until there is another.
#[utoipa::path(delete, path = "/api/aids/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn remove_aid(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    app.database.remove_aid(id).await?;
    app.hub.tell_house(HousePart::Aids);
    Ok(())
}
