//! Setting up the threads of one round over the source.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::Scope;

use beryl_core::after::memory::{self, Means};
use beryl_core::after::stages::{Stage, share_steps};
use beryl_core::plan::{PicturePlan, Step, Track};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Event, SourceRef};
use beryl_core::time::Rational;
use beryl_core::timeline::Takes;
use crossbeam_channel::{Sender, bounded};

use super::cost;
use super::queue::{Inlet, Weighed, queue};
use super::reader::{DecodeTask, ReadTask, Route};
use super::work::{SourceNotes, TaskOverSource, Work};
use super::writer::Destination;
use super::{join, picture, reader, sound, writer};
use crate::control::Control;
use crate::encoders::muxer;
use crate::raw::{AvError, Decoder, EncoderStream, Frame, Output, Packet};
use crate::source::PacketSource;
use crate::supplies::Supplies;

/// Packets, and frames of sound, between two threads.
pub(super) const SMALL_QUEUE: usize = 128;

/// A frame with the clock its time counts by.
pub(crate) struct TimedFrame {
    pub(crate) frame: Frame,
    pub(crate) clock: Rational,
}

/// What comes to the writer of a run.
pub(super) enum ToWriter {
    /// The stream of this slot is known.
    Open { slot: usize, stream: EncoderStream },
    /// A packet of this slot, to be moved by `shift` seconds.
    Packet { slot: usize, packet: Packet, shift: Rational },
    /// Nothing more comes of this slot.
    End { slot: usize },
}

impl Weighed for ToWriter {
    fn bytes(&self) -> u64 {
        match self {
            Self::Packet { packet, .. } => packet.size(),
            Self::Open { .. } | Self::End { .. } => 0,
        }
    }
}

/// What all threads of a round share.
#[derive(Clone, Copy)]
pub(crate) struct Shared<'a> {
    pub(crate) control: &'a Control,
    pub(crate) fault: &'a Mutex<Option<Problem>>,
    pub(crate) means: Means,
}

impl Shared<'_> {
    /// The source is at fault: everything ends.
    pub(super) fn fail_source(&self, problem: Problem) {
        self.fault.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(problem);
    }

    /// Whether the round goes on; waits while it stands still.
    pub(super) fn goes_on(&self) -> bool {
        self.control.goes_on() && self.fault.lock().unwrap_or_else(PoisonError::into_inner).is_none()
    }
}

/// Starts the threads of one round; each holds a clone of `done` until it ends.
pub(super) fn start<'scope, 'env: 'scope>(
    scope: &'scope Scope<'scope, 'env>,
    source: &'env SourceRef,
    tasks: &'env [TaskOverSource<'env>],
    supplies: &'env Supplies,
    shared: Shared<'env>,
    tell: &'env (dyn Fn(Event) + Sync),
    done: Sender<()>,
) -> Result<(), Problem> {
    let packets = PacketSource::open(source, shared.control.stop())?;
    let notes = Arc::new(SourceNotes::default());
    for task in tasks {
        still_there(task.work, &packets)?;
    }
    // Tasks of one round take the same of the source.
    let takes = tasks.first().map_or_else(
        || Takes::whole(packets.zero()),
        |TaskOverSource { work, .. }| Takes::parts(work.run.plan.origin.unwrap_or_else(|| packets.zero()), &work.run.plan.parts),
    );
    let mut routes: BTreeMap<usize, Route> = BTreeMap::new();

    // Every file that is written gets its writer; the packets of an analysis nobody wants.
    let mut writers: Vec<Vec<Inlet<ToWriter>>> = Vec::new();
    for task in tasks {
        let work = task.work;
        let mut of_work = Vec::new();
        for artifact in (0..work.artifacts.len()).take_while(|_| task.writes()) {
            let (to_writer, from_encoders) = queue(SMALL_QUEUE, memory::QUEUED);
            of_work.push(to_writer);
            let notes = Arc::clone(&notes);
            let write = writer::WriteTask { work, artifact, shared, notes, tell, source, origin: takes.part(0).from };
            spawn(scope, "write", &done, move || write.run(&from_encoders))?;
        }
        writers.push(of_work);
    }
    // Where a stream of a run goes, in the file that holds it.
    let destination = |place: usize, slot: usize| {
        let (file, slot) = tasks[place].work.place_of(slot)?;
        Some((file, writers[place].get(file).map(|writer| Destination { writer: writer.clone(), slot })))
    };
    let container = |place: usize, file: usize| tasks[place].work.artifacts[file].0.container;

    let chains: Vec<(usize, &PicturePlan)> = tasks
        .iter()
        .enumerate()
        .filter_map(|(place, task)| task.work.run.plan.picture.as_ref().map(|picture| (place, picture)))
        .collect();
    if let Some((_, picture)) = chains.first() {
        let stream = picture.source_stream as usize;
        let pictures: Vec<&PicturePlan> = chains.iter().map(|(_, picture)| *picture).collect();
        let steps: Vec<&[Step]> = pictures.iter().map(|picture| picture.steps.as_slice()).collect();
        let stages = share_steps(&steps);
        let queued = memory::queues(&pictures, &stages);
        let threads = shared.means.encoder_threads();
        // Behind the decoder, and behind each stage. One without steps passes nothing on: whoever stands above feeds its outputs.
        let mut roots = Vec::new();
        let mut consumers: Vec<Vec<Sender<TimedFrame>>> = stages.iter().map(|_| Vec::new()).collect();
        let mut feeders: Vec<Option<usize>> = Vec::new();
        let mut inlets = Vec::new();
        for (place, stage) in stages.iter().enumerate() {
            let above = stage.parent.and_then(|parent| feeders[parent]);
            let feeder = if stage.steps.is_empty() {
                above
            } else {
                let (input, frames) = bounded(queued[place].into);
                above.map_or(&mut roots, |above| &mut consumers[above]).push(input);
                inlets.push((place, frames));
                Some(place)
            };
            feeders.push(feeder);
            for output in &stage.outputs {
                let (run_place, _) = chains[*output];
                let TaskOverSource { work, pass, .. } = tasks[run_place];
                let Some((file, destination)) = destination(run_place, 0) else { continue };
                let container = container(run_place, file);
                let (to_encoder, frames) = bounded(queued[place].out_of);
                feeder.map_or(&mut roots, |feeder| &mut consumers[feeder]).push(to_encoder);
                let task = picture::EncodeTask {
                    work,
                    pass,
                    shared,
                    destination,
                    container,
                    global_header: Output::wants_global_header(muxer(container)),
                    threads,
                    is_alone: tasks.len() == 1,
                };
                spawn(scope, "encode picture", &done, move || task.run(&frames))?;
            }
        }
        let served = served(&stages);
        for (place, frames) in inlets {
            let works = served[place].iter().map(|output| tasks[chains[*output].0].work).collect();
            let task = picture::StageTask { steps: stages[place].steps.clone(), supplies, shared, works };
            let consumers = std::mem::take(&mut consumers[place]);
            spawn(scope, "picture steps", &done, move || task.run(&frames, consumers))?;
        }
        let view = packets.stream(stream);
        let (decoder, threads) =
            cost::while_opening(|| open_decoder(Decoder::open(view, Some(shared.means.decoder_threads())), packets.name()));
        let decoder = decoder?;
        let (to_decoder, from_reader) = queue(SMALL_QUEUE, memory::QUEUED);
        routes.insert(stream, Route::Decode(to_decoder));
        let rate = packets.sequence().map(|sequence| sequence.rate).or(view.mean_rate());
        let task = DecodeTask {
            stream,
            clock: packets.clock(stream),
            rate,
            is_picture: true,
            name: packets.name().to_owned(),
            shared,
            notes: Arc::clone(&notes),
            takes: takes.clone(),
            delay: view.delay(),
            threads,
            works: chains.iter().map(|(place, _)| tasks[*place].work).collect(),
        };
        spawn(scope, "decode picture", &done, move || task.run(decoder, &from_reader, roots))?;
    }

    let mut listeners: BTreeMap<usize, Vec<Sender<TimedFrame>>> = BTreeMap::new();
    for (place, TaskOverSource { work, .. }) in tasks.iter().enumerate() {
        let first_slot = usize::from(work.run.plan.picture.is_some());
        for (slot, plan) in (first_slot..).zip(&work.run.plan.sound) {
            let Some((file, Some(destination))) = destination(place, slot) else { continue };
            let container = container(place, file);
            match crate::encoders::sound(plan, Output::wants_global_header(muxer(container))) {
                None => {
                    let Some(stream) = plan.whole_stream().map(|stream| stream as usize) else { continue };
                    let description =
                        EncoderStream::copy_of(packets.stream(stream)).map_err(|error| library_problem(&work.what(), &error))?;
                    // The writer takes everything, so this cannot wait for long.
                    destination.open(description);
                    let copy = reader::Copy { destination, clock: packets.clock(stream) };
                    match routes.entry(stream).or_insert_with(|| Route::Copies(Vec::new())) {
                        Route::Copies(copies) | Route::Both(_, copies) => copies.push(copy),
                        Route::Decode(_) => {}
                    }
                }
                Some(settings) => {
                    let (to_encoder, frames) = bounded(SMALL_QUEUE);
                    match plan.from.as_slice() {
                        [one] => listeners.entry(one.stream as usize).or_default().push(to_encoder),
                        several => {
                            let (mut inputs, mut widths) = (Vec::new(), Vec::new());
                            for source in several {
                                let (to_join, frames) = bounded(SMALL_QUEUE);
                                listeners.entry(source.stream as usize).or_default().push(to_join);
                                inputs.push(frames);
                                let all = packets.stream(source.stream as usize).channels() as usize;
                                widths.push(if source.channels.is_empty() { all } else { source.channels.len() });
                            }
                            let task = join::JoinTask { work, shared, track: plan };
                            spawn(scope, "join sound", &done, move || task.run(inputs, &widths, &to_encoder))?;
                        }
                    }
                    let task = sound::EncodeTask { work, shared, slot, plan, settings, destination, container };
                    spawn(scope, "encode sound", &done, move || task.run(&frames))?;
                }
            }
        }
    }
    drop(writers);
    for (stream, consumers) in listeners {
        let view = packets.stream(stream);
        let decoder = open_decoder(Decoder::open(view, Some(1)), packets.name())?;
        let (to_decoder, from_reader) = queue(SMALL_QUEUE, memory::QUEUED);
        let route = match routes.remove(&stream) {
            Some(Route::Copies(copies)) => Route::Both(to_decoder, copies),
            _ => Route::Decode(to_decoder),
        };
        routes.insert(stream, route);
        let task = DecodeTask {
            stream,
            clock: packets.clock(stream),
            rate: None,
            is_picture: false,
            name: packets.name().to_owned(),
            shared,
            notes: Arc::clone(&notes),
            takes: takes.clone(),
            delay: 0,
            threads: Vec::new(),
            works: tasks.iter().map(|task| task.work).filter(|work| takes_sound(work, stream)).collect(),
        };
        spawn(scope, "decode sound", &done, move || task.run(decoder, &from_reader, consumers))?;
    }
    let picture = chains.first().map(|(_, picture)| picture.source_stream as usize);
    let task = ReadTask { shared, notes, takes, picture };
    spawn(scope, "read", &done, move || task.run(packets, routes))
}

/// Of each stage the outputs that hang on it or on a stage behind it.
fn served(stages: &[Stage]) -> Vec<Vec<usize>> {
    let mut served: Vec<Vec<usize>> = stages.iter().map(|stage| stage.outputs.clone()).collect();
    // Parents stand before their children.
    for (place, stage) in stages.iter().enumerate().rev() {
        if let Some(parent) = stage.parent {
            let below = served[place].clone();
            served[parent].extend(below);
        }
    }
    served
}

fn takes_sound(work: &Work<'_>, stream: usize) -> bool {
    work.run.plan.sound.iter().any(|track| track.streams().iter().any(|own| *own as usize == stream))
}

pub(super) fn spawn<'scope>(
    scope: &'scope Scope<'scope, '_>,
    name: &str,
    done: &Sender<()>,
    work: impl FnOnce() + Send + 'scope,
) -> Result<(), Problem> {
    let done = done.clone();
    let thread = std::thread::Builder::new().name(name.to_owned()).spawn_scoped(scope, move || {
        work();
        drop(done);
    });
    thread.map(|_| ()).map_err(|error| Problem::from_io("the work could not be begun", &error))
}

pub(super) fn open_decoder(opened: Result<Decoder, AvError>, name: &str) -> Result<Decoder, Problem> {
    opened.map_err(|error| error.problem(format!("{name} could not be decoded"), "no decoder here can read it"))
}

pub(super) fn library_problem(what: &str, error: &AvError) -> Problem {
    error.problem(what, "the codec library refused the settings")
}

/// Whether the source still has the streams that a plan names.
fn still_there(work: &Work<'_>, packets: &PacketSource) -> Result<(), Problem> {
    let plan = &work.run.plan;
    let picture = plan.picture.iter().map(|picture| picture.source_stream);
    let mut streams = picture.chain(plan.sound.iter().flat_map(Track::streams));
    let gone = streams.find(|stream| *stream as usize >= packets.input().stream_count());
    gone.map_or(Ok(()), |stream| {
        let why = format!("the plan names stream {stream}, which {} does not have any more", packets.name());
        Err(Problem::new(ProblemKind::Invalid, work.what(), why).with_next("The file has changed: let it be read again."))
    })
}
