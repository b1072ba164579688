//! The picture of a file: codec, form, colour, fields, rate, frames.

use super::{Given, Judge, LookAt, Measured, StreamMeasure, given_to, is_moving_picture, seconds_text, streams_of, timing};
use crate::facts::{Content, Picture, Stream};
use crate::formats::Container;
use crate::picture::{FieldOrder, Hdr, Orientation, Range};
use crate::plan::{FrameRatePlan, PicturePlan, Plan};
use crate::time::{Rational, rate_text};
use crate::units::BitRate;

/// Small areas of two pictures that are alike differ by less than this, in thousandths of full scale; codecs at
/// their worst stay below it, and pictures of other moments or damaged ones do not.
const ALIKE: u32 = 60;

pub(super) fn judge(plan: &Plan, measured: &Measured, judge: &mut Judge) {
    let pictures = streams_of(measured, is_moving_picture);
    judge.equal("picture streams", usize::from(plan.picture.is_some()), pictures.len());
    let (Some(planned), Some((stream, measure))) = (&plan.picture, pictures.first()) else { return };
    let Content::Picture(found) = &stream.content else { return };
    judge_form(plan.container, planned, stream, found, judge);
    judge_colour(plan.container, planned, found, judge);
    judge_fields(planned, found, judge);
    if let FrameRatePlan::Constant { rate } = planned.frame_rate {
        let found_rate = found.frame_rate.map_or_else(|| "unknown".to_owned(), rate_text);
        let one = given_to(measured, 0).is_some_and(|given| given.count <= 1);
        // One frame has no rate.
        judge.item("frame rate", rate_text(rate), &found_rate, one || rate_text(rate) == found_rate);
    }
    let Some(measure) = measure else {
        judge.item("picture packets", "readable", "none", false);
        return;
    };
    judge_frames(plan, planned, measured, measure, judge);
    judge_level(planned, stream, measure, judge);
    judge_looks(measured, judge);
}

fn judge_form(container: Container, planned: &PicturePlan, stream: &Stream, found: &Picture, judge: &mut Judge) {
    let (codec, profile) = (planned.format.codec(), planned.format.profile());
    judge.equal("picture codec", codec.probe_name, stream.codec.as_str());
    if let Some(found) = stream.profile.as_deref() {
        judge.item("profile", profile.words, found, profile.in_files.contains(&found));
    }
    judge.equal("frame size", format!("{}×{}", planned.width, planned.height), format!("{}×{}", found.width, found.height));
    let (aspect, found_aspect) = (planned.pixel_aspect, found.pixel_aspect);
    let is_same = same_aspect(aspect, found_aspect)
        // MKV says how many columns are shown, in whole ones.
        || container.traits().aspect_in_columns && ((aspect - found_aspect) * Rational::whole(planned.width.into())).abs() <= Rational::ONE;
    judge.item("pixel aspect", aspect, found_aspect, is_same);
    if codec.tells_pixel_format {
        // Full range is told by its own tag; the library's other name for such formats says nothing more.
        judge.equal("pixel format", planned.pixel_format.clone(), found.pixel_format.without_range());
    } else {
        let least = planned.pixel_format.form().depth;
        judge.item("depth", format!("{least} bit or more"), format!("{} bit", found.depth), found.depth >= least);
    }
    judge.equal("orientation", Orientation::default().words(), found.orientation.words());
}

/// Containers store the aspect of a pixel in numbers of their own size.
fn same_aspect(one: Rational, other: Rational) -> bool {
    (one - other).abs() <= one.abs() * Rational::constant(1, 2000)
}

fn judge_colour(container: Container, planned: &PicturePlan, found: &Picture, judge: &mut Judge) {
    let colour = &planned.colour;
    for ((name, planned), (_, found)) in colour.tags().into_iter().zip(found.colour.tags()) {
        if let Some(planned) = planned {
            judge.equal(name, planned, found.unwrap_or("not declared"));
        }
    }
    let range = |colour: &crate::picture::Colour| Range::of(colour.is_full()).words();
    // RGB has one range, and not every container says so.
    if !planned.pixel_format.form().is_rgb() {
        judge.equal("range", range(colour), range(&found.colour));
    }
    if let (Some(planned), Some(found)) = (colour.chroma_location, found.colour.chroma_location) {
        judge.equal("place of chroma", planned.word(), found.word());
    }
    if let Some(hdr) = &planned.hdr
        && !container.traits().is_sound_alone
    {
        let found = found.hdr.as_ref();
        judge.equal("mastering display", display_words(Some(hdr)), display_words(found));
        let level =
            |level: Option<[u32; 2]>| level.map_or_else(|| "none".to_owned(), |[most, mean]| format!("{most} / {mean} cd/m²"));
        judge.equal("content light level", level(hdr.light_level), level(found.and_then(|found| found.light_level)));
    }
}

/// Primaries and luminance of a mastering display in the units of its metadata (SMPTE ST 2086).
fn display_words(hdr: Option<&Hdr>) -> String {
    let Some((primaries, luminance)) = hdr.and_then(|hdr| hdr.primaries.zip(hdr.luminance)) else { return "none".to_owned() };
    let primaries = primaries.map(|part| (part * Rational::whole(50_000)).round());
    let luminance = luminance.map(|part| (part * Rational::whole(10_000)).round());
    format!("{primaries:?} / 50 000, {luminance:?} / 10 000 cd/m²")
}

fn judge_fields(planned: &PicturePlan, found: &Picture, judge: &mut Judge) {
    let as_planned = match planned.field_order {
        FieldOrder::TopFirst | FieldOrder::BottomFirst => found.field_order == planned.field_order,
        FieldOrder::Progressive | FieldOrder::Unknown => !found.field_order.is_interlaced(),
    };
    judge.item("fields", planned.field_order.words(), found.field_order.words(), as_planned);
}

fn judge_frames(plan: &Plan, planned: &PicturePlan, measured: &Measured, measure: &StreamMeasure, judge: &mut Judge) {
    if let FrameRatePlan::Constant { .. } = planned.frame_rate
        && measure.packets > 1
    {
        let words = |even: bool| if even { "even to the tick" } else { "uneven" };
        judge.equal("distance of frames", words(true), words(measure.even));
    }
    judge.item("first frame", "decodes", if measure.decodes { "decodes" } else { "does not decode" }, measure.decodes);
    let encoded = measured.frames_encoded.or(given_to(measured, 0).map(|given: &Given| given.count));
    if let Some(encoded) = encoded {
        judge.equal("frames written", encoded, measure.packets);
    }
    if let Some(expected) = planned.frames {
        let why = if measure.packets > expected {
            "the source's header counts fewer, or frames are missing in it and those before them were repeated"
        } else {
            "that is what the source's header says; all frames that are there were made"
        };
        let broken = timing::loss(plan, measured).is_some_and(|loss| loss.broken);
        if broken {
            judge.item("frames", expected, measure.packets, false);
        } else {
            // A length is rounded to a frame, and one of another rate at both ends.
            let rounding = if planned.frames_are_counted { 0 } else { 2 };
            judge.note("frames", expected, measure.packets, expected.abs_diff(measure.packets) <= rounding, why);
        }
    }
    if !planned.format.codec().is_intra() && measure.longest_group > 0 {
        let most = u64::from(planned.key_interval_frames);
        judge.item("frames between key frames", format!("{most} at most"), measure.longest_group, measure.longest_group <= most);
    }
}

/// The level in the file against what its size, rate and peak rate need, and against what was allowed.
fn judge_level(planned: &PicturePlan, stream: &Stream, measure: &StreamMeasure, judge: &mut Judge) {
    let Some(found) = stream.level else { return };
    if let Some(most) = planned.format.level() {
        judge.item("level", format!("{most} at most"), found, found <= most);
    }
    let peak = BitRate(measure.peak_second.0.saturating_mul(8));
    let rate = planned.frame_rate.rate();
    let (levels, per_mille) = (planned.format.codec().levels, planned.format.profile().level_per_mille);
    let needed = levels.needed(per_mille, (planned.width, planned.height), rate, peak);
    if let Some(needed) = needed {
        let why = "more bits come together in one second than this level foresees; most players do not mind";
        judge.note("level needed", needed, found, needed <= found, why);
    }
}

fn judge_looks(measured: &Measured, judge: &mut Judge) {
    for (at, name) in [(LookAt::Source, "source looked at again"), (LookAt::File, "pictures looked at again")] {
        let looks: Vec<_> = measured.looks.iter().filter(|look| look.at == at).collect();
        let Some(worst) = looks.iter().max_by_key(|look| look.difference.unwrap_or(u32::MAX)) else { continue };
        let alike = worst.difference.is_some_and(|difference| difference <= ALIKE);
        let found = match worst.difference {
            Some(_) if alike => format!("{} alike", looks.len()),
            Some(difference) => format!("different at {} (by {:.1} %)", seconds_text(worst.time), f64::from(difference) / 10.0),
            None => format!("missing at {}", seconds_text(worst.time)),
        };
        judge.item(name, format!("{} alike", looks.len()), found, alike);
    }
}
