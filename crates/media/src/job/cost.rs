//! Processor time of single threads, so that each run of a job is told what it alone would have cost.

use std::path::Path;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use rustix::time::{ClockId, clock_gettime};

use super::work::Work;

/// Numbers of threads of this process.
fn threads() -> Vec<u32> {
    let entries = std::fs::read_dir("/proc/self/task").into_iter().flatten().flatten();
    entries.filter_map(|entry| entry.file_name().to_str()?.parse().ok()).collect()
}

/// Opens something of the libraries and answers which threads came to be with it. One at a time, so
/// that nobody is given another's threads.
pub(crate) fn while_opening<T>(open: impl FnOnce() -> T) -> (T, Vec<u32>) {
    static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());
    let _guard = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
    let before = threads();
    let opened = open();
    let new = threads().into_iter().filter(|thread| !before.contains(thread)).collect();
    (opened, new)
}

/// What a thread has run on processors so far; nothing where the system does not tell.
fn run_time(thread: &Path) -> Duration {
    let told = std::fs::read_to_string(thread.join("schedstat")).ok();
    let nanoseconds = told.and_then(|text| text.split_whitespace().next()?.parse().ok());
    nanoseconds.map_or(Duration::ZERO, Duration::from_nanos)
}

/// What the calling thread and these others have run so far.
pub(super) fn of(others: &[u32]) -> Duration {
    let own = run_time(Path::new("/proc/thread-self"));
    others.iter().map(|thread| run_time(Path::new(&format!("/proc/self/task/{thread}")))).sum::<Duration>() + own
}

/// Adds to each of `works` what the calling thread and these others have run so far.
pub(super) fn charge<'a>(works: impl IntoIterator<Item = &'a Work<'a>>, others: &[u32]) {
    let all = of(others);
    for work in works {
        work.add_cost(all);
    }
}

/// Processor time of the calling thread.
pub(crate) fn thread_time() -> Duration {
    Duration::try_from(clock_gettime(ClockId::ThreadCPUTime)).unwrap_or_default()
}

/// Processor time of the whole job.
pub(super) fn process_time() -> Duration {
    Duration::try_from(clock_gettime(ClockId::ProcessCPUTime)).unwrap_or_default()
}
