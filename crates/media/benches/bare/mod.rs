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
