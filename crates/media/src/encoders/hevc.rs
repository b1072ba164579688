//! HEVC (ITU-T H.265).

use beryl_core::formats::{Effort, RateControl};
use beryl_core::picture::Hdr;

use super::{Coding, Options, Pass, mastering_display};

/// Its parameter sets stand in front, and nowhere in the stream.
pub(super) const TAG: [u8; 4] = *b"hvc1";

pub(super) fn set(Coding { plan, pass, notes, threads, .. }: Coding<'_>, options: &mut Options) {
    options.set(
        "preset",
        match plan.format.effort() {
            Effort::Quick => "superfast",
            Effort::Balanced => "medium",
            Effort::Thorough => "slow",
        },
    );
    options.set("profile", plan.format.profile().id.replace('_', "-"));
    options.set("g", plan.key_interval_frames);
    // No picture refers to one before the key frame in front of it: files can be entered and cut there.
    let mut own = vec!["log-level=none:open-gop=0:repeat-headers=0".to_owned()];
    own.push(format!("pools={threads}"));
    if let Some(level) = plan.format.level() {
        own.push(format!("level-idc={level}"));
    }
    match plan.format.rate() {
        RateControl::ConstantQuality { crf } => options.set("crf", crf),
        RateControl::Average { bits_per_second, .. } => options.set("b", bits_per_second.0),
        RateControl::Constant { bits_per_second } => {
            options.set("b", bits_per_second.0);
            own.push("strict-cbr=1".to_owned());
        }
        RateControl::ByProfile => {}
    }
    if let Some(peak) = plan.peak {
        own.push(format!("vbv-maxrate={}:vbv-bufsize={}", peak.bits_per_second.0 / 1000, peak.buffer / 1000));
    }
    match pass {
        Pass::Single => {}
        Pass::First => own.push(format!("pass=1:stats={}", escaped(notes))),
        Pass::Second => own.push(format!("pass=2:stats={}", escaped(notes))),
    }
    own.extend(plan.hdr.as_ref().map(hdr_parameters));
    options.set("x265-params", own.join(":"));
}

/// Frames that are encoded side by side on so many threads, which share the lines of few; more frames would cost memory
/// and quality.
pub(super) fn frames_at_once(threads: u32) -> u32 {
    match threads {
        0..6 => 1,
        6..12 => 2,
        12..24 => 3,
        _ => 5,
    }
}

/// A value among others that are parted by colons.
fn escaped(value: &str) -> String {
    value.replace('\\', r"\\").replace('\'', r"\'").replace(':', r"\:")
}

fn hdr_parameters(hdr: &Hdr) -> String {
    let mut parts = vec!["hdr10=1".to_owned()];
    parts.extend(mastering_display(hdr).map(|display| format!("master-display={display}")));
    parts.extend(hdr.light_level.map(|[content, average]| format!("max-cll={content},{average}")));
    parts.join(":")
}
