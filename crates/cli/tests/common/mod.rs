//! What the tests of the command line share.

#![allow(dead_code, missing_docs, unreachable_pub, clippy::unwrap_used)]

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};

use beryl_demo::{Clip, clips, make};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use serde_json::Value;

pub fn beryl(arguments: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_beryl")).args(arguments).output().unwrap()
}

/// A demo clip, cut to `seconds`.
pub fn clip(folder: &Path, name: &str, seconds: i64) -> PathBuf {
    let clip = clips().into_iter().find(|clip| clip.path.ends_with(name)).unwrap();
    make(&Clip { seconds, ..clip }, folder).unwrap()
}

/// The closing report of `beryl encode --json`, and whether it ended well.
pub fn encode(file: &Path, presets: &str, out: &Path, more: &[&str]) -> (Value, bool) {
    let mut arguments = vec!["encode", file.to_str().unwrap(), "--preset", presets, "--into", out.to_str().unwrap(), "--json"];
    arguments.extend(more);
    let output = beryl(&arguments);
    let text = String::from_utf8(output.stdout).unwrap();
    let last = text.lines().last().unwrap_or_else(|| panic!("no report: {}", String::from_utf8_lossy(&output.stderr)));
    (serde_json::from_str(last).unwrap(), output.status.success())
}

/// Names in a folder, hidden ones too, but for the marker of a storage.
pub fn names(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> =
        std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned()).collect();
    names.retain(|name| name != ".beryl-storage");
    names.sort();
    names
}

/// The application, started by itself.
pub struct Application {
    pub process: Child,
    pub address: String,
}

impl Application {
    pub fn start(state: &Path) -> Self {
        let mut process = Command::new(env!("CARGO_BIN_EXE_beryl"))
            .args(["serve", "--listen", "127.0.0.1:0", "--state"])
            .arg(state)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let lines = BufReader::new(process.stdout.take().unwrap()).lines();
        let address = lines.map_while(Result::ok).find_map(|line| line.strip_prefix("Beryl is at ").map(str::to_owned)).unwrap();
        Self { process, address }
    }

    pub fn kill(mut self) {
        self.process.kill().unwrap();
        self.process.wait().unwrap();
    }
}

impl Drop for Application {
    fn drop(&mut self) {
        let _gone_already = kill(Pid::from_raw(i32::try_from(self.process.id()).unwrap()), Signal::SIGTERM);
        let _waited = self.process.wait();
    }
}
