//! What a browser can play; of the rest a small copy is made for it, by
//! [`viewing_preset`](crate::preset::viewing_preset).

use crate::facts::Facts;

/// Whether every current browser plays the file as it is, picture and sound.
///
/// Browsers raise no error for most codecs that they lack (the sound plays and the picture stays
/// black), so this is decided from the facts: H.264 with 8 bits and 4:2:0, AAC or MP3, in MP4;
/// VP8, VP9 and AV1 in WebM or MP4; WAV and FLAC.
#[must_use]
pub fn plays_in_browsers(facts: &Facts) -> bool {
    let container = |names: &[&str]| names.iter().any(|name| facts.container.split(',').any(|one| one == *name));
    let picture = facts.picture();
    let pictures_play = picture.is_none_or(|(stream, picture)| {
        let plain = matches!(picture.pixel_format.name(), "yuv420p" | "yuvj420p");
        match stream.codec.as_str() {
            "h264" => plain && container(&["mov", "mp4"]) && !picture.field_order.is_interlaced(),
            "vp8" | "vp9" | "av1" => plain && container(&["webm", "mp4"]),
            _ => false,
        }
    });
    let sounds_play = facts.sounds().all(|(stream, _)| match stream.codec.as_str() {
        "aac" | "mp3" | "opus" | "flac" => true,
        "vorbis" => container(&["webm", "ogg"]),
        codec => codec.starts_with("pcm_") && container(&["wav"]) && picture.is_none(),
    });
    let one_sound = picture.is_none() || facts.sounds().count() <= 1;
    let known_container = container(&["mov", "mp4", "webm", "wav", "mp3", "flac", "ogg"]);
    known_container && pictures_play && sounds_play && one_sound
}
