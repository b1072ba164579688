//! Colour: dynamic range, look-up table, colour space, range.

use super::build::Journal;
use super::{ColourSpace, Origin, Step, Subject};
use crate::pixels::{PixelForm, is_rgb};
use crate::preset::{ColourSettings, ColourSpaceRule, DynamicRangeRule, RangeRule};
use crate::reading::{Colour, Hdr, Picture};

/// What becomes of colour.
pub(super) struct Coloured {
    /// Steps at the source's size.
    pub(super) steps: Vec<Step>,
    /// Tags of the output.
    pub(super) colour: Colour,
    pub(super) hdr: Option<Hdr>,
    /// The pixel format behind the steps.
    pub(super) pixel_format: String,
    /// Whether the pictures are still RGB behind the steps.
    pub(super) rgb: bool,
    /// Whether the codes still have the full range behind the steps.
    pub(super) full_range: bool,
    /// The colour space behind the steps.
    pub(super) space: ColourSpace,
    /// The pixel format that steps give.
    fine: String,
}

impl Coloured {
    /// Adds a step whose output has this space, with limited range.
    fn add(&mut self, step: Step, to: ColourSpace) {
        self.steps.push(step);
        self.pixel_format.clone_from(&self.fine);
        (self.rgb, self.full_range) = (false, false);
        self.colour = Colour {
            primaries: Some(to.primaries.clone()),
            transfer: Some(to.transfer.clone()),
            matrix: Some(to.matrix.clone()),
            range: Some("tv".to_owned()),
            chroma_location: self.colour.chroma_location.take(),
        };
        self.space = to;
    }
}

/// Fine enough for what comes out of a conversion, whatever the output stores.
const FINE: &str = "yuv444p10le";
const FINE_WITH_ALPHA: &str = "yuva444p10le";
/// The brightest light where the source does not tell, in cd/m².
const USUAL_PEAK: u32 = 1000;

fn rec709() -> ColourSpace {
    let word = || "bt709".to_owned();
    ColourSpace { primaries: word(), transfer: word(), matrix: word(), full_range: false }
}

/// The colour space of a source: what it declares, and where it declares nothing what such pictures have.
fn space_of(source: &Picture) -> ColourSpace {
    let usual = match source.height {
        0..=525 if source.width <= 720 => "smpte170m",
        526..=576 if source.width <= 720 => "bt470bg",
        _ => "bt709",
    };
    let rgb = is_rgb(&source.pixel_format);
    let known = |part: &Option<String>| part.clone().filter(|word| word != "unknown" && word != "reserved");
    let colour = &source.colour;
    ColourSpace {
        primaries: known(&colour.primaries).unwrap_or_else(|| usual.to_owned()),
        // Both kinds of BT.601 have the transfer of BT.709.
        transfer: known(&colour.transfer).unwrap_or_else(|| "bt709".to_owned()),
        matrix: if rgb { "gbr".to_owned() } else { known(&colour.matrix).unwrap_or_else(|| usual.to_owned()) },
        full_range: rgb || is_full(source),
    }
}

/// Whether the codes of a source have the full range of luma and colour.
pub(super) fn is_full(source: &Picture) -> bool {
    !is_rgb(&source.pixel_format) && (source.colour.range.as_deref() == Some("pc") || source.pixel_format.starts_with("yuvj"))
}

/// What becomes of colour, with steps whose output has `format` where the picture keeps its size, and
/// a finer one where it will be scaled.
pub(super) fn decide(
    settings: &ColourSettings,
    source: &Picture,
    format: &str,
    scaled: bool,
    journal: &mut Journal<'_>,
) -> Coloured {
    let rgb = is_rgb(&source.pixel_format);
    let mut made = Coloured {
        steps: Vec::new(),
        colour: source.colour.clone(),
        hdr: source.hdr.clone(),
        pixel_format: source.pixel_format.clone(),
        rgb,
        full_range: is_full(source),
        space: space_of(source),
        fine: match (scaled, PixelForm::of(format).has_alpha()) {
            (false, _) => format,
            (true, false) => FINE,
            (true, true) => FINE_WITH_ALPHA,
        }
        .to_owned(),
    };
    let high = match source.colour.transfer.as_deref() {
        Some("smpte2084") => Some("PQ"),
        Some("arib-std-b67") => Some("HLG"),
        _ => None,
    };
    let eight_bit = PixelForm::of(format).depth == 8;
    let to_standard = match settings.dynamic_range {
        DynamicRangeRule::Standard => true,
        DynamicRangeRule::WhenNeeded => eight_bit,
        DynamicRangeRule::Keep => false,
    };
    if let Some(name) = high.filter(|_| to_standard) {
        let told = source.hdr.as_ref().and_then(|hdr| {
            let level = hdr.light_level.map(|[most, _]| most).filter(|most| *most > 0);
            level.or_else(|| hdr.luminance.map(|[_, most]| u32::try_from(most.round()).unwrap_or(0)).filter(|most| *most > 0))
        });
        let peak = told.unwrap_or(USUAL_PEAK);
        let why = if settings.dynamic_range == DynamicRangeRule::WhenNeeded { ", and 8 bits are too few for it" } else { "" };
        let because = match told {
            Some(peak) => format!("the source is {name}{why}; it says that its brightest light has {peak} cd/m²"),
            None => format!("the source is {name}{why}; {USUAL_PEAK} cd/m² are taken for its brightest light"),
        };
        let what = "brought to the standard dynamic range of Rec. 709, brighter light compressed";
        journal.note(Subject::Colour, "/picture/colour/dynamic_range", Origin::Preset, what, because);
        let step = Step::ToneMap { from: made.space.clone(), peak, pixel_format: made.fine.clone() };
        made.add(step, rec709());
        made.hdr = None;
    }
    if let Some(name) = &settings.lut {
        let what = format!("looked up in the table {name}, whose output is Rec. 709");
        journal.note(Subject::Colour, "/picture/colour/lut", Origin::Preset, what, "the preset asks for it");
        let step = Step::Lut { name: name.clone(), from: made.space.clone(), pixel_format: made.fine.clone() };
        made.add(step, rec709());
        made.hdr = None;
    }
    let wanted = match settings.space {
        ColourSpaceRule::Same => None,
        ColourSpaceRule::Rec709 => Some(("Rec. 709", rec709())),
        ColourSpaceRule::Rec601With625 => Some(("Rec. 601 with 625 lines", rec601("bt470bg"))),
        ColourSpaceRule::Rec601With525 => Some(("Rec. 601 with 525 lines", rec601("smpte170m"))),
    };
    let present = made.space.clone();
    if let Some((words, to)) = wanted.filter(|(_, to)| !is_same(to, &present)) {
        let because = format!("the source has {} / {} / {}", present.primaries, present.transfer, present.matrix);
        let what = format!("converted to {words}");
        journal.note(Subject::Colour, "/picture/colour/space", Origin::Preset, what, because);
        let step = Step::Convert { from: present, to: to.clone(), pixel_format: made.fine.clone() };
        made.add(step, to);
    } else if made.steps.is_empty() {
        declared(source, settings.range, is_rgb(format), &mut made, journal);
    }
    if settings.range == RangeRule::Full && !is_rgb(format) {
        let because = "the preset asks for it: not all players heed it";
        journal.note(Subject::Colour, "/picture/colour/range", Origin::Preset, "full range", because);
        if !made.rgb && !made.full_range {
            let to = ColourSpace { full_range: true, ..made.space.clone() };
            made.steps.push(Step::Convert { from: made.space.clone(), to, pixel_format: made.fine.clone() });
            made.pixel_format.clone_from(&made.fine);
            made.full_range = true;
        }
        made.colour.range = Some("pc".to_owned());
    }
    made
}

/// Whether two spaces differ in nothing but the names of equal transfers and the range.
fn is_same(one: &ColourSpace, other: &ColourSpace) -> bool {
    let curve = |name: &str| if name == "smpte170m" || name == "bt470bg" { "bt709" } else { name }.to_owned();
    one.primaries == other.primaries && one.matrix == other.matrix && curve(&one.transfer) == curve(&other.transfer)
}

fn rec601(word: &str) -> ColourSpace {
    // Both kinds of BT.601 have the transfer of BT.709.
    ColourSpace { primaries: word.to_owned(), transfer: "smpte170m".to_owned(), matrix: word.to_owned(), full_range: false }
}

/// Tags that are carried or assumed, where nothing is converted but RGB and ranges.
fn declared(source: &Picture, range: RangeRule, stays_rgb: bool, made: &mut Coloured, journal: &mut Journal<'_>) {
    if made.rgb {
        let word = || Some("bt709".to_owned());
        let (matrix, range) = if stays_rgb { ("gbr", "pc") } else { ("bt709", "tv") };
        made.colour = Colour {
            primaries: made.colour.primaries.take().or_else(word),
            transfer: made.colour.transfer.take().or_else(word),
            matrix: Some(matrix.to_owned()),
            range: Some(range.to_owned()),
            chroma_location: None,
        };
        if stays_rgb {
            journal.note(Subject::Colour, "", Origin::Source, "RGB as it is", "the codec stores it without loss");
        } else {
            let what = "RGB converted with the matrix of BT.709, limited range";
            journal.note(Subject::Colour, "", Origin::Source, what, "the output stores luma and chroma");
        }
        return;
    }
    if is_full(source) && range == RangeRule::Same {
        journal.note(Subject::Colour, "/picture/colour/range", Origin::Source, "full range kept", "the source has it");
        made.colour.range = Some("pc".to_owned());
    } else if is_full(source) {
        let because = "players and broadcasters expect limited range";
        journal.note(Subject::Colour, "", Origin::Source, "full range converted to limited", because);
        made.colour.range = Some("tv".to_owned());
    }
    let ColourSpace { primaries, transfer, matrix, .. } = made.space.clone();
    let words = format!("{primaries} / {transfer} / {matrix}");
    let is_known = |part: &Option<String>, taken: &str| part.as_deref() == Some(taken);
    let Colour { primaries: first, transfer: second, matrix: third, .. } = &source.colour;
    let known = [is_known(first, &primaries), is_known(second, &transfer), is_known(third, &matrix)];
    let because = match known.iter().filter(|known| **known).count() {
        3 => "the source declares them",
        0 => "the source declares nothing, and pictures of its size have these",
        _ => "the source declares a part of them, and pictures of its size have the rest",
    };
    let what = if known.contains(&false) { format!("tags assumed: {words}") } else { format!("tags carried: {words}") };
    journal.note(Subject::Colour, "", Origin::Source, what, because);
    (made.colour.primaries, made.colour.transfer, made.colour.matrix) = (Some(primaries), Some(transfer), Some(matrix));
}
