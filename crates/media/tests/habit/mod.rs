//! A table of what files are like, each row a small file made for it.

use std::path::Path;

use beryl_core::facts::Chapter;
use beryl_core::picture::{Colour, FieldOrder};
use beryl_core::problem::Problem;
use beryl_core::time::Rational;
use beryl_media::{Beside, RecordedPicture, RecordedSound, Recorder, Recording, Stamping};
use serde_json::{Value, json};

/// Frames a second.
const RATE: i64 = 25;
const SAMPLES: u32 = 48_000;
/// Seconds that a recording lasts.
pub(crate) const LENGTH: i64 = 4;
/// When it flashes and clicks, in seconds of the recording: near its start, in the middle, near its end.
pub(crate) const FLASHES: [f64; 3] = [0.6, 2.0, 3.6];

/// A file with a habit, and what is to become of it.
#[derive(Clone)]
pub(crate) struct Habit {
    pub(crate) name: String,
    format: &'static str,
    options: Vec<(&'static str, &'static str)>,
    picture: Option<Shown>,
    sounds: Vec<Sounded>,
    chapters: Vec<Chapter>,
    timecode: Option<&'static str>,
    beside: Option<Beside>,
    /// Languages of subtitle streams, and a line in each.
    subtitles: Vec<&'static str>,
    /// Changes to the bytes of the finished file.
    patches: Vec<fn(&mut Vec<u8>)>,
    /// A file of the same format that follows in it.
    follows: Option<Box<Habit>>,
    /// Files of the same kind that follow in it, as they are stored one behind the other.
    repeats: usize,
    /// How many flashes are seen in what is made of it, and how many clicks are heard, each at a flash; not judged
    /// where there are none.
    pub(crate) flashes: usize,
    pub(crate) clicks: usize,
    /// Whether its picture and sound are out of step by themselves, by as much as its first click is.
    pub(crate) is_off: bool,
    /// Milliseconds that the file's own clock cannot tell apart.
    pub(crate) coarse: f64,
    /// Facts that its reading must tell: a place in the document and its value.
    pub(crate) facts: Vec<(&'static str, Value)>,
    /// What the plan of a preset says.
    pub(crate) plan_says: Vec<(&'static str, &'static str)>,
    /// Presets that are refused in the plan, and with which words.
    pub(crate) refused: Vec<(&'static str, &'static str)>,
    /// Points that may be noted.
    pub(crate) noted: Vec<&'static str>,
    /// Remarks that must be made, with one preset at least.
    pub(crate) remarks: Vec<&'static str>,
    /// Points that are wrong, for which the file is withheld.
    pub(crate) wrong: Vec<&'static str>,
    /// Why no file comes of it where there is to be a picture.
    pub(crate) unmade: Option<&'static str>,
    /// Why it cannot be read, where it cannot.
    pub(crate) unreadable: Option<&'static str>,
}

/// The picture of a recording.
#[derive(Clone)]
struct Shown {
    encoder: &'static str,
    options: Vec<(&'static str, &'static str)>,
    pixel_format: &'static str,
    size: (u32, u32),
    aspect: Rational,
    rate: Rational,
    fields: FieldOrder,
    colour: Colour,
    /// Frames; all of the length where it does not say.
    frames: Option<i64>,
    stamps: Stamping,
    /// Which frames are there.
    there: fn(i64) -> bool,
}

/// A sound stream of a recording.
#[derive(Clone)]
struct Sounded {
    encoder: &'static str,
    rate: u32,
    channels: u32,
    language: Option<&'static str>,
    length: f64,
    stamps: Stamping,
    /// The moment of the recorded samples that is heard at a moment of the recording.
    plays: fn(f64) -> f64,
}

fn plainly(time: Rational) -> Rational {
    time
}

impl Habit {
    fn new(name: impl Into<String>, format: &'static str) -> Self {
        let (encoder, pixel_format) = match format {
            "webm" => ("libvpx", "yuv420p"),
            "avi" => ("mpeg4", "yuv420p"),
            "dv" => ("dvvideo", "yuv420p"),
            _ => ("libx264", "yuv420p"),
        };
        let options = match encoder {
            "libx264" => vec![("preset", "ultrafast"), ("bf", "2"), ("g", "25")],
            "libvpx" => vec![("deadline", "realtime"), ("cpu-used", "8"), ("b", "1000000")],
            _ => vec![],
        };
        let sound = match format {
            "webm" => "libopus",
            "avi" | "wav" => "pcm_s16le",
            _ => "aac",
        };
        Self {
            name: name.into(),
            format,
            options: vec![],
            picture: Some(Shown {
                encoder,
                options,
                pixel_format,
                size: (160, 120),
                aspect: Rational::ONE,
                rate: Rational::whole(RATE),
                fields: FieldOrder::Progressive,
                colour: Colour::default(),
                frames: None,
                stamps: plainly,
                there: |_| true,
            }),
            sounds: vec![Sounded {
                encoder: sound,
                rate: SAMPLES,
                channels: 2,
                language: None,
                length: LENGTH as f64,
                stamps: plainly,
                plays: |time| time,
            }],
            chapters: vec![],
            timecode: None,
            beside: None,
            subtitles: vec![],
            patches: vec![],
            follows: None,
            repeats: 0,
            flashes: FLASHES.len(),
            clicks: FLASHES.len(),
            is_off: false,
            coarse: match format {
                // One stamp of a millisecond in the picture, and one in the sound.
                "matroska" | "webm" => 1.0,
                _ => 0.1,
            },
            facts: vec![],
            plan_says: vec![],
            refused: vec![],
            noted: vec![],
            remarks: vec![],
            wrong: vec![],
            unmade: None,
            unreadable: None,
        }
    }

    fn picture(mut self, change: impl FnOnce(&mut Shown)) -> Self {
        change(self.picture.as_mut().unwrap());
        self
    }

    fn sound(mut self, change: impl FnOnce(&mut Sounded)) -> Self {
        change(&mut self.sounds[0]);
        self
    }

    fn with(mut self, change: impl FnOnce(&mut Self)) -> Self {
        change(&mut self);
        self
    }

    fn codec(self, encoder: &'static str, pixel_format: &'static str) -> Self {
        self.picture(|picture| (picture.encoder, picture.pixel_format, picture.options) = (encoder, pixel_format, vec![]))
    }

    /// Whose flashes and clicks cannot be told, or are judged elsewhere.
    fn unheard(mut self) -> Self {
        (self.flashes, self.clicks) = (0, 0);
        self
    }

    fn silent(mut self) -> Self {
        self.sounds.clear();
        self.refused.push(("sound-only", "no sound"));
        self
    }

    /// Makes the file; answers its name.
    pub(crate) fn make(&self, folder: &Path) -> Result<String, Problem> {
        let extension = match self.format {
            "matroska" => "mkv",
            "mpegts" => "ts",
            "vob" => "mpg",
            other => other,
        };
        let name = format!("habit.{extension}");
        let path = folder.join(&name);
        self.record(&path)?;
        let mut bytes = std::fs::read(&path).unwrap();
        let once = bytes.clone();
        (0..self.repeats).for_each(|_| bytes.extend_from_slice(&once));
        if let Some(next) = &self.follows {
            next.record(&path)?;
            bytes.extend(std::fs::read(&path).unwrap());
        }
        self.patches.iter().for_each(|patch| patch(&mut bytes));
        std::fs::write(&path, bytes).unwrap();
        Ok(name)
    }

    fn record(&self, path: &Path) -> Result<(), Problem> {
        let picture = self.picture.as_ref().map(|shown| RecordedPicture {
            encoder: shown.encoder,
            options: shown.options.clone(),
            pixel_format: shown.pixel_format,
            width: shown.size.0,
            height: shown.size.1,
            pixel_aspect: shown.aspect,
            clock: shown.rate.inverse().unwrap(),
            rate: shown.rate,
            fields: shown.fields,
            colour: shown.colour,
        });
        let sounds = self.sounds.iter().map(|sound| RecordedSound {
            encoder: sound.encoder,
            sample_rate: sound.rate,
            channels: sound.channels,
            language: sound.language,
        });
        let recording = Recording {
            format: self.format,
            picture,
            sounds: sounds.collect(),
            timecode: self.timecode,
            beside: self.beside,
            subtitles: self.subtitles.clone(),
            chapters: self.chapters.clone(),
            options: self.options.clone(),
            ..Recording::default()
        };
        let mut recorder = Recorder::begin(path, &recording)?;
        let first_sound = usize::from(self.picture.is_some());
        if let Some(shown) = &self.picture {
            recorder.stamp(0, shown.stamps);
        }
        for (number, sound) in self.sounds.iter().enumerate() {
            recorder.stamp(first_sound + number, sound.stamps);
        }
        for number in 0..self.subtitles.len() {
            recorder.subtitle(number, 500, 1500, "Clay")?;
        }
        // Picture and sound in turn, a frame's time of each.
        let rate = self.picture.as_ref().map_or(Rational::whole(RATE), |shown| shown.rate);
        let frames =
            self.picture.as_ref().and_then(|shown| shown.frames).unwrap_or_else(|| (rate * Rational::whole(LENGTH)).round());
        let steps = frames.max((rate * Rational::whole(LENGTH)).round());
        for frame in 0..steps {
            if let Some(shown) = self.picture.as_ref().filter(|shown| frame < frames && (shown.there)(frame)) {
                let bright = FLASHES.iter().any(|flash| {
                    let first = (flash * rate.to_f64()).round() as i64;
                    (first..first + 3).contains(&frame)
                });
                let pixels = (shown.size.0 * shown.size.1) as usize;
                // A ground of two greys, so that a picture that is turned or torn is another one.
                let line = (0..pixels * 3).map(|place| {
                    let upper = place < pixels * 3 / 2;
                    if bright {
                        235
                    } else if upper {
                        40
                    } else {
                        60
                    }
                });
                recorder.picture(&line.collect::<Vec<u8>>(), frame, 1)?;
            }
            for (number, sound) in self.sounds.iter().enumerate() {
                let sample =
                    |frame: i64| (Rational::whole(frame).divided_by(rate).unwrap() * Rational::whole(sound.rate.into())).round();
                let (from, to) = (sample(frame), sample(frame + 1));
                let most = (sound.length * f64::from(sound.rate)).round() as i64;
                let clicks: Vec<i64> =
                    FLASHES.iter().map(|flash| ((sound.plays)(*flash) * f64::from(sound.rate)).round() as i64).collect();
                let samples: Vec<f32> = (from..to.min(most))
                    .flat_map(|sample| vec![if clicks.contains(&sample) { 0.9 } else { 0.0 }; sound.channels as usize])
                    .collect();
                if !samples.is_empty() {
                    recorder.sound(number, &samples)?;
                }
            }
        }
        recorder.finish()
    }
}

/// All habits.
pub(crate) fn table() -> Vec<Habit> {
    let mut table = Vec::new();
    for format in ["mp4", "mov", "matroska", "webm", "mpegts"] {
        table.extend(times(format));
    }
    table.extend(clocks());
    table.extend(headers());
    table.extend(streams());
    table.extend(forms());
    table
}

/// What can be wrong with times, in one container.
fn times(format: &'static str) -> Vec<Habit> {
    let name = |what: &str| format!("{format}, {what}");
    vec![
        Habit::new(name("nothing odd"), format),
        Habit::new(name("sound 2.5 s late"), format)
            .sound(|sound| {
                sound.stamps = |time| time + Rational::constant(5, 2);
                sound.plays = |time| time - 2.5;
                sound.length = 1.5;
            })
            .with(|habit| {
                habit.clicks = 1;
                habit.plan_says = vec![("light-proxy", "silence until the sound begins")];
            }),
        Habit::new(name("picture 2.4 s late"), format)
            .picture(|picture| picture.stamps = |time| time + Rational::constant(12, 5))
            .sound(|sound| sound.plays = |time| time + 2.4)
            .with(|habit| {
                habit.clicks = 1;
                habit.plan_says = vec![("light-proxy", "frames before the first picture")];
            }),
        Habit::new(name("a gap of 60 ms in the sound"), format)
            .sound(|sound| {
                sound.stamps = |time| if time < Rational::ONE { time } else { time + Rational::constant(60, 1000) };
                sound.plays = |time| if time < 1.0 { time } else { time - 0.06 };
            })
            .with(|habit| habit.remarks = vec!["silence stands there"]),
        Habit::new(name("a gap of 1.3 s in the sound"), format)
            .sound(|sound| {
                sound.stamps = |time| if time < Rational::constant(22, 10) { time } else { time + Rational::constant(13, 10) };
                sound.plays = |time| if time < 2.2 { time } else { time - 1.3 };
            })
            .with(|habit| {
                habit.remarks = vec!["silence stands there"];
                habit.noted = vec!["duration"];
            }),
        Habit::new(name("sound that drifts by 0.1 %"), format).sound(|sound| {
            sound.stamps = |time| time * Rational::constant(1001, 1000);
            sound.plays = |time| time / 1.001;
        }),
        Habit::new(name("stamps from 600 s on"), format)
            .picture(|picture| picture.stamps = |time| time + Rational::whole(600))
            .sound(|sound| sound.stamps = |time| time + Rational::whole(600)),
    ]
}

/// Four recordings one behind the other, in the formats that are made for it.
pub(crate) fn four_in_one() -> [Habit; 2] {
    let one = Habit::new("mpegts, four recordings in one", "mpegts");
    let other =
        Habit::new("vob, four recordings in one", "vob").codec("mpeg2video", "yuv420p").sound(|sound| sound.encoder = "mp2");
    [one, other].map(|habit| habit.with(|habit| habit.repeats = 3))
}

/// Clocks that jump, wrap or stand still.
fn clocks() -> Vec<Habit> {
    // A clock of 33 bits and 90 kHz begins anew after 95 443.7 s.
    const BEFORE_WRAP: Rational = Rational::whole(95_442);
    vec![
        Habit::new("mpegts, two recordings in one", "mpegts").with(|habit| {
            habit.repeats = 1;
            (habit.flashes, habit.clicks) = (2 * FLASHES.len(), 2 * FLASHES.len());
            habit.remarks = vec!["clock jumps back"];
            habit.noted = vec!["duration", "frames"];
        }),
        Habit::new("mpegts, the clock wraps", "mpegts")
            .picture(|picture| picture.stamps = |time| time + BEFORE_WRAP)
            .sound(|sound| sound.stamps = |time| time + BEFORE_WRAP),
        Habit::new("matroska, a hole in the picture", "matroska")
            .codec("ffv1", "yuv420p")
            .picture(|picture| picture.there = |frame| !(30..40).contains(&frame))
            .with(|habit| habit.noted = vec!["frames"]),
        Habit::new("matroska, stamps that stand still", "matroska").codec("ffv1", "yuv420p").picture(|picture| {
            picture.stamps = |time| {
                let frame = (time * Rational::whole(RATE)).round();
                Rational::new(if (60..64).contains(&frame) { 60 } else { frame }, RATE).unwrap()
            };
        }),
        Habit::new("mp4, below nought", "mp4")
            .picture(|picture| picture.stamps = |time| time - Rational::constant(1, 5))
            .sound(|sound| sound.stamps = |time| time - Rational::constant(1, 5)),
        rate_of("mp4, 187.35 frames a second", Rational::constant(78_125, 417)),
        rate_of("mp4, 26.777 frames a second", Rational::constant(26_777, 1000)),
        rate_of("mp4, 59.94 frames a second", Rational::constant(60_000, 1001)),
        rate_of("matroska, 23.976 frames a second", Rational::constant(24_000, 1001)).with(|habit| {
            habit.format = "matroska";
        }),
        Habit::new("mp4, steps of 16.7 ms with holes", "mp4")
            .picture(|picture| {
                picture.rate = Rational::whole(60);
                picture.options = vec![("preset", "ultrafast"), ("bf", "0")];
                // A screen that stands still gives no frames.
                picture.there = |frame| frame == 0 || frame >= 35 && (frame % 60 < 40 || frame % 20 == 0);
            })
            .with(|habit| {
                habit.noted = vec!["frames"];
                (habit.flashes, habit.clicks) = (0, 0);
                habit.plan_says = vec![("light-proxy", "60 constant")];
            }),
    ]
}

fn rate_of(name: &str, rate: Rational) -> Habit {
    Habit::new(name, "mp4").picture(|picture| picture.rate = rate).with(|habit| {
        // A flash lies on a frame: half a frame's time apart from the click.
        habit.coarse = 500.0 / rate.to_f64() + 1.0;
    })
}

/// The places behind the names of all boxes or elements with this name.
fn places(bytes: &[u8], name: &[u8]) -> Vec<usize> {
    bytes.windows(name.len()).enumerate().filter(|(_, window)| *window == name).map(|(at, _)| at + name.len()).collect()
}

/// Writes so many bytes behind the name of a box or element.
fn patch_after(bytes: &mut [u8], name: &[u8], nth: usize, offset: usize, with: &[u8]) {
    let at = places(bytes, name)[nth] + offset;
    bytes[at..at + with.len()].copy_from_slice(with);
}

/// Headers that lie, or tell what is seldom told.
fn headers() -> Vec<Habit> {
    let mut rows = vec![
        Habit::new("mp4, fragmented without a duration", "mp4").with(|habit| {
            habit.options = vec![("movflags", "frag_keyframe+empty_moov+default_base_moof")];
            // Its writer moves the first packets of sound to nought.
            habit.remarks = vec!["silence stands there"];
        }),
        Habit::new("mp4, no offsets of composition", "mp4").with(|habit| {
            // The box that tells the order of showing is renamed: stamps come in the order of decoding.
            habit.patches = vec![|bytes| {
                let at = bytes.windows(4).position(|window| window == b"ctts").unwrap();
                bytes[at..at + 4].copy_from_slice(b"free");
            }];
            // Which of the first frames is which, nobody can tell.
            habit.coarse = 1.0 + 40.0;
            habit.noted = vec!["frames"];
        }),
        Habit::new("mp4, a duration that is twice too long", "mp4").with(|habit| {
            habit.patches = vec![|bytes| patch_after(bytes, b"mvhd", 0, 16, &8000_u32.to_be_bytes())];
        }),
        Habit::new("matroska, a duration of 165 s", "matroska").with(|habit| {
            // The element 4489 with a double of eight bytes.
            habit.patches = vec![|bytes| patch_after(bytes, &[0x44, 0x89, 0x88], 0, 0, &165_000.0_f64.to_be_bytes())];
            habit.noted = vec!["duration", "frames"];
        }),
        Habit::new("mp4, its end trimmed by its edit list", "mp4").with(|habit| {
            // Version and flags, count, then the length in the movie's clock of a thousandth.
            habit.patches = vec![|bytes| (0..2).for_each(|track| patch_after(bytes, b"elst", track, 8, &3000_u32.to_be_bytes()))];
            (habit.flashes, habit.clicks) = (2, 2);
        }),
        Habit::new("mp4, its start trimmed by its edit list", "mp4").with(|habit| {
            // A second later in the clock of the picture and in that of the sound.
            habit.patches = vec![|bytes| {
                for (track, clock) in [(0, 12_800), (1, SAMPLES)] {
                    patch_after(bytes, b"elst", track, 8, &3000_u32.to_be_bytes());
                    let at = places(bytes, b"elst")[track] + 12;
                    let begins = u32::from_be_bytes(bytes[at..at + 4].try_into().unwrap());
                    bytes[at..at + 4].copy_from_slice(&(begins + clock).to_be_bytes());
                }
            }];
            (habit.flashes, habit.clicks) = (2, 2);
        }),
        Habit::new("mp4, priming that nothing tells of", "mp4").with(|habit| {
            habit.patches = vec![|bytes| {
                let at = places(bytes, b"edts")[1] - 4;
                bytes[at..at + 4].copy_from_slice(b"free");
            }];
            habit.is_off = true;
        }),
        Habit::new("matroska, a default duration of half a frame", "matroska").with(|habit| {
            // The element 23E383 of four bytes, in nanoseconds.
            habit.patches = vec![|bytes| patch_after(bytes, &[0x23, 0xE3, 0x83, 0x84], 0, 0, &20_000_000_u32.to_be_bytes())];
            habit.facts = vec![("/streams/0/content/frame_rate", json!("25"))];
        }),
        Habit::new("mp4, fields declared and frames there", "mp4").picture(|picture| picture.fields = FieldOrder::TopFirst),
        Habit::new("mp4, cut in its media", "mp4").unheard().with(|habit| {
            habit.options = vec![("movflags", "+faststart")];
            habit.patches = vec![|bytes| bytes.truncate(bytes.len() * 6 / 10)];
            habit.wrong = vec!["frames", "length of the source"];
            habit.remarks = vec!["damage"];
        }),
        Habit::new("matroska, 0 frames", "matroska").picture(|picture| picture.frames = Some(0)).unheard().with(|habit| {
            habit.unmade = Some("not one frame of the source could be decoded");
        }),
        Habit::new("matroska, 10 hours", "matroska").silent().unheard().picture(|picture| {
            (picture.rate, picture.frames, picture.size) = (Rational::constant(1, 10), Some(3600), (32, 32));
        }),
        Habit::new("matroska, one frame", "matroska").picture(|picture| picture.frames = Some(1)).unheard(),
    ];
    // The nine numbers of a display matrix in 16.16 and 2.30, for each of the eight ways to store a picture.
    for (name, matrix, orientation) in [
        ("turned by 90°", [0, 1, -1, 0], json!({"mirrored": false, "degrees": 90})),
        ("turned by 180°", [-1, 0, 0, -1], json!({"mirrored": false, "degrees": 180})),
        ("turned by 270°", [0, -1, 1, 0], json!({"mirrored": false, "degrees": 270})),
        ("mirrored", [-1, 0, 0, 1], json!({"mirrored": true, "degrees": 0})),
        ("mirrored, turned by 90°", [0, -1, -1, 0], json!({"mirrored": true, "degrees": 90})),
        ("mirrored, turned by 180°", [1, 0, 0, -1], json!({"mirrored": true, "degrees": 180})),
        ("mirrored, turned by 270°", [0, 1, 1, 0], json!({"mirrored": true, "degrees": 270})),
    ] {
        let patch: fn(&mut Vec<u8>) = match matrix {
            [0, 1, -1, 0] => |bytes| turn(bytes, [0, 1, -1, 0]),
            [-1, 0, 0, -1] => |bytes| turn(bytes, [-1, 0, 0, -1]),
            [0, -1, 1, 0] => |bytes| turn(bytes, [0, -1, 1, 0]),
            [-1, 0, 0, 1] => |bytes| turn(bytes, [-1, 0, 0, 1]),
            [0, -1, -1, 0] => |bytes| turn(bytes, [0, -1, -1, 0]),
            [1, 0, 0, -1] => |bytes| turn(bytes, [1, 0, 0, -1]),
            _ => |bytes| turn(bytes, [0, 1, 1, 0]),
        };
        rows.push(Habit::new(format!("mp4, stored {name}"), "mp4").with(|habit| {
            habit.patches = vec![patch];
            habit.facts = vec![("/streams/0/content/orientation", orientation)];
            habit.plan_says = vec![("same-h264", "brought upright")];
        }));
    }
    for (format, codes) in
        [("mov", ["fre", "cze", "deu", "zho"]), ("mp4", ["fra", "ces", "deu", "zho"]), ("matroska", ["fre", "cze", "ger", "chi"])]
    {
        for code in codes {
            let canonical = match code {
                "fre" => "fra",
                "cze" => "ces",
                "ger" => "deu",
                "chi" => "zho",
                code => code,
            };
            rows.push(Habit::new(format!("{format}, language {code}"), format).sound(|sound| sound.language = Some(code)).with(
                |habit| {
                    let readable = format != "mov" || code != "cze" && code != "fre" && code != "deu" && code != "zho";
                    if readable {
                        habit.facts = vec![("/streams/1/language", json!(canonical))];
                    }
                },
            ));
        }
    }
    rows
}

/// Writes a display matrix into the header of the first track.
fn turn(bytes: &mut [u8], [a, b, c, d]: [i32; 4]) {
    let fixed = |number: i32| (number * 65_536).to_be_bytes();
    // Behind the name: version and flags, times, ids, duration, layers and volume are 40 bytes.
    for (place, number) in [(0, a), (4, b), (12, c), (16, d)] {
        patch_after(bytes, b"tkhd", 0, 40 + place, &fixed(number));
    }
}

/// Streams: how many, how long, of which kind.
fn streams() -> Vec<Habit> {
    let second = |habit: &mut Habit| {
        let mut other = habit.sounds[0].clone();
        (other.length, other.language) = (2.5, Some("fra"));
        habit.sounds.push(other);
    };
    vec![
        Habit::new("mp4, two sound tracks of different length", "mp4").with(second).unheard(),
        Habit::new("matroska, two sound tracks of different length", "matroska").with(second).unheard(),
        Habit::new("matroska, Vorbis", "matroska").sound(|sound| sound.encoder = "libvorbis"),
        Habit::new("matroska, Opus", "matroska").sound(|sound| sound.encoder = "libopus"),
        Habit::new("matroska, MP3", "matroska").sound(|sound| sound.encoder = "libmp3lame").with(|habit| habit.coarse = 1.0),
        Habit::new("matroska, FLAC", "matroska").sound(|sound| sound.encoder = "flac"),
        Habit::new("matroska, AC-3", "matroska").sound(|sound| sound.encoder = "ac3").unheard(),
        Habit::new("mov, sound at 44.1 kHz", "mov").sound(|sound| sound.rate = 44_100),
        Habit::new("mp4, one channel", "mp4").sound(|sound| sound.channels = 1),
        Habit::new("mp4, six channels", "mp4").sound(|sound| sound.channels = 6).unheard(),
        Habit::new("mp4, no sound", "mp4").silent(),
        Habit::new("wav, sound alone", "wav").with(|habit| {
            habit.picture = None;
            habit.refused = vec![("light-proxy", "no picture"), ("same-h264", "no picture"), ("master-keeper", "no picture")];
        }),
        Habit::new("mov, timecode that drops", "mov").picture(|picture| picture.rate = Rational::constant(30_000, 1001)).with(
            |habit| {
                habit.timecode = Some("00:59:59;28");
                habit.facts = vec![("/timecode", json!("00:59:59;28"))];
                habit.plan_says = vec![("light-proxy", "00:59:59;28")];
                habit.coarse = 500.0 * 1001.0 / 30_000.0;
            },
        ),
        Habit::new("mp4, chapters", "mp4").with(|habit| {
            habit.chapters = vec![
                Chapter { start: Rational::ZERO, end: Rational::whole(2), title: "Clay".to_owned() },
                Chapter { start: Rational::whole(2), end: Rational::whole(4), title: "Fire".to_owned() },
            ];
        }),
        Habit::new("mp4, a cover", "mp4").with(|habit| habit.beside = Some(Beside::Cover)),
        Habit::new("mp4, two pictures", "mp4").with(|habit| habit.beside = Some(Beside::Again)),
        Habit::new("matroska, two pictures", "matroska").with(|habit| habit.beside = Some(Beside::Again)),
        Habit::new("matroska, subtitles as text", "matroska").with(|habit| {
            habit.subtitles = vec!["deu"];
            habit.facts = vec![("/streams/2/content/are_pictures", json!(false))];
        }),
        Habit::new("matroska, subtitles as pictures", "matroska").with(|habit| {
            habit.subtitles = vec!["deu"];
            habit.patches = vec![|bytes| {
                let name = b"S_TEXT/UTF8";
                let at = places(bytes, name)[0] - name.len();
                bytes[at..at + name.len()].copy_from_slice(b"S_VOBSUB\0\0\0");
            }];
            habit.facts = vec![("/streams/2/content/are_pictures", json!(true))];
        }),
        Habit::new("mov, a track of what the camera noted", "mov").with(|habit| {
            habit.timecode = Some("01:00:00:00");
            habit.patches = vec![|bytes| {
                for at in places(bytes, b"tmcd") {
                    bytes[at - 4..at].copy_from_slice(b"camm");
                }
            }];
        }),
        Habit::new("mpegts, the picture becomes smaller", "mpegts").with(|habit| {
            habit.follows = Some(Box::new(Habit::new("", "mpegts").picture(|picture| picture.size = (96, 64))));
            (habit.flashes, habit.clicks) = (2 * FLASHES.len(), 2 * FLASHES.len());
            habit.remarks = vec!["96×64"];
            habit.noted = vec!["duration", "frames"];
        }),
        Habit::new("mpegts, pixels become wider", "mpegts").with(|habit| {
            habit.follows = Some(Box::new(Habit::new("", "mpegts").picture(|picture| picture.aspect = Rational::constant(4, 3))));
            (habit.flashes, habit.clicks) = (2 * FLASHES.len(), 2 * FLASHES.len());
            habit.remarks = vec!["clock jumps back"];
            habit.noted = vec!["duration", "frames"];
        }),
        Habit::new("mpegts, two channels become one", "mpegts").with(|habit| {
            habit.follows = Some(Box::new(Habit::new("", "mpegts").sound(|sound| sound.channels = 1)));
            (habit.flashes, habit.clicks) = (2 * FLASHES.len(), 2 * FLASHES.len());
            habit.remarks = vec!["clock jumps back"];
            habit.noted = vec!["duration", "frames"];
        }),
        Habit::new("avi, as it is", "avi"),
        Habit::new("vob, MPEG-2 in a program stream", "vob").codec("mpeg2video", "yuv420p").sound(|sound| sound.encoder = "mp2"),
        Habit::new("flv, as it is", "flv").with(|habit| (habit.coarse, habit.noted) = (1.0, vec!["duration"])),
    ]
}

/// Forms of pictures.
pub(crate) fn forms() -> Vec<Habit> {
    let form = |name: &str, encoder, pixel_format| {
        Habit::new(format!("matroska, {name}"), "matroska").codec(encoder, pixel_format).silent()
    };
    let short = |habit: Habit| habit.picture(|picture| picture.frames = Some(4));
    let sized = |width, height| {
        short(Habit::new(format!("matroska, {width}×{height}"), "matroska").codec("ffv1", "yuv420p").silent())
            .picture(|picture| picture.size = (width, height))
    };
    vec![
        form("4:1:1", "ffv1", "yuv411p"),
        form("4:2:2", "ffv1", "yuv422p"),
        form("4:4:4", "ffv1", "yuv444p"),
        form("4:4:0", "ffv1", "yuv440p"),
        form("nv12", "rawvideo", "nv12"),
        form("grey", "ffv1", "gray"),
        form("grey in 16 bit", "ffv1", "gray16le"),
        form("10 bit", "ffv1", "yuv420p10le"),
        form("4:2:2 in 12 bit", "ffv1", "yuv422p12le"),
        form("4:4:4 in 16 bit", "ffv1", "yuv444p16le"),
        form("RGB", "png", "rgb24"),
        form("RGB in 16 bit", "png", "rgb48be"),
        form("RGB in planes, 10 bit", "ffv1", "gbrp10le"),
        form("alpha", "png", "rgba"),
        form("alpha in planes", "ffv1", "yuva420p"),
        form("full range", "mjpeg", "yuvj420p"),
        form("full range, 4:2:2", "mjpeg", "yuvj422p"),
        sized(811, 613),
        sized(17, 97).with(|habit| habit.refused.push(("light-proxy", "each side must have"))),
        sized(2, 2).with(|habit| {
            habit.refused.extend([
                ("light-proxy", "each side must have"),
                ("same-h264", "each side must have"),
                ("master-keeper", "each side must have"),
            ]);
        }),
        sized(9842, 706).with(|habit| {
            habit.refused.extend([("same-h264", "each side must have"), ("master-keeper", "each side must have")]);
        }),
        Habit::new("matroska, pixels that are not square", "matroska").picture(|picture| {
            picture.size = (720, 576);
            picture.aspect = Rational::constant(16, 15);
        }),
        Habit::new("mov, fields, the lower first", "mov")
            .codec("prores_ks", "yuv422p10le")
            .picture(|picture| {
                picture.size = (720, 576);
                picture.fields = FieldOrder::BottomFirst;
                picture.frames = Some(10);
            })
            .unheard(),
    ]
}
