//! How a picture is coded: what goes together.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Effects, PictureCodec, ProfileDeclaration, ProfileName, Rates};
use crate::formats::level::{Level, Peak};
use crate::formats::{Effort, RateControl};
use crate::problem::{Fault, FaultCode};
use crate::units::BitRate;

/// How a picture is coded. Only what goes together can be said: a profile of this codec, a rate that the profile takes, a
/// level that the rate fits.
#[derive(Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(try_from = "Document", into = "Document")]
#[schema(as = PictureFormat)]
pub struct PictureFormat(Document);

/// As it is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
struct Document {
    /// The codec.
    codec: PictureCodec,
    /// Its profile.
    profile: ProfileName,
    /// The highest level allowed.
    #[serde(default)]
    level: Option<Level>,
    /// How many bits it gets.
    rate: RateControl,
    /// How hard the encoder works.
    #[serde(default)]
    effort: Effort,
}

impl std::fmt::Debug for PictureFormat {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.fmt(f)
    }
}

/// What an earlier version has planned is taken as it was, as long as the profile is one of the codec's.
impl TryFrom<Document> for PictureFormat {
    type Error = Fault;
    fn try_from(document: Document) -> Result<Self, Fault> {
        declared(document.codec, Some(document.profile)).map(|_| Self(document))
    }
}

impl From<PictureFormat> for Document {
    fn from(format: PictureFormat) -> Self {
        format.0
    }
}

impl PictureFormat {
    /// What is asked for, where it goes together.
    ///
    /// # Errors
    /// Everything that does not, by the settings of a preset.
    pub fn of(
        codec: PictureCodec,
        profile: Option<ProfileName>,
        level: Option<Level>,
        rate: RateControl,
        effort: Effort,
    ) -> Result<Self, Vec<Fault>> {
        let profile = declared(codec, profile).map_err(|fault| vec![fault])?;
        let mut faults = Vec::new();
        check_rate(codec, profile, rate, &mut faults);
        if let Some(asked) = level {
            check_level(codec, profile, rate, asked, &mut faults);
        }
        let format = Self(Document { codec, profile: ProfileName(profile.id), level, rate, effort });
        if faults.is_empty() { Ok(format) } else { Err(faults) }
    }

    /// The codec.
    #[must_use]
    pub const fn codec(self) -> PictureCodec {
        self.0.codec
    }

    /// The profile of this codec.
    #[must_use]
    pub fn profile(self) -> &'static ProfileDeclaration {
        let codec = self.0.codec.0;
        codec.profile(Some(self.0.profile)).unwrap_or(&codec.profiles[0])
    }

    /// The highest level allowed.
    #[must_use]
    pub const fn level(self) -> Option<Level> {
        self.0.level
    }

    /// How many bits it gets.
    #[must_use]
    pub const fn rate(self) -> RateControl {
        self.0.rate
    }

    /// How hard the encoder works.
    #[must_use]
    pub const fn effort(self) -> Effort {
        self.0.effort
    }

    /// The same with two passes, where it has a mean rate.
    #[must_use]
    pub const fn in_two_passes(self) -> Self {
        let rate = match self.0.rate {
            RateControl::Average { bits_per_second, peak, .. } => RateControl::Average { bits_per_second, passes: 2, peak },
            rate => rate,
        };
        Self(Document { rate, ..self.0 })
    }

    /// What its effort does.
    #[must_use]
    pub const fn effects(self) -> Effects {
        self.0.codec.0.effects(self.0.effort)
    }

    /// Codec and profile in the trade's words.
    #[must_use]
    pub fn words(self) -> String {
        format!("{} {}", self.codec().words, self.profile().words)
    }

    /// What its level allows at most, where one is asked for.
    #[must_use]
    pub fn peak_of_level(self) -> Option<(Level, Peak)> {
        let level = self.level()?;
        Some((level, self.codec().levels.peak(self.profile().level_per_mille, level)?))
    }
}

fn declared(codec: PictureCodec, name: Option<ProfileName>) -> Result<&'static ProfileDeclaration, Fault> {
    let declaration = codec.0;
    declaration.profile(name).ok_or_else(|| {
        let known: Vec<_> = declaration.profiles.iter().map(|profile| profile.words).collect();
        let name = name.map_or(declaration.usual_profile, ProfileName::words);
        let words = format!("{} has no profile {name}: choose {}.", declaration.words, known.join(", "));
        Fault::new("picture.profile", FaultCode::NotOfCodec, words)
    })
}

fn check_rate(codec: PictureCodec, profile: &ProfileDeclaration, rate: RateControl, faults: &mut Vec<Fault>) {
    let mut refuse = |field: &str, code, words: String| faults.push(Fault::new(format!("picture.rate.{field}"), code, words));
    let Rates::Chosen { quality, unit } = &codec.rates else {
        if rate != RateControl::ByProfile {
            let words = format!("The rate of {} follows from its profile: set the rate's mode to by_profile.", codec.words);
            refuse("mode", FaultCode::NotOfCodec, words);
        }
        return;
    };
    match rate {
        RateControl::ByProfile => {
            let words = format!("The profiles of {} set no rate: choose a quality or a bit rate.", codec.words);
            refuse("mode", FaultCode::NotOfCodec, words);
        }
        RateControl::ConstantQuality { crf } if !quality.contains(&crf) => {
            let words = format!(
                "A {unit} of {crf} is out of range for {}: choose {} to {}.",
                codec.words,
                quality.start(),
                quality.end()
            );
            refuse("crf", FaultCode::OutOfRange, words);
        }
        RateControl::ConstantQuality { crf: 0 } if !profile.holds_lossless => {
            let words = format!(
                "A {unit} of 0 is lossless, which {} cannot hold: choose 1 or more, or FFV1 for lossless files.",
                profile.words
            );
            refuse("crf", FaultCode::NotOfCodec, words);
        }
        RateControl::ConstantQuality { .. } => {}
        RateControl::Average { bits_per_second, passes, peak } => {
            check_bits("bits_per_second", bits_per_second, &mut refuse);
            if let Some(peak) = peak {
                check_bits("peak", peak, &mut refuse);
            }
            if let Some(peak) = peak.filter(|peak| *peak < bits_per_second) {
                let words =
                    format!("A highest rate of {peak} is below the mean of {bits_per_second}: raise it, or leave it out.");
                refuse("peak", FaultCode::Contradiction, words);
            }
            if !(1..=2).contains(&passes) {
                refuse("passes", FaultCode::OutOfRange, format!("{passes} passes are not possible: choose 1 or 2."));
            }
        }
        RateControl::Constant { bits_per_second } => check_bits("bits_per_second", bits_per_second, &mut refuse),
    }
}

/// The lowest and the highest rate of pictures.
pub(crate) const BITS: [BitRate; 2] = [BitRate(16_000), BitRate(2_000_000_000)];

fn check_bits(field: &str, rate: BitRate, refuse: &mut impl FnMut(&str, FaultCode, String)) {
    let [least, most] = BITS;
    if rate < least || rate > most {
        let words = format!("A picture rate of {rate} is out of range: choose {least} to {most}.");
        refuse(field, FaultCode::OutOfRange, words);
    }
}

fn check_level(codec: PictureCodec, profile: &ProfileDeclaration, rate: RateControl, asked: Level, faults: &mut Vec<Fault>) {
    let rate = match rate {
        RateControl::Average { bits_per_second, .. } | RateControl::Constant { bits_per_second } => Some(bits_per_second),
        RateControl::ConstantQuality { .. } | RateControl::ByProfile => None,
    };
    let highest = codec.levels.peak(profile.level_per_mille, asked).map(|peak| peak.bits_per_second);
    let fault = match (highest, rate) {
        (None, _) => (FaultCode::NotOfCodec, format!("{} has no level {asked}.", codec.words)),
        (Some(highest), Some(rate)) if rate > highest => {
            let words = format!(
                "{rate} is more than {} {} at level {asked} may have ({highest}): lower the rate or raise the level.",
                codec.words, profile.words
            );
            (FaultCode::Contradiction, words)
        }
        (Some(_), _) => return,
    };
    faults.push(Fault::new("picture.level", fault.0, fault.1));
}
