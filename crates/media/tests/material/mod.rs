//! Pictures whose truth is known, drawn sample by sample and written without any codec.
#![allow(dead_code)]

use std::io::Write;
use std::path::{Path, PathBuf};

/// A picture of luma and two colour planes at half size, 8 bit.
#[derive(Clone, PartialEq, Eq)]
pub(crate) struct Picture {
    pub(crate) width: usize,
    pub(crate) height: usize,
    pub(crate) luma: Vec<u8>,
    pub(crate) cb: Vec<u8>,
    pub(crate) cr: Vec<u8>,
}

impl Picture {
    pub(crate) fn plain(width: usize, height: usize, luma: u8) -> Self {
        let colour = vec![128; width.div_ceil(2) * height.div_ceil(2)];
        Self { width, height, luma: vec![luma; width * height], cb: colour.clone(), cr: colour }
    }

    pub(crate) fn put(&mut self, x: usize, y: usize, luma: u8) {
        self.luma[y * self.width + x] = luma;
    }

    /// Each sample of luma made anew from its place and what it was.
    pub(crate) fn map(mut self, change: impl Fn(usize, usize, u8) -> u8) -> Self {
        for y in 0..self.height {
            for x in 0..self.width {
                let place = y * self.width + x;
                self.luma[place] = change(x, y, self.luma[place]);
            }
        }
        self
    }

    pub(crate) fn tinted(mut self, cb: u8, cr: u8) -> Self {
        self.cb.fill(cb);
        self.cr.fill(cr);
        self
    }

    /// Black but for the part inside.
    pub(crate) fn boxed(self, top: usize, bottom: usize, left: usize, right: usize) -> Self {
        let (width, height) = (self.width, self.height);
        let mut boxed = self.map(|x, y, luma| {
            let inside = y >= top && y < height - bottom && x >= left && x < width - right;
            if inside { luma } else { 16 }
        });
        let across = width.div_ceil(2);
        for place in 0..boxed.cb.len() {
            let (x, y) = (place % across * 2, place / across * 2);
            if y + 1 < top || y >= height - bottom || x + 1 < left || x >= width - right {
                (boxed.cb[place], boxed.cr[place]) = (128, 128);
            }
        }
        boxed
    }

    /// With noise of this standard deviation, different for each `seed`.
    pub(crate) fn noisy(mut self, deviation: f64, seed: u64) -> Self {
        let mut noise = Noise::new(seed);
        for luma in &mut self.luma {
            *luma = (f64::from(*luma) + noise.normal() * deviation).round().clamp(0.0, 255.0) as u8;
        }
        self
    }
}

/// Numbers that look random and are always the same (Steele et al., SplitMix64).
pub(crate) struct Noise(u64);

impl Noise {
    pub(crate) fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ 0xBEEF)
    }

    pub(crate) fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        mixed ^ (mixed >> 31)
    }

    /// About a normal distribution: the sum of twelve even ones.
    pub(crate) fn normal(&mut self) -> f64 {
        let mut sum = 0.0;
        for _ in 0..3 {
            let bits = self.next();
            for part in 0..4 {
                sum += ((bits >> (16 * part)) & 0xFFFF) as f64 / 65_535.0;
            }
        }
        sum - 6.0
    }
}

pub(crate) const WIDTH: usize = 352;
pub(crate) const HEIGHT: usize = 240;

/// A lively scene at a moment in seconds: a textured ground, two discs and a swinging bar.
pub(crate) fn lively(time: f64) -> Picture {
    lively_of(WIDTH, HEIGHT, time)
}

pub(crate) fn lively_of(width: usize, height: usize, time: f64) -> Picture {
    let mut picture = ground(width, height);
    let (wide, high) = (width as f64, height as f64);
    let across = wide * (0.5 + 0.38 * (time * 2.3).sin());
    disc(&mut picture, across, high * (0.5 + 0.3 * (time * 1.7).cos()), high * 0.16, 210);
    disc(&mut picture, wide * (0.5 - 0.4 * (time * 1.1).cos()), high * 0.7, high * 0.1, 40);
    let bar = wide * (0.5 + 0.45 * (time * 1.9 + 1.0).sin());
    let half = high * 0.025;
    picture.map(|x, y, luma| {
        let inside = (x as f64 - bar).abs() < half && y > height / 10 && y < height * 6 / 10;
        if inside { 230 } else { luma }
    })
}

/// A still ground with soft detail.
pub(crate) fn ground(width: usize, height: usize) -> Picture {
    let mut picture = Picture::plain(width, height, 0).map(|x, y, _| {
        let wave = (x as f64 * 0.11).sin() * 12.0 + (y as f64 * 0.07 + x as f64 * 0.02).cos() * 14.0;
        (96.0 + wave + 50.0 * y as f64 / height as f64).round() as u8
    });
    let across = width.div_ceil(2);
    for place in 0..picture.cb.len() {
        let (x, y) = (place % across, place / across);
        picture.cb[place] = (128.0 + (x as f64 * 0.05).sin() * 24.0).round() as u8;
        picture.cr[place] = (128.0 + (y as f64 * 0.06).cos() * 24.0).round() as u8;
    }
    picture
}

/// A soft-edged disc.
pub(crate) fn disc(picture: &mut Picture, x: f64, y: f64, radius: f64, luma: u8) {
    for row in 0..picture.height {
        for column in 0..picture.width {
            let distance = ((column as f64 - x).powi(2) + (row as f64 - y).powi(2)).sqrt();
            let share = (radius - distance + 0.5).clamp(0.0, 1.0);
            if share > 0.0 {
                let place = row * picture.width + column;
                let mixed = f64::from(picture.luma[place]) * (1.0 - share) + f64::from(luma) * share;
                picture.luma[place] = mixed.round() as u8;
            }
        }
    }
}

/// The even lines of one picture and the odd lines of another.
pub(crate) fn weave(top: &Picture, bottom: &Picture) -> Picture {
    let mut woven = top.clone();
    let mut take = |of: fn(&mut Picture) -> &mut Vec<u8>, from: &Vec<u8>, width: usize| {
        for (line, (to, from)) in of(&mut woven).chunks_mut(width).zip(from.chunks(width)).enumerate() {
            if line % 2 == 1 {
                to.copy_from_slice(from);
            }
        }
    };
    take(|picture| &mut picture.luma, &bottom.luma, bottom.width);
    take(|picture| &mut picture.cb, &bottom.cb, bottom.width.div_ceil(2));
    take(|picture| &mut picture.cr, &bottom.cr, bottom.width.div_ceil(2));
    woven
}

/// Which field comes first.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum First {
    Top,
    Bottom,
}

/// A frame of two fields in the order of time.
pub(crate) fn frame_of(early: &Picture, late: &Picture, first: First) -> Picture {
    match first {
        First::Top => weave(early, late),
        First::Bottom => weave(late, early),
    }
}

/// Interlaced video: each field shows a moment of its own.
pub(crate) fn interlaced(frames: usize, rate: f64, first: First, scene: impl Fn(f64) -> Picture) -> Vec<Picture> {
    (0..frames)
        .map(|frame| {
            let time = frame as f64 / rate;
            frame_of(&scene(time), &scene(time + 0.5 / rate), first)
        })
        .collect()
}

/// Whole frames.
pub(crate) fn progressive(frames: usize, rate: f64, scene: impl Fn(f64) -> Picture) -> Vec<Picture> {
    (0..frames).map(|frame| scene(frame as f64 / rate)).collect()
}

/// How many fields each film frame lasts, over and over.
pub(crate) const THREE_TWO: &[usize] = &[3, 2];
pub(crate) const TWO_THREE_THREE_TWO: &[usize] = &[2, 3, 3, 2];
pub(crate) const TWO_TWO: &[usize] = &[2];

/// Film laid out over fields, `skip` fields left out at the beginning, and joined to frames.
pub(crate) fn telecined(film: &[Picture], pattern: &[usize], skip: usize, first: First) -> Vec<Picture> {
    let fields: Vec<usize> = (0..film.len()).flat_map(|frame| vec![frame; pattern[frame % pattern.len()]]).skip(skip).collect();
    fields.chunks_exact(2).map(|pair| frame_of(&film[pair[0]], &film[pair[1]], first)).collect()
}

/// Writes pictures as YUV4MPEG2; `fields` is its letter for them: p, t or b.
pub(crate) fn write(path: &Path, pictures: &[Picture], rate: (u32, u32), fields: char, extra: &str) -> PathBuf {
    let mut file = std::io::BufWriter::new(std::fs::File::create(path).unwrap());
    let (width, height) = (pictures[0].width, pictures[0].height);
    writeln!(file, "YUV4MPEG2 W{width} H{height} F{}:{} I{fields} A1:1 C420mpeg2{extra}", rate.0, rate.1).unwrap();
    for picture in pictures {
        file.write_all(b"FRAME\n").unwrap();
        for plane in [&picture.luma, &picture.cb, &picture.cr] {
            file.write_all(plane).unwrap();
        }
    }
    file.flush().unwrap();
    path.to_path_buf()
}

/// Quiet and busy stretches in turn, one with grain, with a cut every few seconds.
pub(crate) fn film_of_shots(frames: usize) -> Vec<Picture> {
    let scene = |frame: usize| {
        let shot = frame / 90;
        let time = frame as f64 / 25.0;
        let picture = lively(shot as f64 * 13.7 + (time - shot as f64 * 3.6) * [0.3, 1.0, 1.6][shot % 3]);
        let grain = [0.0, 2.0, 4.0, 1.0][shot % 4];
        if grain > 0.0 { picture.noisy(grain, frame as u64) } else { picture }
    };
    (0..frames).map(scene).collect()
}

/// PCM of so many bits as WAVE_FORMAT_EXTENSIBLE, from its bytes: `mask` has a bit for each speaker, or none.
pub(crate) fn wave(channels: u16, mask: u32, rate: u32, bits: u16, data: &[u8]) -> Vec<u8> {
    let align = channels * bits / 8;
    let mut bytes = b"RIFF".to_vec();
    bytes.extend((60 + data.len() as u32).to_le_bytes());
    bytes.extend(b"WAVEfmt ");
    bytes.extend(40_u32.to_le_bytes());
    bytes.extend(0xFFFE_u16.to_le_bytes());
    bytes.extend(channels.to_le_bytes());
    bytes.extend(rate.to_le_bytes());
    bytes.extend((rate * u32::from(align)).to_le_bytes());
    bytes.extend(align.to_le_bytes());
    bytes.extend(bits.to_le_bytes());
    bytes.extend(22_u16.to_le_bytes());
    bytes.extend(bits.to_le_bytes());
    bytes.extend(mask.to_le_bytes());
    // PCM, as GUID.
    bytes.extend([1, 0, 0, 0, 0, 0, 0x10, 0, 0x80, 0, 0, 0xAA, 0, 0x38, 0x9B, 0x71]);
    bytes.extend(b"data");
    bytes.extend((data.len() as u32).to_le_bytes());
    bytes.extend(data);
    bytes
}
