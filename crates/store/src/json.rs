//! Values kept as JSON text.

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
