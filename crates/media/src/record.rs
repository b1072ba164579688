//! Writing files from pictures and sound that a program makes: demo media and the fixtures of tests.

use std::collections::{BTreeMap, VecDeque};
use std::path::Path;

use beryl_core::facts::Chapter;
use beryl_core::picture::{Colour, FieldOrder, MatrixCoefficients};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::sound::layout::usual;
use beryl_core::time::Rational;

use crate::raw::{
    AvError, Encoder, EncoderKind, EncoderSettings, EncoderStream, Frame, Graph, GraphInput, Medium, Output, OutputChapter,
    Packet, Stop, WriteError, pixel_format_number,
};

/// A file to be made.
#[derive(Debug, Clone, Default)]
pub struct Recording {
    /// The library's name of the format: `mov`, `mp4`, `matroska`, `wav`, `mpegts`, `vob` …
    pub format: &'static str,
    /// The picture, if any.
    pub picture: Option<RecordedPicture>,
    /// A second picture stream, behind all others.
    pub beside: Option<Beside>,
    /// Sound streams.
    pub sounds: Vec<RecordedSound>,
    /// Languages of text subtitle streams (Matroska only).
    pub subtitles: Vec<&'static str>,
    /// Start timecode.
    pub timecode: Option<&'static str>,
    /// Reel name.
    pub reel: Option<&'static str>,
    /// Tags of the file.
    pub tags: Vec<(&'static str, &'static str)>,
    /// Chapters.
    pub chapters: Vec<Chapter>,
    /// Options of the format.
    pub options: Vec<(&'static str, &'static str)>,
}

/// A picture stream beside the picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Beside {
    /// One picture that stands for the file, as players show it.
    Cover,
    /// The same pictures once more, as from a second camera.
    Again,
}

/// A picture stream to be made.
#[derive(Debug, Clone)]
pub struct RecordedPicture {
    /// The library's name of the encoder.
    pub encoder: &'static str,
    /// Its options.
    pub options: Vec<(&'static str, &'static str)>,
    /// The pixel format that is encoded.
    pub pixel_format: &'static str,
    /// Columns.
    pub width: u32,
    /// Lines.
    pub height: u32,
    /// Width of a pixel over its height.
    pub pixel_aspect: Rational,
    /// The clock of the time stamps.
    pub clock: Rational,
    /// Frames a second, the mean where they vary.
    pub rate: Rational,
    /// Fields, if any.
    pub fields: FieldOrder,
    /// Colour tags.
    pub colour: Colour,
}

/// A sound stream to be made.
#[derive(Debug, Clone)]
pub struct RecordedSound {
    /// The library's name of the encoder.
    pub encoder: &'static str,
    /// Samples a second.
    pub sample_rate: u32,
    /// How many channels, in their usual layout.
    pub channels: u32,
    /// Language.
    pub language: Option<&'static str>,
}

/// Where on the file's clock something is stamped that belongs to a moment of the recording; both in seconds.
pub type Stamping = fn(Rational) -> Rational;

struct PictureTrack {
    settings: RecordedPicture,
    graph: Graph,
    encoder: Encoder,
}

struct SoundTrack {
    settings: RecordedSound,
    graph: Graph,
    encoder: Encoder,
    written: i64,
}

/// A file being made.
pub struct Recorder {
    output: Output,
    picture: Option<PictureTrack>,
    beside: Option<(usize, PictureTrack)>,
    sounds: Vec<SoundTrack>,
    first_subtitle: usize,
    stampings: BTreeMap<usize, Stamping>,
}

fn problem(path: &Path, error: &WriteError) -> Problem {
    let what = format!("{} could not be written", path.display());
    match error {
        WriteError::System(error) => Problem::from_io(what, error),
        WriteError::Library(error) => {
            Problem::new(ProblemKind::Internal, what, "the libraries refused it").with_details(error.to_string())
        }
    }
}

fn fault(error: AvError) -> Problem {
    problem(Path::new("the recording"), &WriteError::Library(error))
}

fn write_all(
    output: &mut Output,
    slot: usize,
    stamping: Option<Stamping>,
    packets: Result<VecDeque<Packet>, AvError>,
) -> Result<(), Problem> {
    for mut packet in packets.map_err(fault)? {
        packet.set_stream(slot);
        stamp(output, &mut packet, stamping);
        output.write_in_any_order(packet).map_err(|error| problem(Path::new("the recording"), &error))?;
    }
    Ok(())
}

/// Moves a packet to where it is to be stamped; what is decoded before it is shown keeps its distance.
fn stamp(output: &Output, packet: &mut Packet, stamping: Option<Stamping>) {
    let Some((stamping, shown)) = stamping.zip(packet.pts()) else { return };
    let clock = output.encoder_clock(packet.stream());
    let moved = stamping(Rational::whole(shown) * clock).divided_by(clock).map_or(shown, Rational::round);
    packet.move_by(moved - shown);
}

const RGB: &str = "rgb24";

impl Recorder {
    /// Begins a file; one that bears the name is replaced.
    ///
    /// # Errors
    /// A [`Problem`] where the file cannot be made or a setting is refused.
    pub fn begin(path: &Path, recording: &Recording) -> Result<Self, Problem> {
        Self::open(path, recording).map_err(|error| problem(path, &error))
    }

    fn open(path: &Path, recording: &Recording) -> Result<Self, WriteError> {
        let file = std::fs::OpenOptions::new().read(true).write(true).create(true).truncate(true).open(path)?;
        let mut output = Output::create(Medium::new(file, Stop::default()), recording.format)?;
        let global_header = Output::wants_global_header(recording.format);
        let picture = recording.picture.as_ref().map(|settings| picture_track(settings, global_header)).transpose()?;
        if let Some(track) = &picture {
            let mut stream = track.encoder.stream()?;
            if track.settings.encoder == "libx264" && matches!(recording.format, "mov" | "mp4") {
                stream.set_tag(*b"avc1");
            }
            // A varying rate is none.
            stream.rate = stream.rate.filter(|rate| rate.inverse() == Some(track.settings.clock));
            let mut tags = BTreeMap::new();
            tags.extend(recording.timecode.map(|timecode| ("timecode".to_owned(), timecode.to_owned())));
            tags.extend(recording.reel.map(|reel| ("reel_name".to_owned(), reel.to_owned())));
            output.add_stream(&stream, &tags, &["default".to_owned()])?;
        }
        let sounds: Vec<SoundTrack> =
            recording.sounds.iter().map(|settings| sound_track(settings, global_header)).collect::<Result<_, _>>()?;
        for (number, track) in sounds.iter().enumerate() {
            let mut tags = BTreeMap::new();
            tags.extend(track.settings.language.map(|language| ("language".to_owned(), language.to_owned())));
            let roles = if number == 0 { vec!["default".to_owned()] } else { Vec::new() };
            output.add_stream(&track.encoder.stream()?, &tags, &roles)?;
        }
        let first_subtitle = usize::from(picture.is_some()) + sounds.len();
        for language in &recording.subtitles {
            let tags = BTreeMap::from([("language".to_owned(), (*language).to_owned())]);
            output.add_stream(&EncoderStream::text_subtitles()?, &tags, &[])?;
        }
        let beside = match recording.beside {
            Some(beside) => Some((first_subtitle + recording.subtitles.len(), beside_track(beside, recording, global_header)?)),
            None => None,
        };
        if let Some((_, track)) = &beside {
            let roles = if recording.beside == Some(Beside::Cover) { vec!["attached_pic".to_owned()] } else { Vec::new() };
            output.add_stream(&track.encoder.stream()?, &BTreeMap::new(), &roles)?;
        }
        output.set_tags(&recording.tags.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect());
        let chapters: Vec<OutputChapter> = recording
            .chapters
            .iter()
            .map(|chapter| OutputChapter { start: chapter.start, end: chapter.end, title: chapter.title.clone() })
            .collect();
        output.set_chapters(&chapters)?;
        output.write_header(&recording.options)?;
        let mut recorder = Self { output, picture, beside, sounds, first_subtitle, stampings: BTreeMap::new() };
        if recording.beside == Some(Beside::Cover) {
            recorder.cover().map_err(WriteError::Library)?;
        }
        Ok(recorder)
    }

    /// Writes the one picture that stands for the file: grey.
    fn cover(&mut self) -> Result<(), AvError> {
        let Some((slot, track)) = &mut self.beside else { return Ok(()) };
        let (width, height) = (track.settings.width, track.settings.height);
        let mut frame = Frame::video(width, height, pixel_format_number(RGB)?)?;
        frame.write_plane(0, width as usize * 3, &vec![128; (width * height * 3) as usize])?;
        frame.set_times(0, 1);
        track.graph.push(Some(frame))?;
        track.encoder.send(track.graph.pull()?.as_ref())?;
        track.encoder.send(None)?;
        for mut packet in track.encoder.receive()? {
            packet.set_stream(*slot);
            self.output.write_in_any_order(packet).map_err(|_| AvError::own("write the cover", "the file refuses it"))?;
        }
        Ok(())
    }

    /// Stamps a stream otherwise than it is recorded, from now on: 0 is the picture where there is one, then come the
    /// sound streams.
    pub fn stamp(&mut self, stream: usize, stamping: Stamping) {
        self.stampings.insert(stream, stamping);
    }

    /// Adds a picture of RGB bytes, line by line, shown from `tick` for `ticks`.
    ///
    /// # Errors
    /// A [`Problem`] where the disk or the encoder refuses.
    pub fn picture(&mut self, rgb: &[u8], tick: i64, ticks: i64) -> Result<(), Problem> {
        let Some(track) = &mut self.picture else { return Ok(()) };
        let (width, height) = (track.settings.width, track.settings.height);
        let mut frame = pixel_format_number(RGB).and_then(|format| Frame::video(width, height, format)).map_err(fault)?;
        frame.write_plane(0, width as usize * 3, rgb).map_err(fault)?;
        frame.set_times(tick, ticks);
        track.graph.push(Some(frame)).map_err(fault)?;
        let converted = track.graph.pull().map_err(fault)?;
        let Some(mut converted) = converted else { return Ok(()) };
        converted.set_times(tick, ticks);
        converted.prepare_for_encoding(track.settings.fields, &track.settings.colour);
        track.encoder.send(Some(&converted)).map_err(fault)?;
        self.write_picture(ticks)?;
        if let Some((slot, again)) = self.beside.as_mut().filter(|(_, track)| track.settings.encoder != COVER) {
            again.encoder.send(Some(&converted)).map_err(fault)?;
            write_all(&mut self.output, *slot, None, again.encoder.receive())?;
        }
        Ok(())
    }

    fn write_picture(&mut self, ticks: i64) -> Result<(), Problem> {
        let Some(track) = &mut self.picture else { return Ok(()) };
        for mut packet in track.encoder.receive().map_err(fault)? {
            packet.set_stream(0);
            if packet.duration() == 0 {
                packet.set_duration(ticks);
            }
            stamp(&self.output, &mut packet, self.stampings.get(&0).copied());
            self.output.write_in_any_order(packet).map_err(|error| problem(Path::new("the recording"), &error))?;
        }
        Ok(())
    }

    /// Adds sound to the stream with this number: samples from -1 to 1, channel after channel for
    /// each moment.
    ///
    /// # Errors
    /// A [`Problem`] where the disk or the encoder refuses.
    pub fn sound(&mut self, number: usize, samples: &[f32]) -> Result<(), Problem> {
        let track = &mut self.sounds[number];
        let moments = samples.len() / track.settings.channels as usize;
        let count = u32::try_from(moments).unwrap_or(u32::MAX);
        // The number of interleaved floating-point samples in the library.
        const FLOAT: i32 = 3;
        let mut frame = Frame::audio(count, track.settings.channels, track.settings.sample_rate, FLOAT).map_err(fault)?;
        let bytes: Vec<u8> = samples.iter().flat_map(|sample| sample.to_ne_bytes()).collect();
        frame.write_sound(&bytes).map_err(fault)?;
        frame.set_times(track.written, i64::from(count));
        track.written += i64::from(count);
        track.graph.push(Some(frame)).map_err(fault)?;
        self.drain_sound(number)
    }

    fn drain_sound(&mut self, number: usize) -> Result<(), Problem> {
        let slot = usize::from(self.picture.is_some()) + number;
        let track = &mut self.sounds[number];
        while let Some(frame) = track.graph.pull().map_err(fault)? {
            track.encoder.send(Some(&frame)).map_err(fault)?;
            write_all(&mut self.output, slot, self.stampings.get(&slot).copied(), track.encoder.receive())?;
        }
        Ok(())
    }

    /// Adds a line of text to the subtitle stream with this number; times in milliseconds.
    ///
    /// # Errors
    /// A [`Problem`] where the disk refuses.
    pub fn subtitle(&mut self, number: usize, from: i64, to: i64, text: &str) -> Result<(), Problem> {
        let mut packet = Packet::from_bytes(text.as_bytes()).map_err(fault)?;
        packet.set_stream(self.first_subtitle + number);
        packet.set_times(from, to - from);
        self.output.write_in_any_order(packet).map_err(|error| problem(Path::new("the recording"), &error))
    }

    /// Ends the file.
    ///
    /// # Errors
    /// A [`Problem`] where the disk or an encoder refuses.
    pub fn finish(mut self) -> Result<(), Problem> {
        if let Some(track) = &mut self.picture {
            track.encoder.send(None).map_err(fault)?;
            let ticks = track
                .settings
                .rate
                .inverse()
                .and_then(|length| length.divided_by(track.settings.clock))
                .map_or(1, Rational::round);
            self.write_picture(ticks)?;
        }
        if let Some((slot, again)) = self.beside.as_mut().filter(|(_, track)| track.settings.encoder != COVER) {
            again.encoder.send(None).map_err(fault)?;
            write_all(&mut self.output, *slot, None, again.encoder.receive())?;
        }
        for number in 0..self.sounds.len() {
            self.sounds[number].graph.push(None).map_err(fault)?;
            self.drain_sound(number)?;
            self.sounds[number].encoder.send(None).map_err(fault)?;
            let slot = usize::from(self.picture.is_some()) + number;
            let stamping = self.stampings.get(&slot).copied();
            write_all(&mut self.output, slot, stamping, self.sounds[number].encoder.receive())?;
        }
        self.output.finish().map_err(|error| problem(Path::new("the recording"), &error))
    }
}

/// The encoder of covers.
const COVER: &str = "mjpeg";

fn beside_track(beside: Beside, recording: &Recording, global_header: bool) -> Result<PictureTrack, AvError> {
    let picture = recording.picture.as_ref();
    let settings = match (beside, picture) {
        (Beside::Again, Some(picture)) => picture.clone(),
        (Beside::Again | Beside::Cover, _) => RecordedPicture {
            encoder: COVER,
            options: Vec::new(),
            pixel_format: "yuvj420p",
            width: 64,
            height: 64,
            pixel_aspect: Rational::ONE,
            clock: Rational::constant(1, 25),
            rate: Rational::whole(25),
            fields: FieldOrder::Progressive,
            colour: Colour::default(),
        },
    };
    picture_track(&settings, global_header)
}

fn picture_track(settings: &RecordedPicture, global_header: bool) -> Result<PictureTrack, AvError> {
    let input = GraphInput::Picture {
        width: settings.width,
        height: settings.height,
        format: pixel_format_number(RGB)?,
        pixel_aspect: settings.pixel_aspect,
        clock: settings.clock,
        rate: None,
    };
    let matrix = settings.colour.matrix.filter(|matrix| *matrix != MatrixCoefficients::Rgb);
    let matrix = matrix.unwrap_or(MatrixCoefficients::Bt709).word();
    let interlaced = u8::from(settings.fields.is_interlaced());
    let rgb = settings.pixel_format.starts_with("rgb") || settings.pixel_format.starts_with("gbr");
    let convert = if rgb { String::new() } else { format!(":out_color_matrix={matrix}:out_range=tv:interl={interlaced}") };
    let graph =
        Graph::new(&input, &format!("scale=flags=bicubic+accurate_rnd{convert},format=pix_fmts={}", settings.pixel_format))?;
    let mut options: Vec<(String, String)> =
        settings.options.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
    let mut flags = String::new();
    if global_header {
        flags.push_str("+global_header");
    }
    if settings.fields.is_interlaced() {
        flags.push_str("+ildct+ilme");
    }
    if !flags.is_empty() {
        options.push(("flags".to_owned(), flags));
    }
    let encoder = Encoder::open(&EncoderSettings {
        name: settings.encoder,
        kind: EncoderKind::Picture {
            width: settings.width,
            height: settings.height,
            pixel_format: pixel_format_number(settings.pixel_format)?,
            pixel_aspect: settings.pixel_aspect,
            rate: Some(settings.rate),
            colour: settings.colour,
            fields: settings.fields,
        },
        clock: settings.clock,
        options,
        first_pass: None,
    })?;
    Ok(PictureTrack { settings: settings.clone(), graph, encoder })
}

fn sound_track(settings: &RecordedSound, global_header: bool) -> Result<SoundTrack, AvError> {
    let layout = usual(settings.channels).ok_or_else(|| AvError::own("make sound", "one to eight channels"))?;
    let clock = Rational::new(1, settings.sample_rate.into()).unwrap_or(Rational::constant(1, 48_000));
    let encoder = Encoder::open(&EncoderSettings {
        name: settings.encoder,
        kind: EncoderKind::Sound { sample_rate: settings.sample_rate, layout: layout.to_owned() },
        clock,
        options: if global_header { vec![("flags".to_owned(), "+global_header".to_owned())] } else { Vec::new() },
        first_pass: None,
    })?;
    let input = GraphInput::Sound {
        sample_rate: settings.sample_rate,
        format: 3,
        layout: layout.to_owned(),
        channels: settings.channels,
        clock,
    };
    let mut graph = Graph::new(&input, &format!("aformat=sample_fmts={}", encoder.sample_format()))?;
    if let Some(samples) = encoder.frame_samples() {
        graph.set_frame_samples(samples);
    }
    Ok(SoundTrack { settings: settings.clone(), graph, encoder, written: 0 })
}
