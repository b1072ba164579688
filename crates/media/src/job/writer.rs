//! Writing one run's file, and reading it back.

use std::collections::BTreeMap;
use std::sync::Arc;

use beryl_core::after::check::Measured;
use beryl_core::formats::interleave::Interleaver;
use beryl_core::formats::iso::Listed;
use beryl_core::formats::{SoundCoding, TimecodeAs, language};
use beryl_core::plan::{FrameRatePlan, Plan};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Event, RunNews, SourceRef};
use beryl_core::time::Rational;

use super::queue::{Inlet, Outlet};
use super::wires::{Shared, ToWriter};
use super::work::{SourceNotes, Work};
use crate::encoders::{muxer, muxer_options};
use crate::measure;
use crate::raw::{EncoderStream, Medium, Output, OutputChapter, Packet, WriteError};

/// Where packets of one stream go.
#[derive(Clone)]
pub(super) struct Destination {
    /// The writer of its file.
    pub(super) writer: Inlet<ToWriter>,
    /// The place of the stream there.
    pub(super) slot: usize,
}

impl Destination {
    /// The stream is known. Where the writer has given up, the first packet will show it.
    pub(super) fn open(&self, stream: EncoderStream) {
        drop(self.writer.send(ToWriter::Open { slot: self.slot, stream }));
    }

    /// A packet, to be moved by `shift` seconds. Answers whether anybody takes more.
    pub(super) fn send(&self, packet: Packet, shift: Rational) -> bool {
        self.writer.send(ToWriter::Packet { slot: self.slot, packet, shift }).is_ok()
    }

    /// Nothing more comes. Where nobody takes it any more, the run has ended in another way.
    pub(super) fn end(&self) {
        drop(self.writer.send(ToWriter::End { slot: self.slot }));
    }
}

/// Writes one file of a run from what its encoders make.
pub(super) struct WriteTask<'a> {
    pub(super) work: &'a Work<'a>,
    /// Which of the run's files.
    pub(super) artifact: usize,
    pub(super) shared: Shared<'a>,
    pub(super) notes: Arc<SourceNotes>,
    pub(super) tell: &'a (dyn Fn(Event) + Sync),
    pub(super) source: &'a SourceRef,
    /// Seconds of the source's clock at which what is made begins.
    pub(super) origin: Rational,
}

/// A packet that waits for its turn: its slot, and its shift.
type Held = (usize, Packet, Rational);

/// Bytes of packets that wait at most for a stream of which nothing comes.
const MOST_HELD: u64 = 128 << 20;

/// What looking at pictures of the file again may cost, and at those of the source: parts of what the run has cost.
const LOOKS_COST: f64 = 0.015;

impl WriteTask<'_> {
    pub(super) fn run(self, items: &Outlet<ToWriter>) {
        match self.write(items) {
            Ok(true) if self.work.is_wanted(self.shared.control) && self.shared.goes_on() => self.read_back(),
            Ok(_) => {}
            Err(WriteError::System(error)) => self.work.fail(Problem::from_io(self.what(), &error)),
            Err(WriteError::Library(error)) => {
                let why = "the container library refused the streams";
                self.work.fail(Problem::new(ProblemKind::Unsupported, self.what(), why).with_details(error.to_string()));
            }
        }
    }

    fn what(&self) -> String {
        format!("{} could not be written", self.work.run.plan.preset_name)
    }

    /// What is written into the file.
    fn plan(&self) -> &Plan {
        &self.work.artifacts[self.artifact].1
    }

    /// Answers whether a whole file was written.
    fn write(&self, items: &Outlet<ToWriter>) -> Result<bool, WriteError> {
        let plan = self.plan();
        let slots = usize::from(plan.picture.is_some()) + plan.sound.len();
        let mut streams: BTreeMap<usize, EncoderStream> = BTreeMap::new();
        let mut order: Interleaver<Held> = Interleaver::new(0..slots, MOST_HELD);
        let mut output: Option<Output> = None;
        while let Some(item) = items.next() {
            if !self.work.is_wanted(self.shared.control) || !self.shared.goes_on() {
                return Ok(false);
            }
            match item {
                ToWriter::Open { slot, stream } => {
                    streams.insert(slot, stream);
                    if streams.len() == slots && output.is_none() {
                        output = Some(self.begin(plan, &streams)?);
                    }
                }
                ToWriter::Packet { slot, packet, shift } => {
                    let clock = streams.get(&slot).map_or(Rational::ONE, |stream| stream.clock);
                    let time = packet.dts().or(packet.pts()).map_or(Rational::ZERO, |ticks| Rational::whole(ticks) * clock);
                    order.push(slot, time + shift, packet.size(), (slot, packet, shift));
                }
                ToWriter::End { slot } => order.end(slot),
            }
            if let Some(output) = &mut output {
                self.write_ready(output, &mut order)?;
            }
        }
        if !self.work.is_wanted(self.shared.control) || !self.shared.goes_on() {
            return Ok(false);
        }
        let Some(mut output) = output else {
            let why = "not one frame of the source could be decoded";
            self.work.fail(Problem::new(ProblemKind::NotMedia, self.work.what(), why));
            return Ok(false);
        };
        let encodes = plan.picture.is_some() || plan.sound.iter().any(|sound| !sound.codec.is_copy());
        if encodes && self.work.given(self.artifact).is_empty() {
            let why = "nothing of the source could be decoded";
            self.work.fail(Problem::new(ProblemKind::NotMedia, self.work.what(), why));
            return Ok(false);
        }
        order.end_all();
        self.write_ready(&mut output, &mut order)?;
        output.finish()?;
        Ok(true)
    }

    fn write_ready(&self, output: &mut Output, order: &mut Interleaver<Held>) -> Result<(), WriteError> {
        while let Some((slot, packet, shift)) = order.next_item() {
            self.write_packet(output, slot, packet, shift)?;
        }
        Ok(())
    }

    fn write_packet(&self, output: &mut Output, slot: usize, mut packet: Packet, shift: Rational) -> Result<(), WriteError> {
        packet.set_stream(slot);
        output.write(packet, shift)?;
        self.work.set_bytes(self.artifact, output.written());
        Ok(())
    }

    fn begin(&self, plan: &Plan, streams: &BTreeMap<usize, EncoderStream>) -> Result<Output, WriteError> {
        let medium = Medium::new(self.work.take_file(self.artifact)?, self.shared.control.stop().clone());
        let mut output = Output::create(medium, muxer(plan.container))?;
        if plan.container.traits().trims_in_packets {
            output.tell_delays_of_codecs();
        }
        for (slot, stream) in streams {
            let (tags, roles) = stream_description(plan, *slot);
            output.add_stream(stream, &tags, &roles)?;
        }
        output.set_tags(&file_tags(plan));
        let chapters: Vec<OutputChapter> = plan
            .chapters
            .iter()
            .map(|chapter| OutputChapter { start: chapter.start, end: chapter.end, title: chapter.title.clone() })
            .collect();
        output.set_chapters(&chapters)?;
        if plan.container.traits().index_in_front {
            output.leave_index_room(&expected_index(plan));
        }
        output.write_header(muxer_options(plan.container))?;
        Ok(output)
    }

    fn read_back(&self) {
        let run = self.work.run;
        if self.work.begin_reading(self.artifact) {
            (self.tell)(Event::Run { id: run.id, news: RunNews::Reading });
        }
        let file = &run.outputs[self.artifact];
        match measure::measure_telling(file, self.shared.control, &|bytes| self.work.set_read_back(self.artifact, bytes)) {
            Ok(read_back) => {
                let picture = self.plan().picture.as_ref();
                let allowance = self.work.cost().mul_f64(LOOKS_COST);
                let mut looks = Vec::new();
                if let Some(picture) = picture {
                    looks = self.work.look_again(file, allowance);
                    let stream = picture.source_stream as usize;
                    looks.extend(self.notes.look_again(self.source, stream, self.origin, allowance));
                }
                let measured = Measured {
                    frames_encoded: picture.map(|_| self.work.frames()),
                    given: self.work.given(self.artifact),
                    looks,
                    remarks: self.notes.remarks(),
                    decode_faults: self.notes.faults(),
                    source_end: self.notes.end(),
                    cpu_milliseconds: u64::try_from(self.work.cost().as_millis()).ok().filter(|cost| *cost > 0),
                    ..read_back
                };
                if let Some(measured) = self.work.keep_measured(self.artifact, measured) {
                    (self.tell)(Event::Run { id: run.id, news: RunNews::Written { measured } });
                }
            }
            // It was cancelled, which is told of all that is not done yet.
            Err(_) if self.shared.control.stop().is_set() => {}
            Err(problem) => self.work.fail(Problem {
                what: "the finished file could not be read back".to_owned(),
                kind: ProblemKind::CheckFailed,
                ..problem
            }),
        }
    }
}

/// What the index of a movie is expected to list of each stream. Where it is not known how long the output gets it comes
/// to little; such an index is brought to the front when all is written.
fn expected_index(plan: &Plan) -> Vec<Listed> {
    // Room for what a plan does not foresee: a cut at which a key frame is set, a few frames more.
    let with_spare = |count: u64| count + count / 16 + 16;
    let frames = plan.picture.as_ref().and_then(|picture| picture.frames).map_or(0, with_spare);
    let picture = plan.picture.as_ref().map(|picture| Listed {
        packets: frames,
        keys: with_spare(2 * frames / u64::from(picture.key_interval_frames.max(1))),
        // Between two packets of sound that are written in turn.
        runs: frames,
        lengths: match picture.frame_rate {
            FrameRatePlan::Constant { .. } => 16,
            FrameRatePlan::Variable { .. } => frames,
        },
        shifts: frames,
        described: 0,
    });
    let seconds = u64::try_from(plan.known_duration().ceil()).unwrap_or(0);
    let sound = plan.sound.iter().map(|sound| {
        // What is copied may have fewer samples in a packet than what is coded here.
        let (samples, even) = match &sound.codec.coding {
            SoundCoding::Copied => (480, false),
            SoundCoding::Linear { .. } => (1024, true),
            SoundCoding::Blocks(blocks) => (blocks.samples, true),
        };
        let packets = with_spare(seconds * u64::from(sound.sample_rate) / u64::from(samples));
        Listed {
            packets,
            keys: 0,
            runs: if frames > 0 { packets.min(frames * plan.sound.len() as u64 + 64) } else { packets },
            lengths: if even { 16 } else { packets },
            shifts: 16,
            described: 0,
        }
    });
    picture.into_iter().chain(sound).collect()
}

/// Tags and roles of the stream in this slot.
fn stream_description(plan: &Plan, slot: usize) -> (BTreeMap<String, String>, Vec<String>) {
    let mut tags = BTreeMap::new();
    let sounds_from = usize::from(plan.picture.is_some());
    if slot < sounds_from {
        if plan.container.traits().timecode == TimecodeAs::Track {
            tags.extend(plan.timecode.clone().map(|timecode| ("timecode".to_owned(), timecode)));
            tags.extend(plan.reel.clone().map(|reel| ("reel_name".to_owned(), reel)));
        }
        return (tags, vec!["default".to_owned()]);
    }
    let Some(sound) = plan.sound.get(slot - sounds_from) else { return (tags, Vec::new()) };
    let language = sound.language.as_deref().and_then(|language| language::code_for(plan.container, language));
    tags.extend(language.map(|language| ("language".to_owned(), language)));
    tags.extend(sound.title.clone().map(|title| ("title".to_owned(), title)));
    let mut roles = sound.roles.clone();
    if slot == sounds_from && !roles.iter().any(|role| role == "default") {
        roles.push("default".to_owned());
    }
    (tags, roles)
}

fn file_tags(plan: &Plan) -> BTreeMap<String, String> {
    let mut tags = plan.tags.clone();
    if plan.container.traits().timecode == TimecodeAs::Tag {
        tags.extend(plan.timecode.clone().map(|timecode| ("TIMECODE".to_owned(), timecode)));
        tags.extend(plan.reel.clone().map(|reel| ("REEL_NAME".to_owned(), reel)));
    }
    tags
}
