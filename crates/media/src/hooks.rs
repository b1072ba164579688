//! What tests of a debug build make this crate do that no file at hand does.

use std::sync::OnceLock;
use std::time::Duration;

static WHILE_DECODING: OnceLock<Box<dyn Fn() + Send + Sync>> = OnceLock::new();
static SLOW_SHARE: OnceLock<u64> = OnceLock::new();

/// Has `act` done by decoders, at each packet, as if the packet had made them do it.
pub fn while_decoding(act: impl Fn() + Send + Sync + 'static) {
    drop(WHILE_DECODING.set(Box::new(act)));
}

/// Has all files read as from a share that gives so many bytes a second.
pub fn read_at_most(bytes_per_second: u64) {
    SLOW_SHARE.get_or_init(|| bytes_per_second);
}

pub(crate) fn decoding() {
    if let Some(act) = WHILE_DECODING.get() {
        act();
    }
}

pub(crate) fn has_read(bytes: usize) {
    if let Some(rate) = SLOW_SHARE.get() {
        std::thread::sleep(Duration::from_secs_f64(bytes as f64 / *rate as f64));
    }
}
