//! The ordered stream of events that pages follow.

use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};

use beryl_core::flow::tasks::Progress;
use serde::Serialize;
use tokio::sync::broadcast;
use utoipa::ToSchema;
use uuid::Uuid;

use crate::views::{RunView, SourceRow};

/// Something that pages show has changed.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub(crate) enum Change {
    /// Runs are new or have other states.
    Runs {
        /// The runs as they are now.
        runs: Vec<RunView>,
    },
    /// A run has come further.
    Progress {
        /// The run.
        id: Uuid,
        /// How far.
        #[schema(inline)]
        progress: Progress,
    },
    /// A source has been read.
    Source {
        /// The source as it is now.
        #[schema(value_type = SourceRow)]
        source: Box<SourceRow>,
    },
    /// Rows, columns or cells of a sheet have changed: load it again.
    Sheet {
        /// The sheet.
        id: Uuid,
    },
    /// A watch folder or files in it have changed: load it again.
    Watch {
        /// The watch folder.
        id: Uuid,
    },
    /// A viewing copy is made, or could not be made: ask for it again.
    Viewing {
        /// The source or the run.
        id: Uuid,
    },
    /// A proof is new, has come further or is gone: load those of the cell again.
    Proof {
        /// The row.
        source: Uuid,
        /// The column.
        deliverable: Uuid,
    },
    /// Something that the whole house has in common has changed: load it again.
    House {
        /// What.
        part: HousePart,
    },
    /// Events were missed: load everything again.
    Gap,
}

/// What the whole house has in common.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum HousePart {
    /// Its own presets.
    Presets,
    /// The storages.
    Storages,
    /// Look-up tables and pictures.
    Assets,
    /// The settings.
    Settings,
}

/// An event with its place in the order.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct Event {
    /// Grows by one with each event. It begins with the time at which the server starts (microseconds
    /// since 1970), so that no number is ever used again.
    pub(crate) seq: u64,
    /// What has changed.
    pub(crate) change: Change,
}

/// How many events are kept for pages that were away for a moment.
const KEPT: usize = 4096;

/// Hands events to all pages, in order.
#[derive(Debug)]
pub(crate) struct Hub {
    past: Mutex<Past>,
}

#[derive(Debug)]
struct Past {
    next: u64,
    events: VecDeque<Event>,
    /// Gone when the server ends.
    live: Option<broadcast::Sender<Event>>,
}

impl Default for Hub {
    fn default() -> Self {
        let next = u64::try_from(chrono::Utc::now().timestamp_micros()).unwrap_or(0);
        Self { past: Mutex::new(Past { next, events: VecDeque::new(), live: Some(broadcast::channel(KEPT).0) }) }
    }
}

impl Hub {
    fn past(&self) -> MutexGuard<'_, Past> {
        self.past.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Tells everybody.
    pub(crate) fn tell(&self, change: Change) {
        let mut past = self.past();
        let event = Event { seq: past.next, change };
        past.next += 1;
        past.events.push_back(event.clone());
        if past.events.len() > KEPT {
            past.events.pop_front();
        }
        // Sent under the lock, so that nobody sees two events in the wrong order; nobody may listen.
        if let Some(live) = &past.live {
            drop(live.send(event));
        }
    }

    /// Tells everybody that something of the house has changed.
    pub(crate) fn tell_house(&self, part: HousePart) {
        self.tell(Change::House { part });
    }

    /// The number of the last event that was told.
    pub(crate) fn last(&self) -> u64 {
        self.past().next.saturating_sub(1)
    }

    /// Ends all streams: nothing more will be told.
    pub(crate) fn end(&self) {
        self.past().live = None;
    }

    /// The events after `seen` that are still kept (or one that says that some are not), and all to come.
    pub(crate) fn follow(&self, seen: Option<u64>) -> (Vec<Event>, broadcast::Receiver<Event>) {
        let past = self.past();
        let live = past.live.as_ref().map_or_else(|| broadcast::channel(1).1, broadcast::Sender::subscribe);
        let Some(seen) = seen else { return (Vec::new(), live) };
        let first_kept = past.events.front().map_or(past.next, |event| event.seq);
        if seen + 1 < first_kept || seen >= past.next {
            return (vec![Event { seq: past.next.saturating_sub(1), change: Change::Gap }], live);
        }
        (past.events.iter().filter(|event| event.seq > seen).cloned().collect(), live)
    }
}
