//! H.264 (ITU-T H.264).

use beryl_core::formats::{Effort, RateControl};

use super::{Coding, Options, Pass, mastering_display};

/// Not the name of an AVC-Intra class, which the library takes for 10-bit 4:2:2: readers would put the fixed headers of
/// that class in the place of its own.
pub(super) const TAG: [u8; 4] = *b"avc1";

pub(super) fn set(Coding { plan, pass, notes, .. }: Coding<'_>, options: &mut Options) {
    options.set(
        "preset",
        match plan.format.effort() {
            Effort::Quick => "veryfast",
            Effort::Balanced => "medium",
            Effort::Thorough => "slow",
        },
    );
    // The library has the same names for them.
    options.set("profile", plan.format.profile().id);
    options.set("g", plan.key_interval_frames);
    if let Some(level) = plan.format.level() {
        options.set("level", level);
    }
    // Bits go where the picture is flat by how flat all of it is: fewer of them for the same quality, at the same speed
    // (`docs/benchmarks.md`).
    let mut own = vec!["aq-mode=2".to_owned()];
    match plan.format.rate() {
        RateControl::ConstantQuality { crf } => {
            options.set("crf", crf);
            if let Some(peak) = plan.peak {
                options.set("maxrate", peak.bits_per_second.0);
                options.set("bufsize", peak.buffer);
            }
        }
        RateControl::Average { bits_per_second, .. } => {
            options.set_rates(bits_per_second.0, plan.peak);
            // One pass begins to save soon where it has spent too much.
            own.push("ratetol=0.3".to_owned());
        }
        RateControl::Constant { bits_per_second } => {
            options.set_rates(bits_per_second.0, plan.peak);
            // What pictures do not need is filled up.
            options.set("nal-hrd", "cbr");
        }
        RateControl::ByProfile => {}
    }
    match pass {
        Pass::Single => {}
        Pass::First => options.flag("pass1"),
        Pass::Second => options.flag("pass2"),
    }
    if pass != Pass::Single {
        options.set("stats", notes);
    }
    if let Some(hdr) = &plan.hdr {
        own.extend(mastering_display(hdr).map(|display| format!("mastering-display={display}")));
        own.extend(hdr.light_level.map(|[content, average]| format!("cll={content},{average}")));
    }
    options.set("x264-params", own.join(":"));
    if plan.field_order.is_interlaced() {
        options.flag("ildct+ilme");
    }
}
