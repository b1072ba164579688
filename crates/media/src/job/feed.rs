//! Pictures of a source as they come behind chains of steps.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::thread::Scope;

use beryl_core::after::memory;
use beryl_core::plan::Step;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::SourceRef;
use beryl_core::time::{Rational, Span};
use beryl_core::timeline::Takes;
use crossbeam_channel::{Receiver, Sender, bounded};

use super::picture::StageTask;
use super::queue::queue;
use super::reader::{DecodeTask, ReadTask, Route};
use super::wires::{SMALL_QUEUE, Shared, TimedFrame, open_decoder, spawn};
use super::work::SourceNotes;
use crate::raw::Decoder;
use crate::source::PacketSource;
use crate::supplies::Supplies;

/// Chains may run ahead of each other by so many frames: some steps hold frames back before the first comes.
const AHEAD: usize = 16;
/// Frames between two threads.
const QUEUE: usize = 4;

/// Decodes the picture of a source from its origin (the word of its header where it is not known), or of parts of it, once, and works off each chain of steps, in
/// threads of `scope`. A receiver that is dropped ends its chain.
pub(crate) fn feed<'scope, 'env: 'scope>(
    scope: &'scope Scope<'scope, 'env>,
    source: &SourceRef,
    (origin, parts): (Option<Rational>, &[Span]),
    chains: &[&[Step]],
    supplies: &'env Supplies,
    shared: Shared<'env>,
    done: &Sender<()>,
) -> Result<Vec<Receiver<TimedFrame>>, Problem> {
    let packets = PacketSource::open(source, shared.control.stop())?;
    let name = packets.name().to_owned();
    let stream = packets
        .moving_picture()
        .ok_or_else(|| Problem::new(ProblemKind::Invalid, format!("{name} cannot be looked at"), "it has no moving picture"))?;
    let takes = Takes::parts(origin.unwrap_or_else(|| packets.zero()), parts);
    let notes = Arc::new(SourceNotes::default());
    let (mut inputs, mut outputs) = (Vec::new(), Vec::new());
    for chain in chains {
        let (to_chain, frames) = bounded(QUEUE);
        let (to_consumer, made) = bounded(AHEAD);
        inputs.push(to_chain);
        outputs.push(made);
        let task = StageTask { steps: chain.to_vec(), supplies, shared, works: Vec::new() };
        spawn(scope, "picture steps", done, move || task.run(&frames, vec![to_consumer]))?;
    }
    let view = packets.stream(stream);
    let decoder = open_decoder(Decoder::open(view, Some(shared.means.decoder_threads())), &name)?;
    let (to_decoder, from_reader) = queue(SMALL_QUEUE, memory::QUEUED);
    let task = DecodeTask {
        stream,
        clock: packets.clock(stream),
        rate: packets.sequence().map(|sequence| sequence.rate).or(view.mean_rate()),
        is_picture: true,
        name,
        shared,
        notes: Arc::clone(&notes),
        takes: takes.clone(),
        delay: view.delay(),
        threads: Vec::new(),
        works: Vec::new(),
    };
    spawn(scope, "decode picture", done, move || task.run(decoder, &from_reader, inputs))?;
    let task = ReadTask { shared, notes, takes, picture: Some(stream) };
    let routes = BTreeMap::from([(stream, Route::Decode(to_decoder))]);
    spawn(scope, "read", done, move || task.run(packets, routes))?;
    Ok(outputs)
}
