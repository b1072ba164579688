//! MPEG-2 video (ISO/IEC 13818-2).

use beryl_core::formats::RateControl;

use super::{Coding, Options, Pass};

/// B frames in a row.
const MOST_B_FRAMES: u32 = 2;
/// The library's quality unit: so many to one step of the quantiser.
const QUALITY_UNIT: u32 = 118;

pub(super) fn set(Coding { plan, pass, .. }: Coding<'_>, options: &mut Options) {
    let distance = plan.key_interval_frames.clamp(1, 600);
    let between = MOST_B_FRAMES.min(distance - 1);
    // The library counts from the frame that is coded first. A key frame is coded before the B frames that are shown before
    // it, so the first group is shown longer than it is coded, by as many.
    options.set("g", distance - between);
    options.set("bf", between);
    if plan.format.profile().id == "mpeg2_422" {
        options.set("profile", "422");
    }
    // Kinds of blocks and coefficients are chosen by what they cost and what they spoil.
    options.set("mbd", "rd");
    options.set("trellis", 1);
    match plan.format.rate() {
        RateControl::ConstantQuality { crf } => {
            options.set("global_quality", u32::from(crf) * QUALITY_UNIT);
            options.flag("qscale");
        }
        RateControl::Average { bits_per_second, .. } => options.set_rates(bits_per_second.0, plan.peak),
        RateControl::Constant { bits_per_second } => {
            options.set_rates(bits_per_second.0, plan.peak);
            options.set("minrate", bits_per_second.0);
            // How full the buffer is at first, as with the other encoders: what it lacks is missing in the first second of easy
            // material, and what it has is spent in that of hard material.
            options.set("rc_init_occupancy", bits_per_second.0 / 10 * 9);
        }
        RateControl::ByProfile => {}
    }
    match pass {
        Pass::Single => {}
        Pass::First => options.flag("pass1"),
        Pass::Second => options.flag("pass2"),
    }
    if plan.field_order.is_interlaced() {
        options.flag("ildct+ilme");
    }
}
