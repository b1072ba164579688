//! The presets that come with the program, named by the role of the file they make. They are documents like any other,
//! in `presets/`.

use std::sync::LazyLock;

use super::Preset;

/// The documents, those that people need first in front.
const DOCUMENTS: [&str; 10] = [
    include_str!("../../presets/web-1080.json"),
    include_str!("../../presets/web-720.json"),
    include_str!("../../presets/review-small.json"),
    include_str!("../../presets/delivery-hevc.json"),
    include_str!("../../presets/master-keeper.json"),
    include_str!("../../presets/edit-friendly.json"),
    include_str!("../../presets/light-proxy.json"),
    include_str!("../../presets/screen-page.json"),
    include_str!("../../presets/sound-only.json"),
    include_str!("../../presets/same-h264.json"),
];

/// The document of viewing copies: small, quick to make, quick to jump in, with the source's frame rate, so that what
/// stands beside it shows the same moments: every frame of the source has its own in the copy.
const VIEWING_COPY: &str = include_str!("../../presets/viewing-copy.json");

static BUILT_IN: LazyLock<Vec<Preset>> = LazyLock::new(|| DOCUMENTS.into_iter().map(shipped).collect());

/// The built-in preset with this id.
#[must_use]
pub fn builtin(id: &str) -> Option<Preset> {
    BUILT_IN.iter().find(|preset| preset.id == id).cloned()
}

/// All built-in presets, those that people need first in front.
#[must_use]
pub fn builtin_presets() -> Vec<Preset> {
    BUILT_IN.clone()
}

/// The preset of viewing copies.
#[must_use]
pub fn viewing_preset(with_picture: bool) -> Preset {
    let preset = shipped(VIEWING_COPY);
    Preset { picture: preset.picture.filter(|_| with_picture), ..preset }
}

/// Reads a document that the tests have found sound.
///
/// # Panics
/// Where it is not, which a build with passing tests rules out.
fn shipped(document: &str) -> Preset {
    Preset::from_json(document).unwrap_or_else(|error| panic!("a preset that comes with the program is unsound: {error}"))
}
