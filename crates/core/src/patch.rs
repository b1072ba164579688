//! Patches on settings: the same fields, all of them optional.
//!
//! Patches are laid over one another and over settings by the rules of this module. What settings have nothing for is
//! left out and told: a crop of a file without a picture, a quality where a mean rate is asked for. A patch is made
//! beside its settings by `#[derive(beryl_settings::Settings)]`.

use std::fmt;

use serde::de::DeserializeOwned;
use serde::{Deserialize, Deserializer, Serialize};
use serde_json::{Map, Value, json};

use crate::problem::{Fault, FaultCode};

/// Settings that can be changed by a patch; derived, with the patch, by `beryl_settings::Settings`.
pub trait Settings: Sized + Clone {
    /// What changes them.
    type Patch: Patch;

    /// These settings as a patch changes them.
    ///
    /// # Errors
    /// A [`Fault`] where the patch asks for another form of a rule and lacks what that form needs.
    fn patched(&self, patch: &Self::Patch, at: Place<'_>, left_out: &mut Vec<LeftOut>) -> Result<Self, Fault>;
}

/// A patch on settings.
pub trait Patch: Clone + Default + PartialEq + Serialize + DeserializeOwned {
    /// Both as one: what `above` sets stands, and the rest of this one.
    #[must_use]
    fn under(self, above: Self) -> Self;

    /// Whether it sets nothing.
    fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// A setting of a patch that means nothing for what it is laid over, and was left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOut {
    /// Its place in the document, as `picture.rate.crf`.
    pub setting: String,
    /// Why, as the end of a sentence.
    pub because: String,
}

/// The place of a setting in a document.
#[derive(Debug, Clone, Copy)]
pub struct Place<'a> {
    within: Option<&'a Place<'a>>,
    field: &'a str,
}

impl<'a> Place<'a> {
    /// The document as a whole.
    pub const DOCUMENT: Place<'static> = Place { within: None, field: "" };

    /// That of a field.
    #[must_use]
    pub const fn field(&'a self, field: &'a str) -> Self {
        Place { within: Some(self), field }
    }
}

impl fmt::Display for Place<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(within) = self.within.filter(|within| within.within.is_some()) {
            write!(f, "{within}.")?;
        }
        f.write_str(self.field)
    }
}

/// Reads a field that is there, also where it is there to say that there shall be nothing.
pub(crate) fn present<'de, T: Deserialize<'de>, D: Deserializer<'de>>(from: D) -> Result<Option<T>, D::Error> {
    T::deserialize(from).map(Some)
}

pub(crate) fn patched<S: Settings>(
    settings: &S,
    patch: Option<&S::Patch>,
    at: Place<'_>,
    left_out: &mut Vec<LeftOut>,
) -> Result<S, Fault> {
    patch.map_or_else(|| Ok(settings.clone()), |patch| settings.patched(patch, at, left_out))
}

/// Settings that may be nothing: a patch can take them away, change what is there, or say all that new ones need.
pub(crate) fn patched_optional<S: Settings + DeserializeOwned>(
    settings: Option<&S>,
    patch: Option<&Option<S::Patch>>,
    at: Place<'_>,
    left_out: &mut Vec<LeftOut>,
) -> Result<Option<S>, Fault> {
    match (settings, patch) {
        (settings, None) => Ok(settings.cloned()),
        (_, Some(None)) => Ok(None),
        (Some(settings), Some(Some(patch))) => settings.patched(patch, at, left_out).map(Some),
        (None, Some(Some(patch))) => {
            let made = serde_json::to_value(patch).and_then(serde_json::from_value);
            if made.is_err() {
                left_out.push(LeftOut { setting: at.to_string(), because: format!("the output has no {}", at.field) });
            }
            Ok(made.ok())
        }
    }
}

/// A rule is a choice among forms with different fields: another form begins with nothing of the old one.
pub(crate) fn patched_rule<S: Serialize + DeserializeOwned, P: Patch>(
    rule: &S,
    patch: &P,
    tag: &str,
    fields_of: impl Fn(&str) -> &'static [&'static str],
    at: Place<'_>,
    left_out: &mut Vec<LeftOut>,
) -> Result<S, Fault> {
    let unwritten = |error: serde_json::Error| Fault::new(at.to_string(), FaultCode::NotUnderstood, error.to_string());
    let (Value::Object(now), Value::Object(changes)) =
        (serde_json::to_value(rule).map_err(unwritten)?, serde_json::to_value(patch).map_err(unwritten)?)
    else {
        return Err(Fault::new(at.to_string(), FaultCode::NotUnderstood, "it is no rule"));
    };
    let form = changes.get(tag).or(now.get(tag)).and_then(Value::as_str).unwrap_or_default().to_owned();
    let mut made = if now.get(tag).and_then(Value::as_str) == Some(&form) { now } else { Map::new() };
    made.insert(tag.to_owned(), json!(form));
    for (name, value) in changes.into_iter().filter(|(name, _)| name != tag) {
        if fields_of(&form).contains(&name.as_str()) {
            made.insert(name, value);
        } else {
            let because = format!("the {} is “{}”", at.field, form.replace('_', " "));
            left_out.push(LeftOut { setting: at.field(&name).to_string(), because });
        }
    }
    serde_path_to_error::deserialize(Value::Object(made)).map_err(|error| {
        let field = error.path().to_string();
        let place = if field == "." { at.to_string() } else { at.field(&field).to_string() };
        let code =
            if error.inner().to_string().starts_with("missing field") { FaultCode::Missing } else { FaultCode::NotUnderstood };
        Fault::new(place, code, error.inner().to_string())
    })
}

pub(crate) fn joined<P: Patch>(below: Option<P>, above: Option<P>) -> Option<P> {
    match (below, above) {
        (Some(below), Some(above)) => Some(below.under(above)),
        (below, above) => above.or(below),
    }
}

pub(crate) fn joined_optional<P: Patch>(below: Option<Option<P>>, above: Option<Option<P>>) -> Option<Option<P>> {
    match (below, above) {
        (Some(Some(below)), Some(Some(above))) => Some(Some(below.under(above))),
        (below, above) => above.or(below),
    }
}
