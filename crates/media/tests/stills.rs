//! Single pictures of sources that stay open, in whatever order they are asked for.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::path::Path;

use beryl_core::protocol::{FileRef, Scope, ShownField, SourceRef};
use beryl_core::time::Rational;
use beryl_demo::{Clip, clips, make};
use beryl_media::{StillWish, Stills, silence_libraries};

/// A demo clip with a key frame every so many frames.
fn film(folder: &Path, name: &str, seconds: i64, key_interval: &'static str) -> SourceRef {
    silence_libraries();
    let clip = clips().into_iter().find(|clip| clip.path == name).unwrap();
    let mut clip = Clip { seconds, ..clip };
    let picture = clip.recording.picture.as_mut().unwrap();
    picture.options.retain(|(name, _)| *name != "g");
    picture.options.push(("g", key_interval));
    make(&clip, folder).unwrap();
    SourceRef::of(FileRef::within(folder.display().to_string(), name.parse().unwrap()))
}

/// The picture that is shown `place` fiftieths of a second into the source.
fn picture(stills: &mut Stills, folder: &Path, place: i64, width: u32) -> Vec<u8> {
    let output = FileRef::within(folder.display().to_string(), "still.jpg".parse().unwrap());
    let at = Rational::constant(place, 50);
    let wish = StillWish { at, width, field: ShownField::Both, shape: None, scope: None, output: &output };
    stills.write(wish, folder).unwrap();
    std::fs::read(folder.join("still.jpg")).unwrap()
}

/// The brightest code of each line of a scope, from the top.
fn lines(source: &SourceRef, folder: &Path, scope: Scope) -> Vec<u8> {
    let output = FileRef::within(folder.display().to_string(), "scope.png".parse().unwrap());
    let wish =
        StillWish { at: Rational::ZERO, width: 512, field: ShownField::Both, shape: None, scope: Some(scope), output: &output };
    Stills::open(source).unwrap().write(wish, folder).unwrap();
    let file = std::io::BufReader::new(std::fs::File::open(folder.join("scope.png")).unwrap());
    let mut image = png::Decoder::new(file).read_info().unwrap();
    let mut bytes = vec![0; image.output_buffer_size().unwrap()];
    let line = image.next_frame(&mut bytes).unwrap().line_size;
    bytes.chunks(line).map(|line| line.iter().copied().max().unwrap_or(0)).collect()
}

#[test]
fn scopes_show_where_the_codes_of_a_picture_are() {
    let folder = tempfile::tempdir().unwrap();
    // A screen with much white, and a film that is brought into the middle.
    let screen = film(folder.path(), "glaze-db_screen.mp4", 1, "12");
    let kiln = film(folder.path(), "kiln-07_firing_cam-b.mp4", 1, "12");
    let [bright, dark] = [&screen, &kiln].map(|source| lines(source, folder.path(), Scope::Waveform));
    assert_eq!((bright.len(), dark.len()), (256, 256));
    // Which part of the light traces stands in the upper third.
    let upper = |lines: &[u8]| lines[..85].iter().filter(|code| **code > 60).count();
    assert!(upper(&bright) > 0 && upper(&bright) != upper(&dark), "{} and {}", upper(&bright), upper(&dark));
    assert_ne!(lines(&screen, folder.path(), Scope::Vectorscope), lines(&kiln, folder.path(), Scope::Vectorscope));
}

#[test]
fn a_picture_is_the_same_however_one_comes_to_it() {
    // Pictures of constant rate, and some that stand for seconds.
    for (name, seconds, keys) in
        [("kiln-07_firing_cam-b.mp4", 11, "250"), ("kiln-07_firing_cam-b.mp4", 3, "12"), ("glaze-db_screen.mp4", 7, "600")]
    {
        let folder = tempfile::tempdir().unwrap();
        let source = film(folder.path(), name, seconds, keys);
        // Behind the end, the last one.
        let places: Vec<i64> = (0..=seconds * 50 + 50).step_by(13).collect();
        let mut in_order = Stills::open(&source).unwrap();
        let right: BTreeMap<i64, Vec<u8>> =
            places.iter().map(|place| (*place, picture(&mut in_order, folder.path(), *place, 480))).collect();
        let different = right.values().collect::<std::collections::BTreeSet<_>>().len();
        assert!(different > places.len() / 3, "{name}: {different} different pictures at {} moments", places.len());

        // Far to and fro, at first touch.
        let scattered = || (0..places.len()).map(|turn| places[turn * 19 % places.len()]);
        let mut open = Stills::open(&source).unwrap();
        for place in scattered() {
            assert!(picture(&mut open, folder.path(), place, 480) == right[&place], "{name}: {place}/50 s at first touch");
        }
        // After as long a time as it takes, where key frames are rare, the source is not even needed any more.
        while open.look_ahead(folder.path()) {}
        if keys != "12" {
            std::fs::File::create(folder.path().join(name)).unwrap();
        }
        for place in scattered() {
            assert!(picture(&mut open, folder.path(), place, 480) == right[&place], "{name}: {place}/50 s drawn ahead");
        }
    }
}
