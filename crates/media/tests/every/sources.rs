//! Pictures of every codec that the libraries write, in every container that they come in.

use beryl_core::plan::{PlanError, plan_with as plan};
use beryl_core::preset::{builtin, builtin_presets};
use beryl_media::{Control, probe, scan, silence_libraries};
use serde_json::json;

use crate::making::{Recorded, fault, made, source};

/// Container, codec, pixel format, sound.
const SOURCES: [(&str, &str, &str, &str); 39] = [
    ("avi", "mpeg4", "yuv420p", "libmp3lame"),
    ("avi", "mjpeg", "yuvj422p", "pcm_s16le"),
    ("avi", "huffyuv", "yuv422p", "pcm_s16le"),
    ("avi", "ffvhuff", "yuv420p", "pcm_s16le"),
    ("avi", "utvideo", "gbrp", "pcm_s16le"),
    ("avi", "magicyuv", "yuv444p", "pcm_s16le"),
    ("avi", "rawvideo", "yuyv422", "pcm_s16le"),
    ("avi", "rawvideo", "bgr24", "pcm_s16le"),
    ("avi", "cinepak", "rgb24", "pcm_u8"),
    ("avi", "msvideo1", "rgb555le", "pcm_u8"),
    ("avi", "msmpeg4", "yuv420p", "pcm_s16le"),
    ("avi", "dvvideo", "yuv420p", "pcm_s16le"),
    ("avi", "libx264", "yuv420p", "pcm_s16le"),
    ("mov", "dvvideo", "yuv420p", "pcm_s16le"),
    ("mov", "mjpeg", "yuvj420p", "pcm_s16be"),
    ("mov", "prores_ks", "yuv422p10le", "pcm_s24le"),
    ("mov", "prores_ks", "yuva444p10le", "pcm_s24le"),
    ("mov", "dnxhd", "yuv422p", "pcm_s16le"),
    ("mov", "v210", "yuv422p10le", "pcm_s24le"),
    ("mov", "rawvideo", "uyvy422", "pcm_s16le"),
    ("mov", "qtrle", "rgb24", "pcm_s16be"),
    ("mov", "qtrle", "argb", "pcm_s16be"),
    ("mov", "png", "rgba", "pcm_s16be"),
    ("mov", "rpza", "rgb555le", "pcm_s16be"),
    ("mov", "smc", "pal8", "pcm_s16be"),
    ("mov", "svq1", "yuv410p", "adpcm_ima_qt"),
    ("mov", "jpeg2000", "yuv422p", "pcm_s16be"),
    ("mov", "libx265", "yuv420p10le", "aac"),
    ("mxf", "mpeg2video", "yuv422p", "pcm_s16le"),
    ("mxf", "dnxhd", "yuv422p", "pcm_s16le"),
    ("mxf", "libx264", "yuv420p", "pcm_s16le"),
    ("asf", "wmv2", "yuv420p", "wmav2"),
    ("asf", "msmpeg4", "yuv420p", "wmav2"),
    ("ogg", "libtheora", "yuv420p", "libvorbis"),
    ("webm", "libvpx", "yuv420p", "libopus"),
    ("webm", "libvpx-vp9", "yuv420p", "libopus"),
    ("mpegts", "mpeg2video", "yuv420p", "mp2"),
    ("vob", "mpeg1video", "yuv420p", "mp2"),
    ("nut", "ffv1", "yuv420p", "flac"),
];

/// Streams without a container, and formats of one stream or of sound alone.
const PLAIN: [(&str, &str, &str, &str); 30] = [
    ("h264", "libx264", "yuv420p", ""),
    ("hevc", "libx265", "yuv420p", ""),
    ("mpeg2video", "mpeg2video", "yuv420p", ""),
    ("m4v", "mpeg4", "yuv420p", ""),
    ("ivf", "libvpx-vp9", "yuv420p", ""),
    ("ivf", "libvpx", "yuv420p", ""),
    ("gif", "gif", "bgr8", ""),
    ("apng", "apng", "rgba", ""),
    ("yuv4mpegpipe", "wrapped_avframe", "yuv420p", ""),
    ("mp3", "", "", "libmp3lame"),
    ("mp2", "", "", "mp2"),
    ("adts", "", "", "aac"),
    ("ac3", "", "", "ac3"),
    ("eac3", "", "", "eac3"),
    ("flac", "", "", "flac"),
    ("ogg", "", "", "libvorbis"),
    ("ogg", "", "", "libopus"),
    ("ogg", "", "", "flac"),
    ("aiff", "", "", "pcm_s16be"),
    ("caf", "", "", "alac"),
    ("w64", "", "", "pcm_s24le"),
    ("au", "", "", "pcm_s16be"),
    ("wav", "", "", "pcm_f32le"),
    ("wav", "", "", "pcm_u8"),
    ("wav", "", "", "adpcm_ms"),
    ("asf", "", "", "wmav2"),
    ("ipod", "", "", "alac"),
    ("wv", "", "", "wavpack"),
    ("tta", "", "", "tta"),
    ("webm", "", "", "libopus"),
];

#[test]
fn streams_without_a_container_and_sound_alone_become_what_they_can() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let mut wrong = Vec::new();
    for (format, picture, pixel_format, sound) in PLAIN {
        let name = format!("{picture}{sound}.{format}");
        let recorded = Recorded { format, picture, pixel_format, sound, sounds: 1, ..Recorded::default() };
        recorded.record(&folder.path().join(&name));
        let (reading, _) = scan(&source(folder.path(), &name), false, &Control::default(), &|_| ()).unwrap();
        for preset in builtin_presets() {
            let made = match plan(&reading, &preset, &json!({})) {
                Ok(plan) if preset.id == "same-h264" => match made(folder.path(), &name, &plan) {
                    Ok(output) => Some(probe(&output).unwrap().facts.picture().unwrap().1.frames)
                        .filter(|frames| *frames != Some(50))
                        .map(|frames| format!("{frames:?} pictures")),
                    Err(told) => Some(told),
                },
                Ok(plan) => fault(folder.path(), &name, &plan),
                Err(PlanError::NothingToMake { missing }) => {
                    let there = if missing == "no sound" { sound } else { picture };
                    Some(missing.to_owned()).filter(|_| !there.is_empty())
                }
                Err(error) => Some(error.to_string()),
            };
            wrong.extend(made.map(|told| format!("{name} {}: {told}", preset.id)));
        }
    }
    assert!(wrong.is_empty(), "{} {wrong:#?}", wrong.len());
}

#[test]
fn pictures_of_every_codec_become_every_preset_or_are_refused_in_the_plan() {
    silence_libraries();
    let folder = tempfile::tempdir().unwrap();
    let (mut wrong, mut refused) = (Vec::new(), Vec::new());
    for (format, picture, pixel_format, sound) in SOURCES {
        let name = format!("{picture}_{pixel_format}.{format}");
        let large = picture == "dvvideo" || format == "mxf";
        let size = match picture {
            "dnxhd" => (256, 120),
            _ if large => (720, 576),
            _ => (64, 64),
        };
        let recorded = Recorded { format, picture, pixel_format, size, sound, ..Recorded::default() };
        recorded.record(&folder.path().join(&name));
        let (reading, _) = scan(&source(folder.path(), &name), false, &Control::default(), &|_| ()).unwrap();
        for preset in ["same-h264", "light-proxy", "master-keeper"] {
            match plan(&reading, &builtin(preset).unwrap(), &json!({})) {
                Ok(plan) => wrong.extend(fault(folder.path(), &name, &plan).map(|told| format!("{name} {preset}: {told}"))),
                Err(error) => refused.push(format!("{name} {preset}: {error}")),
            }
        }
    }
    assert_eq!(refused, Vec::<String>::new());
    assert!(wrong.is_empty(), "{} {wrong:#?}", wrong.len());
}
