//! Reading and changing preset documents, with refusals that help.

use serde_json::{Map, Value, json};
use utoipa::PartialSchema;

use super::{Preset, SCHEMA_VERSION};
use crate::problem::Fault;

fn words(faults: &[Fault]) -> String {
    faults.iter().map(|fault| fault.words.as_str()).collect::<Vec<_>>().join(" ")
}

/// Why a document is no preset.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PresetError {
    /// It is not JSON at all.
    #[error("this is not JSON: {0}")]
    NotJson(String),
    /// A field is unknown, missing or of the wrong kind.
    #[error("at “{at}”: {why}")]
    Field {
        /// The place in the document, as `picture.rate.crf`.
        at: String,
        /// What is wrong there.
        why: String,
    },
    /// The document was written by a later version of the program.
    #[error("this preset has the form {found}; this program knows forms up to {SCHEMA_VERSION}")]
    TooNew {
        /// The version in the document.
        found: u64,
    },
    /// The parts do not go together.
    #[error("{}", words(.0))]
    Impossible(Vec<Fault>),
}

impl Preset {
    /// Reads and checks a document.
    ///
    /// # Errors
    /// [`PresetError`] with the place and the reason.
    pub fn from_json(text: &str) -> Result<Self, PresetError> {
        let value: Value = serde_json::from_str(text).map_err(|error| PresetError::NotJson(error.to_string()))?;
        Self::from_value(value)
    }

    /// Reads and checks a document that is parsed already.
    ///
    /// # Errors
    /// [`PresetError`] with the place and the reason.
    pub fn from_value(value: Value) -> Result<Self, PresetError> {
        if let Some(found) = value.get("schema").and_then(Value::as_u64)
            && found > u64::from(SCHEMA_VERSION)
        {
            return Err(PresetError::TooNew { found });
        }
        let preset: Self = serde_path_to_error::deserialize(value)
            .map_err(|error| PresetError::Field { at: error.path().to_string(), why: error.inner().to_string() })?;
        let faults = preset.faults();
        if faults.is_empty() { Ok(preset) } else { Err(PresetError::Impossible(faults)) }
    }
}

/// A setting of a patch that means nothing for a preset, and was left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOut {
    /// Its place in the document, as `picture.rate.crf`.
    pub setting: String,
    /// Why, as the end of a sentence.
    pub because: String,
}

/// The preset as changed by an editor's own settings, a JSON merge patch (RFC 7386) on the document. What the
/// preset has nothing for is left out: a crop of a file without a picture, a quality where a mean rate is asked for.
///
/// # Errors
/// [`PresetError`] where the result is no sound preset.
pub fn apply(preset: &Preset, overrides: &Value) -> Result<(Preset, Vec<LeftOut>), PresetError> {
    let Value::Object(changes) = overrides else { return Ok((preset.clone(), Vec::new())) };
    if changes.is_empty() {
        return Ok((preset.clone(), Vec::new()));
    }
    let mut document = serde_json::to_value(preset).map_err(|error| PresetError::NotJson(error.to_string()))?;
    let mut patch = overrides.clone();
    let mut left_out = Vec::new();
    leave_out(&document, &mut patch, "", &mut left_out);
    replace_changed_rules(&mut document, &patch);
    json_patch::merge(&mut document, &patch);
    Ok((Preset::from_value(document)?, left_out))
}

/// The preset as changed by an editor's own settings.
///
/// # Errors
/// As for [`apply`].
pub fn with_overrides(preset: &Preset, overrides: &Value) -> Result<Preset, PresetError> {
    apply(preset, overrides).map(|(preset, _)| preset)
}

/// Takes out of a patch what the document has nothing for: settings of a picture or a sound that it does not make,
/// and fields of a rule in another form than it has.
fn leave_out(document: &Value, patch: &mut Value, place: &str, left_out: &mut Vec<LeftOut>) {
    let (Some(document), Some(changes)) = (document.as_object(), patch.as_object_mut()) else { return };
    let names: Vec<String> = changes.keys().cloned().collect();
    for name in names {
        let setting = if place.is_empty() { name.clone() } else { format!("{place}.{name}") };
        let Some(change) = changes.get_mut(&name) else { continue };
        let absent = place.is_empty() && document.get(&name).is_none_or(Value::is_null) && change.is_object();
        if absent && (name == "picture" || name == "sound") && !is_whole(&name, change) {
            left_out.push(LeftOut { setting, because: format!("the output has no {name}") });
            changes.remove(&name);
            continue;
        }
        let Some(present) = document.get(&name) else { continue };
        if let Some((tag, form)) = ["rule", "mode"].iter().find_map(|tag| Some((*tag, present.get(tag)?)))
            && let Some(fields) = change.as_object_mut()
            && !fields.contains_key(tag)
        {
            let others: Vec<String> = fields.keys().filter(|field| present.get(field.as_str()).is_none()).cloned().collect();
            for field in others {
                fields.remove(&field);
                let form = form.as_str().unwrap_or_default().replace('_', " ");
                left_out.push(LeftOut { setting: format!("{setting}.{field}"), because: format!("the {name} is “{form}”") });
            }
        }
        leave_out(present, change, &setting, left_out);
    }
}

/// Whether a patch says all that a picture or a sound needs, so that one can be added by it.
fn is_whole(name: &str, change: &Value) -> bool {
    let codec = change.get("codec").is_some();
    codec && (name == "sound" || change.get("rate").is_some())
}

/// Settings of a whole source with those of one output above them, as one patch.
#[must_use]
pub fn joined_overrides(of_source: &Value, of_output: &Value) -> Value {
    match (of_source.as_object().filter(|own| !own.is_empty()), of_output.as_object().filter(|own| !own.is_empty())) {
        (None, _) => of_output.clone(),
        (Some(_), None) => of_source.clone(),
        (Some(_), Some(_)) => {
            let mut joined = of_source.clone();
            replace_changed_rules(&mut joined, of_output);
            merge_keeping_nulls(&mut joined, of_output.clone());
            joined
        }
    }
}

/// A rule (`size`, `rate` …) is a choice among forms with different fields: changing which form
/// it has drops the fields of the old one, as otherwise they would be unknown in the new.
fn replace_changed_rules(document: &mut Value, overrides: &Value) {
    let (Some(document), Some(overrides)) = (document.as_object_mut(), overrides.as_object()) else { return };
    for (name, change) in overrides {
        let Some(present) = document.get_mut(name) else { continue };
        let changed = ["rule", "mode"]
            .iter()
            .any(|tag| change.get(tag).is_some_and(|wanted| present.get(tag).is_some_and(|now| now != wanted)));
        if changed {
            *present = Value::Object(Map::new());
        } else {
            replace_changed_rules(present, change);
        }
    }
}

/// Turns settings such as `picture.rate.crf=20` into overrides.
///
/// Values are read as JSON where they are JSON, otherwise as text.
///
/// # Errors
/// [`PresetError::Field`] where a setting has no `=` or an empty name.
pub fn overrides_from_settings<S: AsRef<str>>(settings: &[S]) -> Result<Value, PresetError> {
    let mut overrides = Value::Object(Map::new());
    for setting in settings {
        let setting = setting.as_ref();
        let refuse = || PresetError::Field {
            at: setting.to_owned(),
            why: "write a setting as name=value, such as picture.rate.crf=20".to_owned(),
        };
        let (name, value) = setting.split_once('=').ok_or_else(refuse)?;
        let value = serde_json::from_str(value).unwrap_or_else(|_| json!(value));
        let mut patch = value;
        for part in name.split('.').rev() {
            if part.is_empty() {
                return Err(refuse());
            }
            patch = json!({ part: patch });
        }
        merge_keeping_nulls(&mut overrides, patch);
    }
    Ok(overrides)
}

/// Adds one patch to another; unlike applying a patch, a null (which means “remove”) is kept.
fn merge_keeping_nulls(into: &mut Value, patch: Value) {
    match (into, patch) {
        (Value::Object(into), Value::Object(patch)) => {
            for (name, value) in patch {
                merge_keeping_nulls(into.entry(name).or_insert(Value::Null), value);
            }
        }
        (into, patch) => *into = patch,
    }
}

/// The published JSON Schema (2020-12) of preset documents.
#[must_use]
pub fn preset_schema() -> Value {
    let mut referenced = Vec::new();
    <Preset as utoipa::ToSchema>::schemas(&mut referenced);
    let definitions: Map<String, Value> = referenced
        .into_iter()
        .filter_map(|(name, schema)| serde_json::to_value(schema).ok().map(|schema| (name, schema)))
        .collect();
    let mut schema = serde_json::to_value(Preset::schema()).unwrap_or_default();
    if let Some(schema) = schema.as_object_mut() {
        schema.insert("$schema".to_owned(), json!("https://json-schema.org/draft/2020-12/schema"));
        schema.insert("title".to_owned(), json!("Preset"));
        schema.insert("additionalProperties".to_owned(), json!(false));
        schema.insert("$defs".to_owned(), Value::Object(definitions));
    }
    rewrite_references(&mut schema);
    schema
}

fn rewrite_references(value: &mut Value) {
    match value {
        Value::Object(fields) => {
            if let Some(Value::String(target)) = fields.get_mut("$ref") {
                *target = target.replace("#/components/schemas/", "#/$defs/");
            }
            fields.values_mut().for_each(rewrite_references);
        }
        Value::Array(items) => items.iter_mut().for_each(rewrite_references),
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => {}
    }
}
