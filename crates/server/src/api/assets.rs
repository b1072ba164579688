//! Look-up tables and pictures that presets call by name.

use std::sync::Arc;

use axum::Json;
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, Path, Query, State};
use beryl_core::lut::{FENMARK_LOG, Lut, fenmark_to_rec709};
use beryl_store::assets::{Asset, AssetKind};
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
        .routes(routes!(assets))
        .routes(routes!(add_asset))
        .routes(routes!(remove_asset))
        .layer(DefaultBodyLimit::max(LARGEST))
}

/// A look-up table or a picture.
#[derive(Debug, Serialize, ToSchema)]
struct AssetView {
    /// Nothing for what ships with the program.
    id: Option<Uuid>,
    kind: AssetWord,
    name: String,
    /// What is known of it: the points of a table, the size of a picture.
    detail: String,
}

/// What it is.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
enum AssetWord {
    /// A look-up table (`.cube`).
    Lut,
    /// A picture (PNG).
    Picture,
}

impl AssetView {
    fn of(asset: Asset) -> Self {
        let kind = match asset.kind {
            AssetKind::Lut => AssetWord::Lut,
            AssetKind::Picture => AssetWord::Picture,
        };
        Self { id: Some(asset.id), kind, name: asset.name, detail: asset.detail }
    }
}

/// All tables and pictures.
#[utoipa::path(get, path = "/api/assets", responses((status = 200, body = Vec<AssetView>)))]
async fn assets(State(app): State<Arc<App>>) -> Result<Json<Vec<AssetView>>, ApiError> {
    let own = fenmark_to_rec709();
    let detail = format!("{}, {}, ships with Beryl", own.title, own.shape.words());
    let shipped = AssetView { id: None, kind: AssetWord::Lut, name: FENMARK_LOG.to_owned(), detail };
    let kept = app.database.assets().await?.into_iter().map(AssetView::of);
    Ok(Json(std::iter::once(shipped).chain(kept).collect()))
}

/// How it is to be called.
#[derive(Debug, Deserialize, IntoParams)]
struct NewAsset {
    name: String,
    #[param(inline)]
    kind: AssetWord,
}

/// Keeps a table or a picture; one of the same name is replaced. What is not one is refused.
#[utoipa::path(post, path = "/api/assets", params(NewAsset), request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 200, body = AssetView)))]
async fn add_asset(State(app): State<Arc<App>>, Query(new): Query<NewAsset>, bytes: Bytes) -> Result<Json<AssetView>, ApiError> {
    let name = new.name.trim().to_owned();
    let what = || format!("{name} could not be added");
    if name.is_empty() || name.len() > 200 || name == FENMARK_LOG {
        return Err(ApiError::invalid("it could not be added", "it needs a name of its own with at most 200 characters"));
    }
    let (kind, detail) = match new.kind {
        AssetWord::Lut => {
            let lut =
                Lut::parse(&String::from_utf8_lossy(&bytes)).map_err(|error| ApiError::invalid(what(), error.to_string()))?;
            let title = if lut.title.is_empty() {
                String::new()
            } else {
                format!("{}, ", lut.title.chars().take(80).collect::<String>())
            };
            (AssetKind::Lut, format!("{title}{}", lut.shape.words()))
        }
        AssetWord::Picture => {
            let (width, height) = png_size(&bytes).ok_or_else(|| ApiError::invalid(what(), "it is not a PNG picture"))?;
            if width == 0 || height == 0 || width > 8192 || height > 8192 {
                return Err(ApiError::invalid(
                    what(),
                    format!("its sides must have 1 to 8192 pixels, and it has {width}×{height}"),
                ));
            }
            (AssetKind::Picture, format!("{width}×{height} pixels"))
        }
    };
    let asset = Asset { id: Uuid::now_v7(), kind, name, detail };
    app.database.save_asset(&asset, &bytes).await?;
    app.hub.tell_house(HousePart::Assets);
    Ok(Json(AssetView::of(asset)))
}

/// Columns and lines of a PNG picture (ISO/IEC 15948, 11.2.2): its first chunk tells them.
fn png_size(bytes: &[u8]) -> Option<(u32, u32)> {
    let head = bytes.strip_prefix(b"\x89PNG\r\n\x1a\n")?;
    let size = head.get(4..16)?.strip_prefix(b"IHDR")?;
    let number = |part: &[u8]| part.try_into().ok().map(u32::from_be_bytes);
    Some((number(&size[..4])?, number(&size[4..])?))
}

/// Removes a table or a picture. What calls it by name cannot be made any more until there is another.
#[utoipa::path(delete, path = "/api/assets/{id}", params(("id" = Uuid, Path)), responses((status = 200)))]
async fn remove_asset(State(app): State<Arc<App>>, Path(id): Path<Uuid>) -> Result<(), ApiError> {
    app.database.remove_asset(id).await?;
    app.hub.tell_house(HousePart::Assets);
    Ok(())
}
