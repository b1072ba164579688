//! Where nought of everything that is made of a source lies.

use crate::facts::Facts;
use crate::time::Rational;

/// Streams that begin further apart than this do not count by one clock.
const ONE_CLOCK: Rational = Rational::whole(3600);

/// Where nought lies, and what that means for the picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Origin {
    /// Seconds of the source's clock.
    pub at: Rational,
    /// So many frames pass before the picture begins: sound begins earlier.
    pub lead_frames: i64,
    /// Seconds of sound before nought, less than a frame, which are left out.
    pub sound_cut: Rational,
}

/// Where nought lies: at the first picture or, where sound begins at least a frame earlier, as many
/// whole frames before it, so that pictures stay on their grid. It is the same for everything that is made
/// of a source, so that outputs stay in step with each other.
#[must_use]
pub fn origin(facts: &Facts) -> Origin {
    let zero = facts.zero();
    let plain = Origin { at: zero, lead_frames: 0, sound_cut: Rational::ZERO };
    let Some((_, picture)) = facts.picture() else { return plain };
    let frame = picture.frame_rate.and_then(Rational::inverse).unwrap_or(Rational::constant(1, 25));
    let starts = facts.sounds().filter_map(|(stream, _)| stream.start);
    let Some(lead) = starts.map(|start| zero - start).filter(|lead| lead.is_positive() && *lead <= ONE_CLOCK).max() else {
        return plain;
    };
    if lead < frame {
        return Origin { sound_cut: lead, ..plain };
    }
    let frames = lead.divided_by(frame).map_or(0, Rational::ceil);
    Origin { at: zero - frame * Rational::whole(frames), lead_frames: frames, sound_cut: Rational::ZERO }
}
