//! Bare loops over the libraries, that benchmarks compare with.

use std::path::Path;

use ffmpeg_next as av;

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
