//! The clips: what each is on the outside, and how it is made.

use std::path::{Path, PathBuf};

use beryl_core::facts::Chapter;
use beryl_core::lut::fenmark_log;
use beryl_core::picture::{Colour, FieldOrder, MatrixCoefficients, Primaries, Range, Transfer};
use beryl_core::problem::Problem;
use beryl_core::time::Rational;
use beryl_media::{RecordedPicture, RecordedSound, Recorder, Recording};

use crate::canvas::{Canvas, grain};
use crate::scenes::{Scene, draw};
use crate::sounds::{Voice, sample};

/// How the drawn moments become frames.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Motion {
    /// Each frame shows one moment.
    Frames,
    /// Each frame holds two fields of two moments.
    Fields,
    /// Film frames at four fifths of the rate, spread over fields by 3:2.
    Telecine,
    /// Frames of irregular length, as a screen recorder makes them.
    Irregular,
}

/// What is done to each picture after it is drawn.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Finish {
    /// Nothing.
    Clean,
    /// Grain or tape noise of this strength.
    Grain(f32),
    /// No colour but a warm cast, and grain.
    GreyCast,
    /// Flat, as a camera's logarithmic curve gives it.
    Log,
}

/// One clip.
#[derive(Debug, Clone)]
pub struct Clip {
    /// The path below the folder of the demo media.
    pub path: &'static str,
    /// Seconds.
    pub seconds: i64,
    /// What is seen.
    pub scene: Scene,
    /// How it moves.
    pub motion: Motion,
    /// How it is finished.
    pub finish: Finish,
    /// What is heard, one voice a stream.
    pub voices: Vec<Voice>,
    /// The file.
    pub recording: Recording,
}

impl Clip {
    /// The same clip with all its streams of sound so many times over.
    #[must_use]
    pub fn with_sound_repeated(self, times: usize) -> Self {
        let again = self.voices.len() * times;
        let voices = self.voices.iter().cycle().take(again).cloned().collect();
        let sounds = self.recording.sounds.iter().cycle().take(again).cloned().collect();
        Self { voices, recording: Recording { sounds, ..self.recording }, ..self }
    }
}

/// The tags of pictures of the limited range in a space of standard displays.
const fn colour(primaries: Primaries, matrix: MatrixCoefficients) -> Colour {
    let transfer = if matches!(primaries, Primaries::Bt709) { Transfer::Bt709 } else { Transfer::Bt601 };
    Colour {
        primaries: Some(primaries),
        transfer: Some(transfer),
        matrix: Some(matrix),
        range: Some(Range::Limited),
        chroma_location: None,
    }
}

fn picture(
    encoder: &'static str,
    options: &[(&'static str, &'static str)],
    pixel_format: &'static str,
    size: (u32, u32),
    rate: Rational,
) -> RecordedPicture {
    RecordedPicture {
        encoder,
        options: options.to_vec(),
        pixel_format,
        width: size.0,
        height: size.1,
        pixel_aspect: Rational::ONE,
        clock: rate.inverse().unwrap_or(Rational::ONE),
        rate,
        fields: FieldOrder::Progressive,
        colour: colour(Primaries::Bt709, MatrixCoefficients::Bt709),
    }
}

fn sound(encoder: &'static str, channels: u32, language: Option<&'static str>) -> RecordedSound {
    RecordedSound { encoder, sample_rate: 48_000, channels, language }
}

const P25: Rational = Rational::whole(25);
const P24: Rational = Rational::whole(24);
const NTSC: Rational = Rational::constant(30_000, 1001);

/// All clips of the demo.
#[must_use]
pub fn clips() -> Vec<Clip> {
    let clip = |path, seconds, scene, recording| Clip {
        path,
        seconds,
        scene,
        motion: Motion::Frames,
        finish: Finish::Clean,
        voices: Vec::new(),
        recording,
    };
    let x264 = [("preset", "veryfast"), ("crf", "14"), ("g", "250")];
    let card = |path, scene| Clip {
        finish: Finish::Log,
        voices: vec![Voice::Roar],
        ..clip(
            path,
            6,
            scene,
            Recording {
                format: "mov",
                picture: Some(picture(
                    "libx264",
                    &[("preset", "superfast"), ("crf", "16"), ("g", "25"), ("profile", "high422")],
                    "yuv422p10le",
                    (1280, 720),
                    P25,
                )),
                sounds: vec![sound("pcm_s24le", 2, None)],
                timecode: Some("14:05:10:00"),
                reel: Some("C014"),
                // The library would else name the codec as an AVC-Intra class, which it is not.
                options: vec![("strict", "unofficial")],
                ..Recording::default()
            },
        )
    };
    vec![
        Clip {
            voices: vec![Voice::Roar],
            finish: Finish::Grain(5.0),
            ..clip(
                "kiln-07_firing_cam-a.mov",
                6,
                Scene::Firing,
                Recording {
                    format: "mov",
                    picture: Some(picture(
                        "prores_ks",
                        &[("profile", "hq"), ("vendor", "brl0"), EVEN, EVEN_QUANTISER],
                        "yuv422p10le",
                        (1920, 1080),
                        P25,
                    )),
                    sounds: vec![sound("pcm_s24le", 2, None)],
                    timecode: Some("10:00:00:00"),
                    reel: Some("A007"),
                    tags: vec![("title", "Kiln 7, first firing")],
                    ..Recording::default()
                },
            )
        },
        Clip {
            voices: vec![Voice::Roar],
            ..clip(
                "kiln-07_firing_cam-b.mp4",
                8,
                Scene::Wheel,
                Recording {
                    format: "mp4",
                    picture: Some(picture("libx264", &x264, "yuv420p", (1920, 1080), P25)),
                    sounds: vec![sound("aac", 2, None)],
                    timecode: Some("10:00:04:12"),
                    ..Recording::default()
                },
            )
        },
        Clip {
            motion: Motion::Fields,
            finish: Finish::Grain(26.0),
            voices: vec![Voice::Crowd],
            ..clip(
                "openday-94_tape-2.mov",
                8,
                Scene::OpenDay,
                Recording {
                    format: "mov",
                    picture: Some(RecordedPicture {
                        pixel_aspect: Rational::constant(16, 15),
                        fields: FieldOrder::TopFirst,
                        colour: colour(Primaries::Bt601With625, MatrixCoefficients::Bt601With625),
                        ..picture("mpeg2video", &[("b", "15000000"), ("g", "12"), ("bf", "2")], "yuv420p", (720, 576), P25)
                    }),
                    sounds: vec![sound("pcm_s16le", 2, None)],
                    timecode: Some("00:00:00:00"),
                    tags: vec![("title", "Open day 1994, tape 2")],
                    ..Recording::default()
                },
            )
        },
        Clip {
            motion: Motion::Telecine,
            finish: Finish::Grain(12.0),
            voices: vec![Voice::Presses],
            ..clip(
                "works-film_1973_r1.mov",
                8,
                Scene::PressHall,
                Recording {
                    format: "mov",
                    picture: Some(RecordedPicture {
                        pixel_aspect: Rational::constant(8, 9),
                        fields: FieldOrder::BottomFirst,
                        colour: colour(Primaries::Bt601With525, MatrixCoefficients::Bt601With525),
                        ..picture("mpeg2video", &[("b", "12000000"), ("g", "15"), ("bf", "2")], "yuv420p", (720, 480), NTSC)
                    }),
                    sounds: vec![sound("pcm_s16le", 1, None)],
                    timecode: Some("01:00:00;00"),
                    reel: Some("W73R1"),
                    ..Recording::default()
                },
            )
        },
        Clip {
            voices: vec![Voice::Music],
            ..clip(
                "trailer_scope_v6.mp4",
                6,
                Scene::Trailer,
                Recording {
                    format: "mp4",
                    picture: Some(picture("libx264", &x264, "yuv420p", (1920, 1080), P24)),
                    sounds: vec![sound("aac", 2, None)],
                    tags: vec![("title", "The Kiln Year, trailer")],
                    ..Recording::default()
                },
            )
        },
        Clip {
            finish: Finish::GreyCast,
            voices: vec![Voice::Presses],
            ..clip(
                "reel-11_grey.mov",
                6,
                Scene::Chimney,
                Recording {
                    format: "mov",
                    picture: Some(picture(
                        "prores_ks",
                        &[("profile", "lt"), ("vendor", "brl0"), EVEN, EVEN_QUANTISER],
                        "yuv422p10le",
                        (1440, 1080),
                        P25,
                    )),
                    sounds: vec![sound("pcm_s16le", 1, None)],
                    timecode: Some("02:00:00:00"),
                    reel: Some("R11"),
                    ..Recording::default()
                },
            )
        },
        Clip {
            voices: vec![Voice::LowVoice, Voice::HighVoice],
            ..clip(
                "interview_odile_en-fr.mkv",
                12,
                Scene::Interview,
                Recording {
                    format: "matroska",
                    picture: Some(picture("libx264", &x264, "yuv420p", (1280, 720), P25)),
                    sounds: vec![sound("aac", 2, Some("eng")), sound("aac", 2, Some("fre"))],
                    subtitles: vec!["eng"],
                    tags: vec![("title", "Odile on glazes")],
                    chapters: vec![
                        Chapter { start: Rational::ZERO, end: Rational::whole(5), title: "How she came to the works".to_owned() },
                        Chapter { start: Rational::whole(5), end: Rational::whole(12), title: "Ash and salt".to_owned() },
                    ],
                    ..Recording::default()
                },
            )
        },
        Clip {
            motion: Motion::Irregular,
            voices: vec![Voice::Desk],
            ..clip(
                "glaze-db_screen.mp4",
                10,
                Scene::Database,
                Recording {
                    format: "mp4",
                    picture: Some(RecordedPicture {
                        clock: Rational::constant(1, 90_000),
                        ..picture(
                            "libx264",
                            &[("preset", "veryfast"), ("crf", "16"), ("g", "600")],
                            "yuv420p",
                            (1680, 1050),
                            Rational::whole(20),
                        )
                    }),
                    sounds: vec![RecordedSound { sample_rate: 44_100, ..sound("aac", 1, None) }],
                    ..Recording::default()
                },
            )
        },
        card("card-C014/CLIPS/001/clip-0001.mov", Scene::Glaze),
        card("card-C014/CLIPS/002/clip-0002.mov", Scene::Firing),
        card("card-C014/CLIPS/003/clip-0003.mov", Scene::Wheel),
    ]
}

/// Makes a clip below `folder`; one that is there already is left as it is.
///
/// # Errors
/// A [`Problem`] where the disk or a codec refuses.
pub fn make(clip: &Clip, folder: &Path) -> Result<PathBuf, Problem> {
    beryl_media::silence_libraries();
    let path = folder.join(clip.path);
    if path.is_file() {
        return Ok(path);
    }
    let parent = path.parent().unwrap_or(folder);
    let failed = |error: std::io::Error| Problem::from_io(format!("{} could not be made", clip.path), &error);
    std::fs::create_dir_all(parent).map_err(failed)?;
    // Under another name until it is whole, so that a start that is broken off leaves no half clip.
    let unfinished = path.with_extension("unfinished");
    record(clip, &unfinished)?;
    std::fs::rename(&unfinished, &path).map_err(failed)?;
    Ok(path)
}

fn record(clip: &Clip, path: &Path) -> Result<(), Problem> {
    let mut recorder = Recorder::begin(path, &clip.recording)?;
    let Some(picture) = &clip.recording.picture else { return recorder.finish() };
    let length = Rational::whole(clip.seconds);
    let mut sounded = vec![0_i64; clip.voices.len()];
    let mut tick = 0;
    for frame in 0.. {
        let start = Rational::whole(tick) * picture.clock;
        if start >= length {
            break;
        }
        let ticks = frame_ticks(clip, picture, frame);
        let rgb = draw_frame(clip, picture, frame, start);
        recorder.picture(&rgb, tick, ticks)?;
        tick += ticks;
        let end = (Rational::whole(tick) * picture.clock).min(length);
        for (number, voice) in clip.voices.iter().enumerate() {
            let settings = &clip.recording.sounds[number];
            let until = (end * Rational::whole(settings.sample_rate.into())).round();
            let samples: Vec<f32> = (sounded[number]..until)
                .flat_map(|moment| {
                    let time = moment as f32 / settings.sample_rate as f32;
                    (0..settings.channels).map(move |channel| sample(*voice, time, settings.sample_rate, channel))
                })
                .collect();
            sounded[number] = until;
            if !samples.is_empty() {
                recorder.sound(number, &samples)?;
            }
        }
        for line in SUBTITLES.iter().filter(|_| !clip.recording.subtitles.is_empty()) {
            let begins = Rational::constant(line.0, 1000);
            if begins >= start && begins < end {
                recorder.subtitle(0, line.0, line.1, line.2)?;
            }
        }
    }
    recorder.finish()
}

const SUBTITLES: [(i64, i64, &str); 4] = [
    (600, 2_800, "I was sixteen when I first saw the kilns."),
    (3_100, 4_900, "They let me carry the tiles."),
    (5_400, 8_000, "A glaze is ash, salt and patience."),
    (8_600, 11_400, "You only know when the door opens."),
];

/// Lengths of a screen recorder's frames, in ticks of 90 kHz: bursts at 30 a second, and rests.
fn frame_ticks(clip: &Clip, picture: &RecordedPicture, frame: u32) -> i64 {
    if clip.motion != Motion::Irregular {
        return picture.rate.inverse().and_then(|length| length.divided_by(picture.clock)).map_or(1, Rational::round);
    }
    match frame % 24 {
        0..=11 => 3_000,
        12..=17 => 4_500,
        18 => 45_000,
        19..=21 => 6_007,
        _ => 9_011,
    }
}

fn draw_frame(clip: &Clip, picture: &RecordedPicture, frame: u32, start: Rational) -> Vec<u8> {
    let aspect = f64::from(picture.width) / f64::from(picture.height) * picture.pixel_aspect.to_f64();
    // A shape of a picture: between one and three.
    #[allow(clippy::cast_possible_truncation)]
    let aspect = aspect as f32;
    let moment = |time: Rational| {
        let mut canvas = Canvas::new(picture.width, picture.height, aspect);
        // Seconds of a short clip.
        #[allow(clippy::cast_possible_truncation)]
        draw(clip.scene, &mut canvas, time.to_f64() as f32);
        canvas.rgb()
    };
    let half = picture.rate.inverse().unwrap_or(Rational::ONE) * Rational::constant(1, 2);
    let row = picture.width as usize * 3;
    let top_first = picture.fields != FieldOrder::BottomFirst;
    let mut rgb = match clip.motion {
        Motion::Frames | Motion::Irregular => moment(start),
        Motion::Fields => weave(&moment(start), &moment(start + half), row, top_first),
        Motion::Telecine => {
            let [first, second] = telecined(frame);
            let film = |number: u32| Rational::whole(number.into()) * Rational::constant(1001, 24_000);
            let one = moment(film(first));
            if first == second { one } else { weave(&one, &moment(film(second)), row, top_first) }
        }
    };
    finish(&mut rgb, clip.finish, frame);
    rgb
}

/// One quantiser for the whole picture: the encoder need not look for one for every slice, which
/// would take most of the time that drawing all media takes.
const EVEN: (&str, &str) = ("flags", "+qscale");
/// Quantiser 5 in the library's lambda units of 118.
const EVEN_QUANTISER: (&str, &str) = ("global_quality", "590");

/// The film frames in the first and second field of a video frame: of four film frames the first
/// gives two fields, the second three, the third two, the fourth three.
#[must_use]
pub const fn telecined(frame: u32) -> [u32; 2] {
    let four = frame / 5 * 4;
    match frame % 5 {
        0 => [four, four],
        1 => [four + 1, four + 1],
        2 => [four + 1, four + 2],
        3 => [four + 2, four + 3],
        _ => [four + 3, four + 3],
    }
}

/// Lines of two moments in turn: the earlier one on the lines of the field that comes first.
#[must_use]
pub fn weave(earlier: &[u8], later: &[u8], row: usize, top_first: bool) -> Vec<u8> {
    let mut woven = Vec::with_capacity(earlier.len());
    for (number, (earlier, later)) in earlier.chunks_exact(row).zip(later.chunks_exact(row)).enumerate() {
        woven.extend_from_slice(if (number % 2 == 0) == top_first { earlier } else { later });
    }
    woven
}

fn finish(rgb: &mut [u8], finish: Finish, frame: u32) {
    match finish {
        Finish::Clean => {}
        Finish::Grain(strength) => grain(rgb, strength, frame),
        Finish::GreyCast => {
            for pixel in rgb.chunks_exact_mut(3) {
                let grey = (u32::from(pixel[0]) * 54 + u32::from(pixel[1]) * 183 + u32::from(pixel[2]) * 19) / 256;
                let part = |per_mille: u32| u8::try_from((grey * per_mille / 1000).min(255)).unwrap_or(255);
                pixel.copy_from_slice(&[part(1060), part(1000), part(880)]);
            }
            grain(rgb, 14.0, frame);
        }
        Finish::Log => {
            let curve: [u8; 256] = std::array::from_fn(|value| {
                // From the display's curve to light, and to the curve of the house's cameras.
                let light = (value as f64 / 255.0).powf(2.2);
                // Between 0 and 255.
                #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
                let code = (fenmark_log(light) * 255.0).round() as u8;
                code
            });
            for part in rgb.iter_mut() {
                *part = curve[usize::from(*part)];
            }
        }
    }
}
