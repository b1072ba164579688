//! Colour and overlays, judged sample by sample.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

mod material;

use std::io::Write as _;
use std::path::Path;
use std::sync::Mutex;

use beryl_core::after::check::judge;
use beryl_core::facts::Content;
use beryl_core::picture::{Colour, FieldOrder, Hdr, MatrixCoefficients, Primaries, Range, Transfer};
use beryl_core::plan::{Plan, plan_with as plan};
use beryl_core::preset::builtin;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Asset, EncodeRun, Event, FileRef, RunNews, Sequence, ShownField, SourceRef};
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use beryl_demo::{Clip, clips, make};
use beryl_media::{
    Control, Planes, RecordedPicture, Recorder, Recording, Stamping, StillWish, alphas, encode, pictures, probe,
    silence_libraries, still,
};
use material::{Picture, lively, progressive, write};
use serde_json::{Value, json};
use uuid::Uuid;

fn file(folder: &Path, name: &str) -> FileRef {
    FileRef::within(folder.display().to_string(), name.parse().unwrap())
}

fn source(folder: &Path, name: &str) -> SourceRef {
    SourceRef::of(file(folder, name))
}

fn lossless(reading: &Reading, picture: Value) -> Plan {
    lossless_in("mkv", reading, picture)
}

fn lossless_in(container: &str, reading: &Reading, picture: Value) -> Plan {
    let mut patch = json!({
        "container": container, "sound": null,
        "picture": { "codec": "ffv1", "rate": { "mode": "by_profile" }, "size": { "rule": "same" }, "pixel_aspect": "keep" },
    });
    json_patch::merge(&mut patch, &json!({ "picture": picture }));
    plan(reading, &builtin("web-1080").unwrap(), &patch).unwrap()
}

fn try_made(folder: &Path, name: &str, plan: &Plan, assets: &[&str]) -> Result<SourceRef, Problem> {
    made_of(&source(folder, name), folder, plan, assets)
}

fn made_of(from: &SourceRef, folder: &Path, plan: &Plan, assets: &[&str]) -> Result<SourceRef, Problem> {
    let output = source(folder, &format!("{}.mkv", Uuid::now_v7()));
    let assets = assets.iter().map(|name| Asset { name: (*name).to_owned(), file: file(folder, name) }).collect();
    let run = EncodeRun { id: Uuid::now_v7(), plan: plan.clone(), outputs: vec![output.file.clone()], assets };
    let told = Mutex::new(None);
    encode(from, &[run], folder, &Control::default(), &|event| match event {
        Event::Run { news: RunNews::Written { measured }, .. } => *told.lock().unwrap() = Some(Ok(judge(plan, &measured))),
        Event::Run { news: RunNews::Failed { problem }, .. } => *told.lock().unwrap() = Some(Err(problem)),
        _ => {}
    })?;
    let report = told.into_inner().unwrap().expect("a file")?;
    let wrong: Vec<String> = report.wrong().map(|item| format!("{}: {}, not {}", item.what, item.found, item.expected)).collect();
    match wrong.as_slice() {
        [] => Ok(output),
        wrong => Err(Problem::new(ProblemKind::CheckFailed, "the file is not as planned", wrong.join("; "))),
    }
}

fn made(folder: &Path, name: &str, plan: &Plan, assets: &[&str]) -> SourceRef {
    try_made(folder, name, plan, assets).unwrap_or_else(|problem| panic!("{problem} {}", problem.details))
}

/// Samples of 10 bit, 4:4:4, from a Y4M file that this test writes, or from the file that was made of it.
type Deep = [Vec<u16>; 3];

const SIDE: usize = 64;

/// All hues and levels, smooth and steep, within the limited range.
fn deep_picture(number: usize) -> Deep {
    let sample = |plane: usize, x: usize, y: usize| -> u16 {
        let (across, down) = (x as f64 / SIDE as f64, y as f64 / SIDE as f64);
        let turn = number as f64 * 0.7;
        match plane {
            0 => 64 + ((across * 0.8 + 0.2 * down) * 876.0) as u16,
            1 => (512.0 + 300.0 * (down * 6.0 + turn).sin() * (1.0 - across)) as u16,
            _ => (512.0 + 300.0 * (across * 5.0 + down * 3.0 - turn).cos() * down) as u16,
        }
    };
    [0, 1, 2].map(|plane| (0..SIDE * SIDE).map(|place| sample(plane, place % SIDE, place / SIDE)).collect())
}

fn write_deep(path: &Path, pictures: &[Deep]) {
    let mut out = std::io::BufWriter::new(std::fs::File::create(path).unwrap());
    writeln!(out, "YUV4MPEG2 W{SIDE} H{SIDE} F25:1 Ip A1:1 C444p10 XYSCSS=444P10").unwrap();
    for picture in pictures {
        out.write_all(b"FRAME\n").unwrap();
        for sample in picture.iter().flatten() {
            out.write_all(&sample.to_le_bytes()).unwrap();
        }
    }
}

/// Luma and colour of BT.601 (10 bit, limited), which pictures so small are taken to have where nothing
/// is declared, as red, green and blue from 0 to 1.
fn to_rgb([y, cb, cr]: [f64; 3]) -> [f64; 3] {
    let (y, cb, cr) = ((y - 64.0) / 876.0, (cb - 512.0) / 896.0, (cr - 512.0) / 896.0);
    let (red, blue) = (y + 1.402 * cr, y + 1.772 * cb);
    [red, (y - 0.299 * red - 0.114 * blue) / 0.587, blue]
}

/// Codes of BT.709, which a table gives.
fn to_codes([red, green, blue]: [f64; 3]) -> [f64; 3] {
    let y = 0.2126 * red + 0.7152 * green + 0.0722 * blue;
    [64.0 + 876.0 * y, 512.0 + 896.0 * (blue - y) / 1.8556, 512.0 + 896.0 * (red - y) / 1.5748]
}

/// A table of three dimensions looked up in tetrahedra.
fn looked_up(points: &[[f64; 3]], side: usize, rgb: [f64; 3]) -> [f64; 3] {
    let placed = rgb.map(|value| value.clamp(0.0, 1.0) * (side - 1) as f64);
    let low = placed.map(|value| (value.floor() as usize).min(side - 2));
    let part = [0, 1, 2].map(|channel| placed[channel] - low[channel] as f64);
    let at = |step: [usize; 3]| points[(low[0] + step[0]) + side * (low[1] + step[1]) + side * side * (low[2] + step[2])];
    // From the lowest corner to the highest, one channel after the other, that with the largest part first.
    let mut order = [0, 1, 2];
    order.sort_by(|one, other| part[*other].total_cmp(&part[*one]));
    let mut corner = [0; 3];
    let mut before = at(corner);
    let mut value = before;
    for channel in order {
        corner[channel] = 1;
        let next = at(corner);
        for output in 0..3 {
            value[output] += part[channel] * (next[output] - before[output]);
        }
        before = next;
    }
    value
}

/// The pictures of a lossless file of 10 bit, by way of a copy in Y4M that keeps every code.
fn deep_pictures(file: &SourceRef) -> Vec<Deep> {
    beryl_media::deep_pictures(file).unwrap()
}

#[test]
fn a_table_gives_what_an_own_computation_gives_to_one_code_of_ten_bit() {
    let folder = tempfile::tempdir().unwrap();
    let originals: Vec<Deep> = (0..3).map(deep_picture).collect();
    write_deep(&folder.path().join("deep.y4m"), &originals);
    let reading = probe(&source(folder.path(), "deep.y4m")).unwrap();
    assert_eq!(reading.facts.picture().unwrap().1.pixel_format, "yuv444p10le");

    // A cube that mixes and bends, and curves that bend each channel otherwise.
    let side = 17;
    let level = |place: usize| place as f64 / (side - 1) as f64;
    let mut cube = Vec::new();
    for blue in 0..side {
        for green in 0..side {
            for red in 0..side {
                let [red, green, blue] = [red, green, blue].map(level);
                cube.push([red.powf(0.8) * 0.9 + 0.05 * blue, 0.1 + 0.8 * green * (0.6 + 0.4 * red), (blue + green) / 2.0]);
            }
        }
    }
    let curves: Vec<[f64; 3]> =
        (0..256).map(|place| place as f64 / 255.0).map(|at| [at.powf(1.2), 0.9 * at, at.sqrt()]).collect();
    let text = |head: &str, points: &[[f64; 3]]| {
        let lines: Vec<String> = points.iter().map(|[red, green, blue]| format!("{red:.9} {green:.9} {blue:.9}")).collect();
        format!("TITLE \"test\"\n# a comment\n{head}\n{}\n", lines.join("\n"))
    };
    std::fs::write(folder.path().join("mix: it's [a], cube.cube"), text("LUT_3D_SIZE 17", &cube)).unwrap();
    std::fs::write(folder.path().join("curves.cube"), text("LUT_1D_SIZE 256", &curves)).unwrap();

    let on_curve = |channel: usize, value: f64| {
        let placed = value.clamp(0.0, 1.0) * 255.0;
        let low = (placed.floor() as usize).min(254);
        curves[low][channel] + (placed - low as f64) * (curves[low + 1][channel] - curves[low][channel])
    };
    for (name, is_cube) in [("mix: it's [a], cube.cube", true), ("curves.cube", false)] {
        let plan = lossless(&reading, json!({ "colour": { "lut": name } }));
        let file = made(folder.path(), "deep.y4m", &plan, &[name]);
        let out = deep_pictures(&file);
        assert_eq!(out.len(), 3);
        let mut worst = 0.0_f64;
        for (made, original) in out.iter().zip(&originals) {
            for place in 0..SIDE * SIDE {
                let rgb = to_rgb([0, 1, 2].map(|plane| f64::from(original[plane][place])));
                let changed =
                    if is_cube { looked_up(&cube, side, rgb) } else { [0, 1, 2].map(|channel| on_curve(channel, rgb[channel])) };
                let expected = to_codes(changed);
                for plane in 0..3 {
                    worst = worst.max((f64::from(made[plane][place]) - expected[plane].round()).abs());
                }
            }
        }
        assert!(worst <= 1.0, "{name}: {worst} codes");
        let colour = probe(&file).unwrap().facts.picture().unwrap().1.colour;
        assert_eq!((colour.matrix, colour.transfer), (Some(MatrixCoefficients::Bt709), Some(Transfer::Bt709)));
    }

    // What is no table is refused with the line, and what is missing with its name.
    std::fs::write(folder.path().join("broken.cube"), "LUT_3D_SIZE 2\n0 0 0\n1 0\n").unwrap();
    let refused = |name: &str, assets: &[&str]| {
        let plan = lossless(&reading, json!({ "colour": { "lut": name } }));
        try_made(folder.path(), "deep.y4m", &plan, assets).unwrap_err().to_string()
    };
    assert!(refused("broken.cube", &["broken.cube"]).contains("line 3"));
    assert!(refused("nowhere.cube", &[]).contains("nowhere.cube"));

    // It fails the run that wants it, and no other of the same job.
    let runs = ["nowhere.cube", "curves.cube"].map(|name| EncodeRun {
        id: Uuid::now_v7(),
        plan: lossless(&reading, json!({ "colour": { "lut": name } })),
        outputs: vec![source(folder.path(), &format!("beside-{name}.mkv")).file],
        assets: vec![Asset { name: "curves.cube".to_owned(), file: file(folder.path(), "curves.cube") }],
    });
    let (failed, written) = (Mutex::new(Vec::new()), Mutex::new(Vec::new()));
    encode(&source(folder.path(), "deep.y4m"), &runs, folder.path(), &Control::default(), &|event| match event {
        Event::Run { id, news: RunNews::Failed { .. } } => failed.lock().unwrap().push(id),
        Event::Run { id, news: RunNews::Written { .. } } => written.lock().unwrap().push(id),
        _ => {}
    })
    .unwrap();
    assert_eq!((failed.into_inner().unwrap(), written.into_inner().unwrap()), (vec![runs[0].id], vec![runs[1].id]));
}

#[test]
fn high_dynamic_range_comes_down_and_spaces_are_converted_with_their_tags() {
    let folder = tempfile::tempdir().unwrap();
    write_deep(&folder.path().join("deep.y4m"), &[deep_picture(0)]);
    let mut reading = probe(&source(folder.path(), "deep.y4m")).unwrap();
    let grey = |folder: &Path, name: &str, code: u16| {
        write_deep(&folder.join(name), &[[vec![code; SIDE * SIDE], vec![512; SIDE * SIDE], vec![512; SIDE * SIDE]]]);
    };
    let colour = |reading: &mut Reading, tags: [&str; 3]| {
        for stream in &mut reading.facts.streams {
            if let Content::Picture(picture) = &mut stream.content {
                picture.colour = Colour { range: picture.colour.range, ..tagged(tags, None) };
            }
        }
    };
    colour(&mut reading, ["bt2020", "smpte2084", "bt2020nc"]);
    let kept = lossless(&reading, json!({}));
    assert_eq!(kept.picture.as_ref().unwrap().colour.transfer, Some(Transfer::Pq), "kept unless it is asked for");
    let plan = lossless(&reading, json!({ "colour": { "dynamic_range": "standard" } }));
    assert!(plan.decisions.iter().any(|decision| decision.because.contains("PQ")));
    let mut before = 0;
    // PQ codes of 0, 1, 100, 203 (diffuse white), 600 and 1000 cd/m² come out in their order, black as black.
    for (place, share) in [0.0, 0.1499, 0.5081, 0.5807, 0.6959, 0.7518].into_iter().enumerate() {
        grey(folder.path(), "grey.y4m", (64.0_f64 + 876.0 * share).round() as u16);
        let out = deep_pictures(&made(folder.path(), "grey.y4m", &plan, &[]));
        let [luma, cb, cr] = [0, 1, 2].map(|plane| out[0][plane][SIDE * SIDE / 2]);
        assert!(cb.abs_diff(512) <= 1 && cr.abs_diff(512) <= 1, "grey stays grey");
        assert!(if place == 0 { luma == 64 } else { luma > before }, "{luma} after {before}");
        before = luma;
    }
    assert!((880..=940).contains(&before), "the brightest is near white: {before}");

    colour(&mut reading, ["bt470bg", "smpte170m", "bt470bg"]);
    let plan = lossless(&reading, json!({ "colour": { "space": "rec709" } }));
    let file = made(folder.path(), "deep.y4m", &plan, &[]);
    let tags = probe(&file).unwrap().facts.picture().unwrap().1.colour;
    assert_eq!((tags.primaries, tags.matrix), (Some(Primaries::Bt709), Some(MatrixCoefficients::Bt709)));
    grey(folder.path(), "grey.y4m", 600);
    let out = deep_pictures(&made(folder.path(), "grey.y4m", &plan, &[]));
    assert!(out[0][0][0].abs_diff(600) <= 1, "grey has the same code in both: {}", out[0][0][0]);
    let full = lossless(&reading, json!({ "colour": { "range": "full" } }));
    let out = deep_pictures(&made(folder.path(), "grey.y4m", &full, &[]));
    assert!(out[0][0][0].abs_diff(((600.0_f64 - 64.0) / 876.0 * 1023.0).round() as u16) <= 1);
}

/// Colour by the words that documents have for primaries, transfer and matrix.
fn tagged([primaries, transfer, matrix]: [&str; 3], range: Option<&str>) -> Colour {
    let tags = json!({ "primaries": primaries, "transfer": transfer, "matrix": matrix, "range": range });
    serde_json::from_value(tags).unwrap()
}

/// A reading of the deep picture as one of a high dynamic range.
fn graded(folder: &Path, transfer: &str) -> Reading {
    write_deep(&folder.join("deep.y4m"), &(0..6).map(deep_picture).collect::<Vec<_>>());
    let mut reading = probe(&source(folder, "deep.y4m")).unwrap();
    let fraction = |value: i64, of: i64| Rational::new(value, of).unwrap();
    for stream in &mut reading.facts.streams {
        if let Content::Picture(picture) = &mut stream.content {
            picture.colour = tagged(["bt2020", transfer, "bt2020nc"], Some("tv"));
            // Red, green, blue and white of a display that is wide, and its light.
            let places = [34_000, 16_000, 13_250, 34_500, 7_500, 3_000, 15_635, 16_450];
            picture.hdr = Some(Hdr {
                primaries: Some(places.map(|place| fraction(place, 50_000))),
                luminance: Some([fraction(50, 10_000), Rational::whole(1000)]),
                light_level: Some([980, 310]),
            });
        }
    }
    reading
}

const RED: [u8; 3] = [200, 90, 40];

/// A second of one colour in H.264 without loss, as a transport stream.
fn flat(path: &Path, height: u32, pixel_format: &'static str, colour: [&str; 3], rgb: [u8; 3], stamping: Stamping) {
    let [transfer, matrix, range] = colour;
    let picture = RecordedPicture {
        encoder: "libx264",
        options: vec![("qp", "0"), ("g", "5")],
        pixel_format,
        width: SIDE as u32,
        height,
        pixel_aspect: Rational::ONE,
        clock: Rational::constant(1, 25),
        rate: Rational::whole(25),
        fields: FieldOrder::Progressive,
        colour: tagged(["bt709", transfer, matrix], Some(range)),
    };
    let recording = Recording { format: "mpegts", picture: Some(picture), ..Recording::default() };
    let mut recorder = Recorder::begin(path, &recording).unwrap();
    recorder.stamp(0, stamping);
    for tick in 0..25 {
        recorder.picture(&rgb.repeat(SIDE * height as usize), tick, 1).unwrap();
    }
    recorder.finish().unwrap();
}

#[test]
fn what_is_shown_has_the_colours_that_are_meant() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let shown = |name: &str| {
        let output = file(folder.path(), name);
        let wish = StillWish {
            at: Rational::ZERO,
            width: SIDE as u32,
            field: ShownField::Both,
            shape: None,
            scope: None,
            output: &output,
        };
        still(&source(folder.path(), "film.ts"), wish, folder.path()).unwrap();
    };
    let kinds = [
        ("bt709", "bt709", 0.2126, 0.0722),
        ("iec61966-2-1", "bt709", 0.2126, 0.0722),
        ("bt709", "smpte170m", 0.299, 0.114),
        ("bt709", "bt2020nc", 0.2627, 0.0593),
    ];
    for (transfer, matrix, red, blue) in kinds {
        for range in ["tv", "pc"] {
            flat(&folder.path().join("film.ts"), SIDE as u32, "yuv444p", [transfer, matrix, range], RED, |time| time);
            let codes = &pictures(&source(folder.path(), "film.ts")).unwrap()[0];
            let [y, cb, cr] = [&codes.luma, &codes.cb, &codes.cr].map(|plane| f64::from(plane[0]));
            let (black, of_luma, of_colour) = if range == "pc" { (0.0, 255.0, 255.0) } else { (16.0, 219.0, 224.0) };
            let (y, cb, cr) = ((y - black) / of_luma, (cb - 128.0) / of_colour, (cr - 128.0) / of_colour);
            let (r, b) = (y + 2.0 * (1.0 - red) * cr, y + 2.0 * (1.0 - blue) * cb);
            let meant = [r, (y - red * r - blue * b) / (1.0 - red - blue), b].map(|part| part * 255.0);
            shown("still.png");
            let decoder =
                png::Decoder::new(std::io::BufReader::new(std::fs::File::open(folder.path().join("still.png")).unwrap()));
            let mut reader = decoder.read_info().unwrap();
            let mut bytes = vec![0; reader.output_buffer_size().unwrap()];
            reader.next_frame(&mut bytes).unwrap();
            shown("still.jpg");
            // JPEG is read by the matrix of BT.601 in the full range.
            let codes = &pictures(&source(folder.path(), "still.jpg")).unwrap()[0];
            let [y, cb, cr] = [&codes.luma, &codes.cb, &codes.cr].map(|plane| f64::from(plane[0]));
            let (cb, cr) = (cb - 128.0, cr - 128.0);
            let in_jpeg = [y + 1.402 * cr, y - 0.344_136 * cb - 0.714_136 * cr, y + 1.772 * cb];
            for part in 0..3 {
                let in_png = f64::from(bytes[part]);
                assert!(
                    (in_png - meant[part]).abs() <= 1.0,
                    "{matrix} {range}, PNG: {:?} where {meant:?} are meant",
                    &bytes[..3]
                );
                assert!(
                    (in_jpeg[part] - meant[part]).abs() <= 3.0,
                    "{matrix} {range}, JPEG: {in_jpeg:?} where {meant:?} are meant"
                );
            }
        }
    }
    // Graphics white of PQ is nearly white on a screen.
    flat(&folder.path().join("film.ts"), SIDE as u32, "yuv444p", ["smpte2084", "bt709", "tv"], [148; 3], |time| time);
    shown("still.jpg");
    let white = pictures(&source(folder.path(), "still.jpg")).unwrap()[0].luma[0];
    assert!((238..=252).contains(&white), "{white}");
}

#[test]
fn pictures_of_another_form_in_mid_stream_get_the_colour_of_the_others() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let (film, stray) = (folder.path().join("film.ts"), folder.path().join("stray.ts"));
    flat(&film, SIDE as u32, "yuv420p", ["bt709", "bt709", "tv"], RED, |time| time + Rational::ONE);
    flat(&stray, SIDE as u32 / 2, "yuv422p", ["bt709", "smpte170m", "pc"], RED, |time| time + Rational::whole(2));
    let stray = pictures(&source(folder.path(), "stray.ts")).unwrap()[5].clone();
    let mut both = std::fs::read(folder.path().join("film.ts")).unwrap();
    both.extend(std::fs::read(folder.path().join("stray.ts")).unwrap());
    std::fs::write(folder.path().join("film.ts"), both).unwrap();
    let mut reading = probe(&source(folder.path(), "film.ts")).unwrap();
    reading.facts.duration = Some(Rational::whole(2));
    let plan = lossless(&reading, json!({}));
    let out = pictures(&made(folder.path(), "film.ts", &plan, &[])).unwrap();
    assert_eq!(out.len(), 50);
    // Codes of the full range by BT.601, as light, and back by BT.709 in the limited range.
    let [y, cb, cr] = [&stray.luma, &stray.cb, &stray.cr].map(|plane| f64::from(plane[0]));
    let fine = [64.0 + 876.0 * y / 255.0, 512.0 + 896.0 * (cb - 128.0) / 255.0, 512.0 + 896.0 * (cr - 128.0) / 255.0];
    let wanted = to_codes(to_rgb(fine)).map(|code| code / 4.0);
    let last = out.last().unwrap();
    let line = |plane: &[u8], line: usize, width: usize| f64::from(plane[line * width + width / 2]);
    let shown = [line(&last.luma, SIDE / 2, SIDE), line(&last.cb, SIDE / 4, SIDE / 2), line(&last.cr, SIDE / 4, SIDE / 2)];
    for (shown, wanted) in shown.iter().zip(wanted) {
        assert!((shown - wanted).abs() <= 1.0, "{shown} where {wanted:.1} is right, of {y} {cb} {cr}");
    }
    // Above and below it is black.
    let bars =
        [line(&last.luma, 2, SIDE), line(&last.luma, SIDE - 3, SIDE), line(&last.cb, 2, SIDE / 2), line(&last.cr, 2, SIDE / 2)];
    assert_eq!(bars, [16.0, 16.0, 128.0, 128.0]);
}

#[test]
fn what_is_said_of_a_high_dynamic_range_stands_in_stream_and_container_and_goes_with_it() {
    let folder = tempfile::tempdir().unwrap();
    let reading = graded(folder.path(), "smpte2084");
    let by_quality = json!({ "mode": "constant_quality", "crf": 20 });
    let codecs = [
        ("h264", json!("high10"), by_quality.clone(), true),
        ("hevc", json!("main10"), by_quality, true),
        ("prores", json!("4444"), json!({ "mode": "by_profile" }), false),
        ("ffv1", Value::Null, json!({ "mode": "by_profile" }), false),
    ];
    // Green, blue, red, white and the brightest light, as SMPTE ST 2086 is coded everywhere but in Matroska.
    let coded: Vec<u8> = [13_250_u16, 34_500, 7_500, 3_000, 34_000, 16_000, 15_635, 16_450]
        .iter()
        .flat_map(|place| place.to_be_bytes())
        .chain(10_000_000_u32.to_be_bytes())
        .collect();
    for (codec, profile, rate, in_stream) in codecs {
        for container in ["mp4", "mov", "mkv"] {
            if container == "mp4" && !in_stream {
                continue;
            }
            let picture = json!({ "codec": codec, "profile": profile, "rate": rate, "colour": { "dynamic_range": "keep" } });
            // The check holds every number of it against the plan.
            let output =
                made_of(&source(folder.path(), "deep.y4m"), folder.path(), &lossless_in(container, &reading, picture), &[]);
            let output = output.unwrap_or_else(|problem| panic!("{codec} {container}: {problem} {}", problem.details));
            let bytes = std::fs::read(folder.path().join(output.file.path.name())).unwrap();
            let times = bytes.windows(coded.len()).filter(|window| *window == coded).count();
            let least = usize::from(container != "mkv") + usize::from(in_stream);
            assert!(times >= least, "{codec} {container}: {times} times");
        }
    }
    // Brought down, nothing of it is said any more, in a stream whose frames still bear it.
    let hdr = json!({ "codec": "hevc", "profile": "main10", "rate": { "mode": "constant_quality", "crf": 20 }, "colour": { "dynamic_range": "keep" } });
    let bright = made_of(&source(folder.path(), "deep.y4m"), folder.path(), &lossless_in("mp4", &reading, hdr), &[]).unwrap();
    let down = lossless_in(
        "mov",
        &probe(&bright).unwrap(),
        json!({ "codec": "prores", "profile": "hq", "colour": { "dynamic_range": "standard" } }),
    );
    let output = made_of(&bright, folder.path(), &down, &[]).unwrap();
    assert_eq!(probe(&output).unwrap().facts.picture().unwrap().1.hdr, None);
}

#[test]
fn what_is_laid_over_is_white_where_the_pictures_own_white_is() {
    let folder = tempfile::tempdir().unwrap();
    write(&folder.path().join("white.y4m"), &[Picture::plain(40, 40, 235)], (25, 1), 'p', "");
    let png = file(folder.path(), "mark.png");
    let wish = StillWish { at: Rational::ZERO, width: 40, field: ShownField::Both, shape: None, scope: None, output: &png };
    still(&source(folder.path(), "white.y4m"), wish, folder.path()).unwrap();
    let mark = json!({ "picture": "mark.png", "place": "top_left", "width": 50, "margin": 0, "opacity": 100 });
    // 203 cd/m² as PQ and as HLG (ITU-R BT.2408, table 1), and the white of a standard display in both ranges.
    let kinds = [
        ("smpte2084", "same", 64.0 + 876.0 * 0.5806),
        ("arib-std-b67", "same", 64.0 + 876.0 * 0.75),
        ("bt709", "same", 940.0),
        ("bt709", "full", 1023.0),
    ];
    for (transfer, range, white) in kinds {
        let reading = graded(folder.path(), transfer);
        let kept = json!({ "dynamic_range": "keep", "range": range });
        let plan = lossless(&reading, json!({ "colour": kept, "overlays": { "watermark": mark } }));
        let out = deep_pictures(&made(folder.path(), "deep.y4m", &plan, &["mark.png"]));
        let middle = SIDE * 8 + 8;
        let [luma, cb, cr] = [0, 1, 2].map(|plane| f64::from(out[0][plane][middle]));
        assert!(
            (luma - white).abs() <= 4.5 && (cb - 512.0).abs() <= 2.0 && (cr - 512.0).abs() <= 2.0,
            "{transfer}: {luma} {cb} {cr}"
        );
        // Text is as white, and its pictures keep all their bits where none stands.
        let burn = json!({ "burn_in": { "frame": true, "height": 20 } });
        let plan = lossless(&reading, json!({ "colour": kept, "overlays": burn }));
        let written = deep_pictures(&made(folder.path(), "deep.y4m", &plan, &[]));
        let plain = deep_pictures(&made(folder.path(), "deep.y4m", &lossless(&reading, json!({ "colour": kept })), &[]));
        let (upper, lower) = written[0][0].split_at(SIDE * SIDE / 2);
        assert_eq!(upper, &plain[0][0][..upper.len()], "{transfer}");
        let changed = lower.iter().zip(&plain[0][0][upper.len()..]).filter(|(one, other)| one != other).map(|(one, _)| *one);
        let brightest = f64::from(changed.max().unwrap());
        // Thin strokes cover hardly a pixel wholly.
        assert!((-60.0..=2.0).contains(&(brightest - white)), "{transfer}: text has {brightest} where white has {white}");
    }
}

fn differing(one: &Planes, other: &Picture, lines: std::ops::Range<usize>, columns: std::ops::Range<usize>) -> usize {
    let width = other.width;
    lines
        .flat_map(|line| columns.clone().map(move |column| line * width + column))
        .filter(|place| one.luma[*place] != other.luma[*place])
        .count()
}

#[test]
fn overlays_stand_where_they_should_and_nothing_else_is_touched() {
    let folder = tempfile::tempdir().unwrap();
    let film: Vec<Picture> = progressive(30, 25.0, lively);
    write(&folder.path().join("film.y4m"), &film, (25, 1), 'p', "");
    let reading = probe(&source(folder.path(), "film.y4m")).unwrap();
    let (width, height) = (film[0].width, film[0].height);

    // A white mark of 40×20 pixels, from a picture of the very kind that people add.
    let white = Picture::plain(40, 20, 235);
    write(&folder.path().join("white.y4m"), &[white], (25, 1), 'p', "");
    let png = file(folder.path(), "mark.png");
    let wish = StillWish { at: Rational::ZERO, width: 40, field: ShownField::Both, shape: None, scope: None, output: &png };
    still(&source(folder.path(), "white.y4m"), wish, folder.path()).unwrap();
    let mark = json!({ "picture": "mark.png", "place": "top_left", "width": 20, "margin": 5, "opacity": 100 });
    let plan = lossless(&reading, json!({ "overlays": { "watermark": mark } }));
    let out = pictures(&made(folder.path(), "film.y4m", &plan, &["mark.png"])).unwrap();
    let (wide, margin) = ((width * 20).div_ceil(100), (width * 5).div_ceil(100));
    let middle = (margin + wide / 4) * width + margin + wide / 2;
    for (made, original) in out.iter().zip(&film) {
        assert!(made.luma[middle].abs_diff(235) <= 1, "the mark is white: {}", made.luma[middle]);
        assert_eq!(differing(made, original, height / 2..height, 0..width), 0);
        assert_eq!(differing(made, original, 0..height, width / 2..width), 0);
    }
    let half = json!({ "picture": "mark.png", "place": "top_left", "width": 20, "margin": 5, "opacity": 50 });
    let plan = lossless(&reading, json!({ "overlays": { "watermark": half } }));
    let out = pictures(&made(folder.path(), "film.y4m", &plan, &["mark.png"])).unwrap();
    let expected = (f64::from(film[0].luma[middle]) + 235.0) / 2.0;
    assert!((f64::from(out[0].luma[middle]) - expected).abs() <= 2.0, "{} and {expected}", out[0].luma[middle]);

    // Text changes from frame to frame, below alone; the same frame of a part bears the same text.
    let burn = json!({ "overlays": { "burn_in": { "timecode": true, "frame": true, "height": 8 } } });
    let whole = pictures(&made(folder.path(), "film.y4m", &lossless(&reading, burn.clone()), &[])).unwrap();
    for (made, original) in whole.iter().zip(&film) {
        assert!(differing(made, original, height * 7 / 10..height, 0..width) > 200, "text is written");
        assert_eq!(differing(made, original, 0..height * 7 / 10, 0..width), 0);
    }
    let mut patch = json!({ "container": "mkv", "sound": null, "parts": [{ "from": "0.4", "to": "0.8" }] });
    json_patch::merge(&mut patch, &json!({ "picture": burn }));
    json_patch::merge(
        &mut patch,
        &json!({ "picture": { "codec": "ffv1", "rate": { "mode": "by_profile" }, "size": { "rule": "same" } } }),
    );
    let cut = plan_of(&reading, &patch);
    let part = pictures(&made(folder.path(), "film.y4m", &cut, &[])).unwrap();
    assert!(part.len() == 10 && part[..] == whole[10..20], "text goes by the source's time");
    // Nothing that is laid over brings colour into a picture without any.
    let grey = lossless(&reading, json!({ "greyscale": true, "overlays": { "watermark": mark, "burn_in": { "name": true } } }));
    let out = pictures(&made(folder.path(), "film.y4m", &grey, &["mark.png"])).unwrap();
    assert!(out.iter().all(|made| made.cb.iter().chain(&made.cr).all(|code| *code == 128)));
}

fn plan_of(reading: &Reading, patch: &Value) -> Plan {
    plan(reading, &builtin("web-1080").unwrap(), patch).unwrap()
}

#[test]
fn subtitles_become_part_of_the_picture_while_they_are_shown() {
    let folder = tempfile::tempdir().unwrap();
    let clip = clips().into_iter().find(|clip| clip.path.ends_with("interview_odile_en-fr.mkv")).unwrap();
    let name = clip.path;
    make(&Clip { seconds: 4, ..clip }, folder.path()).unwrap();
    let reading = probe(&source(folder.path(), name)).unwrap();
    let plain = pictures(&made(folder.path(), name, &lossless(&reading, json!({})), &[])).unwrap();
    let own = json!({ "overlays": { "subtitles": { "rule": "first" } } });
    let written = pictures(&made(folder.path(), name, &lossless(&reading, own), &[])).unwrap();
    let changed: Vec<bool> = plain.iter().zip(&written).map(|(plain, written)| plain.luma != written.luma).collect();
    assert!(changed.iter().any(|changed| *changed) && changed.iter().any(|changed| !*changed), "shown for a part of the time");
    let (width, height) = (1280, 720);
    for (plain, written) in plain.iter().zip(&written) {
        let upper = width * height / 2;
        assert!(plain.luma[..upper] == written.luma[..upper], "they stand below");
    }
    let none = json!({ "overlays": { "subtitles": { "rule": "language", "language": "fin" } } });
    let plan = lossless(&reading, none);
    assert!(plan.decisions.iter().any(|decision| decision.what.contains("no subtitles")));
}

/// Pictures of 64×64 with alpha from clear to full across, one file each, as a sequence of 25 a second.
fn clearing(folder: &Path) -> SourceRef {
    for number in 0..8_u8 {
        let out = std::fs::File::create(folder.join(format!("clearing_{number:02}.png"))).unwrap();
        let mut encoder = png::Encoder::new(out, SIDE as u32, SIDE as u32);
        encoder.set_color(png::ColorType::Rgba);
        let pixel = |place: usize| [(place % SIDE * 4) as u8, number * 30, 90, (place % SIDE * 255 / (SIDE - 1)) as u8];
        let pixels: Vec<u8> = (0..SIDE * SIDE).flat_map(pixel).collect();
        encoder.write_header().unwrap().write_image_data(&pixels).unwrap();
    }
    let sequence = Some(Sequence { count: 8, rate: Rational::whole(25) });
    SourceRef { sequence, ..source(folder, "clearing_00.png") }
}

#[test]
fn alpha_stays_or_the_plan_says_that_it_goes() {
    let folder = tempfile::tempdir().unwrap();
    let drawn = clearing(folder.path());
    write(&folder.path().join("mark.y4m"), &[Picture::plain(40, 20, 235)], (25, 1), 'p', "");
    let png = file(folder.path(), "mark.png");
    let wish = StillWish { at: Rational::ZERO, width: 40, field: ShownField::Both, shape: None, scope: None, output: &png };
    still(&source(folder.path(), "mark.y4m"), wish, folder.path()).unwrap();
    let curve: Vec<String> = (0..2).map(|place| format!("{place} {place} {place}")).collect();
    std::fs::write(folder.path().join("same.cube"), format!("LUT_1D_SIZE 2\n{}\n", curve.join("\n"))).unwrap();

    let editing = json!({ "codec": "prores", "profile": "4444" });
    let in_ten_bit = made_of(&drawn, folder.path(), &lossless(&probe(&drawn).unwrap(), editing.clone()), &[]).unwrap();
    let mark = json!({ "picture": "mark.png", "place": "top_left", "width": 20, "margin": 5, "opacity": 100 });
    let kinds = [
        json!({}),
        json!({ "cleaning": { "denoise": "camera" } }),
        json!({ "cleaning": { "deblock": "whole_picture" } }),
        json!({ "fields": "always" }),
        json!({ "adjustment": { "brightness": 3 } }),
        json!({ "greyscale": true }),
        json!({ "colour": { "lut": "same.cube" } }),
        json!({ "colour": { "space": "rec601_625" } }),
        json!({ "colour": { "range": "full" } }),
        json!({ "colour": { "space": "rec601_625" }, "size": { "rule": "fit", "width": 48, "height": 48 } }),
        json!({ "overlays": { "watermark": mark } }),
        json!({ "overlays": { "burn_in": { "frame": true, "height": 8 } } }),
        json!({ "frame_rate": { "rule": "constant", "rate": "50", "by": "blend" } }),
        json!({ "frame_rate": { "rule": "constant", "rate": "50", "by": "motion" } }),
        json!({ "frame_rate": { "rule": "constant", "rate": "50" } }),
        json!({ "size": { "rule": "fit", "width": 48, "height": 48 } }),
    ];
    let mut wrong = Vec::new();
    for from in [&drawn, &in_ten_bit] {
        let reading = probe(from).unwrap();
        for (container, settings) in kinds
            .iter()
            .flat_map(|kind| {
                let mut also = editing.clone();
                json_patch::merge(&mut also, kind);
                [("mkv", kind.clone()), ("mov", also)]
            })
            .chain([("mov", json!({}))])
        {
            let plan = lossless_in(container, &reading, settings.clone());
            let output = match made_of(from, folder.path(), &plan, &["mark.png", "same.cube"]) {
                Ok(output) => output,
                Err(problem) => {
                    wrong.push(format!("{settings}: {problem} {}", problem.details));
                    continue;
                }
            };
            let alpha = alphas(&output).unwrap();
            let width = plan.picture.as_ref().unwrap().width as usize;
            let at = |column: usize| alpha[2][alpha[2].len() / 2 + column * width / SIDE];
            let stays = [4, 20, 40, 60].into_iter().all(|column| at(column).abs_diff((column * 255 / (SIDE - 1)) as u8) <= 4);
            let told = plan.decisions.iter().any(|decision| decision.what.contains("alpha is left out"));
            let form = probe(&output).unwrap().facts.picture().unwrap().1.pixel_format.clone();
            let full = alpha.iter().flatten().all(|code| *code == 255);
            if !(if told { full && !form.form().has_alpha() } else { stays }) {
                wrong.push(format!("{settings}: {form} {told} {stays} {full}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

/// Words of ITU-T H.273 for primaries, transfer and matrix, each at least once.
const TAGS: [[&str; 3]; 20] = [
    ["bt709", "bt709", "bt709"],
    ["bt470m", "bt470m", "fcc"],
    ["bt470bg", "bt470bg", "bt470bg"],
    ["smpte170m", "smpte170m", "smpte170m"],
    ["smpte240m", "smpte240m", "smpte240m"],
    ["film", "linear", "bt709"],
    ["bt2020", "bt2020-10", "bt2020nc"],
    ["bt2020", "bt2020-12", "bt2020c"],
    ["bt2020", "smpte2084", "bt2020nc"],
    ["bt2020", "arib-std-b67", "bt2020nc"],
    ["smpte428", "smpte428", "bt709"],
    ["smpte431", "iec61966-2-1", "bt709"],
    ["smpte432", "iec61966-2-1", "bt709"],
    ["ebu3213", "iec61966-2-4", "bt709"],
    ["bt709", "log100", "smpte240m"],
    ["bt709", "bt1361e", "bt470bg"],
    ["bt2020", "smpte2084", "ictcp"],
    ["bt709", "log316", "ycgco"],
    ["bt2020", "bt2020-10", "chroma-derived-nc"],
    ["smpte432", "iec61966-2-1", "smpte2085"],
];

#[test]
fn what_a_source_says_of_its_colour_arrives_in_every_codec_and_container_or_the_plan_says_that_it_does_not() {
    let folder = tempfile::tempdir().unwrap();
    write_deep(&folder.path().join("deep.y4m"), &[deep_picture(0), deep_picture(1)]);
    let reading = probe(&source(folder.path(), "deep.y4m")).unwrap();
    let codecs = [
        ("h264", Value::Null, vec!["mp4", "mov", "mkv"]),
        ("hevc", json!("main10"), vec!["mp4", "mov", "mkv"]),
        ("mpeg2", Value::Null, vec!["mp4", "mov", "mkv"]),
        ("prores", json!("4444"), vec!["mov", "mkv"]),
        ("ffv1", Value::Null, vec!["mov", "mkv"]),
    ];
    let mut wrong = Vec::new();
    for (tags, full) in TAGS.iter().flat_map(|tags| [(tags, false), (tags, true)]) {
        let mut reading = reading.clone();
        for stream in &mut reading.facts.streams {
            if let Content::Picture(picture) = &mut stream.content {
                picture.colour = tagged(*tags, Some(Range::of(full).word()));
            }
        }
        for (codec, profile, containers) in &codecs {
            for container in containers {
                let rate = match *codec {
                    "prores" | "ffv1" => json!({ "mode": "by_profile" }),
                    "mpeg2" => json!({ "mode": "constant_quality", "crf": 4 }),
                    _ => json!({ "mode": "constant_quality", "crf": 20 }),
                };
                let colour = json!({ "dynamic_range": "keep", "range": "same" });
                let patch = json!({ "container": container, "sound": null, "picture": {
                    "codec": codec, "profile": profile, "rate": rate, "colour": colour,
                    "size": { "rule": "same" }, "pixel_aspect": "keep",
                }});
                let plan = plan_of(&reading, &patch);
                if let Err(problem) = made_of(&source(folder.path(), "deep.y4m"), folder.path(), &plan, &[]) {
                    wrong.push(format!("{codec} {container} {tags:?} full {full}: {problem} {}", problem.details));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{} {wrong:#?}", wrong.len());
}
