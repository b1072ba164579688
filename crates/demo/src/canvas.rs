//! A canvas to draw on: shapes, gradients and small text.

use tiny_skia::{
    Color, FillRule, GradientStop, Paint, PathBuilder, Pixmap, Point, RadialGradient, Rect, Shader, SpreadMode, Stroke, Transform,
};

/// A colour: red, green, blue and opacity from 0 to 1.
pub type Ink = (f32, f32, f32, f32);

/// A picture being drawn. Positions are parts of its height, so that a scene fits any size:
/// y runs from 0 to 1, x from 0 to the aspect.
pub struct Canvas {
    pixels: Pixmap,
    unit: f32,
    stretch: f32,
}

fn colour((red, green, blue, opacity): Ink) -> Color {
    let part = |value: f32| value.clamp(0.0, 1.0);
    Color::from_rgba(part(red), part(green), part(blue), part(opacity)).unwrap_or(Color::BLACK)
}

fn paint(ink: Ink) -> Paint<'static> {
    Paint { shader: Shader::SolidColor(colour(ink)), anti_alias: true, ..Paint::default() }
}

impl Canvas {
    /// A canvas of so many pixels, seen with this aspect (which differs from the pixels' own where
    /// pixels are not square).
    ///
    /// # Panics
    /// Where a side is nought.
    #[must_use]
    pub fn new(width: u32, height: u32, aspect: f32) -> Self {
        let pixels = Pixmap::new(width, height).expect("a canvas has pixels");
        Self { pixels, unit: height as f32, stretch: width as f32 / (height as f32 * aspect) }
    }

    /// Width over height as seen.
    #[must_use]
    pub fn aspect(&self) -> f32 {
        self.pixels.width() as f32 / (self.unit * self.stretch)
    }

    fn to_pixels(&self) -> Transform {
        Transform::from_scale(self.unit * self.stretch, self.unit)
    }

    /// The whole ground, from the colour at the top to the one at the bottom.
    pub fn ground(&mut self, top: Ink, bottom: Ink) {
        let width = self.pixels.width() as usize;
        let height = self.unit;
        let mix = |top: f32, bottom: f32, part: f32| top + (bottom - top) * part;
        for (row, line) in self.pixels.pixels_mut().chunks_exact_mut(width).enumerate() {
            let part = row as f32 / height;
            let mixed = (mix(top.0, bottom.0, part), mix(top.1, bottom.1, part), mix(top.2, bottom.2, part), 1.0);
            line.fill(colour(mixed).premultiply().to_color_u8());
        }
    }

    fn fill_rect(&mut self, x: f32, y: f32, width: f32, height: f32, shader: Shader<'static>) {
        let paint = Paint { shader, anti_alias: true, ..Paint::default() };
        if let Some(rect) = Rect::from_xywh(x, y, width, height) {
            self.pixels.fill_rect(rect, &paint, self.to_pixels(), None);
        }
    }

    /// A rectangle.
    pub fn rect(&mut self, x: f32, y: f32, width: f32, height: f32, ink: Ink) {
        self.fill_rect(x, y, width, height, Shader::SolidColor(colour(ink)));
    }

    /// An ellipse.
    pub fn oval(&mut self, x: f32, y: f32, across: f32, down: f32, ink: Ink) {
        let Some(rect) = Rect::from_xywh(x - across, y - down, across * 2.0, down * 2.0) else { return };
        if let Some(path) = PathBuilder::from_oval(rect) {
            self.pixels.fill_path(&path, &paint(ink), FillRule::Winding, self.to_pixels(), None);
        }
    }

    /// A glow that fades out from its middle.
    pub fn glow(&mut self, x: f32, y: f32, radius: f32, ink: Ink) {
        let stops = vec![GradientStop::new(0.0, colour(ink)), GradientStop::new(1.0, colour((ink.0, ink.1, ink.2, 0.0)))];
        let middle = Point::from_xy(x, y);
        let shader = RadialGradient::new(middle, 0.0, middle, radius, stops, SpreadMode::Pad, Transform::identity());
        if let Some(shader) = shader {
            self.fill_rect(x - radius, y - radius, radius * 2.0, radius * 2.0, shader);
        }
    }

    /// A closed shape.
    pub fn shape(&mut self, points: &[(f32, f32)], ink: Ink) {
        if let Some(path) = polyline(points, true) {
            self.pixels.fill_path(&path, &paint(ink), FillRule::Winding, self.to_pixels(), None);
        }
    }

    /// A line through points.
    pub fn line(&mut self, points: &[(f32, f32)], width: f32, ink: Ink) {
        if let Some(path) = polyline(points, false) {
            let stroke = Stroke { width, line_cap: tiny_skia::LineCap::Round, ..Stroke::default() };
            self.pixels.stroke_path(&path, &paint(ink), &stroke, self.to_pixels(), None);
        }
    }

    /// A line of text in a plain face of eight by eight points.
    pub fn text(&mut self, x: f32, y: f32, size: f32, text: &str, ink: Ink) {
        use font8x8::UnicodeFonts;
        let point = size / 8.0;
        for (place, character) in text.chars().enumerate() {
            let Some(rows) = font8x8::BASIC_FONTS.get(character).or_else(|| font8x8::LATIN_FONTS.get(character)) else {
                continue;
            };
            for (row, bits) in rows.iter().enumerate() {
                for column in (0..8).filter(|column| bits >> column & 1 == 1) {
                    self.rect(x + (place as f32 * 8.0 + column as f32) * point, y + row as f32 * point, point, point, ink);
                }
            }
        }
    }

    /// The pixels as RGB bytes.
    #[must_use]
    pub fn rgb(&self) -> Vec<u8> {
        let mut rgb = vec![0; self.pixels.data().len() / 4 * 3];
        for (to, from) in rgb.chunks_exact_mut(3).zip(self.pixels.data().chunks_exact(4)) {
            to.copy_from_slice(&from[..3]);
        }
        rgb
    }
}

fn polyline(points: &[(f32, f32)], closed: bool) -> Option<tiny_skia::Path> {
    let mut path = PathBuilder::new();
    let (first, rest) = points.split_first()?;
    path.move_to(first.0, first.1);
    for point in rest {
        path.line_to(point.0, point.1);
    }
    if closed {
        path.close();
    }
    path.finish()
}

/// A number from 0 to 1 that looks random and is the same for the same seed.
#[must_use]
pub fn chance(seed: u32) -> f32 {
    let mut value = seed.wrapping_mul(0x9E37_79B9) ^ 0x85EB_CA6B;
    value = (value ^ (value >> 16)).wrapping_mul(0x7FEB_352D);
    value = (value ^ (value >> 15)).wrapping_mul(0x846C_A68B);
    (value ^ (value >> 16)) as f32 / u32::MAX as f32
}

/// Adds grain to RGB bytes, different for every frame.
pub fn grain(rgb: &mut [u8], strength: f32, frame: u32) {
    let mut state = frame.wrapping_mul(0x9E37_79B9) | 1;
    for pixel in rgb.chunks_exact_mut(3) {
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
        let noise = ((state >> 8 & 0xFF) as f32 / 255.0 - 0.5) * strength;
        for part in pixel {
            // Kept between 0 and 255.
            #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
            let changed = (f32::from(*part) + noise).clamp(0.0, 255.0) as u8;
            *part = changed;
        }
    }
}
