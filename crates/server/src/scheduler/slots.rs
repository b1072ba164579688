//! How many jobs run at the same time, which ones do, and how to speak to their engines.

use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

use beryl_core::protocol::Command;
use beryl_store::runs::Lease;
use beryl_worker::JobControl;
use tokio::sync::Notify;
use uuid::Uuid;

/// The name under which the number of slots is kept.
pub(crate) const SLOTS_SETTING: &str = "engine_slots";
/// More jobs than this at the same time help no machine.
pub(crate) const MOST_SLOTS: usize = 64;

/// Which jobs are under way, and how to speak to them.
#[derive(Debug)]
pub(crate) struct Slots {
    /// The name of this start among the workers: that of the installation, and a part of its own.
    pub(super) owner: String,
    /// What the names of all starts of this installation begin with.
    pub(super) installation: String,
    wake: Notify,
    count: AtomicUsize,
    jobs: Mutex<HashMap<Uuid, JobControl>>,
    /// The leases of everything that is at work here, from the claim to the end.
    held: Mutex<HashMap<Uuid, Lease>>,
}

/// What the machine carries: one job for every two cores keeps encoders of many threads busy, and
/// two on a small machine fill each other's gaps.
pub(super) fn usual() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from).div_ceil(2).max(2)
}

impl Slots {
    pub(crate) fn new(installation: &str) -> Self {
        let installation = format!("{installation}/");
        let owner = format!("{installation}{}", Uuid::now_v7());
        let count = AtomicUsize::new(usual());
        Self { owner, installation, wake: Notify::new(), count, jobs: Mutex::default(), held: Mutex::default() }
    }

    fn held(&self) -> MutexGuard<'_, HashMap<Uuid, Lease>> {
        self.held.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Leases that are to be renewed from now on.
    pub(super) fn hold(&self, leases: impl Iterator<Item = Lease>) {
        self.held().extend(leases.map(|lease| (lease.run, lease)));
    }

    /// A lease that is to be renewed no more; answers whether it was until now. The run's next lease is another one.
    pub(super) fn forget(&self, lease: Lease) -> bool {
        let mut held = self.held();
        let is_held = held.get(&lease.run) == Some(&lease);
        if is_held {
            held.remove(&lease.run);
        }
        is_held
    }

    /// The leases that are to be renewed.
    pub(super) fn leases(&self) -> Vec<Lease> {
        self.held().values().copied().collect()
    }

    pub(super) fn jobs(&self) -> MutexGuard<'_, HashMap<Uuid, JobControl>> {
        self.jobs.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How many jobs share the machine at most.
    pub(crate) fn share(&self) -> u32 {
        u32::try_from(self.count()).unwrap_or(u32::MAX)
    }

    /// There may be something to do.
    pub(crate) fn wake(&self) {
        self.wake.notify_one();
    }

    /// Waits until somebody says so.
    pub(super) async fn called(&self) {
        self.wake.notified().await;
    }

    /// How many jobs run at the same time.
    pub(crate) fn count(&self) -> usize {
        self.count.load(Ordering::Relaxed)
    }

    /// Lets more or fewer jobs run at the same time, from now on; none is ended for it.
    pub(crate) fn set_count(&self, count: usize) {
        self.count.store(count.clamp(1, MOST_SLOTS), Ordering::Relaxed);
        self.wake();
    }

    /// The runs that are worked on, those that share an engine together.
    pub(crate) fn at_work(&self) -> Vec<Vec<Uuid>> {
        let mut groups: Vec<(JobControl, Vec<Uuid>)> = Vec::new();
        for (run, control) in self.jobs().iter() {
            match groups.iter_mut().find(|(other, _)| other.is_same_job(control)) {
                Some((_, runs)) => runs.push(*run),
                None => groups.push((control.clone(), vec![*run])),
            }
        }
        groups.into_iter().map(|(_, runs)| runs).collect()
    }

    /// Says something to the engine that works on a run; answers whether there is one.
    pub(crate) fn say(&self, run: Uuid, command: Command) -> bool {
        let control = self.jobs().get(&run).cloned();
        control.as_ref().map(|control| control.say(command)).is_some()
    }

    /// The runs that share an engine with this one, itself among them.
    pub(crate) fn together_with(&self, run: Uuid) -> Vec<Uuid> {
        let jobs = self.jobs();
        let Some(own) = jobs.get(&run) else { return Vec::new() };
        jobs.iter().filter(|(_, control)| control.is_same_job(own)).map(|(id, _)| *id).collect()
    }
}
