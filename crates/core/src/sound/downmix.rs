//! From many channels to few: how much of each goes where.
//!
//! Two channels are made of more after ITU-R BS.775 (Lo/Ro): each front at its own level, the centre and the surrounds 3 dB
//! lower, low-frequency effects only where they are asked for. One channel is the mean of the two.

use beryl_settings::Settings;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::layout::speakers;
use crate::catalogue::offers;

/// How more channels become two or one, in decibels: three less is the factor 1/√2, six less is a half.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema, Settings)]
#[serde(deny_unknown_fields, default)]
pub struct Downmix {
    /// Of the centre, in each side (−3).
    #[setting(name = "Centre in the downmix", unit = "dB", least = -60, most = 6, offers = offers(&[0, -3, -6, -9], " dB"))]
    pub centre: i8,
    /// Of the surrounds, each in its own side (−3).
    #[setting(name = "Surrounds in the downmix", unit = "dB", least = -60, most = 6, offers = offers(&[0, -3, -6, -9], " dB"))]
    pub surrounds: i8,
    /// Of the low-frequency effects, in each side; left out where there is none.
    #[setting(name = "LFE in the downmix", unit = "dB", least = -60, most = 6, offers = offers(&[0, -3, -6, -9], " dB"))]
    pub lfe: Option<i8>,
    /// Of all of it (0). What passes full scale is limited.
    #[setting(name = "Level of the downmix", unit = "dB", least = -24, most = 24, offers = offers(&[6, 3, 0, -3, -6], " dB"))]
    pub level: i8,
}

impl Default for Downmix {
    fn default() -> Self {
        Self { centre: -3, surrounds: -3, lfe: None, level: 0 }
    }
}

/// How much of each channel goes into each of those that come out, row by row.
#[derive(Debug, Clone, PartialEq)]
pub struct Mix {
    /// For each channel that comes out, the factors of those that go in.
    pub rows: Vec<Vec<f64>>,
}

/// More channels than this are neither mixed nor coded by anything here.
pub const MOST_CHANNELS: u32 = 64;

/// Three decibels less: a signal of the same power from two speakers.
const HALF_POWER: f64 = std::f64::consts::FRAC_1_SQRT_2;

/// The factor of a level in decibels, by the trade's reckoning: six of them are a half.
#[must_use]
pub fn factor(decibels: i8) -> f64 {
    2.0_f64.powf(f64::from(decibels) / 6.0)
}

impl Mix {
    /// What brings sound of one layout (in the libraries' words, of so many channels) to another; nothing where each
    /// channel has its own place there.
    #[must_use]
    pub fn between(from: &str, channels: u32, to: &str, settings: Downmix) -> Option<Self> {
        if from == to || channels > MOST_CHANNELS {
            return None;
        }
        let count = channels as usize;
        let Some(own) = speakers(from) else { return without_places(count, to) };
        let wanted = speakers(to)?;
        if own.len() != count {
            return None;
        }
        let mono_wanted = wanted == ["FC"];
        let between = if mono_wanted { &["FL", "FR"][..] } else { wanted };
        let parts: Vec<Vec<(&str, f64)>> = own.iter().map(|speaker| placed(speaker, own, between, settings)).collect();
        let level = if own.len() > wanted.len() && own.len() > 2 { factor(settings.level) } else { 1.0 };
        let row = |speaker: &&str| -> Vec<f64> {
            let of =
                |parts: &Vec<(&str, f64)>| parts.iter().filter(|(place, _)| place == speaker).map(|(_, part)| part).sum::<f64>();
            parts.iter().map(|parts| of(parts) * level).collect()
        };
        let rows: Vec<Vec<f64>> = between.iter().map(row).collect();
        let rows = match rows.as_slice() {
            [left, right] if mono_wanted => vec![left.iter().zip(right).map(|(left, right)| (left + right) / 2.0).collect()],
            _ => rows,
        };
        Some(Self { rows })
    }

    /// The most that a channel comes to where all that go in are at full scale.
    #[must_use]
    pub fn most(&self) -> f64 {
        self.rows.iter().map(|row| row.iter().map(|part| part.abs()).sum()).fold(0.0, f64::max)
    }

    /// As it is written: “L = FL + 0.71 FC + 0.71 BL”.
    #[must_use]
    pub fn words(&self, from: &str) -> String {
        let names = ["Lo", "Ro"];
        let row = |(place, row): (usize, &Vec<f64>)| {
            let name = if self.rows.len() == 1 { "M" } else { names.get(place).copied().unwrap_or("") };
            let part = |(channel, part): (usize, &f64)| {
                let own = speakers(from)
                    .and_then(|own| own.get(channel))
                    .map_or_else(|| format!("c{}", channel + 1), |name| (*name).to_owned());
                if (part - 1.0).abs() < 0.005 { own } else { format!("{part:.2} {own}") }
            };
            let parts: Vec<String> = row.iter().enumerate().filter(|(_, part)| **part != 0.0).map(part).collect();
            format!("{name} = {}", parts.join(" + "))
        };
        self.rows.iter().enumerate().map(row).collect::<Vec<_>>().join(", ")
    }
}

/// Of channels that have no places, two are the first two, and one is the mean of all.
fn without_places(count: usize, to: &str) -> Option<Mix> {
    let only = |channel: usize| (0..count).map(|other| if other == channel { 1.0 } else { 0.0 }).collect::<Vec<f64>>();
    match to {
        "mono" => Some(Mix { rows: vec![vec![1.0 / count.max(1) as f64; count]] }),
        "stereo" => Some(Mix { rows: vec![only(0), only(1.min(count.saturating_sub(1)))] }),
        _ => None,
    }
}

/// Where a speaker's sound goes among others, and how much of it.
fn placed(speaker: &'static str, own: &[&str], wanted: &[&'static str], settings: Downmix) -> Vec<(&'static str, f64)> {
    if wanted.contains(&speaker) {
        return vec![(speaker, 1.0)];
    }
    let first = |places: &[&'static str]| places.iter().copied().find(|place| wanted.contains(place));
    // Sides and backs stand for each other where the other has no sound of its own.
    let near = match speaker {
        "SL" | "TBL" => first(&["SL", "BL"]),
        "SR" | "TBR" => first(&["SR", "BR"]),
        "BL" => first(&["SL"]),
        "BR" => first(&["SR"]),
        _ => None,
    };
    if let Some(near) = near {
        return vec![(near, if own.contains(&near) { HALF_POWER } else { 1.0 })];
    }
    let surrounds = factor(settings.surrounds);
    let sides = |part: f64| vec![("FL", part), ("FR", part)];
    match speaker {
        // Sound that is nowhere but in the middle keeps its level from both sides.
        "FC" if own.len() == 1 => sides(1.0),
        "FC" | "TFC" => sides(factor(settings.centre)),
        "FLC" | "WL" | "DL" => vec![("FL", 1.0)],
        "FRC" | "WR" | "DR" => vec![("FR", 1.0)],
        "TFL" => vec![("FL", HALF_POWER)],
        "TFR" => vec![("FR", HALF_POWER)],
        "SL" | "BL" | "TBL" => vec![("FL", surrounds)],
        "SR" | "BR" | "TBR" => vec![("FR", surrounds)],
        "BC" | "TBC" => match (first(&["BL", "SL"]), first(&["BR", "SR"])) {
            (Some(left), Some(right)) => vec![(left, HALF_POWER), (right, HALF_POWER)],
            _ => sides(surrounds * HALF_POWER),
        },
        "LFE" => settings.lfe.map(|lfe| sides(factor(lfe))).unwrap_or_default(),
        _ => Vec::new(),
    }
}
