//! Arguments of a debug build, for tests: the engine is made to do what it never does, so that what holds it
//! can be seen to hold.
//!
//! - `--misbehave FOLDER`: a decoder tries what a hostile file could make it try, at its first packet, and says
//!   on standard error what came of each attempt. `FOLDER` lies beside the source and holds the files `secret` and `spare`.
//! - `--unheld`: nothing holds it, which shows that the attempts are real.
//! - `--hungry`: a decoder takes more memory with each packet, and gives none back.
//! - `--slow-share BYTES`: files are read as from a share that gives so many bytes a second.

use std::fmt::Display;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Mutex, Once, PoisonError};

/// What a test asks for.
#[derive(Default)]
pub(crate) struct Wishes {
    /// Nothing holds the engine.
    pub(crate) unheld: bool,
}

/// Reads the arguments and sets up what they ask for.
pub(crate) fn wishes() -> Wishes {
    let mut wishes = Wishes::default();
    let mut arguments = std::env::args_os().skip(1);
    while let Some(argument) = arguments.next() {
        match argument.to_str() {
            Some("--unheld") => wishes.unheld = true,
            Some("--misbehave") => {
                let folder = PathBuf::from(arguments.next().unwrap_or_default());
                let once = Once::new();
                beryl_media::hooks::while_decoding(move || once.call_once(|| attempt(&folder)));
            }
            Some("--hungry") => beryl_media::hooks::while_decoding(take_memory),
            Some("--slow-share") => {
                let rate = arguments.next().and_then(|rate| rate.to_str()?.parse().ok());
                beryl_media::hooks::read_at_most(rate.unwrap_or(u64::MAX));
            }
            _ => {}
        }
    }
    wishes
}

fn attempt(folder: &Path) {
    let secret = folder.join("secret");
    say("read another file", std::fs::read(&secret));
    say("list a folder", std::fs::read_dir(folder));
    say("write into another file", std::fs::OpenOptions::new().append(true).open(&secret));
    say("write into its source", std::fs::OpenOptions::new().append(true).open(folder.join("../source.wav")));
    say("make a file", std::fs::write(folder.join("made"), "made"));
    say("give a file another name", std::fs::rename(&secret, folder.join("moved")));
    say("remove a file", std::fs::remove_file(folder.join("spare")));
    say("read what the system tells of users", std::fs::read("/etc/passwd"));
    say("open a socket", std::net::UdpSocket::bind("127.0.0.1:0"));
    say("open a socket of this machine", std::os::unix::net::UnixDatagram::unbound());
    say("start a program", Command::new("/bin/true").status());
    say("end another process", nix::sys::signal::kill(nix::unistd::getppid(), None));
}

/// Takes and keeps 16 MB, as a decoder with a leak does for each packet.
fn take_memory() {
    static KEPT: Mutex<Vec<Vec<u8>>> = Mutex::new(Vec::new());
    KEPT.lock().unwrap_or_else(PoisonError::into_inner).push(vec![1; 16 << 20]);
}

fn say<T, E: Display>(what: &str, outcome: Result<T, E>) {
    match outcome {
        Ok(_) => eprintln!("attempt: {what}: done"),
        Err(error) => eprintln!("attempt: {what}: refused: {error}"),
    }
}
