//! An editor's own settings, which stand above those of a preset.

use serde_json::{Map, Value, json};

use super::{Preset, PresetError, PresetPatch};
use crate::patch::{LeftOut, Patch, Place, Settings};

/// The preset as changed by an editor's own settings, and those that mean nothing for it.
///
/// # Errors
/// [`PresetError`] where the result is no sound preset.
pub fn apply(preset: &Preset, patch: &PresetPatch) -> Result<(Preset, Vec<LeftOut>), PresetError> {
    if patch.is_empty() {
        return Ok((preset.clone(), Vec::new()));
    }
    let mut left_out = Vec::new();
    let changed = preset.patched(patch, Place::DOCUMENT, &mut left_out).map_err(|fault| PresetError::Impossible(vec![fault]))?;
    let faults = changed.faults();
    if faults.is_empty() { Ok((changed, left_out)) } else { Err(PresetError::Impossible(faults)) }
}

/// The preset as changed by an editor's own settings.
///
/// # Errors
/// As for [`apply`].
pub fn with_overrides(preset: &Preset, patch: &PresetPatch) -> Result<Preset, PresetError> {
    apply(preset, patch).map(|(preset, _)| preset)
}

impl PresetPatch {
    /// Reads a patch that is written as a JSON merge patch (RFC 7386) on a preset's document; a null takes away what
    /// may be nothing.
    ///
    /// # Errors
    /// [`PresetError::Field`] with the place of what stands in no preset, or is of the wrong kind.
    pub fn from_value(value: Value) -> Result<Self, PresetError> {
        if value.is_null() {
            return Ok(Self::default());
        }
        serde_path_to_error::deserialize(value)
            .map_err(|error| PresetError::Field { at: error.path().to_string(), why: error.inner().to_string() })
    }

    /// Reads a patch that was stored, perhaps by an earlier version: what cannot be read is left out and told.
    #[must_use]
    pub fn from_stored(mut value: Value) -> (Self, Vec<LeftOut>) {
        let mut left_out = Vec::new();
        loop {
            match serde_path_to_error::deserialize::<_, Self>(value.clone()) {
                Ok(patch) => return (patch, left_out),
                Err(error) => {
                    let setting = error.path().to_string();
                    let because = "this version cannot read it".to_owned();
                    let removed = remove(&mut value, &setting);
                    left_out.push(LeftOut { setting, because });
                    if !removed {
                        return (Self::default(), left_out);
                    }
                }
            }
        }
    }

    /// Turns settings such as `picture.rate.crf=20` into a patch. Values are read as JSON where they are JSON, otherwise
    /// as text.
    ///
    /// # Errors
    /// [`PresetError::Field`] where a setting has no `=` or an empty name, or stands in no preset.
    pub fn from_settings<S: AsRef<str>>(settings: &[S]) -> Result<Self, PresetError> {
        let mut patch = Value::Object(Map::new());
        for setting in settings {
            let setting = setting.as_ref();
            let refuse = || PresetError::Field {
                at: setting.to_owned(),
                why: "write a setting as name=value, such as picture.rate.crf=20".to_owned(),
            };
            let (name, value) = setting.split_once('=').ok_or_else(refuse)?;
            let value = serde_json::from_str(value).unwrap_or_else(|_| json!(value));
            if name.split('.').any(str::is_empty) {
                return Err(refuse());
            }
            set(&mut patch, name, value);
        }
        Self::from_value(patch)
    }
}

/// Sets a value at its place in a document.
fn set(document: &mut Value, place: &str, value: Value) {
    let mut at = document;
    for part in place.split('.') {
        if !at.is_object() {
            *at = Value::Object(Map::new());
        }
        at = &mut at[part];
    }
    *at = value;
}

/// Takes out what stands at a place; answers whether anything did.
fn remove(document: &mut Value, place: &str) -> bool {
    let (within, field) = place.rsplit_once('.').unwrap_or(("", place));
    let pointer = within.split('.').filter(|part| !part.is_empty()).fold(String::new(), |pointer, part| pointer + "/" + part);
    document.pointer_mut(&pointer).and_then(Value::as_object_mut).is_some_and(|fields| fields.remove(field).is_some())
}
