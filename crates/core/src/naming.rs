//! Names of outputs, from a pattern.
//!
//! A pattern is a relative path with fields in braces: `{client}/{source}_{preset}` is not one
//! (there is no field `client`), `web/{source}_{height}p` is. Each part of the result is cleaned so
//! that every common file system takes it.

use chrono::NaiveDate;
use unicode_normalization::UnicodeNormalization;

/// What the fields stand for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NameFields {
    /// The source's name without its extension.
    pub source: String,
    /// The folders between the chosen folder and the source, `/` between them, which may be empty.
    pub folder: String,
    /// The preset's id.
    pub preset: String,
    /// Lines of the output, where it has a picture.
    pub height: Option<u32>,
    /// Columns of the output, where it has a picture.
    pub width: Option<u32>,
    /// The codec's short name.
    pub codec: String,
    /// The frame rate in words, where it has a picture.
    pub rate: Option<String>,
    /// The day of the run in the house's time zone.
    pub date: NaiveDate,
    /// The place of the source in its sheet, from 1.
    pub counter: u32,
}

/// The fields a pattern may hold, with what each stands for.
pub const FIELDS: [(&str, &str); 9] = [
    ("source", "name of the source"),
    ("folder", "folders of the source below the one that was chosen"),
    ("preset", "id of the preset"),
    ("width", "columns of the output"),
    ("height", "lines of the output"),
    ("codec", "codec of the output"),
    ("rate", "frames a second of the output"),
    ("date", "day of the run, as 2031-05-28"),
    ("counter", "place of the source in the sheet, as 001"),
];

/// Why a pattern cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PatternError {
    /// No name would remain.
    #[error("The name pattern is empty: write one such as {{source}}_{{preset}}.")]
    Empty,
    /// An unknown field.
    #[error("The name pattern has the unknown field “{{{field}}}”: known are {known}.")]
    UnknownField {
        /// The field as written.
        field: String,
        /// All that are known.
        known: String,
    },
    /// A brace without its partner.
    #[error("The name pattern “{0}” has a brace without its partner.")]
    Brace(String),
    /// The pattern leaves the destination.
    #[error("The name pattern “{0}” may not begin with a slash or hold “..”: it stays inside the destination.")]
    Outside(String),
}

/// Checks a pattern without using it.
///
/// # Errors
/// [`PatternError`] with what is wrong.
pub fn check_pattern(pattern: &str) -> Result<(), PatternError> {
    expand(pattern, |_| Some(String::new())).map(|_| ())
}

/// The relative path, without extension, that `pattern` makes of `fields`.
///
/// # Errors
/// [`PatternError`] where the pattern cannot be used.
pub fn name_for(pattern: &str, fields: &NameFields) -> Result<String, PatternError> {
    let path = expand(pattern, |field| {
        Some(match field {
            "source" => part_only(&fields.source),
            "folder" => fields.folder.clone(),
            "preset" => part_only(&fields.preset),
            "width" => fields.width.map_or_else(|| "sound".to_owned(), |width| width.to_string()),
            "height" => fields.height.map_or_else(|| "sound".to_owned(), |height| height.to_string()),
            "codec" => part_only(&fields.codec),
            "rate" => fields.rate.clone().unwrap_or_else(|| "sound".to_owned()),
            "date" => fields.date.format("%Y-%m-%d").to_string(),
            "counter" => format!("{:03}", fields.counter),
            _ => return None,
        })
    })?;
    let parts: Vec<String> = path.split('/').filter(|part| !part.trim().is_empty()).map(clean_part).collect();
    Ok(if parts.is_empty() { "unnamed".to_owned() } else { parts.join("/") })
}

/// A slash inside a value is not a folder.
fn part_only(value: &str) -> String {
    value.replace(['/', '\\'], "-")
}

fn expand(pattern: &str, value: impl Fn(&str) -> Option<String>) -> Result<String, PatternError> {
    if pattern.trim().is_empty() {
        return Err(PatternError::Empty);
    }
    if pattern.starts_with('/') || pattern.split('/').any(|part| part == "..") {
        return Err(PatternError::Outside(pattern.to_owned()));
    }
    let mut name = String::new();
    let mut rest = pattern;
    while let Some(open) = rest.find(['{', '}']) {
        let (before, tail) = rest.split_at(open);
        name.push_str(before);
        let field = tail.strip_prefix('{').and_then(|tail| tail.split_once('}'));
        let (field, after) = field.ok_or_else(|| PatternError::Brace(pattern.to_owned()))?;
        let known = FIELDS.iter().any(|(name, _)| *name == field);
        let value = value(field).filter(|_| known).ok_or_else(|| PatternError::UnknownField {
            field: field.to_owned(),
            known: FIELDS.map(|(name, _)| format!("{{{name}}}")).join(", "),
        })?;
        name.push_str(&value);
        rest = after;
    }
    name.push_str(rest);
    Ok(name)
}

/// Longest name in bytes that leaves room for an extension, a number and a temporary ending.
const LONGEST_PART: usize = 200;

/// One part of a path, cleaned for all common file systems: composed Unicode, none of the
/// characters or reserved names that some refuse, no point or space at its ends, not too long.
#[must_use]
pub fn clean_part(part: &str) -> String {
    let mut clean: String = part
        .nfc()
        .map(|character| match character {
            '<' | '>' | ':' | '"' | '|' | '?' | '*' | '\\' | '/' => '-',
            control if control.is_control() => '-',
            other => other,
        })
        .collect();
    while clean.len() > LONGEST_PART {
        clean.pop();
    }
    let trimmed = clean.trim_matches(|character: char| character == ' ').trim_end_matches(['.', ' ']).trim_start_matches('.');
    let stem = trimmed.split('.').next().unwrap_or_default().to_ascii_uppercase();
    let numbered =
        |prefix: &str| stem.strip_prefix(prefix).is_some_and(|rest| rest.len() == 1 && rest.as_bytes()[0].is_ascii_digit());
    let reserved = ["CON", "PRN", "AUX", "NUL"].contains(&stem.as_str()) || numbered("COM") || numbered("LPT");
    match trimmed {
        "" => "unnamed".to_owned(),
        name if reserved => format!("_{name}"),
        name => name.to_owned(),
    }
}

/// The name with a number, for when the plain one is taken: `a_2`, `a_3` …
#[must_use]
pub fn numbered(stem: &str, number: u32) -> String {
    if number < 2 { stem.to_owned() } else { format!("{stem}_{number}") }
}
