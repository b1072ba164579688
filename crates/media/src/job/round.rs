//! Setting up the threads of one round over the source.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::thread::Scope;

use beryl_core::after::memory;
use beryl_core::after::stages::{Stage, share_steps};
use beryl_core::formats::Container;
use beryl_core::plan::{PicturePlan, Step, Track};
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{Event, SourceRef};
use beryl_core::timeline::Takes;
use crossbeam_channel::{Receiver, Sender, bounded};

use super::cost;
use super::queue::{Inlet, queue};
use super::reader::{DecodeTask, ReadTask, Route};
use super::wires::{SMALL_QUEUE, Shared, TimedFrame, ToWriter, library_problem, open_decoder, spawn};
use super::work::{SourceNotes, TaskOverSource, Work};
use super::writer::Destination;
use super::{join, picture, reader, sound, writer};
use crate::encoders::muxer;
use crate::raw::{Decoder, EncoderStream, Output};
use crate::source::PacketSource;
use crate::supplies::Supplies;

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
    for task in tasks {
        still_there(task.work, &packets)?;
    }
    // Tasks of one round take the same of the source.
    let takes = tasks.first().map_or_else(
        || Takes::whole(packets.zero()),
        |TaskOverSource { work, .. }| Takes::parts(work.run.plan.origin.unwrap_or_else(|| packets.zero()), &work.run.plan.parts),
    );
    let mut round =
        Round { scope, source, tasks, supplies, shared, tell, done, notes: Arc::default(), takes, routes: BTreeMap::new() };
    let writers = round.writers()?;
    let picture = round.pictures(&packets, &writers)?;
    let listeners = round.sounds(&packets, &writers)?;
    drop(writers);
    round.sound_decoders(&packets, listeners)?;
    round.read(packets, picture)
}

/// The writers of the files of each task; none where it is an analysis, whose packets nobody wants.
type Writers = [Vec<Inlet<ToWriter>>];

/// Who wants the decoded sound of each stream.
type Listeners = BTreeMap<usize, Vec<Sender<TimedFrame>>>;

/// One round over the source.
struct Round<'scope, 'env> {
    scope: &'scope Scope<'scope, 'env>,
    source: &'env SourceRef,
    tasks: &'env [TaskOverSource<'env>],
    supplies: &'env Supplies,
    shared: Shared<'env>,
    tell: &'env (dyn Fn(Event) + Sync),
    done: Sender<()>,
    notes: Arc<SourceNotes>,
    takes: Takes,
    /// Where the packets of each stream go.
    routes: BTreeMap<usize, Route>,
}

impl<'scope, 'env: 'scope> Round<'scope, 'env> {
    fn spawn(&self, name: &str, work: impl FnOnce() + Send + 'scope) -> Result<(), Problem> {
        spawn(self.scope, name, &self.done, work)
    }

    /// Every file that is written gets its writer.
    fn writers(&self) -> Result<Vec<Vec<Inlet<ToWriter>>>, Problem> {
        let mut writers = Vec::new();
        for task in self.tasks {
            let work = task.work;
            let mut of_work = Vec::new();
            for artifact in (0..work.artifacts.len()).take_while(|_| task.writes()) {
                let (to_writer, from_encoders) = queue(SMALL_QUEUE, memory::QUEUED);
                of_work.push(to_writer);
                let notes = Arc::clone(&self.notes);
                let (shared, tell, source, origin) = (self.shared, self.tell, self.source, self.takes.part(0).from);
                let write = writer::WriteTask { work, artifact, shared, notes, tell, source, origin };
                self.spawn("write", move || write.run(&from_encoders))?;
            }
            writers.push(of_work);
        }
        Ok(writers)
    }

    /// Where a stream of a run goes: the format of the file that holds it, and its writer, if it has one.
    fn destination(&self, writers: &Writers, place: usize, slot: usize) -> Option<(Container, Option<Destination>)> {
        let (file, slot) = self.tasks[place].work.place_of(slot)?;
        let destination = writers[place].get(file).map(|writer| Destination { writer: writer.clone(), slot });
        Some((self.tasks[place].work.artifacts[file].0.container, destination))
    }

    /// The runs that have a picture, by their places.
    fn chains(&self) -> Vec<(usize, &'env PicturePlan)> {
        let picture = |(place, task): (usize, &'env TaskOverSource<'env>)| Some((place, task.work.run.plan.picture.as_ref()?));
        self.tasks.iter().enumerate().filter_map(picture).collect()
    }

    /// The decoder of the picture, the stages behind it, and the encoders that hang on them. Answers which stream it is.
    fn pictures(&mut self, packets: &PacketSource, writers: &Writers) -> Result<Option<usize>, Problem> {
        let chains = self.chains();
        let Some((_, picture)) = chains.first() else { return Ok(None) };
        let stream = picture.source_stream as usize;
        let pictures: Vec<&PicturePlan> = chains.iter().map(|(_, picture)| *picture).collect();
        let steps: Vec<&[Step]> = pictures.iter().map(|picture| picture.steps.as_slice()).collect();
        let stages = share_steps(&steps);
        let queued = memory::queues(&pictures, &stages);
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
                let (to_encoder, frames) = bounded(queued[place].out_of);
                if self.picture_encoder(writers, chains[*output].0, frames)? {
                    feeder.map_or(&mut roots, |feeder| &mut consumers[feeder]).push(to_encoder);
                }
            }
        }
        let served = served(&stages);
        for (place, frames) in inlets {
            let works = served[place].iter().map(|output| self.tasks[chains[*output].0].work).collect();
            let steps = stages[place].steps.clone();
            let task = picture::StageTask { steps, supplies: self.supplies, shared: self.shared, works };
            let consumers = std::mem::take(&mut consumers[place]);
            self.spawn("picture steps", move || task.run(&frames, consumers))?;
        }
        let works = chains.iter().map(|(place, _)| self.tasks[*place].work).collect();
        self.picture_decoder(packets, stream, works, roots)?;
        Ok(Some(stream))
    }

    /// The encoder of a run's picture; answers whether there is one.
    fn picture_encoder(&self, writers: &Writers, place: usize, frames: Receiver<TimedFrame>) -> Result<bool, Problem> {
        let TaskOverSource { work, pass, .. } = self.tasks[place];
        let Some((container, destination)) = self.destination(writers, place, 0) else { return Ok(false) };
        let task = picture::EncodeTask {
            work,
            pass,
            shared: self.shared,
            destination,
            container,
            global_header: Output::wants_global_header(muxer(container)),
            threads: self.shared.means.encoder_threads(),
            is_alone: self.tasks.len() == 1,
        };
        self.spawn("encode picture", move || task.run(&frames))?;
        Ok(true)
    }

    fn picture_decoder(
        &mut self,
        packets: &PacketSource,
        stream: usize,
        works: Vec<&'env Work<'env>>,
        roots: Vec<Sender<TimedFrame>>,
    ) -> Result<(), Problem> {
        let view = packets.stream(stream);
        let threads = Some(self.shared.means.decoder_threads());
        let (decoder, threads) = cost::while_opening(|| open_decoder(Decoder::open(view, threads), packets.name()));
        let decoder = decoder?;
        let (to_decoder, from_reader) = queue(SMALL_QUEUE, memory::QUEUED);
        self.routes.insert(stream, Route::Decode(to_decoder));
        let task = DecodeTask {
            stream,
            clock: packets.clock(stream),
            rate: packets.sequence().map(|sequence| sequence.rate).or(view.mean_rate()),
            is_picture: true,
            name: packets.name().to_owned(),
            shared: self.shared,
            notes: Arc::clone(&self.notes),
            takes: self.takes.clone(),
            delay: view.delay(),
            threads,
            works,
        };
        self.spawn("decode picture", move || task.run(decoder, &from_reader, roots))
    }

    /// The encoders of all tracks of sound, and the routes of those that are taken over untouched.
    fn sounds(&mut self, packets: &PacketSource, writers: &Writers) -> Result<Listeners, Problem> {
        let mut listeners = Listeners::new();
        for (place, TaskOverSource { work, .. }) in self.tasks.iter().enumerate() {
            let work = *work;
            let first_slot = usize::from(work.run.plan.picture.is_some());
            for (slot, plan) in (first_slot..).zip(&work.run.plan.sound) {
                let Some((container, Some(destination))) = self.destination(writers, place, slot) else { continue };
                match crate::encoders::sound(plan, Output::wants_global_header(muxer(container))) {
                    None => self.copy(packets, work, plan, destination)?,
                    Some(settings) => {
                        let frames = self.frames_of(packets, work, plan, &mut listeners)?;
                        let shared = self.shared;
                        let task = sound::EncodeTask { work, shared, slot, plan, settings, destination, container };
                        self.spawn("encode sound", move || task.run(&frames))?;
                    }
                }
            }
        }
        Ok(listeners)
    }

    /// A track that is a stream as it is.
    fn copy(&mut self, packets: &PacketSource, work: &Work<'_>, track: &Track, destination: Destination) -> Result<(), Problem> {
        let Some(stream) = track.whole_stream().map(|stream| stream as usize) else { return Ok(()) };
        let description =
            EncoderStream::copy_of(packets.stream(stream)).map_err(|error| library_problem(&work.what(), &error))?;
        // The writer takes everything, so this cannot wait for long.
        destination.open(description);
        let copy = reader::Copy { destination, clock: packets.clock(stream) };
        match self.routes.entry(stream).or_insert_with(|| Route::Copies(Vec::new())) {
            Route::Copies(copies) | Route::Both(_, copies) => copies.push(copy),
            Route::Decode(_) => {}
        }
        Ok(())
    }

    /// The decoded sound of a track: of the one stream that it is made of, or of several, joined.
    fn frames_of(
        &self,
        packets: &PacketSource,
        work: &'env Work<'env>,
        track: &'env Track,
        listeners: &mut Listeners,
    ) -> Result<Receiver<TimedFrame>, Problem> {
        let (to_encoder, frames) = bounded(SMALL_QUEUE);
        if let [one] = track.from.as_slice() {
            listeners.entry(one.stream as usize).or_default().push(to_encoder);
            return Ok(frames);
        }
        let (mut inputs, mut widths) = (Vec::new(), Vec::new());
        for source in &track.from {
            let (to_join, frames) = bounded(SMALL_QUEUE);
            listeners.entry(source.stream as usize).or_default().push(to_join);
            inputs.push(frames);
            let all = packets.stream(source.stream as usize).channels() as usize;
            widths.push(if source.channels.is_empty() { all } else { source.channels.len() });
        }
        let task = join::JoinTask { work, shared: self.shared, track };
        self.spawn("join sound", move || task.run(inputs, &widths, &to_encoder))?;
        Ok(frames)
    }

    /// A decoder for each stream of sound that somebody listens to.
    fn sound_decoders(&mut self, packets: &PacketSource, listeners: Listeners) -> Result<(), Problem> {
        for (stream, consumers) in listeners {
            let decoder = open_decoder(Decoder::open(packets.stream(stream), Some(1)), packets.name())?;
            let (to_decoder, from_reader) = queue(SMALL_QUEUE, memory::QUEUED);
            let route = match self.routes.remove(&stream) {
                Some(Route::Copies(copies)) => Route::Both(to_decoder, copies),
                _ => Route::Decode(to_decoder),
            };
            self.routes.insert(stream, route);
            let task = DecodeTask {
                stream,
                clock: packets.clock(stream),
                rate: None,
                is_picture: false,
                name: packets.name().to_owned(),
                shared: self.shared,
                notes: Arc::clone(&self.notes),
                takes: self.takes.clone(),
                delay: 0,
                threads: Vec::new(),
                works: self.tasks.iter().map(|task| task.work).filter(|work| takes_sound(work, stream)).collect(),
            };
            self.spawn("decode sound", move || task.run(decoder, &from_reader, consumers))?;
        }
        Ok(())
    }

    /// The reader, which feeds all of them.
    fn read(self, packets: PacketSource, picture: Option<usize>) -> Result<(), Problem> {
        let Self { scope, shared, done, notes, takes, routes, .. } = self;
        let task = ReadTask { shared, notes, takes, picture };
        spawn(scope, "read", &done, move || task.run(packets, routes))
    }
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
