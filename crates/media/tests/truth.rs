//! The truth table of findings: material of every kind, made with known answers, scanned and judged.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_sign_loss)]

mod material;

use std::path::Path;

use beryl_core::findings::{
    BarsVerdict, ChannelRelation, ColourContent, FieldsVerdict, Findings, HeaderTruth, Pulldown, RangeVerdict, RateVerdict,
    StretchKind,
};
use beryl_core::picture::{Colour, FieldOrder};
use beryl_core::protocol::{FileRef, SourceRef};
use beryl_core::time::Rational;
use beryl_media::{Control, RecordedPicture, RecordedSound, Recorder, Recording, scan, silence_libraries};
use libtest_mimic::{Arguments, Trial};
use material::{
    First, HEIGHT, Noise, Picture, THREE_TWO, TWO_THREE_THREE_TWO, TWO_TWO, WIDTH, disc, ground, interlaced, lively, lively_of,
    progressive, telecined, write,
};

const TOP: FieldOrder = FieldOrder::TopFirst;
const BOTTOM: FieldOrder = FieldOrder::BottomFirst;
const PAL: (u32, u32) = (25, 1);
const NTSC: (u32, u32) = (30_000, 1001);
const FILM: f64 = 24_000.0 / 1001.0;
const VIDEO: f64 = 30_000.0 / 1001.0;

/// Makes a file in a folder and answers its name.
type Make = Box<dyn Fn(&Path) -> String + Send + Sync>;
/// Says what is wrong with findings, if anything is.
type Expect = Box<dyn Fn(&Findings) -> Option<String> + Send + Sync>;

struct Case {
    name: &'static str,
    make: Make,
    expect: Vec<Expect>,
}

/// A case of uncompressed pictures.
fn case(
    name: &'static str,
    rate: (u32, u32),
    header: char,
    pictures: impl Fn() -> Vec<Picture> + Send + Sync + 'static,
    expect: Vec<Expect>,
) -> Case {
    let make = move |folder: &Path| {
        write(&folder.join("material.y4m"), &pictures(), rate, header, "");
        "material.y4m".to_owned()
    };
    Case { name, make: Box::new(make), expect }
}

fn wrong<T: PartialEq + std::fmt::Debug>(what: &str, found: T, expected: T) -> Option<String> {
    (found != expected).then(|| format!("{what} is {found:?}, not {expected:?}"))
}

fn fields(expected: FieldsVerdict, header: HeaderTruth) -> Expect {
    Box::new(move |findings| {
        let found = findings.fields.as_ref().unwrap();
        let sure = found.evidence.confidence.0;
        wrong("fields", found.verdict, expected)
            .or_else(|| wrong("header", found.header, header))
            .or_else(|| (expected != FieldsVerdict::Unknown && sure < 80).then(|| format!("only {sure} % sure of fields")))
    })
}

fn telecine(pulldown: Pulldown, first: FieldOrder) -> FieldsVerdict {
    FieldsVerdict::Telecine { pulldown, first }
}

/// Breaks at these frames, give or take two.
fn breaks(expected: &'static [f64]) -> Expect {
    Box::new(move |findings| {
        let found: Vec<f64> = findings.fields.as_ref().unwrap().breaks.iter().map(|at| at.to_f64() * VIDEO).collect();
        let right = found.len() == expected.len() && found.iter().zip(expected).all(|(found, told)| (found - told).abs() < 2.5);
        (!right).then(|| format!("breaks at frames {found:?}, not {expected:?}"))
    })
}

/// Stretches of these kinds (p, t, b, or f for film) that begin at these frames, give or take three.
fn stretches(expected: &'static [(char, u64)]) -> Expect {
    Box::new(move |findings| {
        let letter = |kind| match kind {
            StretchKind::Progressive => 'p',
            StretchKind::Interlaced { first: FieldOrder::TopFirst } => 't',
            StretchKind::Interlaced { .. } => 'b',
            StretchKind::Telecine { .. } => 'f',
        };
        let found: Vec<(char, u64)> = findings
            .fields
            .as_ref()
            .unwrap()
            .stretches
            .iter()
            .map(|stretch| (letter(stretch.kind), stretch.first_frame))
            .collect();
        let near = |(found, told): (&(char, u64), &(char, u64))| found.0 == told.0 && found.1.abs_diff(told.1) <= 3;
        let right = found.len() == expected.len() && found.iter().zip(expected).all(near);
        (!right).then(|| format!("stretches {found:?}, not {expected:?}"))
    })
}

/// No frame, or most frames, with combing.
fn combing(expected: bool) -> Expect {
    Box::new(move |findings| {
        let figures = &findings.fields.as_ref().unwrap().evidence.figures;
        let combed: u64 = figures.iter().find(|figure| figure.ends_with("with combing"))?.split(' ').next()?.parse().ok()?;
        (expected != (combed > 0)).then(|| format!("{combed} frames show combing"))
    })
}

fn bars(verdict: BarsVerdict, active: (u32, u32, u32, u32), aspect: &'static str) -> Expect {
    Box::new(move |findings| {
        let found = findings.bars.as_ref().unwrap();
        let part = (found.active.x, found.active.y, found.active.width, found.active.height);
        let near = |found: u32, told: u32| found.abs_diff(told) <= 2;
        let exact = near(part.0, active.0) && near(part.1, active.1) && near(part.2, active.2) && near(part.3, active.3);
        // Never into the picture, not by one line.
        let whole = part.0 <= active.0
            && part.1 <= active.1
            && part.0 + part.2 >= active.0 + active.2
            && part.1 + part.3 >= active.1 + active.3;
        wrong("bars", found.verdict, verdict)
            .or_else(|| (!(exact && whole)).then(|| format!("the picture is {part:?}, not {active:?}")))
            .or_else(|| wrong("aspect", found.aspect.as_str(), aspect))
    })
}

fn rate(verdict: RateVerdict, mean: Option<(i64, i64)>) -> Expect {
    Box::new(move |findings| {
        let found = findings.rate.as_ref().unwrap();
        wrong("rate", found.verdict, verdict).or_else(|| wrong("mean", found.mean, mean.and_then(|(a, b)| Rational::new(a, b))))
    })
}

fn pictures_a_second(expected: Option<(i64, i64)>) -> Expect {
    Box::new(move |findings| {
        wrong("pictures", findings.rate.as_ref().unwrap().pictures, expected.and_then(|(a, b)| Rational::new(a, b)))
    })
}

fn colour(expected: ColourContent) -> Expect {
    Box::new(move |findings| wrong("colour", findings.look.as_ref().unwrap().colour, expected))
}

fn range(expected: RangeVerdict) -> Expect {
    Box::new(move |findings| wrong("range", findings.look.as_ref().unwrap().range, expected))
}

/// Words that are said of the look, and words that are not.
fn look(said: &'static [&'static str], unsaid: &'static [&'static str]) -> Expect {
    Box::new(move |findings| {
        let words = findings.look.as_ref().unwrap().words.join("; ");
        let missing = said.iter().find(|word| !words.contains(**word));
        let wrong = unsaid.iter().find(|word| words.contains(**word));
        missing.map(|word| format!("“{word}” is not said: {words}")).or(wrong.map(|word| format!("“{word}” is said")))
    })
}

fn noise(expected: std::ops::RangeInclusive<u32>) -> Expect {
    Box::new(move |findings| {
        let tenths = findings.look.as_ref().unwrap().noise_tenths;
        (!tenths.is_some_and(|tenths| expected.contains(&tenths))).then(|| format!("noise of {tenths:?} tenths"))
    })
}

fn sound(expect: impl Fn(&beryl_core::findings::SoundFinding) -> Option<String> + Send + Sync + 'static) -> Expect {
    Box::new(move |findings| expect(&findings.sounds[0]))
}

/// Film frames of the lively scene.
fn film(frames: usize) -> Vec<Picture> {
    progressive(frames, FILM, lively)
}

/// A copy of pictures with noise.
fn with_noise(pictures: Vec<Picture>, deviation: f64) -> Vec<Picture> {
    pictures.into_iter().enumerate().map(|(seed, picture)| picture.noisy(deviation, seed as u64)).collect()
}

fn without(mut pictures: Vec<Picture>, cuts: &[(usize, usize)]) -> Vec<Picture> {
    for (from, count) in cuts.iter().rev() {
        pictures.drain(*from..from + count);
    }
    pictures
}

/// Every second line bright and dark: as fine as can be, and no combing.
fn striped(picture: Picture) -> Picture {
    picture.map(|x, y, luma| if x < WIDTH / 2 { luma / 2 + if y % 2 == 0 { 60 } else { 0 } } else { luma })
}

fn pan(time: f64) -> Picture {
    Picture::plain(WIDTH, HEIGHT, 0).map(|x, y, _| {
        let across = x as f64 + time * 220.0;
        (120.0 + 40.0 * (across * 0.21).sin() + 30.0 * (across * 0.057 + y as f64 * 0.09).cos()).round() as u8
    })
}

/// How bright the whole is, from 0 to 1.
fn dimmed(picture: Picture, light: f64) -> Picture {
    picture.map(|_, _, luma| (16.0 + (f64::from(luma) - 16.0) * light).round().clamp(0.0, 255.0) as u8)
}

/// Text-like strokes around the middle of a line.
fn subtitled(mut picture: Picture, line: usize, seed: u64) -> Picture {
    let mut noise = Noise::new(seed);
    for y in line..line + 12 {
        for x in WIDTH / 8..WIDTH * 7 / 8 {
            if (x / 3 + (noise.next() % 2) as usize).is_multiple_of(3) {
                picture.put(x, y, 235);
            }
        }
    }
    picture
}

fn wide(time: f64) -> Picture {
    lively_of(384, 216, time)
}

#[allow(clippy::too_many_lines)] // It is a table.
fn picture_cases() -> Vec<Case> {
    use BarsVerdict as Bars;
    use FieldsVerdict::{Interlaced, Mixed, Progressive, SoftTelecine, Unknown};
    use HeaderTruth::{FieldsDeclaredFramesFound, FramesDeclaredFieldsFound, Silent, True, WrongOrder};
    let full = (0, 0, 384, 216);
    let full_small = (0, 0, 352, 240);
    vec![
        case(
            "progressive",
            PAL,
            'p',
            || progressive(60, 25.0, lively),
            vec![
                fields(Progressive, True),
                combing(false),
                bars(Bars::None, full_small, "1.47"),
                rate(RateVerdict::AsDeclared, Some((25, 1))),
                pictures_a_second(None),
                colour(ColourContent::Colour),
                range(RangeVerdict::AsDeclared),
                look(&[], &["noise", "black", "frozen", "legal", "blocks"]),
            ],
        ),
        case(
            "progressive stored as interlaced",
            PAL,
            't',
            || progressive(60, 25.0, lively),
            vec![fields(Progressive, FieldsDeclaredFramesFound), combing(false)],
        ),
        case(
            "interlaced, top first",
            PAL,
            't',
            || interlaced(60, 25.0, First::Top, lively),
            vec![fields(Interlaced { first: TOP }, True), combing(true)],
        ),
        case(
            "interlaced, bottom first",
            PAL,
            'b',
            || interlaced(60, 25.0, First::Bottom, lively),
            vec![fields(Interlaced { first: BOTTOM }, True), combing(true)],
        ),
        case(
            "top first, the header says bottom",
            PAL,
            'b',
            || interlaced(60, 25.0, First::Top, lively),
            vec![fields(Interlaced { first: TOP }, WrongOrder)],
        ),
        case(
            "bottom first, the header says top",
            PAL,
            't',
            || interlaced(60, 25.0, First::Bottom, lively),
            vec![fields(Interlaced { first: BOTTOM }, WrongOrder)],
        ),
        case(
            "interlaced, the header says progressive",
            NTSC,
            'p',
            || interlaced(60, VIDEO, First::Top, lively),
            vec![fields(Interlaced { first: TOP }, FramesDeclaredFieldsFound)],
        ),
        case(
            "interlaced and noisy",
            PAL,
            't',
            || with_noise(interlaced(60, 25.0, First::Top, lively), 6.0),
            vec![fields(Interlaced { first: TOP }, True), combing(true), look(&["strong noise"], &[])],
        ),
        case(
            "progressive and noisy",
            PAL,
            'p',
            || with_noise(progressive(60, 25.0, lively), 6.0),
            vec![fields(Progressive, True), combing(false)],
        ),
        case(
            "interlaced, only a small thing moves, noisy",
            PAL,
            't',
            || {
                let small = |time: f64| {
                    let mut picture = ground(WIDTH, HEIGHT);
                    disc(&mut picture, 100.0 + time * 90.0, 120.0, 12.0, 220);
                    picture
                };
                with_noise(interlaced(60, 25.0, First::Top, small), 3.0)
            },
            vec![fields(Interlaced { first: TOP }, True)],
        ),
        case("a fast pan, progressive", PAL, 'p', || progressive(60, 25.0, pan), vec![fields(Progressive, True)]),
        case(
            "a fast pan, interlaced",
            PAL,
            'b',
            || interlaced(60, 25.0, First::Bottom, pan),
            vec![fields(Interlaced { first: BOTTOM }, True)],
        ),
        case(
            "3:2",
            NTSC,
            't',
            || telecined(&film(64), THREE_TWO, 0, First::Top),
            vec![
                fields(telecine(Pulldown::ThreeTwo, TOP), True),
                breaks(&[]),
                rate(RateVerdict::AsDeclared, Some((30_000, 1001))),
            ],
        ),
        case(
            "3:2 from the middle of a cycle",
            NTSC,
            't',
            || telecined(&film(64), THREE_TWO, 3, First::Bottom),
            vec![fields(telecine(Pulldown::ThreeTwo, BOTTOM), WrongOrder), breaks(&[])],
        ),
        case(
            "3:2, bottom first",
            NTSC,
            'b',
            || telecined(&film(64), THREE_TWO, 2, First::Bottom),
            vec![fields(telecine(Pulldown::ThreeTwo, BOTTOM), True), breaks(&[])],
        ),
        case(
            "3:2 and noisy, the header says progressive",
            NTSC,
            'p',
            || with_noise(telecined(&film(64), THREE_TWO, 0, First::Top), 5.0),
            vec![fields(telecine(Pulldown::ThreeTwo, TOP), FramesDeclaredFieldsFound), breaks(&[])],
        ),
        case(
            "2:3:3:2",
            NTSC,
            't',
            || telecined(&film(64), TWO_THREE_THREE_TWO, 0, First::Top),
            vec![fields(telecine(Pulldown::TwoThreeThreeTwo, TOP), True), breaks(&[])],
        ),
        case(
            "2:3:3:2, bottom first, from the middle",
            NTSC,
            'b',
            || telecined(&film(64), TWO_THREE_THREE_TWO, 4, First::Bottom),
            vec![fields(telecine(Pulldown::TwoThreeThreeTwo, BOTTOM), True), breaks(&[])],
        ),
        case(
            "2:2",
            PAL,
            't',
            || telecined(&progressive(61, 25.0, lively), TWO_TWO, 1, First::Top),
            vec![fields(telecine(Pulldown::TwoTwo, TOP), True), breaks(&[])],
        ),
        case(
            "2:2, bottom first",
            PAL,
            'b',
            || telecined(&progressive(61, 25.0, lively), TWO_TWO, 1, First::Bottom),
            vec![fields(telecine(Pulldown::TwoTwo, BOTTOM), True)],
        ),
        case(
            "3:2 with one break",
            NTSC,
            't',
            || without(telecined(&film(96), THREE_TWO, 0, First::Top), &[(60, 2)]),
            vec![fields(telecine(Pulldown::ThreeTwo, TOP), True), breaks(&[60.0])],
        ),
        case(
            "3:2 with three breaks",
            NTSC,
            't',
            || without(telecined(&film(144), THREE_TWO, 0, First::Top), &[(40, 1), (81, 3), (123, 2)]),
            vec![fields(telecine(Pulldown::ThreeTwo, TOP), True), breaks(&[40.0, 80.0, 119.0])],
        ),
        case(
            "2:3:3:2 with a break, noisy",
            NTSC,
            't',
            || with_noise(without(telecined(&film(96), TWO_THREE_THREE_TWO, 0, First::Top), &[(62, 3)]), 3.0),
            vec![fields(telecine(Pulldown::TwoThreeThreeTwo, TOP), True), breaks(&[62.0])],
        ),
        Case {
            name: "soft pulldown",
            make: Box::new(soft_pulldown),
            expect: vec![
                fields(SoftTelecine, True),
                combing(false),
                Box::new(|findings| {
                    let mean = findings.rate.as_ref().unwrap().mean;
                    wrong("mean", mean, Rational::new(24_000, 1001))
                }),
            ],
        },
        case(
            "film, then video",
            NTSC,
            't',
            || {
                let mut pictures = telecined(&film(64), THREE_TWO, 0, First::Top);
                pictures.extend(interlaced(80, VIDEO, First::Top, |time| lively(time + 9.0)));
                pictures
            },
            vec![fields(Mixed, True), stretches(&[('f', 0), ('t', 80)])],
        ),
        case(
            "video, film, video",
            NTSC,
            't',
            || {
                let mut pictures = interlaced(60, VIDEO, First::Top, lively);
                pictures.extend(telecined(&film(48), THREE_TWO, 0, First::Top));
                pictures.extend(interlaced(60, VIDEO, First::Top, |time| lively(time + 5.0)));
                pictures
            },
            vec![fields(Mixed, True), stretches(&[('t', 0), ('f', 60), ('t', 120)])],
        ),
        case(
            "whole frames, then video",
            PAL,
            't',
            || {
                let mut pictures = progressive(60, 25.0, lively);
                pictures.extend(interlaced(60, 25.0, First::Top, |time| lively(time + 7.0)));
                pictures
            },
            vec![fields(Mixed, True), stretches(&[('p', 0), ('t', 60)])],
        ),
        case(
            "a still",
            PAL,
            't',
            || vec![ground(WIDTH, HEIGHT); 60],
            vec![fields(Unknown, Silent), look(&["frozen"], &[]), pictures_a_second(None)],
        ),
        case(
            "a noisy still",
            PAL,
            't',
            || with_noise(vec![ground(WIDTH, HEIGHT); 60], 6.0),
            vec![fields(Unknown, Silent), combing(false), look(&[], &["frozen"])],
        ),
        case(
            "black throughout",
            PAL,
            'p',
            || vec![Picture::plain(WIDTH, HEIGHT, 16); 60],
            vec![
                fields(Unknown, Silent),
                bars(Bars::Unknown, full_small, "1.47"),
                colour(ColourContent::Unknown),
                look(&["black for a while"], &[]),
            ],
        ),
        case(
            "fine stripes that stand still",
            PAL,
            'p',
            || progressive(60, 25.0, |time| striped(lively(time))),
            vec![fields(Progressive, True), combing(false)],
        ),
        case(
            "fine stripes in interlaced video",
            PAL,
            't',
            || interlaced(60, 25.0, First::Top, |time| striped(lively(time))),
            vec![fields(Interlaced { first: TOP }, True)],
        ),
        case(
            "fades, progressive",
            PAL,
            'p',
            || progressive(75, 25.0, |time| dimmed(lively(time), (time * 2.0).sin().abs())),
            vec![fields(Progressive, True), combing(false)],
        ),
        case(
            "fades, interlaced",
            PAL,
            't',
            || interlaced(75, 25.0, First::Top, |time| dimmed(lively(time), 0.2 + 0.8 * (time * 2.0).sin().abs())),
            vec![fields(Interlaced { first: TOP }, True)],
        ),
        case(
            "a cut every ten frames",
            PAL,
            'p',
            || {
                progressive(80, 25.0, |time| {
                    let shot = (time * 2.5 + 0.01).floor();
                    lively(time + shot * 3.0).map(|_, _, luma| if shot as i64 % 2 == 0 { luma } else { 250 - luma })
                })
            },
            vec![fields(Progressive, True), combing(false)],
        ),
        case(
            "a dull progressive scene with fine noise frozen in",
            PAL,
            't',
            || progressive(60, 25.0, |time| dimmed(lively(time), 0.25).noisy(2.0, (time * 12.5 + 0.01) as u64)),
            vec![fields(Progressive, FieldsDeclaredFramesFound)],
        ),
        case(
            "letterbox",
            PAL,
            'p',
            || progressive(60, 25.0, |time| wide(time).boxed(28, 28, 0, 0)),
            vec![bars(Bars::Letterbox, (0, 28, 384, 160), "2.39")],
        ),
        case(
            "letterbox with noise",
            PAL,
            'p',
            || with_noise(progressive(60, 25.0, |time| wide(time).boxed(28, 28, 0, 0)), 5.0),
            vec![bars(Bars::Letterbox, (0, 28, 384, 160), "2.39")],
        ),
        case(
            "dark letterbox",
            PAL,
            'p',
            || progressive(75, 25.0, |time| dimmed(wide(time), 0.08).boxed(28, 28, 0, 0)).into_iter().collect(),
            vec![bars(Bars::Letterbox, (0, 28, 384, 160), "2.39")],
        ),
        case(
            "dark letterbox with noise",
            PAL,
            'p',
            || with_noise(progressive(75, 25.0, |time| dimmed(wide(time), 0.1).boxed(28, 28, 0, 0)), 2.0),
            vec![bars(Bars::Letterbox, (0, 28, 384, 160), "2.39")],
        ),
        case(
            "letterbox with fades",
            PAL,
            'p',
            || progressive(100, 25.0, |time| dimmed(wide(time), (time * 1.2).sin().abs()).boxed(28, 28, 0, 0)),
            vec![bars(Bars::Letterbox, (0, 28, 384, 160), "2.39")],
        ),
        case(
            "letterbox whose picture is dark above",
            PAL,
            'p',
            || {
                progressive(100, 25.0, |time| {
                    let night = wide(time).map(|_, y, luma| if y < 90 { 16 } else { luma });
                    let day = wide(time);
                    if time > 2.0 && time < 3.4 { day } else { night }.boxed(28, 28, 0, 0)
                })
            },
            vec![bars(Bars::Letterbox, (0, 28, 384, 160), "2.39")],
        ),
        case(
            "subtitles in the bars",
            PAL,
            'p',
            || {
                (0..75)
                    .map(|frame| subtitled(lively(f64::from(frame) / 25.0).boxed(40, 40, 0, 0), 210, frame as u64 / 20))
                    .collect()
            },
            vec![bars(Bars::Letterbox, (0, 40, 352, 160), "2.20")],
        ),
        case(
            "a logo in the bar",
            PAL,
            'p',
            || {
                progressive(60, 25.0, |time| {
                    let logo = |x, y| (300..340).contains(&x) && (8..24).contains(&y);
                    lively(time).boxed(40, 40, 0, 0).map(|x, y, luma| if logo(x, y) { 180 } else { luma })
                })
            },
            vec![bars(Bars::Letterbox, (0, 40, 352, 160), "2.20")],
        ),
        case(
            "pillarbox",
            PAL,
            'p',
            || progressive(60, 25.0, |time| wide(time).boxed(0, 0, 48, 48)),
            vec![bars(Bars::Pillarbox, (48, 0, 288, 216), "1.33")],
        ),
        case(
            "bars on all sides",
            PAL,
            'p',
            || progressive(60, 25.0, |time| wide(time).boxed(27, 27, 48, 48)),
            vec![bars(Bars::Both, (48, 27, 288, 162), "1.78")],
        ),
        case(
            "uneven bars",
            PAL,
            'p',
            || progressive(60, 25.0, |time| wide(time).boxed(31, 22, 7, 0)),
            vec![bars(Bars::Both, (7, 31, 377, 163), "2.31")],
        ),
        case(
            "bars that are not quite black",
            PAL,
            'p',
            || {
                progressive(60, 25.0, |time| {
                    wide(time).boxed(28, 28, 0, 0).map(|_, y, luma| if (28..188).contains(&y) { luma } else { 30 })
                })
            },
            vec![bars(Bars::Letterbox, (0, 28, 384, 160), "2.39")],
        ),
        case(
            "changing bars",
            PAL,
            'p',
            || progressive(200, 25.0, |time| if time < 4.0 { wide(time).boxed(28, 28, 0, 0) } else { wide(time) }),
            vec![bars(Bars::Changing, full, "1.78")],
        ),
        case(
            "no bars, dark shots in between",
            PAL,
            'p',
            || progressive(150, 25.0, |time| if (time as i64) % 2 == 0 { dimmed(wide(time), 0.01) } else { wide(time) }),
            vec![bars(Bars::None, full, "1.78")],
        ),
        case("exactly 30", (30, 1), 'p', || progressive(90, 30.0, lively), vec![rate(RateVerdict::AsDeclared, Some((30, 1)))]),
        case("29.97", NTSC, 'p', || progressive(90, VIDEO, lively), vec![rate(RateVerdict::AsDeclared, Some((30_000, 1001)))]),
        case(
            "25 in 50",
            (50, 1),
            'p',
            || progressive(60, 25.0, lively).into_iter().flat_map(|picture| [picture.clone(), picture]).collect(),
            vec![rate(RateVerdict::AsDeclared, Some((50, 1))), pictures_a_second(Some((25, 1))), fields(Progressive, True)],
        ),
        case(
            "24 in 60, frames repeated 3:2",
            (60_000, 1001),
            'p',
            || {
                let film = film(48);
                (0..48).flat_map(|frame| vec![film[frame].clone(); THREE_TWO[frame % 2]]).collect()
            },
            vec![pictures_a_second(Some((24_000, 1001)))],
        ),
        case(
            "black and white",
            PAL,
            'p',
            || progressive(60, 25.0, |time| lively(time).tinted(128, 128)),
            vec![colour(ColourContent::Grey), look(&["black and white"], &["cast"])],
        ),
        case(
            "black and white with a cast",
            PAL,
            'p',
            || progressive(60, 25.0, |time| lively(time).tinted(116, 140)),
            vec![colour(ColourContent::GreyWithCast { cb: 116, cr: 140 })],
        ),
        case(
            "full range, not declared",
            PAL,
            'p',
            || {
                progressive(60, 25.0, |time| {
                    lively(time).map(|x, _, luma| {
                        if x < 24 {
                            0
                        } else if x > 330 {
                            255
                        } else {
                            luma
                        }
                    })
                })
            },
            vec![range(RangeVerdict::FullMarkedLimited)],
        ),
        Case {
            name: "limited range, full declared",
            make: Box::new(|folder| {
                let pictures = progressive(50, 25.0, |time| {
                    lively(time).map(|x, _, luma| {
                        if x < 24 {
                            16
                        } else if x > 330 {
                            235
                        } else {
                            luma.clamp(16, 235)
                        }
                    })
                });
                write(&folder.join("material.y4m"), &pictures, PAL, 'p', " XCOLORRANGE=FULL");
                "material.y4m".to_owned()
            }),
            expect: vec![range(RangeVerdict::LimitedMarkedFull)],
        },
        case(
            "illegal levels",
            PAL,
            'p',
            || progressive(60, 25.0, |time| lively(time).map(|x, y, luma| if x < 60 && y < 60 { 250 } else { luma })),
            vec![look(&["beyond what EBU R 103 allows"], &[]), range(RangeVerdict::AsDeclared)],
        ),
        case(
            "black and frozen stretches",
            PAL,
            'p',
            || {
                progressive(150, 25.0, |time| match time {
                    time if time < 1.0 => Picture::plain(WIDTH, HEIGHT, 16),
                    time if (3.0..5.0).contains(&time) => lively(3.0),
                    time => lively(time),
                })
            },
            vec![look(&["black for a while, 1 time", "frozen for a second or more, 1 time"], &[]), fields(Progressive, True)],
        ),
        case("a little noise", PAL, 'p', || with_noise(progressive(40, 25.0, lively), 2.0), vec![noise(14..=26)]),
        case("visible noise", PAL, 'p', || with_noise(progressive(40, 25.0, lively), 4.0), vec![noise(30..=48)]),
        case(
            "coding blocks",
            PAL,
            'p',
            || {
                progressive(40, 25.0, |time| {
                    let fine = lively(time);
                    let copy = fine.luma.clone();
                    fine.map(|x, y, _| copy[(y / 8 * 8 + 4).min(HEIGHT - 1) * WIDTH + x / 8 * 8 + 4])
                })
            },
            vec![look(&["coding blocks"], &[])],
        ),
    ]
}

/// Whole film frames in an MPEG-2 stream of 29.97, whose flags (ISO/IEC 13818-2, 6.3.10) ask a player
/// to repeat the first field of every other frame.
fn soft_pulldown(folder: &Path) -> String {
    let recording =
        Recording { format: "mpeg2video", picture: Some(recorded("mpeg2video", (1001, 30_000))), ..Recording::default() };
    let path = folder.join("material.m2v");
    record(&path, &recording, &film(72), |frame| (frame, 1));
    let mut bytes = std::fs::read(&path).unwrap();
    let starts: Vec<usize> = (0..bytes.len() - 9).filter(|at| bytes[*at..at + 4] == [0, 0, 1, 0xB5]).map(|at| at + 4).collect();
    let mut picture = 0;
    for at in starts {
        match bytes[at] >> 4 {
            1 => bytes[at + 1] &= !0b1000,
            8 => {
                let (top_first, repeat) = [(true, true), (false, false), (false, true), (true, false)][picture % 4];
                bytes[at + 3] = bytes[at + 3] & !0b1000_0010 | u8::from(top_first) << 7 | u8::from(repeat) << 1;
                bytes[at + 4] |= 0b1000_0000;
                picture += 1;
            }
            _ => {}
        }
    }
    assert_eq!(picture, 72, "every picture has its extension");
    std::fs::write(&path, bytes).unwrap();
    "material.m2v".to_owned()
}

fn recorded(encoder: &'static str, clock: (i64, i64)) -> RecordedPicture {
    RecordedPicture {
        encoder,
        options: if encoder == "ffv1" { vec![] } else { vec![("qmin", "2"), ("qmax", "2"), ("bf", "0"), ("g", "12")] },
        pixel_format: "yuv420p",
        width: u32::try_from(WIDTH).unwrap(),
        height: u32::try_from(HEIGHT).unwrap(),
        pixel_aspect: Rational::ONE,
        clock: Rational::new(clock.0, clock.1).unwrap(),
        rate: Rational::new(clock.1, clock.0).unwrap().min(Rational::whole(25)).max(Rational::whole(24)),
        fields: FieldOrder::Progressive,
        colour: Colour::default(),
    }
}

/// Records grey pictures, each at a tick for so many ticks.
fn record(path: &Path, recording: &Recording, pictures: &[Picture], times: impl Fn(i64) -> (i64, i64)) {
    let mut recorder = Recorder::begin(path, recording).unwrap();
    for (number, picture) in pictures.iter().enumerate() {
        let rgb: Vec<u8> = picture.luma.iter().flat_map(|luma| [*luma; 3]).collect();
        let (at, length) = times(number as i64);
        recorder.picture(&rgb, at, length).unwrap();
    }
    recorder.finish().unwrap();
}

fn timed(name: &'static str, frames: usize, times: fn(i64) -> (i64, i64), expect: Vec<Expect>) -> Case {
    let make = move |folder: &Path| {
        let recording = Recording { format: "matroska", picture: Some(recorded("ffv1", (1, 1000))), ..Recording::default() };
        let pictures: Vec<Picture> = (0..frames).map(|frame| lively(times(frame as i64).0 as f64 / 1000.0)).collect();
        record(&folder.join("material.mkv"), &recording, &pictures, times);
        "material.mkv".to_owned()
    };
    Case { name, make: Box::new(make), expect }
}

fn time_cases() -> Vec<Case> {
    vec![
        timed(
            "variable rate",
            80,
            |frame| (frame * 40 + (frame * frame * 7) % 23, 40),
            vec![Box::new(|findings| {
                wrong("rate", findings.rate.as_ref().unwrap().verdict, RateVerdict::Variable)
                    .or_else(|| (findings.rate.as_ref().unwrap().histogram.len() < 5).then(|| "no histogram".to_owned()))
            })],
        ),
        timed(
            "milliseconds that round 29.97",
            120,
            |frame| ((frame * 100_100 + 1500) / 3000, 33),
            vec![rate(RateVerdict::AsDeclared, Some((30_000, 1001)))],
        ),
        timed(
            "milliseconds that round 30",
            120,
            |frame| ((frame * 100 + 1) / 3, 33),
            vec![rate(RateVerdict::AsDeclared, Some((30, 1)))],
        ),
        timed(
            "missing frames",
            120,
            |frame| ((frame + if frame > 50 { 2 } else { 0 }) * 40, 40),
            vec![
                Box::new(|findings| wrong("missing", findings.rate.as_ref().unwrap().missing, 2)),
                Box::new(|findings| wrong("mean", findings.rate.as_ref().unwrap().mean, Some(Rational::whole(25)))),
            ],
        ),
    ]
}

/// A case of stereo sound at 48 kHz from a function of the moment in seconds.
fn heard(name: &'static str, seconds: usize, sample: fn(f64) -> (f64, f64), expect: Vec<Expect>) -> Case {
    let make = move |folder: &Path| {
        let stream = RecordedSound { encoder: "pcm_s24le", sample_rate: 48_000, channels: 2, language: None };
        let recording = Recording { format: "wav", sounds: vec![stream], ..Recording::default() };
        let mut recorder = Recorder::begin(&folder.join("material.wav"), &recording).unwrap();
        let samples: Vec<f32> = (0..48_000 * seconds)
            .flat_map(|moment| {
                let (left, right) = sample(moment as f64 / 48_000.0);
                [left as f32, right as f32]
            })
            .collect();
        samples.chunks(9600).for_each(|part| recorder.sound(0, part).unwrap());
        recorder.finish().unwrap();
        "material.wav".to_owned()
    };
    Case { name, make: Box::new(make), expect }
}

/// A tone of so many Hz with this peak in dBFS.
fn tone(hertz: f64, level: f64, time: f64) -> f64 {
    10_f64.powf(level / 20.0) * (time * hertz * std::f64::consts::TAU).sin()
}

fn sound_cases() -> Vec<Case> {
    let channels = |expected: ChannelRelation| sound(move |found| wrong("channels", found.channels, expected));
    vec![
        // EBU Tech 3341, case 1: -23 dBFS at 1000 Hz on both channels is -23 LUFS, give or take 0.1.
        heard(
            "loudness",
            20,
            |time| (tone(1000.0, -23.0, time), tone(1000.0, -23.0, time)),
            vec![
                sound(|found| {
                    let integrated = found.integrated.unwrap_or(0);
                    (!(-2310..=-2290).contains(&integrated)).then(|| format!("{integrated} hundredths of LUFS"))
                }),
                sound(|found| {
                    (!found.true_peak.is_some_and(|peak| (-2320..=-2280).contains(&peak)))
                        .then(|| format!("{:?}", found.true_peak))
                }),
                channels(ChannelRelation::DualMono),
            ],
        ),
        heard("stereo", 6, |time| (tone(440.0, -20.0, time), tone(613.0, -20.0, time)), vec![channels(ChannelRelation::Stereo)]),
        heard(
            "out of phase",
            6,
            |time| (tone(440.0, -20.0, time), -tone(440.0, -20.0, time)),
            vec![channels(ChannelRelation::OutOfPhase)],
        ),
        heard("left only", 6, |time| (tone(440.0, -20.0, time), 0.0), vec![channels(ChannelRelation::OnlyFirst)]),
        heard("right only", 6, |time| (0.0, tone(440.0, -20.0, time)), vec![channels(ChannelRelation::OnlySecond)]),
        heard(
            "silence",
            6,
            |_| (0.0, 0.0),
            vec![sound(|found| wrong("loudness", found.integrated, None)), channels(ChannelRelation::Single)],
        ),
        heard(
            "a silent stretch",
            12,
            |time| if (4.0..8.0).contains(&time) { (0.0, 0.0) } else { (tone(440.0, -20.0, time), tone(300.0, -20.0, time)) },
            vec![sound(|found| match found.silent.as_slice() {
                [span] if (span.from.to_f64() - 4.2).abs() < 0.4 && (span.to.to_f64() - 8.0).abs() < 0.2 => None,
                spans => Some(format!("silent {spans:?}")),
            })],
        ),
        heard(
            "clipping",
            6,
            |time| (tone(440.0, 4.0, time).clamp(-1.0, 1.0), tone(613.0, -10.0, time)),
            vec![sound(|found| (found.clipped < 1000).then(|| format!("clipped {} times", found.clipped)))],
        ),
        heard(
            "loud but not clipped",
            6,
            |time| (tone(440.0, -0.2, time), tone(613.0, -10.0, time)),
            vec![sound(|found| wrong("clipped", found.clipped, 0))],
        ),
    ]
}

/// Makes the material of a case, scans it, and says what is wrong with the findings.
fn faults_of(case: &Case) -> Vec<String> {
    let folder = tempfile::tempdir().unwrap();
    let name = (case.make)(folder.path());
    let file = FileRef::within(folder.path().display().to_string(), name.parse().unwrap());
    let (reading, _) = scan(&SourceRef::of(file), false, &Control::default(), &|_| {}).unwrap();
    let findings = reading.findings.unwrap();
    case.expect.iter().filter_map(|expect| expect(&findings)).collect()
}

/// Each case is a test of its own, by its name.
fn main() {
    silence_libraries();
    let mut arguments = Arguments::from_args();
    // Each scan takes all the cores it gets.
    arguments.test_threads.get_or_insert(2);
    let cases = picture_cases().into_iter().chain(time_cases()).chain(sound_cases());
    let test = |case: Case| {
        Trial::test(case.name, move || {
            let faults = faults_of(&case);
            if faults.is_empty() { Ok(()) } else { Err(faults.join("; ").into()) }
        })
    };
    libtest_mimic::run(&arguments, cases.map(test).collect()).exit();
}
