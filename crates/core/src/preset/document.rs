//! Reading and changing preset documents, with refusals that help.

use serde_json::{Map, Value, json};
use utoipa::PartialSchema;

use super::{Preset, SCHEMA_VERSION};
use crate::problem::{Fault, FaultCode};

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

impl PresetError {
    /// What is wrong, setting by setting.
    #[must_use]
    pub fn faults(&self) -> Vec<Fault> {
        let whole = |code| vec![Fault::new("", code, self.to_string())];
        match self {
            Self::NotJson(_) => whole(FaultCode::NotUnderstood),
            Self::TooNew { .. } => whole(FaultCode::Unknown),
            Self::Field { at, why } => vec![Fault::new(at.clone(), FaultCode::NotUnderstood, why.clone())],
            Self::Impossible(faults) => faults.clone(),
        }
    }
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
