//! Splines through six points, by which samples are found between others: a cubic one over three lobes on each side,
//! which keeps ramps straight and rings little.

/// How much a sample counts at this distance, in samples.
#[must_use]
pub fn weight(distance: f64) -> f64 {
    let x = distance.abs();
    if x < 1.0 {
        ((13.0 / 11.0 * x - 453.0 / 209.0) * x - 3.0 / 209.0) * x + 1.0
    } else if x < 2.0 {
        let x = x - 1.0;
        ((-6.0 / 11.0 * x + 270.0 / 209.0) * x - 156.0 / 209.0) * x
    } else if x < 3.0 {
        let x = x - 2.0;
        ((1.0 / 11.0 * x - 45.0 / 209.0) * x + 26.0 / 209.0) * x
    } else {
        0.0
    }
}

/// The samples that count at a place between `count` of them, and how much each does: all together 1. Where fewer are
/// drawn than there are, `wider` says how many of them one stands for. What lies outside is mirrored.
#[must_use]
#[allow(clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]
pub fn taps(at: f64, wider: f64, count: usize) -> Vec<(usize, f32)> {
    let last = count.max(1) as i64 - 1;
    let inside = |place: i64| {
        let mirrored = if place < 0 {
            -1 - place
        } else if place > last {
            2 * last + 1 - place
        } else {
            place
        };
        mirrored.clamp(0, last) as usize
    };
    let reach = 3.0 * wider;
    let all: Vec<(i64, f64)> = ((at - reach).floor() as i64..=(at + reach).ceil() as i64)
        .map(|place| (place, weight((place as f64 - at) / wider)))
        .filter(|(_, weight)| *weight != 0.0)
        .collect();
    let sum: f64 = all.iter().map(|(_, weight)| weight).sum();
    all.into_iter().map(|(place, weight)| (inside(place), (weight / sum) as f32)).collect()
}
