//! The catalogue: every setting with its name, what it means, and the values that it can have.
//!
//! It is made beside the settings, by `#[derive(beryl_settings::Settings)]` and `#[derive(beryl_settings::Choices)]`: the
//! page, the command line and the description of the API are made from it, and list nothing again.

use serde::Serialize;
use serde_json::Value;
use utoipa::ToSchema;

use crate::naming::{TOKENS, Token};
use crate::time::{Rational, Span};
use crate::units::BitRate;

/// A setting.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Setting {
    /// Its place in a preset's document, as `picture.rate`; within a form of a rule, the name of its field.
    pub place: String,
    /// What it is called.
    pub name: String,
    /// What the trade calls it, where the name does not say it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub term: Option<&'static str>,
    /// What it means.
    pub says: String,
    /// Whether it may be left out.
    pub is_optional: bool,
    /// The values that it can have.
    pub kind: Kind,
}

/// The values of a setting.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Kind {
    /// On or off.
    Switch,
    /// One of some words.
    Choice {
        /// Which.
        of: Vec<Choice>,
        /// A fraction that can be had instead of them: the field that it is written in.
        #[serde(skip_serializing_if = "Option::is_none")]
        or_fraction: Option<&'static str>,
    },
    /// A whole number.
    Number(Limits),
    /// A fraction, written as `30000/1001`.
    Fraction(Limits),
    /// Bits a second.
    BitRate(Limits),
    /// A text.
    Text,
    /// The name of a file that the house keeps.
    File {
        /// What it holds: `lut` or `picture`.
        holds: &'static str,
    },
    /// A language, by its code of ISO 639.
    Language,
    /// Parts of the source.
    Parts,
    /// A pattern of names.
    Pattern {
        /// What may stand in it between angle brackets.
        tokens: Vec<Token>,
    },
    /// Tracks of sound: what each is made of, and how.
    Tracks,
    /// A choice among forms, each with settings of its own.
    Rule {
        /// The field that says which form it is.
        tag: &'static str,
        /// Which there are.
        forms: Vec<Form>,
    },
}

/// A word that can be chosen.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Choice {
    /// As it is written.
    #[schema(value_type = Object)]
    pub value: Value,
    /// As it is shown.
    pub words: String,
    /// What it means.
    pub says: String,
    /// The values of another setting with which alone it can be had.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub only_with: Option<OnlyWith>,
}

/// Another setting, and its values.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct OnlyWith {
    /// Its place.
    pub place: &'static str,
    /// Its values.
    pub values: Vec<&'static str>,
}

/// The ends of a number, and what it counts.
#[derive(Debug, Clone, PartialEq, Default, Serialize, ToSchema)]
pub struct Limits {
    /// Not less than this.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub least: Option<Rational>,
    /// Not more than this.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub most: Option<Rational>,
    /// What it counts, as `px`.
    #[serde(skip_serializing_if = "str::is_empty")]
    pub unit: &'static str,
    /// Values that are often taken, the usual one first. Any other within the limits can be had as well.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub offers: Vec<Offer>,
}

/// A value that is often taken.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Offer {
    /// As it is written.
    #[schema(value_type = String)]
    pub value: Rational,
    /// As it is shown.
    pub words: String,
}

/// A form of a rule.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Form {
    /// As it is written.
    pub value: String,
    /// As it is shown.
    pub words: String,
    /// What it means.
    pub says: String,
    /// What it has.
    #[schema(no_recursion)]
    pub settings: Vec<Setting>,
}

/// The name of a setting, and what its comment says.
#[derive(Debug, Clone, Copy)]
pub struct Named {
    /// What it is called.
    pub name: &'static str,
    /// What the trade calls it.
    pub term: Option<&'static str>,
    /// What it means.
    pub says: &'static str,
}

/// Settings that describe themselves.
pub trait Described {
    /// Adds what there is at a place.
    fn describe(place: &str, named: Named, settings: &mut Vec<Setting>);
}

/// Values of one setting.
pub trait Valued {
    /// Whether it may be left out.
    const IS_OPTIONAL: bool = false;

    /// What they can be.
    fn kind() -> Kind;
}

impl Kind {
    /// A pattern of names, with all tokens.
    #[must_use]
    pub fn pattern() -> Self {
        Self::Pattern { tokens: TOKENS.to_vec() }
    }

    /// The same within limits.
    #[must_use]
    pub fn within(self, least: Option<Rational>, most: Option<Rational>, unit: &'static str, offers: Vec<Offer>) -> Self {
        let limited = |limits: Limits| Limits { least: least.or(limits.least), most: most.or(limits.most), unit, offers };
        match self {
            Self::Number(limits) => Self::Number(limited(limits)),
            Self::Fraction(limits) => Self::Fraction(limited(limits)),
            Self::BitRate(limits) => Self::BitRate(limited(limits)),
            other => other,
        }
    }
}

impl Setting {
    /// Of values of this type.
    #[must_use]
    pub fn of<V: Valued>(place: String, named: Named) -> Self {
        Self {
            place,
            name: named.name.to_owned(),
            term: named.term,
            says: named.says.to_owned(),
            is_optional: V::IS_OPTIONAL,
            kind: V::kind(),
        }
    }
}

impl Choice {
    /// A word and what it means.
    #[must_use]
    pub fn new(value: impl Serialize, words: impl Into<String>, says: impl Into<String>) -> Self {
        let value = serde_json::to_value(value).unwrap_or_default();
        Self { value, words: words.into(), says: says.into(), only_with: None }
    }
}

/// Whole numbers as values that are often taken.
#[must_use]
pub fn offers(values: &[i64], unit: &str) -> Vec<Offer> {
    values.iter().map(|value| Offer { value: Rational::whole(*value), words: format!("{value}{unit}") }).collect()
}

/// The name of a place: its last part.
#[must_use]
pub fn place_of(within: &str, field: &str) -> String {
    if within.is_empty() { field.to_owned() } else { format!("{within}.{field}") }
}

impl<T: Valued> Valued for Option<T> {
    const IS_OPTIONAL: bool = true;

    fn kind() -> Kind {
        T::kind()
    }
}

impl Valued for bool {
    fn kind() -> Kind {
        Kind::Switch
    }
}

impl Valued for String {
    fn kind() -> Kind {
        Kind::Text
    }
}

impl Valued for Vec<Span> {
    fn kind() -> Kind {
        Kind::Parts
    }
}

impl Valued for Rational {
    fn kind() -> Kind {
        Kind::Fraction(Limits::default())
    }
}

impl Valued for BitRate {
    fn kind() -> Kind {
        Kind::BitRate(Limits { least: Some(Rational::ZERO), unit: "bit/s", ..Limits::default() })
    }
}

macro_rules! whole {
    ($($number:ty),*) => {
        $(impl Valued for $number {
            fn kind() -> Kind {
                let end = |end: $number| Some(Rational::whole(end.into()));
                Kind::Number(Limits { least: end(<$number>::MIN), most: end(<$number>::MAX), ..Limits::default() })
            }
        })*
    };
}
whole!(u8, i8, u16, i16, u32);
