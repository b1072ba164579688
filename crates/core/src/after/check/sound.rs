//! The sound of a file.

use super::{Judge, Measured, given_to, is_sound, streams_of};
use crate::facts::Content;
use crate::formats::{Container, SoundCodec, language};
use crate::plan::Plan;

pub(super) fn judge(plan: &Plan, measured: &Measured, judge: &mut Judge) {
    let sounds = streams_of(measured, is_sound);
    judge.equal("sound streams", plan.sound.len(), sounds.len());
    let first_slot = usize::from(plan.picture.is_some());
    for (number, (planned, (stream, measure))) in plan.sound.iter().zip(&sounds).enumerate() {
        let Content::Sound(found) = &stream.content else { continue };
        let name = |what: &str| if plan.sound.len() == 1 { what.to_owned() } else { format!("{what} {}", number + 1) };
        let codec = match planned.codec {
            SoundCodec::Aac => Some("aac"),
            SoundCodec::Pcm16 => Some("pcm_s16le"),
            SoundCodec::Pcm24 => Some("pcm_s24le"),
            SoundCodec::Copy => None,
        };
        if let Some(codec) = codec {
            judge.equal(name("sound codec"), codec, stream.codec.as_str());
        }
        judge.equal(name("channels"), planned.channels, found.channels);
        if planned.codec != SoundCodec::Copy {
            let is_same = same_layout(&planned.layout, &found.layout, found.channels);
            if plan.container == Container::Mkv && planned.codec != SoundCodec::Aac {
                let why = "MKV does not name the speakers of PCM";
                judge.note(name("layout"), &planned.layout, &found.layout, is_same, why);
            } else {
                judge.item(name("layout"), &planned.layout, &found.layout, is_same);
            }
        }
        judge.equal(name("sample rate"), planned.sample_rate, found.sample_rate);
        if plan.container != Container::Wav {
            judge_language(plan.container, planned.language.as_deref(), stream.language.as_deref(), &name("language"), judge);
            for role in planned.roles.iter().filter(|role| carries_role(plan.container, role)) {
                let found = if stream.roles.contains(role) { role.as_str() } else { "none" };
                judge.note(name("role"), role, found, found == role, "the format does not keep it");
            }
        }
        let Some(measure) = measure else {
            judge.item(name("sound packets"), "readable", "none", false);
            continue;
        };
        let decodes = if measure.decodes { "decodes" } else { "does not decode" };
        // A stream without a single sample makes one; one that could not be decoded is another matter.
        let nothing_given = planned.codec != SoundCodec::Copy && given_to(measured, first_slot + number).is_none();
        if nothing_given && (measured.decode_faults == 0 || plan.salvage) {
            judge.note(name("sound"), "decodes", "empty", false, "the source has no sample in it");
        } else {
            judge.item(name("sound"), "decodes", decodes, measure.decodes);
        }
    }
}

/// Formats that do not name speakers are read as the usual layout of so many channels.
fn same_layout(planned: &str, found: &str, channels: u32) -> bool {
    let plain = |layout: &str| layout.replace("(side)", "").replace("(back)", "");
    planned == found || plain(planned) == plain(found) || found == format!("{channels} channels")
}

fn judge_language(container: Container, planned: Option<&str>, found: Option<&str>, name: &str, judge: &mut Judge) {
    let Some(planned) = planned else { return };
    let found_text = found.unwrap_or("none");
    let same = found.is_some_and(|found| language::is_same(planned, found));
    if language::code_for(container, planned).is_some() {
        judge.item(name, planned, found_text, same);
    } else {
        judge.note(name, planned, found_text, same, "the format has no code for it");
    }
}

/// Matroska keeps roles; the ISO formats only which track is on.
fn carries_role(container: Container, role: &str) -> bool {
    match container {
        Container::Mkv => matches!(role, "default" | "forced" | "original" | "comment" | "hearing_impaired" | "visual_impaired"),
        Container::Mp4 | Container::Mov => role == "default",
        Container::Wav => false,
    }
}
