//! Languages: one code for each, and the form that each container wants.
//!
//! ISO 639-2 has two codes for twenty languages, and files hold either, or the two letters of ISO 639-1, or
//! the tags of BCP 47. Readings and plans use the terminological code of ISO 639-2/T throughout.

use isolang::Language;

use crate::formats::Container;

/// Bibliographic codes of ISO 639-2/B, as Matroska wants them, with the terminological ones.
const BIBLIOGRAPHIC: [(&str, &str); 20] = [
    ("alb", "sqi"),
    ("arm", "hye"),
    ("baq", "eus"),
    ("bur", "mya"),
    ("chi", "zho"),
    ("cze", "ces"),
    ("dut", "nld"),
    ("fre", "fra"),
    ("geo", "kat"),
    ("ger", "deu"),
    ("gre", "ell"),
    ("ice", "isl"),
    ("mac", "mkd"),
    ("mao", "mri"),
    ("may", "msa"),
    ("per", "fas"),
    ("rum", "ron"),
    ("slo", "slk"),
    ("tib", "bod"),
    ("wel", "cym"),
];

/// How the library that writes QuickTime names the languages of that format's own list (QuickTime File Format,
/// language code values), where it is not the terminological code.
const QUICKTIME: [(&str, &str); 20] = [
    ("deu", "ger"),
    ("nld", "dut"),
    ("swe", "sve"),
    ("ell", "gre"),
    ("isl", "ice"),
    ("hrv", "hr "),
    ("zho", "chi"),
    ("fao", "fo "),
    ("fas", "iri"),
    ("sqi", "alb"),
    ("srp", "sr "),
    ("mkd", "mac"),
    ("hye", "arm"),
    ("kat", "geo"),
    ("bod", "tib"),
    ("pan", "pa "),
    ("mya", "bur"),
    ("msa", "may"),
    ("cym", "wel"),
    ("eus", "baq"),
];

/// Further languages of that list, under their terminological codes.
const QUICKTIME_PLAIN: [&str; 64] = [
    "eng", "ita", "spa", "dan", "por", "nor", "heb", "jpn", "ara", "fin", "mlt", "tur", "urd", "hin", "tha", "kor", "lit", "pol",
    "hun", "est", "lav", "rus", "slv", "yid", "bul", "bel", "uzb", "kaz", "aze", "kir", "tgk", "tuk", "mon", "pus", "kur", "kas",
    "snd", "nep", "san", "mar", "ben", "asm", "guj", "ori", "mal", "kan", "tam", "khm", "lao", "vie", "ind", "tgl", "amh", "tir",
    "orm", "som", "swa", "cat", "lat", "ron", "ces", "slk", "fra", "ukr",
];

/// The terminological code of whatever a file says, or nothing where it names no language.
#[must_use]
pub fn canonical(text: &str) -> Option<String> {
    let lower = text.trim().to_lowercase();
    // These come first: two of them are codes of small languages elsewhere.
    if let Some((code, _)) = QUICKTIME.iter().find(|(_, own)| own.trim() == lower) {
        return Some((*code).to_owned());
    }
    let primary = lower.split(['-', '_']).next().unwrap_or_default();
    if matches!(primary, "und" | "mis" | "mul" | "zxx" | "") {
        return None;
    }
    if let Some((_, code)) = BIBLIOGRAPHIC.iter().find(|(own, _)| *own == primary) {
        return Some((*code).to_owned());
    }
    let known = match primary.len() {
        2 => Language::from_639_1(primary),
        _ => Language::from_639_3(primary),
    };
    known.map(|language| language.to_639_3().to_owned())
}

/// Whether two codes mean the same language.
#[must_use]
pub fn is_same(one: &str, other: &str) -> bool {
    canonical(one) == canonical(other)
}

/// The form in which a container takes this language; nothing where it has none for it.
#[must_use]
pub fn code_for(container: Container, language: &str) -> Option<String> {
    let code = canonical(language)?;
    match container {
        Container::Mkv => {
            let own = BIBLIOGRAPHIC.iter().find(|(_, terminological)| *terminological == code).map(|(own, _)| (*own).to_owned());
            Some(own.unwrap_or(code))
        }
        // Five bits for each of three letters (ISO/IEC 14496-12, 8.4.2).
        Container::Mp4 => Some(code),
        Container::Mov => {
            let own = QUICKTIME.iter().find(|(terminological, _)| *terminological == code).map(|(_, own)| (*own).to_owned());
            own.or_else(|| QUICKTIME_PLAIN.contains(&code.as_str()).then_some(code))
        }
        Container::Wav => None,
    }
}

/// The name of a language in English, or its code where there is none.
#[must_use]
pub fn words(language: &str) -> String {
    let name = canonical(language).and_then(|code| Language::from_639_3(&code)).map(|known| known.to_name().to_owned());
    name.unwrap_or_else(|| language.to_owned())
}
