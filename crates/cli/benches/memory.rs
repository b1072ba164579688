//! Memory of whole jobs beside what was planned for them: outputs of 3840×2160 in ten bits, one at a time and ten at once.
//!
//! `cargo bench --workspace --bench memory` prints both, and the part of the plan that was held at most; it fails where more
//! was held than planned.

// A bench fails loudly.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "../tests/common/mod.rs"]
mod common;

use beryl_core::preset::builtin_presets;
use common::{clip, encode};

const SECONDS: i64 = 3;
const UHD: &str = r#"picture.size={"rule":"fit","width":3840,"height":2160,"enlarge":true}"#;

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let drawn = clip(folder.path(), "kiln-07_firing_cam-b.mp4", SECONDS);
    let (report, _) =
        encode(&drawn, "delivery-hevc", &folder.path().join("uhd"), &["--set", UHD, "--set", "picture.effort=quick"]);
    let source = std::path::PathBuf::from(report["outputs"][0]["file"].as_str().unwrap());
    let all: Vec<String> = builtin_presets().into_iter().map(|preset| preset.id).collect();
    let high = ["--set", "picture.profile=high10"];
    let ffv1 = ["--set", "picture.codec=ffv1", "--set", "picture.profile=null"];
    let main8 = ["--set", "picture.profile=main"];
    let cases: [(&str, String, &[&str]); 7] = [
        ("H.264", "same-h264".to_owned(), &[]),
        ("H.264 in ten bits", "same-h264".to_owned(), &high),
        ("HEVC in ten bits", "delivery-hevc".to_owned(), &[]),
        ("HEVC in eight bits", "delivery-hevc".to_owned(), &main8),
        ("ProRes HQ", "master-keeper".to_owned(), &[]),
        ("FFV1", "master-keeper".to_owned(), &ffv1),
        ("ten presets at once", all.join(","), &[]),
    ];
    for (name, presets, own) in cases {
        let (report, whole) = encode(&source, &presets, &folder.path().join("out"), own);
        assert!(whole, "{report}");
        let [planned, held] = ["planned_memory", "peak_memory"].map(|name| report[name].as_f64().unwrap() / 1e6);
        println!("{name:20} planned {planned:5.0} MB, held {held:5.0} MB, {:.2} of the plan", held / planned);
        assert!(held <= planned, "{name} holds more than planned");
        std::fs::remove_dir_all(folder.path().join("out")).unwrap();
    }
}
