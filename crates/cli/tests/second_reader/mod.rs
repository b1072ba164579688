//! A second reader of what is made: it shares no code and no library with the engine. Containers are parsed as
//! their standards fix them, each coded picture is looked at as its standard says that it begins, and sound is
//! decoded whole by another library.

#![allow(dead_code, missing_docs, unreachable_pub, clippy::unwrap_used, clippy::cast_possible_truncation)]

mod ebml;
mod iso;
mod packets;

use std::path::Path;

/// What a track is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    Picture,
    Sound,
    Other,
}

/// A track as the second reader sees it.
#[derive(Debug, Clone)]
pub struct Track {
    pub kind: Kind,
    /// The container's name of the codec.
    pub codec: String,
    /// Pictures, or packets of sound, that are shown.
    pub shown: u64,
    /// Seconds at which the first is shown and the last ends.
    pub start: f64,
    pub end: f64,
}

/// The tracks of a file, each packet of which was looked into.
pub fn look(file: &Path) -> Result<Vec<Track>, String> {
    let bytes = std::fs::read(file).map_err(|error| error.to_string())?;
    let tracks = match file.extension().and_then(|extension| extension.to_str()) {
        Some("mp4" | "mov") => iso::tracks(&bytes)?,
        Some("mkv") => ebml::tracks(&bytes)?,
        Some("wav") => wave(&bytes)?,
        other => return Err(format!("{other:?} is not known")),
    };
    decode_sound(file, &tracks)?;
    Ok(tracks)
}

/// RIFF WAVE, and RF64 (EBU Tech 3306) beyond four gigabytes.
fn wave(bytes: &[u8]) -> Result<Vec<Track>, String> {
    let u32_at = |at: usize| bytes.get(at..at + 4).and_then(|four| Some(u32::from_le_bytes(four.try_into().ok()?)));
    let mut at = 12;
    let mut format = None;
    while let (Some(name), Some(length)) = (bytes.get(at..at + 4), u32_at(at + 4)) {
        let length = length as usize;
        match name {
            b"fmt " => {
                let align = bytes.get(at + 20..at + 22).ok_or("no format")?;
                format = u32_at(at + 12).map(|rate| (rate, u16::from_le_bytes([align[0], align[1]])));
            }
            b"data" => {
                let (rate, align) = format.ok_or("data before format")?;
                let there = bytes.len() - (at + 8);
                if length > there {
                    return Err(format!("{length} bytes of sound announced, {there} there"));
                }
                let samples = length / usize::from(align);
                let end = samples as f64 / f64::from(rate);
                return Ok(vec![Track { kind: Kind::Sound, codec: "pcm".to_owned(), shown: samples as u64, start: 0.0, end }]);
            }
            _ => {}
        }
        at += 8 + length + length % 2;
    }
    Err("no data".to_owned())
}

/// Decodes each sound track that the other library knows, and compares how much comes out with what is shown.
fn decode_sound(file: &Path, tracks: &[Track]) -> Result<(), String> {
    use symphonia::core::codecs::audio::AudioDecoderOptions;
    use symphonia::core::formats::probe::Hint;
    use symphonia::core::formats::{FormatOptions, TrackType};
    use symphonia::core::io::MediaSourceStream;
    use symphonia::core::meta::MetadataOptions;

    // The other library takes no configuration of HEVC beyond a thousand bytes, and refuses the file.
    if tracks.iter().any(|track| track.codec == "hvc1" || track.codec == "hev1") {
        return Ok(());
    }
    let known = |track: &&Track| track.kind == Kind::Sound && (track.codec == "mp4a" || track.codec == "A_AAC");
    if !tracks.iter().any(|track| known(&track)) {
        return Ok(());
    }
    let fault = |error: symphonia::core::errors::Error| error.to_string();
    let source = std::fs::File::open(file).map_err(|error| error.to_string())?;
    let stream = MediaSourceStream::new(Box::new(source), Default::default());
    let mut format = symphonia::default::get_probe()
        .probe(&Hint::new(), stream, FormatOptions::default(), MetadataOptions::default())
        .map_err(fault)?;
    let mut decoders = Vec::new();
    for track in format.tracks().iter().filter(|track| track.track_type() == Some(TrackType::Audio)) {
        let parameters = track.codec_params.as_ref().and_then(|parameters| parameters.audio()).ok_or("no parameters")?;
        let decoder = symphonia::default::get_codecs().make_audio_decoder(parameters, &AudioDecoderOptions::default());
        let rate = parameters.sample_rate.ok_or("no sample rate")?;
        // What it does not know is looked at as packets alone.
        decoders.push((track.id, rate, decoder.ok(), 0_u64));
    }
    while let Some(packet) = format.next_packet().map_err(fault)? {
        if let Some((_, _, Some(decoder), samples)) = decoders.iter_mut().find(|(id, ..)| *id == packet.track_id) {
            *samples += decoder.decode(&packet).map_err(fault)?.frames() as u64;
        }
    }
    let sounds: Vec<&Track> = tracks.iter().filter(|track| track.kind == Kind::Sound).collect();
    for ((_, rate, decoder, samples), track) in decoders.iter().zip(sounds) {
        let decoded = *samples as f64 / f64::from(*rate);
        let shown = track.end - track.start;
        // What is shown is decoded; beyond it comes what primes the codec and fills its last packet.
        if decoder.is_some() && known(&track) && !(shown - 0.001..shown + 0.2).contains(&decoded) {
            return Err(format!("{decoded:.4} s of sound are decoded where {shown:.4} s are shown"));
        }
    }
    Ok(())
}
