//! How film was spread over the fields of video, and which fields belong together.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::picture::FieldOrder;
use crate::time::Rational;

/// A way of spreading film frames over the fields of video.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
pub enum Pulldown {
    /// Film frames last three and two fields in turn: four of them fill five frames.
    #[serde(rename = "3:2")]
    ThreeTwo,
    /// Film frames last two, three, three and two fields: four of them fill five frames, one of which is mixed.
    #[serde(rename = "2:3:3:2")]
    TwoThreeThreeTwo,
    /// Film frames last two fields, but begin with the second field of a frame: every frame is mixed.
    #[serde(rename = "2:2")]
    TwoTwo,
}

/// The fields of one frame: which film frame of its cycle each one shows, in the order of time.
type Pair = (u8, u8);

/// Where a picture is to be had from when fields are brought together again.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum FieldMatch {
    /// The frame is a film frame as it stands.
    Whole,
    /// A film frame is made of this frame's first field and the second field of the frame before.
    FirstWithPrevious,
    /// A film frame is made of this frame's second field and the first field of the frame before.
    SecondWithPrevious,
    /// The frame brings no film frame to its end.
    Nothing,
}

impl Pulldown {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::ThreeTwo, Self::TwoThreeThreeTwo, Self::TwoTwo];

    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::ThreeTwo => "3:2",
            Self::TwoThreeThreeTwo => "2:3:3:2",
            Self::TwoTwo => "2:2",
        }
    }

    const fn pairs(self) -> &'static [Pair] {
        match self {
            Self::ThreeTwo => &[(0, 0), (0, 1), (1, 2), (2, 2), (3, 3)],
            Self::TwoThreeThreeTwo => &[(0, 0), (1, 1), (1, 2), (2, 2), (3, 3)],
            Self::TwoTwo => &[(0, 1)],
        }
    }

    /// Frames of one cycle.
    #[must_use]
    pub fn cycle(self) -> u64 {
        self.pairs().len() as u64
    }

    /// Film frames of one cycle.
    #[must_use]
    pub const fn film_frames(self) -> u64 {
        match self {
            Self::ThreeTwo | Self::TwoThreeThreeTwo => 4,
            Self::TwoTwo => 1,
        }
    }

    /// The rate of the film behind video of this rate.
    #[must_use]
    pub fn film_rate(self, video: Rational) -> Rational {
        match self {
            Self::ThreeTwo | Self::TwoThreeThreeTwo => video * Rational::constant(4, 5),
            Self::TwoTwo => video,
        }
    }

    /// The film frames that the first and the second field of the frame at `place` show, counted
    /// from the beginning of cycle nought; places before it count backward.
    pub(crate) fn film(self, place: i64) -> (i64, i64) {
        let pairs = self.pairs();
        let cycle = i64::try_from(pairs.len()).unwrap_or(1);
        let phase = usize::try_from(place.rem_euclid(cycle)).unwrap_or(0);
        let before = place.div_euclid(cycle) * i64::try_from(self.film_frames()).unwrap_or(1);
        (before + i64::from(pairs[phase].0), before + i64::from(pairs[phase].1))
    }

    /// The film frame that comes to its end with the frame at `place`, and where its fields are.
    #[must_use]
    pub fn field_match(self, place: i64) -> (FieldMatch, i64) {
        let (first, second) = self.film(place);
        if first == second {
            return (FieldMatch::Whole, first);
        }
        let (first_before, second_before) = self.film(place - 1);
        if second_before == first && first_before != first {
            (FieldMatch::FirstWithPrevious, first)
        } else if first_before == second && second_before != second {
            (FieldMatch::SecondWithPrevious, second)
        } else {
            (FieldMatch::Nothing, first)
        }
    }
}

/// The moments, in half frames, that top and bottom field of the frame at `place` show.
pub(crate) fn sample_times(place: i64, kind: super::StretchKind) -> (i64, i64) {
    let ordered = |order: FieldOrder, (first, second): (i64, i64)| match order {
        FieldOrder::BottomFirst => (second, first),
        FieldOrder::TopFirst | FieldOrder::Progressive | FieldOrder::Unknown => (first, second),
    };
    match kind {
        super::StretchKind::Progressive => (2 * place, 2 * place),
        super::StretchKind::Interlaced { first } => ordered(first, (2 * place, 2 * place + 1)),
        super::StretchKind::Telecine { pulldown, first, phase } => {
            let (early, late) = pulldown.film(place + i64::from(phase));
            ordered(first, (2 * early, 2 * late))
        }
    }
}
