//! Values kept as JSON text.

use beryl_core::preset::PresetPatch;
use serde::Serialize;
use serde::de::DeserializeOwned;

/// A value as the text of a column.
pub(crate) fn text(value: &(impl Serialize + ?Sized)) -> Result<String, sqlx::Error> {
    serde_json::to_string(value).map_err(|error| sqlx::Error::Encode(Box::new(error)))
}

/// The text of a column as a value.
pub(crate) fn value<T: DeserializeOwned>(text: &str) -> Result<T, sqlx::Error> {
    serde_json::from_str(text).map_err(|error| sqlx::Error::Decode(Box::new(error)))
}

/// The text of a column that may be empty.
pub(crate) fn optional<T: DeserializeOwned>(text: Option<String>) -> Result<Option<T>, sqlx::Error> {
    text.as_deref().map(value).transpose()
}

/// An editor's own settings; what an earlier version has stored and this one cannot read is left out, and the log says so.
pub(crate) fn patch(text: Option<String>) -> Result<Option<PresetPatch>, sqlx::Error> {
    let Some(document) = optional(text)? else { return Ok(None) };
    let (patch, left_out) = PresetPatch::from_stored(document);
    for setting in left_out {
        tracing::warn!(setting = setting.setting, because = setting.because, "a stored setting was left out");
    }
    Ok(Some(patch))
}
