//! Queues between threads that are bounded in bytes as well as in items.

use std::sync::{Arc, Condvar, Mutex, PoisonError};

use crossbeam_channel::{SendError, bounded};

/// What waits in a queue.
pub(super) trait Weighed {
    /// The bytes that it holds.
    fn bytes(&self) -> u64;
}

/// The bytes of what waits in a queue.
#[derive(Debug)]
struct Room {
    most: u64,
    taken: Mutex<u64>,
    changed: Condvar,
}

/// A part of the room; it is free again when this is dropped.
struct Share {
    room: Arc<Room>,
    bytes: u64,
}

impl Drop for Share {
    fn drop(&mut self) {
        *self.room.taken.lock().unwrap_or_else(PoisonError::into_inner) -= self.bytes;
        self.room.changed.notify_all();
    }
}

/// Waits until there is room for so many bytes; what is larger than all of it waits until nothing else is there.
fn share_of(room: &Arc<Room>, bytes: u64) -> Share {
    let taken = room.taken.lock().unwrap_or_else(PoisonError::into_inner);
    let is_full = |taken: &mut u64| *taken > 0 && taken.saturating_add(bytes) > room.most;
    let mut taken = room.changed.wait_while(taken, is_full).unwrap_or_else(PoisonError::into_inner);
    *taken = taken.saturating_add(bytes);
    Share { room: Arc::clone(room), bytes }
}

/// The end of a queue into which things go.
pub(super) struct Inlet<T> {
    items: crossbeam_channel::Sender<(T, Share)>,
    room: Arc<Room>,
}

/// The end of a queue out of which things come. Where it is dropped, so is all that waits.
pub(super) struct Outlet<T>(crossbeam_channel::Receiver<(T, Share)>);

/// A queue of at most so many items, and so many bytes.
pub(super) fn queue<T>(most_items: usize, most_bytes: u64) -> (Inlet<T>, Outlet<T>) {
    let (inlet, outlet) = bounded(most_items);
    let room = Room { most: most_bytes, taken: Mutex::new(0), changed: Condvar::new() };
    (Inlet { items: inlet, room: Arc::new(room) }, Outlet(outlet))
}

impl<T> Clone for Inlet<T> {
    fn clone(&self) -> Self {
        Self { items: self.items.clone(), room: Arc::clone(&self.room) }
    }
}

impl<T: Weighed> Inlet<T> {
    /// Waits for room and puts an item in. Answers it where nobody takes any more.
    pub(super) fn send(&self, item: T) -> Result<(), T> {
        let share = share_of(&self.room, item.bytes());
        self.items.send((item, share)).map_err(|SendError((item, _))| item)
    }
}

impl<T> Outlet<T> {
    /// Waits for the next item; nothing where no more can come.
    pub(super) fn next(&self) -> Option<T> {
        self.0.recv().ok().map(|(item, _)| item)
    }
}
