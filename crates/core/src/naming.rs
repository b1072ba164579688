//! Names of outputs, from a pattern.
//!
//! A pattern is a relative path with tokens in angle brackets, which no file system takes in a name: `<client>/<name>_<preset>`
//! is not one (there is no token `client`), `web/<name>_<lines>p` is. Each part of the result is cleaned so that every common
//! file system takes it. Patterns of earlier versions have other words in braces: [`in_tokens`] brings them over.

use chrono::NaiveDate;
use serde::Serialize;
use unicode_normalization::UnicodeNormalization;
use utoipa::ToSchema;

/// What the tokens stand for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NameFields<'a> {
    /// The source's name without its extension.
    pub name: &'a str,
    /// The folders between the chosen folder and the source, `/` between them, which may be empty.
    pub folders: &'a str,
    /// The preset's id.
    pub preset: &'a str,
    /// Columns of the output, where it has a picture.
    pub columns: Option<u32>,
    /// Lines of the output, where it has a picture.
    pub lines: Option<u32>,
    /// The codec's short name.
    pub codec: &'a str,
    /// The frame rate in words, where it has a picture.
    pub fps: Option<&'a str>,
    /// The day of the run in the house's time zone.
    pub day: NaiveDate,
    /// The place of the source in its sheet, from 1.
    pub number: u32,
    /// The reel, where the source has one.
    pub reel: Option<&'a str>,
    /// The timecode of the source's first frame, where it has one.
    pub timecode: Option<&'a str>,
    /// The name of the sheet or of the watch folder, where there is one.
    pub sheet: Option<&'a str>,
}

/// A token that a pattern may hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
pub struct Token {
    /// What stands between the angle brackets.
    pub word: &'static str,
    /// What it stands for.
    pub says: &'static str,
    /// What it could become.
    pub example: &'static str,
}

/// The tokens that a pattern may hold.
pub const TOKENS: [Token; 12] = [
    Token { word: "name", says: "name of the source", example: "kiln-07_firing_cam-a" },
    Token { word: "folders", says: "folders of the source below the one that was chosen", example: "card-C014" },
    Token { word: "preset", says: "id of the preset", example: "web-1080" },
    Token { word: "columns", says: "columns of the output", example: "1920" },
    Token { word: "lines", says: "lines of the output", example: "1080" },
    Token { word: "codec", says: "codec of the output", example: "vc3" },
    Token { word: "fps", says: "frame rate of the output", example: "25" },
    Token { word: "day", says: "day of the run", example: "2031-05-28" },
    Token { word: "number", says: "place of the source in the sheet", example: "001" },
    Token { word: "reel", says: "reel of the source", example: "C014" },
    Token { word: "timecode", says: "timecode of the source's first frame", example: "10-00-00-00" },
    Token { word: "sheet", says: "name of the sheet or of the watch folder", example: "Kiln film" },
];

/// The words of earlier versions, which stood in braces, and those of now.
const EARLIER: [(&str, &str); 9] = [
    ("{source}", "<name>"),
    ("{folder}", "<folders>"),
    ("{preset}", "<preset>"),
    ("{width}", "<columns>"),
    ("{height}", "<lines>"),
    ("{codec}", "<codec>"),
    ("{rate}", "<fps>"),
    ("{date}", "<day>"),
    ("{counter}", "<number>"),
];

/// A pattern with its tokens as they are written now.
#[must_use]
pub fn in_tokens(pattern: &str) -> String {
    EARLIER.iter().fold(pattern.to_owned(), |pattern, (earlier, now)| pattern.replace(earlier, now))
}

/// Why a pattern cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PatternError {
    /// No name would remain.
    #[error("The name pattern is empty: write one such as <name>_<preset>.")]
    Empty,
    /// An unknown token.
    #[error("The name pattern has the unknown token “<{token}>”: known are {known}.")]
    UnknownToken {
        /// The token as written.
        token: String,
        /// All that are known.
        known: String,
    },
    /// A bracket without its partner.
    #[error("The name pattern “{0}” has an angle bracket without its partner.")]
    Bracket(String),
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
pub fn name_for(pattern: &str, fields: &NameFields<'_>) -> Result<String, PatternError> {
    let of_picture = |number: Option<u32>| number.map_or_else(|| "sound".to_owned(), |number| number.to_string());
    let or_none = |text: Option<&str>, what: &str| text.map_or_else(|| format!("no-{what}"), part_only);
    let path = expand(pattern, |token| {
        Some(match token {
            "name" => part_only(fields.name),
            "folders" => fields.folders.to_owned(),
            "preset" => part_only(fields.preset),
            "columns" => of_picture(fields.columns),
            "lines" => of_picture(fields.lines),
            "codec" => part_only(fields.codec),
            "fps" => fields.fps.unwrap_or("sound").to_owned(),
            "day" => fields.day.format("%Y-%m-%d").to_string(),
            "number" => format!("{:03}", fields.number),
            "reel" => or_none(fields.reel, "reel"),
            "timecode" => or_none(fields.timecode, "timecode").replace([':', ';', '.'], "-"),
            "sheet" => or_none(fields.sheet, "sheet"),
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
    let pattern = in_tokens(pattern);
    let mut name = String::new();
    let mut rest = pattern.as_str();
    while let Some(open) = rest.find(['<', '>']) {
        let (before, tail) = rest.split_at(open);
        name.push_str(before);
        let token = tail.strip_prefix('<').and_then(|tail| tail.split_once('>'));
        let (token, after) = token.ok_or_else(|| PatternError::Bracket(pattern.clone()))?;
        let known = TOKENS.iter().any(|known| known.word == token);
        let value = value(token).filter(|_| known).ok_or_else(|| PatternError::UnknownToken {
            token: token.to_owned(),
            known: TOKENS.map(|known| format!("<{}>", known.word)).join(", "),
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
