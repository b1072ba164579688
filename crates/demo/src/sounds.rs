//! What there is to hear: each sound as a function of the moment, in samples.

use std::f32::consts::TAU;

use crate::canvas::chance;

/// One of the sounds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Voice {
    /// The low roar of a kiln.
    Roar,
    /// Presses that stamp.
    Presses,
    /// People in a yard.
    Crowd,
    /// A low voice that speaks.
    LowVoice,
    /// A higher voice that speaks.
    HighVoice,
    /// A few held notes.
    Music,
    /// Keys and a fan.
    Desk,
}

/// The value of `voice` at `time` seconds on `channel`, from -1 to 1.
#[must_use]
pub fn sample(voice: Voice, time: f32, sample_rate: u32, channel: u32) -> f32 {
    let side = channel as f32 * 0.35;
    match voice {
        Voice::Roar => {
            0.30 * rumble(time, 55.0, side) + 0.14 * rumble(time, 130.0, side + 1.0) + 0.05 * hiss(time, sample_rate, channel)
        }
        Voice::Presses => {
            let beat = (time / 0.6).fract();
            0.5 * (-beat * 14.0).exp() * (TAU * 82.0 * time).sin()
                + 0.10 * (-beat * 30.0).exp() * hiss(time, sample_rate, channel)
                + 0.08 * rumble(time, 50.0, side)
        }
        Voice::Crowd => {
            (0..5_u32).map(|who| 0.10 * speech(time + who as f32 * 1.7, 120.0 + who as f32 * 37.0, side)).sum::<f32>()
                + 0.03 * hiss(time, sample_rate, channel)
        }
        Voice::LowVoice => 0.5 * speech(time, 105.0, 0.0),
        Voice::HighVoice => 0.5 * speech(time + 0.6, 196.0, 0.0),
        Voice::Music => [220.0, 277.2, 329.6, 440.0]
            .iter()
            .enumerate()
            .map(|(number, tone)| {
                let swell = 0.5 + 0.5 * (TAU * time / (4.0 + number as f32) + side).sin();
                0.12 * swell * (TAU * tone * time).sin()
            })
            .sum(),
        Voice::Desk => {
            let key = (time * 6.0).fract();
            let pressed = if chance(whole(time * 6.0)) > 0.5 { 1.0 } else { 0.0 };
            0.25 * pressed * (-key * 40.0).exp() * hiss(time, sample_rate, 0) + 0.04 * rumble(time, 110.0, 0.0)
        }
    }
}

fn whole(value: f32) -> u32 {
    // Moments of a clip of seconds.
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    let count = value.max(0.0) as u32;
    count
}

fn rumble(time: f32, tone: f32, phase: f32) -> f32 {
    let wobble = (TAU * 3.1 * time + phase).sin() * 0.6;
    (TAU * tone * time + wobble + phase).sin() * (0.7 + 0.3 * (TAU * 1.7 * time + phase).sin())
}

fn hiss(time: f32, sample_rate: u32, channel: u32) -> f32 {
    chance(whole(time * sample_rate as f32).wrapping_mul(2).wrapping_add(channel)) * 2.0 - 1.0
}

/// Syllables of a voice with this ground tone: vowels that change, with pauses between.
fn speech(time: f32, tone: f32, phase: f32) -> f32 {
    let syllable = whole(time * 4.2);
    let within = (time * 4.2).fract();
    let loud = if chance(syllable * 17) > 0.22 { (within * std::f32::consts::PI).sin() } else { 0.0 };
    let pitch = tone * (0.92 + 0.16 * chance(syllable * 5));
    let vowel = 2.0 + 5.0 * chance(syllable * 29);
    (1..=9_u32)
        .map(|overtone| {
            let near = 1.0 / (1.0 + (overtone as f32 - vowel).powi(2));
            (0.12 / overtone as f32 + 0.35 * near) * (TAU * pitch * overtone as f32 * time + phase).sin()
        })
        .sum::<f32>()
        * loud
}
