//! The eight ways in which a picture can be stored turned or mirrored.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::picture::{Frame, Rectangle};

/// How a stored picture is brought upright for viewing: mirrored left to right where it is, and then turned.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(from = "StoredOrientation")]
pub struct Orientation {
    /// Whether left and right are exchanged first.
    pub mirrored: bool,
    /// Degrees clockwise by which it is turned then: 0, 90, 180 or 270.
    pub degrees: u16,
}

/// An orientation as it was stored, also by versions that knew turns alone.
#[derive(Deserialize)]
#[serde(untagged)]
enum StoredOrientation {
    Turn(i32),
    Whole { mirrored: bool, degrees: u16 },
}

impl From<StoredOrientation> for Orientation {
    fn from(stored: StoredOrientation) -> Self {
        match stored {
            StoredOrientation::Turn(degrees) => Self::turned(u16::try_from(degrees.rem_euclid(360)).unwrap_or(0)),
            StoredOrientation::Whole { mirrored, degrees } => Self { mirrored, degrees: degrees % 360 / 90 * 90 },
        }
    }
}

impl Orientation {
    /// All eight.
    pub const ALL: [Self; 8] = [
        Self { mirrored: false, degrees: 0 },
        Self { mirrored: false, degrees: 90 },
        Self { mirrored: false, degrees: 180 },
        Self { mirrored: false, degrees: 270 },
        Self { mirrored: true, degrees: 0 },
        Self { mirrored: true, degrees: 90 },
        Self { mirrored: true, degrees: 180 },
        Self { mirrored: true, degrees: 270 },
    ];

    /// Turned clockwise by quarters and not mirrored.
    #[must_use]
    pub const fn turned(degrees: u16) -> Self {
        Self { mirrored: false, degrees: degrees % 360 / 90 * 90 }
    }

    /// Whether the picture is stored as it is seen.
    #[must_use]
    pub const fn is_upright(self) -> bool {
        !self.mirrored && self.degrees == 0
    }

    /// Whether columns become lines.
    #[must_use]
    pub const fn lies_on_its_side(self) -> bool {
        self.degrees % 180 == 90
    }

    /// The part of a display matrix that turns: where a step to the right (`a`, `b`) and a step down (`c`, `d`) of the
    /// stored picture lead on the screen, each as right and down (ISO/IEC 14496-12, 8.5.2).
    #[must_use]
    pub const fn matrix(self) -> [i64; 4] {
        let [a, b, c, d] = match self.degrees {
            90 => [0, 1, -1, 0],
            180 => [-1, 0, 0, -1],
            270 => [0, -1, 1, 0],
            _ => [1, 0, 0, 1],
        };
        if self.mirrored { [-a, -b, c, d] } else { [a, b, c, d] }
    }

    /// The orientation that a display matrix means, whatever it scales by: the nearest of the eight. A matrix
    /// that leads nowhere means upright.
    #[must_use]
    pub fn of_matrix(matrix: [i64; 4]) -> Self {
        let likeness = |orientation: &Self| -> i128 {
            orientation.matrix().into_iter().zip(matrix).map(|(one, other)| i128::from(one) * i128::from(other)).sum()
        };
        // The first of several that are alike stands, and the upright one is the first.
        let mut best = Self::default();
        for orientation in Self::ALL {
            if likeness(&orientation) > likeness(&best) {
                best = orientation;
            }
        }
        best
    }

    /// A stored picture as it is seen.
    #[must_use]
    pub fn frame(self, stored: Frame) -> Frame {
        if self.lies_on_its_side() { stored.turned() } else { stored }
    }

    /// A part of a stored picture of `width` by `height`, in the picture as it is seen.
    #[must_use]
    pub const fn part(self, part: Rectangle, width: u32, height: u32) -> Rectangle {
        let mirrored = if self.mirrored { Rectangle { x: width - part.x - part.width, ..part } } else { part };
        mirrored.turned(self.degrees, width, height)
    }

    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match (self.mirrored, self.degrees) {
            (false, 90) => "turned by 90°",
            (false, 180) => "turned by 180°",
            (false, 270) => "turned by 270°",
            (false, _) => "upright",
            (true, 90) => "mirrored and turned by 90°",
            (true, 180) => "mirrored and turned by 180°",
            (true, 270) => "mirrored and turned by 270°",
            (true, _) => "mirrored",
        }
    }
}
