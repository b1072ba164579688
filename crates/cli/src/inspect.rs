//! `beryl inspect`

use std::process::ExitCode;

use beryl_core::facts::Content;
use beryl_core::problem::Problem;
use beryl_core::reading::Reading;
use beryl_core::time::{clock_text, duration_text, rate_text};
use beryl_worker::Engine;

use crate::arguments::InspectTask;
use crate::terminal::{json_line, say, source_ref};

pub(crate) async fn run(task: &InspectTask) -> Result<ExitCode, Problem> {
    let reading = Engine::locate()?.probe(&source_ref(&task.file, task.sequence)?).await?;
    if task.json {
        json_line(&reading);
    } else {
        print(&reading);
    }
    Ok(ExitCode::SUCCESS)
}

pub(crate) fn print(reading: &Reading) {
    say!("{}", reading.facts.summary());
    say!("  {} · {}", reading.facts.container_name, reading.facts.size);
    if let Some(duration) = reading.facts.duration {
        let rate = reading.facts.picture().and_then(|(_, picture)| picture.frame_rate);
        say!("  lasts {}", rate.map_or_else(|| clock_text(duration), |rate| duration_text(duration, rate)));
    }
    if let Some(timecode) = &reading.facts.timecode {
        say!("  begins at {timecode}{}", reading.facts.reel.as_ref().map_or_else(String::new, |reel| format!(" on reel {reel}")));
    }
    for stream in &reading.facts.streams {
        let profile = stream.profile.as_ref().map_or_else(String::new, |profile| format!(" {profile}"));
        let language = stream.language.as_ref().map_or_else(String::new, |language| format!(" · {language}"));
        let head = format!("  stream {}: {}{profile}", stream.index, stream.codec);
        match &stream.content {
            Content::Picture(picture) => {
                let rate = picture.frame_rate.map_or_else(String::new, |rate| {
                    format!(" · {}{}", if picture.varies { "varies around " } else { "" }, rate_text(rate))
                });
                say!(
                    "{head} · {}×{} · {}{rate} · {}",
                    picture.width,
                    picture.height,
                    picture.pixel_format,
                    picture.field_order.words()
                );
            }
            Content::Sound(sound) => say!("{head} · {} · {} kHz{language}", sound.layout, f64::from(sound.sample_rate) / 1e3),
            Content::Subtitles { are_pictures: true } => say!("{head} · subtitles as pictures{language}"),
            Content::Subtitles { are_pictures: false } => say!("{head} · subtitles{language}"),
            Content::Attachment => say!("{head} · attachment"),
            Content::Data => say!("{head} · data"),
        }
    }
    for chapter in &reading.facts.chapters {
        say!("  chapter {} {}", clock_text(chapter.start), chapter.title);
    }
}
