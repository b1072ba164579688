//! What this machine has.

use std::thread::available_parallelism;

use beryl_core::after::memory::Means;
use beryl_core::units::ByteSize;

/// The part of the free memory, in quarters, that jobs take: the rest is for files that are read and written, and for others.
const QUARTERS: u64 = 3;
/// Taken for what is free where the system does not tell.
const ASSUMED: u64 = 4 << 30;

/// What one of `share` jobs may use that share the machine, by what is free now.
#[must_use]
pub fn means_of_machine(share: u32) -> Means {
    let free = [free_memory(), room_in_group()].into_iter().flatten().min().unwrap_or(ASSUMED);
    Means {
        memory: ByteSize(free / 4 * QUARTERS / u64::from(share.max(1))),
        processors: available_parallelism().map_or(1, |count| u32::try_from(count.get()).unwrap_or(u32::MAX)),
    }
}

/// Bytes that can be taken without pushing others out.
fn free_memory() -> Option<u64> {
    let text = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = text.lines().find_map(|line| line.strip_prefix("MemAvailable:"))?;
    Some(line.split_whitespace().next()?.parse::<u64>().ok()? * 1024)
}

/// Bytes that the group of processes has left, where it has a limit of its own (cgroup v2), as in containers.
fn room_in_group() -> Option<u64> {
    let read = |name| std::fs::read_to_string(format!("/sys/fs/cgroup/{name}")).ok()?.trim().parse::<u64>().ok();
    Some(read("memory.max")?.saturating_sub(read("memory.current")?))
}
