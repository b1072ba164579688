//! Every step that gives other samples, held against a model of it in double precision: over ramps, zone plates and
//! colour bars, both ranges, every matrix, every place of colour.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

#[path = "reference/model.rs"]
mod model;

use std::io::Write as _;
use std::path::Path;

use beryl_core::facts::Content;
use beryl_core::picture::{ChromaSite, FieldOrder, MatrixCoefficients, Range, Transfer};
use beryl_core::plan::{Plan, Step, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::protocol::{FileRef, SourceRef};
use beryl_core::reading::Reading;
use beryl_media::{pictures_behind, probe};
use model::{Levels, Model, between, from_rgb, levels, light, signal, site, to_rgb};
use serde_json::{Value, json};

const WIDTH: usize = 96;
const HEIGHT: usize = 64;

/// What is drawn: luma and both differences as signals, of which colour lies within what red, green and blue can be.
type Drawing = fn(f64, f64) -> [f64; 3];

fn ramp(across: f64, down: f64) -> [f64; 3] {
    [across, 0.4 * (down - 0.5), 0.4 * (across - 0.5)]
}

fn zone_plate(across: f64, down: f64) -> [f64; 3] {
    let (x, y) = ((across - 0.5) * 9.0, (down - 0.5) * 6.0);
    let wave = |phase: f64| ((x * x + y * y) * 1.1 + phase).cos();
    [0.5 + 0.4 * wave(0.0), 0.2 * wave(1.0), 0.2 * wave(2.0)]
}

fn bars(across: f64, _: f64) -> [f64; 3] {
    let place = (across * 8.0).floor() as usize;
    let on = |bit: usize| if (7 - place.min(7)) & bit == 0 { 0.0 } else { 0.75 };
    from_rgb("bt709", [on(2), on(4), on(1)])
}

const DRAWINGS: [(&str, Drawing); 3] = [("ramp", ramp), ("zone plate", zone_plate), ("bars", bars)];

/// How a source is stored.
#[derive(Clone, Copy)]
struct Stored {
    sampling: (usize, usize),
    depth: u32,
    full: bool,
    site: &'static str,
    space: [&'static str; 3],
}

const PLAIN: Stored = Stored { sampling: (2, 2), depth: 10, full: false, site: "left", space: ["bt709", "bt709", "bt709"] };

impl Stored {
    fn levels(&self) -> Levels {
        levels(self.depth, self.full)
    }

    /// The codes of a drawing. Colour is drawn where it is stored to lie, so that a step that moves it is seen to.
    fn draw(&self, drawing: Drawing) -> Vec<Vec<u16>> {
        let (across, down) = site(self.site);
        let plane = |number: usize| {
            let (columns, lines) = if number == 0 { (1, 1) } else { self.sampling };
            let middle =
                |shared: usize, place: Option<f64>| if shared > 1 { place.unwrap_or((shared as f64 - 1.0) / 2.0) } else { 0.0 };
            let (right, below) = (middle(columns, across), middle(lines, down));
            let mut codes = Vec::new();
            for row in 0..HEIGHT / lines {
                for column in 0..WIDTH / columns {
                    let x = (column * columns) as f64 + right + 0.5;
                    let y = (row * lines) as f64 + below + 0.5;
                    codes.push(self.levels().codes(drawing(x / WIDTH as f64, y / HEIGHT as f64))[number].round() as u16);
                }
            }
            codes
        };
        vec![plane(0), plane(1), plane(2)]
    }

    fn write(&self, path: &Path, pictures: &[Vec<Vec<u16>>], fields: char) {
        let mut out = std::io::BufWriter::new(std::fs::File::create(path).unwrap());
        let sampling = match self.sampling {
            (1, 1) => "444",
            (2, 1) => "422",
            (2, 2) => "420",
            (4, 1) => "411",
            other => panic!("{other:?}"),
        };
        let depth = if self.depth > 8 { format!("p{}", self.depth) } else { String::new() };
        writeln!(out, "YUV4MPEG2 W{WIDTH} H{HEIGHT} F25:1 I{fields} A1:1 C{sampling}{depth}").unwrap();
        for picture in pictures {
            out.write_all(b"FRAME\n").unwrap();
            for code in picture.iter().flatten() {
                let bytes = code.to_le_bytes();
                out.write_all(if self.depth > 8 { &bytes[..] } else { &bytes[..1] }).unwrap();
            }
        }
    }

    /// What is read of such a file that says what its codes mean.
    fn reading(&self, source: &SourceRef, fields: FieldOrder) -> Reading {
        let mut reading = probe(source).unwrap();
        for stream in &mut reading.facts.streams {
            if let Content::Picture(picture) = &mut stream.content {
                let [primaries, transfer, matrix] = self.space;
                let range = Range::of(self.full).word();
                let tags = json!({
                    "primaries": primaries, "transfer": transfer, "matrix": matrix, "range": range, "chroma_location": self.site,
                });
                picture.colour = serde_json::from_value(tags).unwrap();
                picture.field_order = fields;
            }
        }
        reading
    }
}

fn planned(reading: &Reading, picture: Value) -> Plan {
    let mut patch = json!({
        "container": "mkv", "sound": null,
        "picture": { "codec": "ffv1", "rate": { "mode": "by_profile" }, "size": { "rule": "same" }, "pixel_aspect": "keep" },
    });
    json_patch::merge(&mut patch, &json!({ "picture": picture }));
    plan(reading, &builtin("web-1080").unwrap(), &patch).unwrap()
}

/// What comes behind the steps of such an output, and its plan.
fn made(stored: Stored, drawing: Drawing, picture: &Value) -> (Model, Vec<Vec<u16>>, Plan) {
    let folder = tempfile::tempdir().unwrap();
    let codes = stored.draw(drawing);
    stored.write(&folder.path().join("drawn.y4m"), std::slice::from_ref(&codes), 'p');
    let source = SourceRef::of(FileRef::within(folder.path().display().to_string(), "drawn.y4m".parse().unwrap()));
    let plan = planned(&stored.reading(&source, FieldOrder::Progressive), picture.clone());
    let made = pictures_behind(&source, plan.steps()).unwrap().pop().unwrap();
    (Model::of(&codes, (WIDTH, HEIGHT), stored.sampling), made, plan)
}

/// The largest errors of each step, in codes of the output, and the worst of all that are too large.
#[derive(Default)]
struct Table {
    rows: Vec<(String, [f64; 2])>,
}

impl Table {
    /// Distances are in codes of the output, which has no more than 10 bits.
    fn add(&mut self, step: String, distance: [f64; 2]) {
        match self.rows.iter_mut().find(|(known, _)| *known == step) {
            Some((_, worst)) => *worst = [0, 1].map(|place| worst[place].max(distance[place])),
            None => self.rows.push((step, distance)),
        }
    }

    /// Prints what was seen; fails where a step is off by more than one code.
    fn judge(&self) {
        for (step, [luma, colour]) in &self.rows {
            println!("{step:60} luma {luma:5.2}  colour {colour:5.2}");
        }
        let wrong: Vec<_> = self.rows.iter().filter(|(_, [luma, colour])| *luma > 1.0 || *colour > 1.0).collect();
        assert!(wrong.is_empty(), "off by more than one code: {wrong:#?}");
    }
}

const SITES: [&str; 6] = ["left", "center", "topleft", "top", "bottomleft", "bottom"];

#[test]
fn pictures_are_drawn_at_other_sizes_where_every_sample_lies() {
    let mut table = Table::default();
    let sizes = [(48, 32), (144, 96), (72, 48), (60, 40), (192, 128)];
    for (name, drawing) in DRAWINGS {
        for (width, height) in sizes {
            let size = json!({ "size": { "rule": "fit", "width": width, "height": height, "enlarge": true }, "colour": { "range": "same" } });
            for full in [false, true] {
                let samplings = [(1, 1), (2, 1), (4, 1)].map(|sampling| (sampling, "left"));
                for (sampling, site_word) in samplings.into_iter().chain(SITES.map(|site| ((2, 2), site))) {
                    let depth = if sampling == (4, 1) { 8 } else { 10 };
                    let stored = Stored { sampling, full, depth, site: site_word, ..PLAIN };
                    let (model, made, plan) = made(stored, drawing, &size);
                    let wanted = model.resampled((width, height), site(site_word), sampling, site(site_word));
                    let limit = f64::from((1_u32 << depth) - 1);
                    let wanted = Model {
                        planes: wanted.planes.map(|plane| plane.into_iter().map(|code| code.clamp(0.0, limit)).collect()),
                        ..wanted
                    };
                    let colour = &plan.picture.as_ref().unwrap().colour;
                    assert_eq!(colour.range, Some(Range::of(full)), "what is full stays full");
                    table.add(format!("{name} to {width}×{height}, {sampling:?}"), wanted.distance(&made));
                }
            }
        }
    }
    table.judge();
}

#[test]
fn colour_is_shared_otherwise_without_moving() {
    let mut table = Table::default();
    let high422 = json!({ "codec": "h264", "profile": "high422", "rate": { "mode": "constant_quality", "crf": 20 } });
    let main10 = json!({ "codec": "hevc", "profile": "main10", "rate": { "mode": "constant_quality", "crf": 20 } });
    let prores444 = json!({ "codec": "prores", "profile": "4444" });
    for (name, drawing) in DRAWINGS {
        for (kind, sampling) in [(&high422, (2, 1)), (&main10, (2, 2)), (&prores444, (1, 1))] {
            let from_420 = SITES.map(|site| ((2, 2), site));
            for (from, site_word) in from_420.into_iter().chain([((2, 1), "left"), ((1, 1), "left")]) {
                let mut picture = kind.clone();
                json_patch::merge(&mut picture, &json!({ "colour": { "dynamic_range": "keep" } }));
                let stored = Stored { sampling: from, site: site_word, ..PLAIN };
                let (model, made, plan) = made(stored, drawing, &picture);
                let told = plan.picture.as_ref().unwrap().colour.chroma_location.map(ChromaSite::word);
                let to = if sampling == (2, 2) { site(told.unwrap()) } else { site("left") };
                if from == (2, 2) && sampling == (2, 2) {
                    assert_eq!(told, Some(site_word), "it stays where it is");
                }
                let to = if sampling == (2, 1) && site(site_word).0.is_none() && from == (2, 2) { site("left") } else { to };
                let wanted = model.resampled((WIDTH, HEIGHT), site(site_word), sampling, to);
                table.add(format!("{name} {from:?} to {sampling:?}"), wanted.distance(&made));
            }
        }
    }
    table.judge();
}

#[test]
fn ranges_matrices_transfers_and_primaries_become_what_is_asked_for() {
    let mut table = Table::default();
    let stored = Stored { sampling: (1, 1), ..PLAIN };
    let to_709 = json!({ "colour": { "space": "rec709", "range": "limited" } });
    let targets = [("rec709", "bt709", "bt709"), ("rec601_625", "bt470bg", "bt470bg"), ("rec601_525", "smpte170m", "smpte170m")];
    for (name, drawing) in DRAWINGS {
        for full in [false, true] {
            for wanted in [false, true] {
                let range = json!({ "colour": { "range": if wanted { "full" } else { "limited" } } });
                let (model, made, _) = made(Stored { full, ..stored }, drawing, &range);
                let model = model.each(|codes| levels(10, wanted).codes(levels(10, full).signal(codes)));
                table.add(format!("{name} range {full} to {wanted}"), model.distance(&made));
            }
        }
        for matrix in ["bt709", "fcc", "bt470bg", "smpte170m", "smpte240m", "bt2020nc", "ycgco"] {
            for (space, _, to) in targets {
                let picture = json!({ "colour": { "space": space } });
                // Primaries as those that are asked for, so that the matrix alone changes.
                let primaries = targets.iter().find(|(name, ..)| *name == space).unwrap().1;
                let transfer = if space == "rec709" { "bt709" } else { "smpte170m" };
                let (model, made, plan) = made(Stored { space: [primaries, transfer, matrix], ..stored }, drawing, &picture);
                let wanted = model.each(|codes| {
                    let range = levels(10, false);
                    let codes = range.codes(from_rgb(to, to_rgb(matrix, range.signal(codes))));
                    codes.map(|code| code.clamp(0.0, 1023.0))
                });
                assert_eq!(plan.picture.as_ref().unwrap().colour.matrix.map(MatrixCoefficients::word), Some(to));
                table.add(format!("{name} matrix {matrix} to {to}"), wanted.distance(&made));
            }
        }
        let spaces = [
            ["bt709", "bt470m", "bt709"],
            ["bt709", "bt470bg", "bt709"],
            ["bt709", "iec61966-2-1", "bt709"],
            ["bt709", "linear", "bt709"],
            ["bt709", "smpte240m", "bt709"],
            ["bt470m", "bt709", "bt709"],
            ["bt470bg", "bt709", "bt470bg"],
            ["smpte170m", "smpte170m", "smpte170m"],
            ["film", "bt709", "bt709"],
            ["bt2020", "bt2020-10", "bt2020nc"],
            ["smpte432", "bt709", "bt709"],
        ];
        for space in spaces {
            let [primaries, transfer, matrix] = space;
            let (model, made, plan) = made(Stored { space, ..stored }, drawing, &to_709);
            let change = between(primaries, "bt709");
            let range = levels(10, false);
            let wanted = model.each(|codes| {
                let shown = change(to_rgb(matrix, range.signal(codes)).map(|part| light(transfer, part)));
                range.codes(from_rgb("bt709", shown.map(signal))).map(|code| code.clamp(0.0, 1023.0))
            });
            let told = plan.picture.as_ref().unwrap().colour.transfer;
            let is_same = transfer == "bt470bg";
            let wanted = if is_same { model } else { wanted };
            assert!(told == Some(Transfer::Bt709) || is_same, "{told:?}");
            table.add(format!("{name} {space:?} to bt709"), wanted.distance(&made));
        }
    }
    table.judge();
}

#[test]
fn fields_are_brought_to_another_form_each_by_itself() {
    let folder = tempfile::tempdir().unwrap();
    let mut table = Table::default();
    for (name, drawing) in DRAWINGS {
        for depth in [8, 10] {
            let stored = Stored { depth, ..PLAIN };
            // Fields of two moments that have nothing in common.
            let (early, late) = (stored.draw(drawing), stored.draw(|across, down| zone_plate(1.0 - across, down)));
            let woven: Vec<Vec<u16>> = (0..3)
                .map(|plane| {
                    let wide = if plane == 0 { WIDTH } else { WIDTH / 2 };
                    let lines = early[plane].chunks(wide).zip(late[plane].chunks(wide)).enumerate();
                    lines.flat_map(|(line, (early, late))| if line % 2 == 0 { early } else { late }.to_vec()).collect()
                })
                .collect();
            stored.write(&folder.path().join("fields.y4m"), std::slice::from_ref(&woven), 't');
            let source = SourceRef::of(FileRef::within(folder.path().display().to_string(), "fields.y4m".parse().unwrap()));
            let picture = json!({ "codec": "prores", "profile": "hq", "fields": "keep" });
            let plan = planned(&stored.reading(&source, FieldOrder::TopFirst), picture);
            assert!(plan.picture.as_ref().unwrap().field_order.is_interlaced());
            let made = pictures_behind(&source, plan.steps()).unwrap().pop().unwrap();
            let model = Model::of(&woven, (WIDTH, HEIGHT), (2, 2));
            let finer = f64::from(1_u32 << (10 - depth));
            for lower in [0, 1] {
                let field = model.field(lower);
                // Each field has its colour a quarter of a line from the middle of the two that share it (H.273, figure 10).
                let below = if lower == 0 { 0.25 } else { 0.75 };
                let wanted = field.resampled((WIDTH, HEIGHT / 2), (Some(0.0), Some(below)), (2, 1), site("left"));
                let wanted =
                    Model { planes: wanted.planes.map(|plane| plane.into_iter().map(|code| code * finer).collect()), ..wanted };
                let lines = Model::of(&made, (WIDTH, HEIGHT), (2, 1)).field(lower);
                let lines = lines.planes.map(|plane| plane.iter().map(|code| *code as u16).collect::<Vec<_>>());
                table.add(format!("{name} fields {depth} bit 4:2:0 to 4:2:2, field {lower}"), wanted.distance(&lines));
            }
        }
    }
    table.judge();
}

/// The mean of each block of 8×8 samples.
fn block_means(plane: &[f64], width: usize) -> Vec<f64> {
    let blocks = (0..plane.len() / width / 8).flat_map(|row| (0..width / 8).map(move |column| (row * 8, column * 8)));
    let mean = |(row, column): (usize, usize)| {
        let places = (0..64).map(|place| (row + place / 8) * width + column + place % 8);
        places.map(|place| plane[place]).sum::<f64>() / 64.0
    };
    blocks.map(mean).collect()
}

#[test]
fn fewer_bits_leave_no_bands() {
    // A sky: eight codes of 8 bit from one side to the other, dark, and lying across.
    let sky: Drawing = |across, down| [0.2 + 0.035 * across + 0.001 * down, 0.02 * across, -0.02 * across];
    let delivery = json!({ "codec": "h264", "profile": "high", "rate": { "mode": "constant_quality", "crf": 20 } });
    let kinds = [
        json!({}),
        json!({ "size": { "rule": "fit", "width": 48, "height": 32 } }),
        json!({ "colour": { "space": "rec601_625" } }),
        json!({ "adjustment": { "brightness": 2, "contrast": 97 } }),
        json!({ "cleaning": { "deblock": "flat_parts" } }),
    ];
    for (depth, kind) in [10, 12].into_iter().flat_map(|depth| kinds.iter().map(move |kind| (depth, kind))) {
        let mut picture = delivery.clone();
        json_patch::merge(&mut picture, kind);
        let (_, made, plan) = made(Stored { depth, ..PLAIN }, sky, &picture);
        // The same steps without the last word on bits are what it should be near.
        let width = plan.picture.as_ref().unwrap().width as usize;
        let mut fine = picture.clone();
        json_patch::merge(&mut fine, &json!({ "codec": "hevc", "profile": "main10" }));
        let (_, finer, _) = self::made(Stored { depth, ..PLAIN }, sky, &fine);
        let luma = |planes: &[Vec<u16>], unit: f64| {
            block_means(&planes[0].iter().map(|code| f64::from(*code) / unit).collect::<Vec<_>>(), width)
        };
        let (coarse, fine) = (luma(&made, 1.0), luma(&finer, 4.0));
        let worst = coarse.iter().zip(&fine).map(|(coarse, fine)| (coarse - fine).abs()).fold(0.0, f64::max);
        println!("{depth} bit to 8, {kind}: means of blocks off by {worst:.3} codes of 8 bit");
        assert!(worst < 0.2, "{kind}: bands: {coarse:?} for {fine:?}");
        let codes: std::collections::BTreeSet<u16> = finer[0].iter().copied().collect();
        assert!(codes.len() > 24, "{kind}: only {} codes of 10 bit", codes.len());
    }
}

/// What the reference of a tone map says: the light of a display of 1 for its white.
fn toned(transfer: &str, [red, green, blue]: [f64; 3], peak: f64) -> [f64; 3] {
    let weigh = |[red, green, blue]: [f64; 3], [one, two, three]: [f64; 3]| red * one + green * two + blue * three;
    let (m1, m2, c1, c2, c3) = (0.159_301_757_812_5, 78.84375, 0.8359375, 18.8515625, 18.6875);
    let pq = |signal: f64| {
        let root = signal.max(0.0).powf(1.0 / m2);
        10_000.0 * ((root - c1).max(0.0) / (c2 - c3 * root)).powf(1.0 / m1)
    };
    let of_pq = |light: f64| {
        let part = (light / 10_000.0).powf(m1);
        ((c1 + c2 * part) / (1.0 + c3 * part)).powf(m2)
    };
    let of_2020 = [0.2627, 0.6780, 0.0593];
    let signals = [red, green, blue].map(|signal| signal.clamp(0.0, 1.0));
    let nits = if transfer == "smpte2084" {
        signals.map(pq)
    } else {
        let (a, b, c) = (0.178_832_77, 0.284_668_92, 0.559_910_73);
        let scene =
            signals.map(|signal| if signal <= 0.5 { signal * signal / 3.0 } else { (((signal - c) / a).exp() + b) / 12.0 });
        let luminance = weigh(scene, of_2020);
        scene.map(|part| 1000.0 * luminance.powf(0.2) * part)
    };
    let norm = (weigh(nits, of_2020) + nits[0].max(nits[1]).max(nits[2])) / 2.0;
    // The curve, by its points: straight to 100 cd/m², 90 of 100 at white, all at the peak.
    let points = [(100.0, 100.0), (203.0, 182.7), (peak, 203.0)].map(|(at, shown)| (of_pq(at), of_pq(shown)));
    let slope = |place: usize| (points[place + 1].1 - points[place].1) / (points[place + 1].0 - points[place].0);
    let tangents = [1.0, 2.0 / (1.0 / slope(0) + 1.0 / slope(1)), 0.0];
    let shown = if norm <= 100.0 {
        norm
    } else {
        let at = of_pq(norm.min(peak));
        let place = usize::from(at > points[1].0);
        let width = points[place + 1].0 - points[place].0;
        let t = (at - points[place].0) / width;
        let value = (1.0 + 2.0 * t) * (1.0 - t) * (1.0 - t) * points[place].1
            + t * (1.0 - t) * (1.0 - t) * width * tangents[place]
            + t * t * (3.0 - 2.0 * t) * points[place + 1].1
            + t * t * (t - 1.0) * width * tangents[place + 1];
        pq(value)
    };
    let factor = if norm > 0.0 { shown / norm / 203.0 } else { 0.0 };
    let light = between("bt2020", "bt709")(nits.map(|part| part * factor));
    let grey = weigh(light, [0.2126, 0.7152, 0.0722]).clamp(0.0, 1.0);
    let fits = light.map(|part| {
        if part < 0.0 {
            grey / (grey - part)
        } else if part > 1.0 {
            (1.0 - grey) / (part - grey)
        } else {
            1.0
        }
    });
    let kept = fits.into_iter().fold(1.0, f64::min);
    light.map(|part| grey + (part - grey) * kept)
}

#[test]
fn a_high_dynamic_range_comes_down_as_the_curve_says_and_keeps_its_hues() {
    let mut table = Table::default();
    let down = json!({ "codec": "prores", "profile": "4444", "colour": { "dynamic_range": "standard" } });
    // Greys, and hues of every strength at every level.
    let greys: Drawing = |across, _| [across, 0.0, 0.0];
    let hues: Drawing = |across, down| {
        let turn = down * std::f64::consts::TAU;
        let strength = 0.25 * (1.0 - (2.0 * across - 1.0).abs());
        [0.1 + 0.65 * across, strength * turn.cos(), strength * turn.sin()]
    };
    for transfer in ["smpte2084", "arib-std-b67"] {
        let stored = Stored { sampling: (1, 1), space: ["bt2020", transfer, "bt2020nc"], ..PLAIN };
        for (name, drawing) in [("greys", greys), ("hues", hues)] {
            let (model, made, plan) = made(stored, drawing, &down);
            let range = levels(10, false);
            let mut hue_off = 0.0_f64;
            let wanted = model.each(|codes| {
                let rgb = to_rgb("bt2020nc", range.signal(codes));
                let light = toned(transfer, rgb, 1000.0);
                range.codes(from_rgb("bt709", light.map(signal)))
            });
            for (place, _) in wanted.planes[0].iter().enumerate() {
                // Where colour is strong enough to have a hue: as far from grey in the same direction.
                let shown = [1, 2].map(|plane| wanted.planes[plane][place] - 512.0);
                let came = [1, 2].map(|plane| f64::from(made[plane][place]) - 512.0);
                let length = |[x, y]: [f64; 2]| x.hypot(y);
                if length(shown) > 60.0 {
                    hue_off = hue_off.max((shown[0].atan2(shown[1]) - came[0].atan2(came[1])).sin().abs());
                }
            }
            assert!(hue_off < 0.03, "{transfer} {name}: {hue_off}");
            table.add(format!("{transfer} {name} to Rec. 709"), wanted.distance(&made));
            assert_eq!(plan.picture.as_ref().unwrap().hdr, None, "what is said of light belongs to the source");
        }
        // White keeps nine tenths of its light, and one tone map serves outputs of every size and kind.
        let white = if transfer == "smpte2084" { 0.5807 } else { 0.75 };
        let codes = levels(10, false).codes(from_rgb("bt709", toned(transfer, [white; 3], 1000.0).map(signal)));
        assert!((codes[0] - (64.0 + 876.0 * 0.9_f64.powf(1.0 / 2.4))).abs() < 2.0, "{codes:?}");
    }
    table.judge();
    let folder = tempfile::tempdir().unwrap();
    let stored = Stored { space: ["bt2020", "smpte2084", "bt2020nc"], ..PLAIN };
    stored.write(&folder.path().join("drawn.y4m"), &[stored.draw(ramp)], 'p');
    let source = SourceRef::of(FileRef::within(folder.path().display().to_string(), "drawn.y4m".parse().unwrap()));
    let reading = stored.reading(&source, FieldOrder::Progressive);
    let chains = [
        json!({ "codec": "h264", "rate": { "mode": "constant_quality", "crf": 20 } }),
        json!({ "codec": "h264", "rate": { "mode": "constant_quality", "crf": 20 }, "size": { "rule": "fit", "width": 48, "height": 32 } }),
        json!({ "codec": "prores", "profile": "hq", "colour": { "dynamic_range": "standard" } }),
    ];
    let plans = chains.map(|picture| planned(&reading, picture));
    let stages = beryl_core::after::stages::share_steps(&plans.each_ref().map(Plan::steps));
    let with_tone = stages.iter().filter(|stage| stage.steps.iter().any(|step| matches!(step, Step::Tone { .. })));
    assert_eq!(with_tone.count(), 1, "{stages:#?}");
}

#[test]
fn levels_are_changed_in_fine_steps_and_grounds_are_black() {
    let mut table = Table::default();
    let adjusted = json!({ "adjustment": { "brightness": 4, "contrast": 90, "gamma": 110, "saturation": 80 } });
    for (name, drawing) in DRAWINGS {
        for (full, sampling) in [(false, (1, 1)), (true, (1, 1))] {
            let mut picture = adjusted.clone();
            json_patch::merge(&mut picture, &json!({ "colour": { "range": "same" } }));
            let (model, made, _) = made(Stored { full, sampling, ..PLAIN }, drawing, &picture);
            let range = levels(10, full);
            let wanted = model.each(|codes| {
                let [y, cb, cr] = range.signal(codes);
                let y = ((y - 0.5) * 0.9 + 0.54).clamp(0.0, 1.0).powf(1.0 / 1.1);
                range.codes([y, cb * 0.8, cr * 0.8])
            });
            table.add(format!("{name} adjusted, full range {full}"), wanted.distance(&made));
        }
        for (full, black) in [(false, 64), (true, 0)] {
            let picture = json!({ "size": { "rule": "pad", "width": 128, "height": 64 }, "colour": { "range": "same" } });
            let (model, made, _) = made(Stored { full, ..PLAIN }, drawing, &picture);
            assert_eq!((made[0][0], made[0][127], made[1][0], made[2][63]), (black, black, 512, 512), "{name} {full}");
            let inner: Vec<u16> = made[0].chunks(128).flat_map(|line| line[16..112].to_vec()).collect();
            assert_eq!(inner, model.planes[0].iter().map(|code| *code as u16).collect::<Vec<_>>(), "what is put on it stays");
        }
    }
    table.judge();
}

#[test]
fn the_same_steps_give_the_same_pictures_each_time() {
    let folder = tempfile::tempdir().unwrap();
    let turning: Vec<Drawing> = vec![zone_plate, ramp, bars, zone_plate, zone_plate, ramp];
    let pictures: Vec<_> = turning.iter().map(|drawing| PLAIN.draw(*drawing)).collect();
    PLAIN.write(&folder.path().join("drawn.y4m"), &pictures, 'p');
    let source = SourceRef::of(FileRef::within(folder.path().display().to_string(), "drawn.y4m".parse().unwrap()));
    let reading = PLAIN.reading(&source, FieldOrder::Progressive);
    let kinds = [
        json!({ "cleaning": { "denoise": "camera" } }),
        json!({ "cleaning": { "denoise": "night", "deblock": "whole_picture" } }),
        json!({ "fields": "always" }),
        json!({ "size": { "rule": "fit", "width": 48, "height": 32 }, "codec": "h264", "rate": { "mode": "constant_quality", "crf": 20 } }),
        json!({ "frame_rate": { "rule": "constant", "rate": "50", "by": "blend" } }),
        json!({ "adjustment": { "gamma": 120 } }),
        json!({ "colour": { "space": "rec601_525" } }),
    ];
    for kind in kinds {
        let plan = planned(&reading, kind.clone());
        let first = pictures_behind(&source, plan.steps()).unwrap();
        for _ in 0..8 {
            assert!(pictures_behind(&source, plan.steps()).unwrap() == first, "{kind}");
        }
    }
}
