//! The layers of this crate: each module imports only those that stand above it, and no module but `formats` knows a
//! codec by its name.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use beryl_core::formats::{PictureCodec, SoundCodec};

/// From the top. Modules of one layer know nothing of each other.
const LAYERS: [&[&str]; 14] = [
    &["time"],
    &["units"],
    &["path", "problem", "lut", "naming", "storage"],
    &["catalogue", "patch"],
    &["picture", "sound"],
    &["formats"],
    &["facts"],
    &["timeline"],
    &["findings"],
    &["reading"],
    &["preset"],
    &["plan"],
    &["after", "flow"],
    &["protocol"],
];

fn sources(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).expect("a folder of sources").map(|entry| entry.expect("a readable folder").path());
    let of = |path: PathBuf| if path.is_dir() { sources(&path) } else { vec![path] };
    entries.flat_map(of).collect()
}

/// The modules that a source names by `crate::`.
fn named_modules(text: &str) -> BTreeSet<&str> {
    let code = text.lines().filter(|line| !line.trim_start().starts_with("//"));
    let names = code.flat_map(|line| line.split("crate::").skip(1));
    let is_part = |letter: char| letter.is_ascii_alphanumeric() || letter == '_';
    names.filter_map(|rest| rest.split(|letter| !is_part(letter)).next()).filter(|name| !name.is_empty()).collect()
}

#[test]
fn each_module_imports_only_those_above_it() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut seen = BTreeSet::new();
    let mut faults = Vec::new();
    for path in sources(&root) {
        let place = path.strip_prefix(&root).unwrap();
        let own = place.iter().next().unwrap().to_str().unwrap().trim_end_matches(".rs").to_owned();
        if own == "lib" {
            continue;
        }
        let text = std::fs::read_to_string(&path).expect("a readable source");
        // Where every module is a folder below the root, `super` twice would lead out of a layer unseen.
        let depth = place.iter().count();
        assert!(depth > 2 || !text.contains("super::super::"), "{}: name the module by crate::", place.display());
        let layer = LAYERS.iter().position(|layer| layer.contains(&own.as_str()));
        let layer = layer.unwrap_or_else(|| panic!("{own} stands in no layer"));
        let above: BTreeSet<&str> = LAYERS[..layer].iter().flat_map(|layer| layer.iter().copied()).collect();
        let beyond = named_modules(&text).into_iter().filter(|name| *name != own && !above.contains(name));
        faults.extend(beyond.map(|name| format!("{} imports {name}", place.display())));
        seen.insert(own);
    }
    assert!(faults.is_empty(), "{faults:#?}");
    let known: BTreeSet<String> = LAYERS.iter().flat_map(|layer| layer.iter().map(|name| (*name).to_owned())).collect();
    assert_eq!(known, seen, "layers name modules that are not there");
}

#[test]
fn codecs_are_known_by_name_to_formats_alone() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let pictures = PictureCodec::all().map(|codec| codec.id).into_iter();
    let names: Vec<String> = pictures.chain(SoundCodec::all().map(|codec| codec.id)).map(|id| format!("\"{id}\"")).collect();
    // What sources hold is read under the libraries' names, of codecs that nothing here writes as well.
    let of_sources = ["facts/mod.rs", "facts/viewing.rs", "after/forecast.rs"].map(|place| root.join(place));
    let mut known = Vec::new();
    for path in sources(&root).into_iter().filter(|path| !path.starts_with(root.join("formats")) && !of_sources.contains(path)) {
        let text = std::fs::read_to_string(&path).expect("a readable source");
        known.extend(
            names.iter().filter(|name| text.contains(name.as_str())).map(|name| format!("{} in {}", name, path.display())),
        );
    }
    assert_eq!(known, Vec::<String>::new());
}
