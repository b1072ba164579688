//! Bringing what comes from several streams into one order of time.

use std::collections::{BTreeMap, VecDeque};

use crate::time::Rational;

/// Orders items of several streams by time: each goes out once no stream can bring an earlier one.
///
/// A stream that has ended holds nothing back. Where what waits weighs more than it may, the earliest goes out although
/// others may still be earlier: a file that is a little less well interleaved is better than memory without end.
#[derive(Debug)]
pub struct Interleaver<T> {
    /// Streams that go on or still have items.
    streams: BTreeMap<usize, Lane<T>>,
    bytes: u64,
    most: u64,
}

#[derive(Debug)]
struct Lane<T> {
    waiting: VecDeque<(Rational, u64, T)>,
    has_ended: bool,
}

impl<T> Interleaver<T> {
    /// For streams with these numbers; at most so many bytes wait.
    #[must_use]
    pub fn new(streams: impl IntoIterator<Item = usize>, most: u64) -> Self {
        let lane = |number| (number, Lane { waiting: VecDeque::new(), has_ended: false });
        Self { streams: streams.into_iter().map(lane).collect(), bytes: 0, most }
    }

    /// An item of a stream, of this time in seconds and so many bytes. Those of one stream come in their order.
    pub fn push(&mut self, stream: usize, time: Rational, bytes: u64, item: T) {
        let lane = self.streams.entry(stream).or_insert_with(|| Lane { waiting: VecDeque::new(), has_ended: false });
        lane.waiting.push_back((time, bytes, item));
        self.bytes += bytes;
    }

    /// Nothing more comes of this stream.
    pub fn end(&mut self, stream: usize) {
        if let Some(lane) = self.streams.get_mut(&stream) {
            lane.has_ended = true;
        }
    }

    /// Nothing more comes at all.
    pub fn end_all(&mut self) {
        self.streams.values_mut().for_each(|lane| lane.has_ended = true);
    }

    /// The next item, if it is its turn.
    pub fn next_item(&mut self) -> Option<T> {
        self.streams.retain(|_, lane| !lane.has_ended || !lane.waiting.is_empty());
        let is_waited_for = self.streams.values().any(|lane| lane.waiting.is_empty());
        if is_waited_for && self.bytes <= self.most {
            return None;
        }
        let first = |lane: &Lane<T>| lane.waiting.front().map(|(time, ..)| *time);
        let lanes = self.streams.iter_mut().filter(|(_, lane)| !lane.waiting.is_empty());
        let (_, lane) = lanes.min_by_key(|(number, lane)| (first(lane), **number))?;
        let (_, bytes, item) = lane.waiting.pop_front()?;
        self.bytes -= bytes;
        Some(item)
    }
}
