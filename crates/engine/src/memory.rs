//! How much memory the engine holds: watched while it works, and told at its end.
//!
//! An engine that holds more than its job may is ended by itself, with a word that says so. What it holds is what counts,
//! not what it has asked for: codecs ask for far more than they ever touch.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::time::Duration;

use beryl_core::after::memory::{self, Means};
use beryl_core::protocol::Job;
use beryl_core::units::ByteSize;

/// How often it is looked at.
const EVERY: Duration = Duration::from_millis(50);
/// What a job may hold that makes no outputs: pictures of 16K are decoded in less.
const MOST: u64 = 12 << 30;
/// What a machine has at least.
const LEAST: u64 = 2 << 30;
/// For what a plan does not foresee.
const SPARE: u64 = 1 << 30;
/// The account of a process is shorter than this.
const LONGEST: usize = 8192;

/// The system's account of this process, opened while files may still be opened.
pub(crate) struct Account(Option<File>);

impl Account {
    pub(crate) fn open() -> Self {
        Self(File::open("/proc/self/status").inspect_err(|error| eprintln!("memory cannot be watched: {error}")).ok())
    }

    /// What is held now.
    fn held(&self) -> Option<ByteSize> {
        self.line("VmRSS:")
    }

    /// The most that was held at any time.
    pub(crate) fn peak(&self) -> Option<ByteSize> {
        self.line("VmHWM:")
    }

    fn line(&self, name: &str) -> Option<ByteSize> {
        let mut text = vec![0; LONGEST];
        let read = self.0.as_ref()?.read_at(&mut text, 0).ok()?;
        let text = String::from_utf8_lossy(text.get(..read)?);
        let kibibytes: u64 = text.lines().find_map(|line| line.strip_prefix(name))?.split_whitespace().next()?.parse().ok()?;
        Some(ByteSize(kibibytes * 1024))
    }
}

/// What a job is planned to need; nothing where it makes no outputs.
pub(crate) fn planned(job: &Job, means: Means) -> Option<ByteSize> {
    match job {
        Job::Encode { runs, .. } => Some(memory::planned(&runs.iter().map(|run| &run.plan).collect::<Vec<_>>(), means)),
        Job::Probe { .. } | Job::Scan { .. } | Job::Compare { .. } | Job::Stills { .. } => None,
    }
}

/// What a job may hold: twice what is planned, with a gigabyte to spare for what no plan foresees, and where nothing is
/// planned enough for the largest pictures; never nearly all of the machine.
pub(crate) fn most(planned: Option<ByteSize>) -> ByteSize {
    let machine = nix::sys::sysinfo::sysinfo().map_or(MOST, |system| system.ram_total()).max(LEAST) / 10 * 9;
    let wanted = planned.map_or(MOST, |planned| planned.0.saturating_mul(2).saturating_add(SPARE));
    ByteSize(wanted.min(machine))
}

/// Looks at what is held from now on; `beyond` is called with what is held where that is more than `most`.
pub(crate) fn watch(account: &'static Account, most: ByteSize, beyond: impl FnOnce(ByteSize, ByteSize) + Send + 'static) {
    std::thread::spawn(move || {
        while let Some(held) = account.held() {
            if held > most {
                return beyond(held, most);
            }
            std::thread::sleep(EVERY);
        }
    });
}
