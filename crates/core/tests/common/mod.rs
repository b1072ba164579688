//! What the tests of core share.

#![allow(dead_code, missing_docs, unreachable_pub)]

use std::collections::BTreeMap;

use beryl_core::facts::{Content, Facts, Picture, Sound, Stream};
use beryl_core::picture::{Colour, FieldOrder, Orientation};
use beryl_core::reading::Reading;
use beryl_core::time::Rational;
use beryl_core::units::{BitRate, ByteSize};

/// Ten seconds of 1080p25 ProRes with stereo sound, its picture changed.
pub fn reading(change: impl FnOnce(&mut Picture)) -> Reading {
    let mut picture = Picture {
        width: 1920,
        height: 1080,
        pixel_aspect: Rational::ONE,
        pixel_format: "yuv422p10le".into(),
        depth: 10,
        frame_rate: Some(Rational::whole(25)),
        varies: false,
        dominant_rate: None,
        frames: Some(250),
        frames_are_counted: true,
        field_order: FieldOrder::Progressive,
        colour: Colour::default(),
        hdr: None,
        orientation: Orientation::default(),
        still: false,
    };
    change(&mut picture);
    Reading::from(Facts {
        container: "mov".to_owned(),
        container_name: "QuickTime / MOV".to_owned(),
        size: ByteSize(200_000_000),
        duration: Some(Rational::whole(10)),
        start: Rational::ZERO,
        bit_rate: Some(BitRate(160_000_000)),
        timecode: Some("10:00:00:00".to_owned()),
        reel: None,
        tags: BTreeMap::new(),
        chapters: vec![],
        streams: vec![stream(0, "prores", Content::Picture(Box::new(picture))), stream(1, "pcm_s24le", Content::Sound(stereo()))],
        remarks: vec![],
        missing: None,
    })
}

pub fn stereo() -> Sound {
    Sound { channels: 2, layout: "stereo".to_owned(), sample_rate: 48_000, bits: Some(24) }
}

/// A stream of ten seconds.
pub fn stream(index: u32, codec: &str, content: Content) -> Stream {
    Stream {
        index,
        codec: codec.to_owned(),
        codec_tag: String::new(),
        profile: None,
        level: None,
        bit_rate: None,
        start: Some(Rational::ZERO),
        duration: Some(Rational::whole(10)),
        language: None,
        title: None,
        roles: vec![],
        content,
    }
}
