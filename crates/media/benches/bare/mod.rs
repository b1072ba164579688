//! Bare loops over the libraries, that benchmarks compare with.

use std::cell::Cell;
use std::path::Path;

use beryl_core::plan::PicturePlan;
use beryl_media::LibrarySettings;
use ffmpeg_next as av;
use nix::sys::resource::{UsageWho, getrusage};
use nix::sys::time::TimeValLike;

/// The index of the picture's stream and a decoder for it, with as many threads as there are cores.
pub(crate) fn decoder(input: &av::format::context::Input) -> (usize, av::codec::decoder::Video) {
    let stream = input.streams().best(av::media::Type::Video).unwrap();
    let mut context = av::codec::Context::from_parameters(stream.parameters()).unwrap();
    context.set_threading(av::threading::Config::kind(av::threading::Type::Frame));
    let mut decoder = context.decoder().video().unwrap();
    decoder.set_packet_time_base(stream.time_base());
    (stream.index(), decoder)
}

/// Decodes the picture and throws it away.
#[allow(dead_code)] // Not every benchmark decodes alone.
pub(crate) fn bare_decode(source: &Path) {
    let mut input = av::format::input(source).unwrap();
    let (index, mut decoder) = decoder(&input);
    let mut frame = av::frame::Video::empty();
    for (stream, packet) in input.packets() {
        if stream.index() == index {
            decoder.send_packet(&packet).unwrap();
            while decoder.receive_frame(&mut frame).is_ok() {}
        }
    }
    decoder.send_eof().unwrap();
    while decoder.receive_frame(&mut frame).is_ok() {}
}

/// Filters behind a decoder whose frames count by this clock.
#[allow(dead_code)] // Not every benchmark filters.
pub(crate) fn graph(decoder: &av::codec::decoder::Video, clock: av::Rational, filters: &str) -> av::filter::Graph {
    let mut graph = av::filter::Graph::new();
    let arguments = format!(
        "video_size={}x{}:pix_fmt={}:time_base={}/{}:pixel_aspect=1/1",
        decoder.width(),
        decoder.height(),
        av::ffi::AVPixelFormat::from(decoder.format()) as i32,
        clock.numerator(),
        clock.denominator()
    );
    graph.add(&av::filter::find("buffer").unwrap(), "in", &arguments).unwrap();
    graph.add(&av::filter::find("buffersink").unwrap(), "out", "").unwrap();
    graph.output("in", 0).unwrap().input("out", 0).unwrap().parse(filters).unwrap();
    graph.validate().unwrap();
    graph
}

/// Decodes the picture, puts it through filters and throws it away.
#[allow(dead_code)] // Not every benchmark filters.
pub(crate) fn bare_filter(source: &Path, filters: &str) {
    let mut input = av::format::input(source).unwrap();
    let (index, mut decoder) = decoder(&input);
    let mut graph = graph(&decoder, input.stream(index).unwrap().time_base(), filters);
    let (mut frame, mut filtered) = (av::frame::Video::empty(), av::frame::Video::empty());
    let packets: Vec<_> = input.packets().filter(|(stream, _)| stream.index() == index).map(|(_, packet)| packet).collect();
    for packet in packets.iter().map(Some).chain([None]) {
        match packet {
            Some(packet) => decoder.send_packet(packet).unwrap(),
            None => decoder.send_eof().unwrap(),
        }
        while decoder.receive_frame(&mut frame).is_ok() {
            graph.get("in").unwrap().source().add(&frame).unwrap();
            while graph.get("out").unwrap().sink().frame(&mut filtered).is_ok() {}
        }
    }
}

/// The shortest way from the first frames of a source to one file: decode, filter, encode, mux, in one thread.
#[allow(dead_code)] // Not every benchmark encodes.
pub(crate) fn bare_transcode(source: &Path, target: &Path, picture: &PicturePlan, settings: &LibrarySettings, frames: i64) {
    let mut input = av::format::input(source).unwrap();
    let (index, mut decoder) = decoder(&input);
    let clock = input.stream(index).unwrap().time_base();
    let mut output = av::format::output(target).unwrap();
    let mut graph = graph(&decoder, clock, &settings.filters);

    let codec = av::encoder::find_by_name(settings.encoder).unwrap();
    let rate = picture.frame_rate.rate();
    let rate = av::Rational(i32::try_from(rate.numerator()).unwrap(), i32::try_from(rate.denominator()).unwrap());
    let mut wanted = av::codec::Context::new_with_codec(codec).encoder().video().unwrap();
    wanted.set_width(picture.width);
    wanted.set_height(picture.height);
    wanted.set_format(picture.pixel_format.name().parse().unwrap());
    wanted.set_time_base(rate.invert());
    wanted.set_frame_rate(Some(rate));
    let mut options = av::Dictionary::new();
    for (name, value) in &settings.options {
        options.set(name, value);
    }
    let mut encoder = wanted.open_as_with(codec, options).unwrap();
    output.add_stream(codec).unwrap().set_parameters(&encoder);
    output.write_header().unwrap();
    let to = output.stream(0).unwrap().time_base();

    let mut frame = av::frame::Video::empty();
    let mut filtered = av::frame::Video::empty();
    let count = Cell::new(0);
    let write = |encoder: &mut av::encoder::Video, output: &mut av::format::context::Output| {
        let mut packet = av::Packet::empty();
        while encoder.receive_packet(&mut packet).is_ok() {
            packet.set_stream(0);
            packet.rescale_ts(rate.invert(), to);
            packet.write_interleaved(output).unwrap();
        }
    };
    let mut take = |graph: &mut av::filter::Graph, encoder: &mut av::encoder::Video, output: &mut av::format::context::Output| {
        while graph.get("out").unwrap().sink().frame(&mut filtered).is_ok() {
            filtered.set_pts(Some(count.get()));
            filtered.set_kind(av::picture::Type::None);
            count.set(count.get() + 1);
            encoder.send_frame(&filtered).unwrap();
            write(encoder, output);
        }
    };
    let packets: Vec<_> = input.packets().map(|(stream, packet)| (stream.index(), packet)).collect();
    for (stream, packet) in packets.into_iter().map(Some).chain([None]).map(|packet| packet.unzip()) {
        if count.get() >= frames {
            break;
        }
        match packet {
            Some(packet) if stream == Some(index) => decoder.send_packet(&packet).unwrap(),
            Some(_) => continue,
            None => decoder.send_eof().unwrap(),
        }
        while count.get() < frames && decoder.receive_frame(&mut frame).is_ok() {
            let time = frame.timestamp();
            frame.set_pts(time);
            graph.get("in").unwrap().source().add(&frame).unwrap();
            take(&mut graph, &mut encoder, &mut output);
        }
    }
    graph.get("in").unwrap().source().flush().unwrap();
    take(&mut graph, &mut encoder, &mut output);
    encoder.send_eof().unwrap();
    write(&mut encoder, &mut output);
    output.write_trailer().unwrap();
}

/// Seconds of processor time that something takes.
#[allow(dead_code)] // Not every benchmark measures it.
pub(crate) fn cost(work: impl FnOnce()) -> f64 {
    let before = cpu_seconds();
    work();
    cpu_seconds() - before
}

fn cpu_seconds() -> f64 {
    let usage = getrusage(UsageWho::RUSAGE_SELF).unwrap();
    (usage.user_time().num_microseconds() + usage.system_time().num_microseconds()) as f64 / 1e6
}
