//! The sound of a file.

use super::{Judge, Measured, given_to, is_sound, streams_of};
use crate::facts::Content;
use crate::formats::{Container, language};
use crate::plan::Plan;

pub(super) fn judge(plan: &Plan, measured: &Measured, judge: &mut Judge) {
    let sounds = streams_of(measured, is_sound);
    judge.equal("sound streams", plan.sound.len(), sounds.len());
    let first_slot = usize::from(plan.picture.is_some());
    for (number, (planned, (stream, measure))) in plan.sound.iter().zip(&sounds).enumerate() {
        let Content::Sound(found) = &stream.content else { continue };
        let name = |what: &str| if plan.sound.len() == 1 { what.to_owned() } else { format!("{what} {}", number + 1) };
        if let Some(codec) = planned.codec.probe_name() {
            judge.equal(name("sound codec"), codec, stream.codec.as_str());
        }
        judge.equal(name("channels"), planned.channels, found.channels);
        if !planned.codec.is_copy() {
            let is_same = same_layout(&planned.layout, &found.layout, found.channels);
            if !plan.container.traits().places_channels_of_pcm && planned.codec.blocks().is_none() {
                let why = "the format does not name the speakers of PCM";
                judge.note(name("layout"), &planned.layout, &found.layout, is_same, why);
            } else {
                judge.item(name("layout"), &planned.layout, &found.layout, is_same);
            }
        }
        judge.equal(name("sample rate"), planned.sample_rate, found.sample_rate);
        if plan.container.traits().keeps_tags {
            judge_language(plan.container, planned.language.as_deref(), stream.language.as_deref(), &name("language"), judge);
            for role in planned.roles.iter().filter(|role| plan.container.traits().roles.contains(&role.as_str())) {
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
        let nothing_given = !planned.codec.is_copy() && given_to(measured, first_slot + number).is_none();
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
