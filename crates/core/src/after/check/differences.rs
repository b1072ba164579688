//! What differs between a file and what was made of it, for showing them side by side.

use super::{CheckItem, Grade};
use crate::facts::Facts;
use crate::time::rate_text;

/// What differs between two readings, for showing them side by side.
#[must_use]
pub fn compare(before: &Facts, after: &Facts) -> Vec<CheckItem> {
    let (left, right) = (fact_lines(before), fact_lines(after));
    left.into_iter()
        .zip(right)
        .map(|((what, expected), (_, found))| CheckItem {
            what: what.to_owned(),
            grade: if expected == found { Grade::Fine } else { Grade::Noted },
            why: String::new(),
            expected,
            found,
        })
        .collect()
}

fn fact_lines(facts: &Facts) -> Vec<(&'static str, String)> {
    let none = || "—".to_owned();
    let picture = facts.picture();
    let of_picture = |text: fn(&crate::facts::Picture) -> String| picture.map_or_else(none, |(_, picture)| text(picture));
    let sounds: Vec<String> = facts
        .sounds()
        .map(|(stream, sound)| {
            let language = stream.language.as_ref().map_or_else(String::new, |language| format!(" {language}"));
            format!("{} {} {} kHz{language}", stream.codec_words(), sound.layout, f64::from(sound.sample_rate) / 1e3)
        })
        .collect();
    let colour = picture.map_or_else(none, |(_, picture)| picture.colour.tags().map(|(_, tag)| tag.unwrap_or("–")).join(" / "));
    let duration = facts.duration.map_or_else(none, |duration| match picture.and_then(|(_, picture)| picture.frame_rate) {
        Some(rate) => crate::time::duration_text(duration, rate),
        None => crate::time::clock_text(duration),
    });
    vec![
        ("Size", facts.size.to_string()),
        ("Container", facts.container_name.clone()),
        ("Duration", duration),
        ("Bit rate", facts.bit_rate.map_or_else(none, |rate| rate.to_string())),
        ("Timecode", facts.timecode.clone().unwrap_or_else(none)),
        ("Picture codec", picture.map_or_else(none, |(stream, _)| stream.codec_words())),
        ("Frame size", of_picture(|picture| format!("{}×{}", picture.width, picture.height))),
        ("Pixel aspect", of_picture(|picture| picture.pixel_aspect.to_string())),
        ("Pixel format", of_picture(|picture| picture.pixel_format.to_string())),
        (
            "Frame rate",
            of_picture(|picture| match (picture.frame_rate, picture.varies) {
                (Some(rate), true) => format!("varies around {}", rate_text(rate)),
                (Some(rate), false) => rate_text(rate),
                (None, _) => "unknown".to_owned(),
            }),
        ),
        ("Fields", of_picture(|picture| picture.field_order.words().to_owned())),
        ("Colour", colour),
        ("Sound", if sounds.is_empty() { none() } else { sounds.join(", ") }),
        ("Chapters", facts.chapters.len().to_string()),
    ]
}
