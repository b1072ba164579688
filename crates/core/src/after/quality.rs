//! How near an encoded picture comes to the one it was made from.
//!
//! SSIM is the structural similarity of Wang, Bovik, Sheikh and Simoncelli (2004), over all planes: 1 is
//! the same picture. PSNR is the peak signal-to-noise ratio over all planes in dB.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The PSNR that stands for pictures without any difference, in dB.
pub const IDENTICAL: f64 = 100.0;

/// How near one frame comes.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FrameQuality {
    /// Milliseconds from the first frame.
    pub at: i64,
    /// Structural similarity, at most 1.
    pub ssim: f64,
    /// Decibels, at most 100.
    pub psnr: f64,
}

/// How near a file comes as a whole.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, ToSchema)]
pub struct Quality {
    /// The mean structural similarity.
    pub ssim: f64,
    /// The least of any frame.
    pub least_ssim: f64,
    /// The PSNR of the mean error.
    pub psnr: f64,
    /// Places of the frames at which the curve is lowest, the worst first, each in a valley of its own.
    pub valleys: Vec<usize>,
}

/// How near a file comes, frame by frame and as a whole.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, ToSchema)]
pub struct Comparison {
    /// Each frame.
    pub frames: Vec<FrameQuality>,
    /// All of them.
    #[serde(flatten)]
    pub quality: Quality,
}

/// So many valleys are named.
const MOST_VALLEYS: usize = 5;
/// Frames between two valleys at least.
const VALLEY_WIDTH: usize = 12;

impl Quality {
    /// What these frames come to.
    #[must_use]
    pub fn of(frames: &[FrameQuality]) -> Self {
        let count = frames.len().max(1) as f64;
        let error = frames.iter().map(|frame| 10_f64.powf(-frame.psnr / 10.0)).sum::<f64>() / count;
        let psnr = if frames.is_empty() { 0.0 } else { (-10.0 * error.log10()).min(IDENTICAL) };
        Self {
            ssim: frames.iter().map(|frame| frame.ssim).sum::<f64>() / count,
            least_ssim: frames.iter().map(|frame| frame.ssim).fold(f64::INFINITY, f64::min).min(1.0),
            psnr,
            valleys: valleys(frames),
        }
    }
}

impl Comparison {
    /// What comes of these frames.
    #[must_use]
    pub fn of(frames: Vec<FrameQuality>) -> Self {
        Self { quality: Quality::of(&frames), frames }
    }

    /// “SSIM 0.9871 (least 0.9630), PSNR 41.2 dB”.
    #[must_use]
    pub fn words(&self) -> String {
        if self.frames.iter().all(|frame| frame.psnr >= IDENTICAL) {
            return "every frame is the same to the bit".to_owned();
        }
        let Quality { ssim, least_ssim, psnr, .. } = self.quality;
        format!("SSIM {ssim:.4} (least {least_ssim:.4}), PSNR {psnr:.1} dB")
    }
}

fn valleys(frames: &[FrameQuality]) -> Vec<usize> {
    let mut order: Vec<usize> = (0..frames.len()).filter(|place| frames[*place].ssim < 1.0).collect();
    order.sort_by(|one, other| frames[*one].ssim.total_cmp(&frames[*other].ssim));
    let mut found: Vec<usize> = Vec::new();
    for place in order {
        if found.len() == MOST_VALLEYS {
            break;
        }
        if found.iter().all(|other| other.abs_diff(place) >= VALLEY_WIDTH) {
            found.push(place);
        }
    }
    found
}
