//! FFV1 (RFC 9043).

use super::{Coding, Options};

/// Version 3 with checksums in slices, as archives want it, every frame by itself, coded by the range coder, which takes
/// fewer bits than the other.
pub(super) fn set(Coding { plan, .. }: Coding<'_>, options: &mut Options) {
    let pixels = u64::from(plan.width) * u64::from(plan.height);
    // As many as can be worked on side by side, while each is large enough to learn from.
    let slices = match pixels {
        0..100_000 => 4,
        100_000..700_000 => 9,
        700_000..4_000_000 => 16,
        _ => 30,
    };
    for (name, value) in [("level", 3), ("g", 1), ("slices", slices), ("slicecrc", 1), ("coder", 1)] {
        options.set(name, value);
    }
}
