//! MPEG-2 video (ISO/IEC 13818-2).

use beryl_core::preset::{Profile, RateControl};

use super::{Coding, Options, Pass};

/// The library's quality unit: so many to one step of the quantiser.
const QUALITY_UNIT: u32 = 118;

pub(super) fn set(Coding { plan, pass, .. }: Coding<'_>, options: &mut Options) -> &'static str {
    options.set("g", plan.key_interval_frames.min(600));
    options.set("bf", 2);
    if plan.profile == Profile::Mpeg2422 {
        options.set("profile", "422");
    }
    // Kinds of blocks and coefficients are chosen by what they cost and what they spoil.
    options.set("mbd", "rd");
    options.set("trellis", 1);
    match plan.rate {
        RateControl::ConstantQuality { crf } => {
            options.set("global_quality", u32::from(crf) * QUALITY_UNIT);
            options.flag("qscale");
        }
        RateControl::Average { bits_per_second, .. } => options.set_rates(bits_per_second.0, plan.peak),
        RateControl::Constant { bits_per_second } => {
            options.set_rates(bits_per_second.0, plan.peak);
            options.set("minrate", bits_per_second.0);
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
    "mpeg2video"
}
