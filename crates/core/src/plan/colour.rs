//! Colour: dynamic range, look-up table, colour space, range.

use super::build::Journal;
use super::way::{Way, is_full};
use super::{Origin, PlanError, Step, Subject};
use crate::facts::Picture;
use crate::picture::tone::{USUAL_PEAK, peak_of};
use crate::picture::{ChromaSite, Colour, ColourSpace, Hdr, MatrixCoefficients, PixelForm, Primaries, Samples, Transfer};
use crate::preset::{ColourSettings, ColourSpaceRule, DynamicRangeRule, RangeRule};

/// What the codes of the output mean.
pub(super) struct Coloured {
    /// The form of the output, in planes.
    pub(super) samples: Samples,
    /// Its tags.
    pub(super) colour: Colour,
    pub(super) hdr: Option<Hdr>,
}

/// What becomes of colour in an output whose samples have the form of `format`: what has to be done in red, green and
/// blue is added to the way, and what the output's codes mean is answered.
pub(super) fn decide(
    settings: &ColourSettings,
    source: &Picture,
    format: PixelForm,
    way: &mut Way,
    journal: &mut Journal,
) -> Result<Coloured, PlanError> {
    let was_rgb = way.samples.form().is_rgb();
    let mut hdr = source.hdr.clone();
    let mut is_changed = dynamic_range(settings, source, format, way, journal)?;
    if let Some(name) = &settings.lut {
        let what = format!("LUT {name}, whose output is Rec. 709");
        journal.note(Subject::Colour, "/picture/colour/lut", Origin::Preset, what, "the preset asks for it");
        way.as_rgb()?;
        way.add(Step::LookUp { name: name.clone() });
        way.samples.space = ColourSpace::rec709().in_rgb();
        is_changed = true;
    }
    if is_changed {
        hdr = None;
    }
    let present = way.samples.space;
    let wanted = match settings.space {
        ColourSpaceRule::Same => None,
        ColourSpaceRule::Rec709 => Some(("Rec. 709", ColourSpace::rec709())),
        ColourSpaceRule::Rec601With625 => {
            Some(("Rec. 601 with 625 lines", rec601(Primaries::Bt601With625, MatrixCoefficients::Bt601With625)))
        }
        ColourSpaceRule::Rec601With525 => {
            Some(("Rec. 601 with 525 lines", rec601(Primaries::Bt601With525, MatrixCoefficients::Bt601With525)))
        }
    };
    let same = wanted.as_ref().is_some_and(|(_, to)| is_same(to, &present, is_changed));
    let mut space = if let Some((words, to)) = wanted.filter(|_| !same) {
        let because = format!("the source has {}", present.words());
        let because = if is_changed { "what goes before leaves Rec. 709".to_owned() } else { because };
        journal.note(Subject::Colour, "/picture/colour/space", Origin::Preset, format!("converted to {words}"), because);
        hdr = None;
        to
    } else if is_changed {
        ColourSpace::rec709()
    } else {
        declared(source, settings.range, was_rgb && format.is_rgb(), present, journal)
    };
    if format.is_rgb() {
        space = space.in_rgb();
    } else {
        if settings.range == RangeRule::Full {
            let because = "the preset asks for it: not all players heed it";
            journal.note(Subject::Colour, "/picture/colour/range", Origin::Preset, "full range", because);
        }
        let stays_full = settings.range == RangeRule::Same && is_full(&source.pixel_format, &source.colour) && !is_changed;
        space.full_range = settings.range == RangeRule::Full || stays_full;
    }
    let samples = Samples { pixel_format: format.planar(), chroma: site(way, format, &space), space };
    let shares_lines = format.shared().is_some_and(|(_, lines)| lines > 1);
    let colour = Colour { chroma_location: shares_lines.then_some(samples.chroma), ..samples.colour() };
    Ok(Coloured { samples, colour, hdr })
}

/// Brings a high dynamic range down where that is wanted; answers whether it does.
fn dynamic_range(
    settings: &ColourSettings,
    source: &Picture,
    format: PixelForm,
    way: &mut Way,
    journal: &mut Journal,
) -> Result<bool, PlanError> {
    if !way.samples.space.is_high_range() {
        return Ok(false);
    }
    let name = way.samples.space.transfer;
    // A table has been made for the pictures as they are, and leaves Rec. 709.
    let needs_it = format.depth == 8 && settings.lut.is_none();
    let why = match settings.dynamic_range {
        _ if settings.space != ColourSpaceRule::Same && settings.lut.is_none() => {
            ", and the space that is asked for has no place for it"
        }
        DynamicRangeRule::Standard => "",
        DynamicRangeRule::WhenNeeded if needs_it => ", and 8 bits are too few for it",
        DynamicRangeRule::WhenNeeded | DynamicRangeRule::Keep => return Ok(false),
    };
    let told = source.hdr.as_ref().and_then(peak_of);
    let peak = told.unwrap_or(USUAL_PEAK);
    let because = match told {
        Some(peak) => format!("the source is {name}{why}; it says that its brightest light has {peak} cd/m²"),
        None => format!("the source is {name}{why}; {USUAL_PEAK} cd/m² are taken for its brightest light"),
    };
    let what = "tone-mapped to Rec. 709: white at 203 cd/m² keeps nine tenths of its light or more, brighter light is compressed";
    journal.note(Subject::Colour, "/picture/colour/dynamic_range", Origin::Preset, what, because);
    way.bring_down(peak)?;
    Ok(true)
}

/// Where the output's colour lies: where it lay, if that is said; where pictures with these primaries have it otherwise.
fn site(way: &Way, format: PixelForm, space: &ColourSpace) -> ChromaSite {
    let before = way.samples.form().shared();
    let after = format.shared();
    let site = match (before, after) {
        (Some((_, 2..)), Some((_, 2..))) => way.samples.chroma,
        // ITU-R BT.2020 and BT.2100 have it at the pixel.
        (_, Some((2.., 2..))) if space.primaries == Primaries::Bt2020 => ChromaSite::TopLeft,
        _ => ChromaSite::Left,
    };
    site.within(format)
}

/// Whether two spaces differ in nothing but the names of equal transfers and the range. Red, green and blue have no
/// matrix to compare; those that the steps before have left become luma and chroma in any case.
fn is_same(one: &ColourSpace, other: &ColourSpace, is_changed: bool) -> bool {
    let matrix = one.matrix == other.matrix || is_changed && one.matrix == MatrixCoefficients::Bt709;
    one.primaries == other.primaries && matrix && one.curve() == other.curve()
}

fn rec601(primaries: Primaries, matrix: MatrixCoefficients) -> ColourSpace {
    ColourSpace { primaries, transfer: Transfer::Bt601, matrix, full_range: false }
}

/// Tags that are carried or assumed, where nothing is converted but RGB and ranges.
fn declared(source: &Picture, range: RangeRule, stays_rgb: bool, present: ColourSpace, journal: &mut Journal) -> ColourSpace {
    if present.is_rgb() {
        if stays_rgb {
            journal.note(Subject::Colour, "", Origin::Source, "RGB as it is", "the codec stores it without loss");
            return present;
        }
        let is_wide = present.primaries == Primaries::Bt2020;
        let matrix = if is_wide { MatrixCoefficients::Bt2020 } else { MatrixCoefficients::Bt709 };
        let range = if range == RangeRule::Full { "full" } else { "limited" };
        let what = format!("RGB converted with the matrix of {matrix}, {range} range");
        journal.note(Subject::Colour, "", Origin::Source, what, "the output stores luma and chroma");
        return ColourSpace { matrix, full_range: false, ..present };
    }
    if is_full(&source.pixel_format, &source.colour) && range == RangeRule::Same {
        journal.note(Subject::Colour, "/picture/colour/range", Origin::Source, "full range kept", "the source has it");
    } else if is_full(&source.pixel_format, &source.colour) && range == RangeRule::Limited {
        let because = "players and broadcasters expect limited range";
        journal.note(Subject::Colour, "", Origin::Source, "full range converted to limited", because);
    }
    let ColourSpace { primaries, transfer, matrix, .. } = present;
    let words = present.words();
    let told = &source.colour;
    let known = [told.primaries == Some(primaries), told.transfer == Some(transfer), told.matrix == Some(matrix)];
    let because = match known.iter().filter(|known| **known).count() {
        3 => "the source declares them",
        0 => "the source declares nothing, and pictures of its size have these",
        _ => "the source declares a part of them, and pictures of its size have the rest",
    };
    let what = if known.contains(&false) { format!("tags assumed: {words}") } else { format!("tags carried: {words}") };
    journal.note(Subject::Colour, "", Origin::Source, what, because);
    present
}
