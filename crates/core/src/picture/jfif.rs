//! Codes of JPEG files (ITU-T T.871), which have the matrix of BT.601 in the full range, from those of BT.709.
//!
//! Grey has no colour in either, so colour becomes colour whatever luma is, and luma gets a part of colour: sums of
//! products, far cheaper than the way by red, green and blue, and good where four pixels share their colour.

/// Weights of red and blue in luma: BT.709 and BT.601.
const REC709: [f64; 2] = [0.2126, 0.0722];
const REC601: [f64; 2] = [0.299, 0.114];

/// Bits behind the point.
const BITS: u32 = 14;
const HALF: i32 = 1 << (BITS - 1);

/// Brings lines of 8 bit from one matrix to the other, in place.
#[derive(Debug, Clone, Copy)]
pub struct ToJfif {
    /// What luma gets of blue difference and red difference.
    luma: [i32; 2],
    /// What blue difference and red difference get of both.
    colour: [[i32; 2]; 2],
}

impl Default for ToJfif {
    fn default() -> Self {
        let [red, blue] = REC709;
        let green = 1.0 - red - blue;
        let (to_red, to_blue) = (REC601[0], REC601[1]);
        let to_green = 1.0 - to_red - to_blue;
        // What red, green and blue have of each difference (ITU-R BT.709, solved for them).
        let of_blue = [0.0, -2.0 * blue * (1.0 - blue) / green, 2.0 * (1.0 - blue)];
        let of_red = [2.0 * (1.0 - red), -2.0 * red * (1.0 - red) / green, 0.0];
        #[allow(clippy::cast_possible_truncation)]
        let fixed = |part: f64| (part * f64::from(1 << BITS)).round() as i32;
        let luma = [of_blue, of_red].map(|[r, g, b]| to_red * r + to_green * g + to_blue * b);
        let [from_blue, from_red] = [(of_blue, luma[0]), (of_red, luma[1])]
            .map(|([r, _, b], luma)| [(b - luma) / (2.0 * (1.0 - to_blue)), (r - luma) / (2.0 * (1.0 - to_red))].map(fixed));
        Self { luma: luma.map(fixed), colour: [[from_blue[0], from_red[0]], [from_blue[1], from_red[1]]] }
    }
}

impl ToJfif {
    /// A line of luma, two pixels to each of the samples of colour as they were.
    pub fn bring_luma(&self, luma: &mut [u8], blue: &[u8], red: &[u8]) {
        for ((pair, blue), red) in luma.chunks_mut(2).zip(blue).zip(red) {
            let more = (self.luma[0] * (i32::from(*blue) - 128) + self.luma[1] * (i32::from(*red) - 128) + HALF) >> BITS;
            for code in pair {
                *code = clamped(i32::from(*code) + more);
            }
        }
    }

    /// A line of both differences.
    pub fn bring_colour(&self, blue: &mut [u8], red: &mut [u8]) {
        for (blue, red) in blue.iter_mut().zip(red) {
            let from = [i32::from(*blue) - 128, i32::from(*red) - 128];
            let [to_blue, to_red] = self.colour.map(|[of_blue, of_red]| (of_blue * from[0] + of_red * from[1] + HALF) >> BITS);
            (*blue, *red) = (clamped(to_blue + 128), clamped(to_red + 128));
        }
    }
}

#[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
const fn clamped(code: i32) -> u8 {
    if code < 0 {
        0
    } else if code > 255 {
        255
    } else {
        code as u8
    }
}
