//! What each kind of source becomes by each preset that ships: one table, a row for each pair.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use beryl_core::facts::{Content, Sound};
use beryl_core::picture::{FieldOrder, Orientation};
use beryl_core::plan::{FrameRatePlan, Plan, plan};
use beryl_core::preset::{PresetPatch, builtin_presets};
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use common::{reading, stream};

/// Sources as houses get them.
fn sources() -> Vec<(&'static str, Reading)> {
    let sized = |width, height| reading(move |picture| (picture.width, picture.height) = (width, height));
    let tape = |width, height, aspect, rate: &str, order| {
        let rate: Rational = rate.parse().unwrap();
        reading(move |picture| {
            (picture.width, picture.height, picture.pixel_aspect) = (width, height, aspect);
            (picture.frame_rate, picture.field_order) = (Some(rate), order);
            (picture.pixel_format, picture.depth) = ("yuv420p".into(), 8);
        })
    };
    let mut phone = reading(|picture| {
        picture.orientation = Orientation::turned(90);
        (picture.pixel_format, picture.depth, picture.varies) = ("yuv420p".into(), 8, true);
    });
    phone.facts.timecode = None;
    let mut film_sound = sized(1920, 1080);
    let surround = Sound { channels: 6, layout: "5.1(side)".to_owned(), sample_rate: 48_000, bits: Some(24) };
    film_sound.facts.streams[1] = stream(1, "pcm_s24le", Content::Sound(surround));
    let mut sound_alone = sized(1920, 1080);
    sound_alone.facts.streams.remove(0);
    let mut silent = sized(1920, 1080);
    silent.facts.streams.truncate(1);
    vec![
        ("HD", sized(1920, 1080)),
        ("UHD", sized(3840, 2160)),
        ("small", sized(640, 360)),
        ("upright", phone),
        ("PAL tape", tape(720, 576, Rational::constant(16, 15), "25", FieldOrder::TopFirst)),
        ("NTSC tape", tape(720, 480, Rational::constant(8, 9), "30000/1001", FieldOrder::BottomFirst)),
        ("5.1", film_sound),
        ("sound alone", sound_alone),
        ("silent", silent),
    ]
}

/// What is made, in a line.
fn words(plan: &Plan) -> String {
    let picture = plan.picture.as_ref().map(|picture| {
        let rate = match picture.frame_rate {
            FrameRatePlan::Constant { rate } => format!("{rate}"),
            FrameRatePlan::Variable { .. } => "varies".to_owned(),
        };
        let fields = if picture.field_order.is_interlaced() { "i" } else { "p" };
        format!("{} {}×{} {rate}{fields} {}", picture.format.codec().id, picture.width, picture.height, picture.pixel_format)
    });
    let sound = plan.sound.iter().map(|sound| format!("{} {}", sound.codec.id, sound.layout));
    let parts: Vec<String> = picture.into_iter().chain(sound).collect();
    format!("{}: {}", plan.container.extension(), parts.join(", "))
}

/// Kind of source, preset, what is made.
const TABLE: &[(&str, &str, &str)] = &[
    ("HD", "web-1080", "mp4: h264 1920×1080 25p yuv420p, aac stereo"),
    ("HD", "web-720", "mp4: h264 1280×720 25p yuv420p, aac stereo"),
    ("HD", "review-small", "mp4: h264 960×540 25p yuv420p, aac stereo"),
    ("HD", "delivery-hevc", "mp4: hevc 1920×1080 25p yuv420p10le, aac stereo"),
    ("HD", "master-keeper", "mov: prores 1920×1080 25p yuv422p10le, pcm24 stereo"),
    ("HD", "edit-friendly", "mov: prores 1920×1080 25p yuv422p10le, pcm24 stereo"),
    ("HD", "light-proxy", "mov: h264 960×540 25p yuv420p, aac stereo"),
    ("HD", "screen-page", "mp4: h264 1280×720 25/3p yuv420p, aac mono"),
    ("HD", "sound-only", "wav: pcm24 stereo"),
    ("HD", "same-h264", "mp4: h264 1920×1080 25p yuv420p, aac stereo"),
    ("UHD", "web-1080", "mp4: h264 1920×1080 25p yuv420p, aac stereo"),
    ("UHD", "web-720", "mp4: h264 1280×720 25p yuv420p, aac stereo"),
    ("UHD", "review-small", "mp4: h264 960×540 25p yuv420p, aac stereo"),
    ("UHD", "delivery-hevc", "mp4: hevc 3840×2160 25p yuv420p10le, aac stereo"),
    ("UHD", "master-keeper", "mov: prores 3840×2160 25p yuv422p10le, pcm24 stereo"),
    ("UHD", "edit-friendly", "mov: prores 3840×2160 25p yuv422p10le, pcm24 stereo"),
    ("UHD", "light-proxy", "mov: h264 1920×1080 25p yuv420p, aac stereo"),
    ("UHD", "screen-page", "mp4: h264 1280×720 25/3p yuv420p, aac mono"),
    ("UHD", "sound-only", "wav: pcm24 stereo"),
    ("UHD", "same-h264", "mp4: h264 3840×2160 25p yuv420p, aac stereo"),
    ("small", "web-1080", "mp4: h264 640×360 25p yuv420p, aac stereo"),
    ("small", "web-720", "mp4: h264 640×360 25p yuv420p, aac stereo"),
    ("small", "review-small", "mp4: h264 640×360 25p yuv420p, aac stereo"),
    ("small", "delivery-hevc", "mp4: hevc 640×360 25p yuv420p10le, aac stereo"),
    ("small", "master-keeper", "mov: prores 640×360 25p yuv422p10le, pcm24 stereo"),
    ("small", "edit-friendly", "mov: prores 640×360 25p yuv422p10le, pcm24 stereo"),
    ("small", "light-proxy", "mov: h264 320×180 25p yuv420p, aac stereo"),
    ("small", "screen-page", "mp4: h264 640×360 25/3p yuv420p, aac mono"),
    ("small", "sound-only", "wav: pcm24 stereo"),
    ("small", "same-h264", "mp4: h264 640×360 25p yuv420p, aac stereo"),
    ("upright", "web-1080", "mp4: h264 608×1080 25p yuv420p, aac stereo"),
    ("upright", "web-720", "mp4: h264 406×720 25p yuv420p, aac stereo"),
    ("upright", "review-small", "mp4: h264 304×540 25p yuv420p, aac stereo"),
    ("upright", "delivery-hevc", "mp4: hevc 1080×1920 25p yuv420p10le, aac stereo"),
    ("upright", "master-keeper", "mov: prores 1080×1920 25p yuv422p10le, pcm24 stereo"),
    ("upright", "edit-friendly", "mov: prores 1080×1920 25p yuv422p10le, pcm24 stereo"),
    ("upright", "light-proxy", "mov: h264 540×960 25p yuv420p, aac stereo"),
    ("upright", "screen-page", "mp4: h264 406×720 25/3p yuv420p, aac mono"),
    ("upright", "sound-only", "wav: pcm24 stereo"),
    ("upright", "same-h264", "mp4: h264 1080×1920 variesp yuv420p, aac stereo"),
    ("PAL tape", "web-1080", "mp4: h264 768×576 25p yuv420p, aac stereo"),
    ("PAL tape", "web-720", "mp4: h264 768×576 25p yuv420p, aac stereo"),
    ("PAL tape", "review-small", "mp4: h264 720×540 25p yuv420p, aac stereo"),
    ("PAL tape", "delivery-hevc", "mp4: hevc 768×576 25p yuv420p10le, aac stereo"),
    ("PAL tape", "master-keeper", "mov: prores 720×576 25i yuv422p10le, pcm24 stereo"),
    ("PAL tape", "edit-friendly", "mov: prores 768×576 25p yuv422p10le, pcm24 stereo"),
    ("PAL tape", "light-proxy", "mov: h264 384×288 25p yuv420p, aac stereo"),
    ("PAL tape", "screen-page", "mp4: h264 768×576 25/3p yuv420p, aac mono"),
    ("PAL tape", "sound-only", "wav: pcm24 stereo"),
    ("PAL tape", "same-h264", "mp4: h264 768×576 25p yuv420p, aac stereo"),
    ("NTSC tape", "web-1080", "mp4: h264 640×480 30000/1001p yuv420p, aac stereo"),
    ("NTSC tape", "web-720", "mp4: h264 640×480 30000/1001p yuv420p, aac stereo"),
    ("NTSC tape", "review-small", "mp4: h264 640×480 30000/1001p yuv420p, aac stereo"),
    ("NTSC tape", "delivery-hevc", "mp4: hevc 640×480 30000/1001p yuv420p10le, aac stereo"),
    ("NTSC tape", "master-keeper", "mov: prores 720×480 30000/1001i yuv422p10le, pcm24 stereo"),
    ("NTSC tape", "edit-friendly", "mov: prores 640×480 30000/1001p yuv422p10le, pcm24 stereo"),
    ("NTSC tape", "light-proxy", "mov: h264 320×240 30000/1001p yuv420p, aac stereo"),
    ("NTSC tape", "screen-page", "mp4: h264 640×480 10000/1001p yuv420p, aac mono"),
    ("NTSC tape", "sound-only", "wav: pcm24 stereo"),
    ("NTSC tape", "same-h264", "mp4: h264 640×480 30000/1001p yuv420p, aac stereo"),
    ("5.1", "web-1080", "mp4: h264 1920×1080 25p yuv420p, aac stereo"),
    ("5.1", "web-720", "mp4: h264 1280×720 25p yuv420p, aac stereo"),
    ("5.1", "review-small", "mp4: h264 960×540 25p yuv420p, aac stereo"),
    ("5.1", "delivery-hevc", "mp4: hevc 1920×1080 25p yuv420p10le, aac 5.1"),
    ("5.1", "master-keeper", "mov: prores 1920×1080 25p yuv422p10le, pcm24 5.1(side)"),
    ("5.1", "edit-friendly", "mov: prores 1920×1080 25p yuv422p10le, pcm24 5.1(side)"),
    ("5.1", "light-proxy", "mov: h264 960×540 25p yuv420p, aac 5.1"),
    ("5.1", "screen-page", "mp4: h264 1280×720 25/3p yuv420p, aac mono"),
    ("5.1", "sound-only", "wav: pcm24 5.1(side)"),
    ("5.1", "same-h264", "mp4: h264 1920×1080 25p yuv420p, aac 5.1"),
    ("sound alone", "web-1080", "refused: the source has no picture"),
    ("sound alone", "web-720", "refused: the source has no picture"),
    ("sound alone", "review-small", "refused: the source has no picture"),
    ("sound alone", "delivery-hevc", "refused: the source has no picture"),
    ("sound alone", "master-keeper", "refused: the source has no picture"),
    ("sound alone", "edit-friendly", "refused: the source has no picture"),
    ("sound alone", "light-proxy", "refused: the source has no picture"),
    ("sound alone", "screen-page", "refused: the source has no picture"),
    ("sound alone", "sound-only", "wav: pcm24 stereo"),
    ("sound alone", "same-h264", "refused: the source has no picture"),
    ("silent", "web-1080", "mp4: h264 1920×1080 25p yuv420p"),
    ("silent", "web-720", "mp4: h264 1280×720 25p yuv420p"),
    ("silent", "review-small", "mp4: h264 960×540 25p yuv420p"),
    ("silent", "delivery-hevc", "mp4: hevc 1920×1080 25p yuv420p10le"),
    ("silent", "master-keeper", "mov: prores 1920×1080 25p yuv422p10le"),
    ("silent", "edit-friendly", "mov: prores 1920×1080 25p yuv422p10le"),
    ("silent", "light-proxy", "mov: h264 960×540 25p yuv420p"),
    ("silent", "screen-page", "mp4: h264 1280×720 25/3p yuv420p"),
    ("silent", "sound-only", "refused: the source has no sound"),
    ("silent", "same-h264", "mp4: h264 1920×1080 25p yuv420p"),
];

#[test]
fn each_kind_of_source_becomes_what_the_table_says() {
    let mut wrong = Vec::new();
    let mut rows = 0;
    for (kind, source) in sources() {
        for preset in builtin_presets() {
            let made = match plan(&source, &preset, &PresetPatch::default()) {
                Ok(plan) => words(&plan),
                Err(error) => format!("refused: {error}"),
            };
            let expected = TABLE.iter().find(|(of, by, _)| (*of, *by) == (kind, preset.id.as_str())).map(|(.., made)| *made);
            if expected != Some(made.as_str()) {
                wrong.push(format!("    ({kind:?}, {:?}, {made:?}),", preset.id));
            }
            rows += 1;
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert_eq!(TABLE.len(), rows, "rows of pairs that are not there");
}
