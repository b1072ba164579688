//! Files being written.

use std::collections::BTreeMap;
use std::ffi::{c_char, c_int};
use std::io::Read;
use std::ptr;

use beryl_core::formats::ebml::{ROOM, delay_in_name};
use beryl_core::formats::iso::{AROUND, Listed, most_index};
use beryl_core::time::Rational;
use ffmpeg_next::ffi;

use super::dictionary::Dictionary;
use super::io::{ByteStream, Medium};
use super::{AvError, EncoderStream, Packet, av_rational, c_text, check, rational};

/// A chapter to write: start and end in seconds, and a title.
#[derive(Debug, Clone)]
pub(crate) struct OutputChapter {
    pub(crate) start: Rational,
    pub(crate) end: Rational,
    pub(crate) title: String,
}

/// Why a file could not be written.
#[derive(Debug, thiserror::Error)]
pub(crate) enum WriteError {
    /// The system refused: no room, no permission.
    #[error(transparent)]
    System(#[from] std::io::Error),
    /// The libraries refused.
    #[error(transparent)]
    Library(#[from] AvError),
}

/// What the callbacks reach.
struct Bytes {
    writer: ByteStream,
    /// Handles by which the muxer reads again what it wrote, to bring the index in front.
    readers: Vec<ByteStream>,
}

/// What is counted of a stream while it is written.
#[derive(Debug, Default)]
struct Counted {
    packets: u64,
    keys: u64,
    bytes: u64,
    /// How often its packets begin behind those of another stream.
    turns: u64,
    lengths: u64,
    shifts: u64,
    described: u64,
    /// When the last packet was decoded, for how long, and by how much later it was shown.
    last: Option<i64>,
    length: Option<i64>,
    shift: Option<i64>,
}

impl Counted {
    fn take(&mut self, packet: &Packet, is_turn: bool) {
        self.packets += 1;
        self.keys += u64::from(packet.is_key());
        self.bytes += packet.size();
        self.turns += u64::from(is_turn);
        if let Some(decoded) = packet.dts().or(packet.pts()) {
            let length = self.last.replace(decoded).map(|last| decoded.wrapping_sub(last));
            self.lengths += u64::from(length != self.length);
            self.length = length;
            let shift = packet.pts().map(|shown| shown.wrapping_sub(decoded));
            self.shifts += u64::from(shift != self.shift);
            self.shift = shift;
        }
    }

    fn listed(&self) -> Listed {
        Listed {
            packets: self.packets,
            keys: self.keys,
            // Two runs that follow each other without a turn are longer than one may be.
            runs: self.turns + 2 * (self.bytes / LONGEST_RUN) + 1,
            // The last packet has a length of its own.
            lengths: self.lengths + 2,
            shifts: self.shifts + 1,
            described: self.described,
        }
    }
}

/// A file being written by a muxer.
pub(crate) struct Output {
    context: *mut ffi::AVFormatContext,
    /// Made by `Box::into_raw`: the muxer points to it, too.
    bytes: *mut Bytes,
    clocks: Vec<Rational>,
    /// What the index has to list of each stream.
    listed: Vec<Counted>,
    /// The stream of the last packet.
    last: Option<usize>,
    /// Room that was left for the index, in front, and bytes of tags and chapters in it.
    index_room: Option<u64>,
    beside: u64,
    /// Whether priming is told as a delay of the codec.
    tells_delays: bool,
    /// Seconds of priming in front of each stream that has some, where the format tells it as a delay.
    delays: BTreeMap<usize, Rational>,
}

// SAFETY: context and bytes are owned by this value alone and bound to no thread.
unsafe impl Send for Output {}

/// The muxer may read its own file again, and open no other.
unsafe extern "C" fn open_again(
    context: *mut ffi::AVFormatContext,
    stream: *mut *mut ffi::AVIOContext,
    _: *const c_char,
    flags: c_int,
    _: *mut *mut ffi::AVDictionary,
) -> c_int {
    if flags & ffi::AVIO_FLAG_WRITE != 0 {
        return ffi::AVERROR(1);
    }
    // SAFETY: `opaque` is what the output points to as well and frees behind its context; the muxer calls from within
    // a call on that output, which borrows nothing of it meanwhile.
    unsafe {
        let bytes = &mut *(*context).opaque.cast::<Bytes>();
        let Ok(reader) = bytes.writer.reader() else { return ffi::AVERROR(5) };
        let Ok(reader) = ByteStream::new(reader, false) else { return ffi::AVERROR(super::ENOMEM) };
        *stream = reader.context();
        bytes.readers.push(reader);
    }
    0
}

/// Readers are freed with the output.
unsafe extern "C" fn close_again(_: *mut ffi::AVFormatContext, _: *mut ffi::AVIOContext) -> c_int {
    0
}

impl Output {
    /// Begins a file of the format with this name of the library.
    pub(crate) fn create(medium: Medium, format: &str) -> Result<Self, WriteError> {
        let format_text = c_text(format);
        let bytes = Box::into_raw(Box::new(Bytes { writer: ByteStream::new(medium, true)?, readers: Vec::new() }));
        let mut output = Self {
            context: ptr::null_mut(),
            bytes,
            clocks: Vec::new(),
            listed: Vec::new(),
            last: None,
            index_room: None,
            beside: 0,
            tells_delays: false,
            delays: BTreeMap::new(),
        };
        // SAFETY: texts end with NUL; the context is filled as the libraries document for own byte
        // streams, and what `opaque` points to is freed behind it.
        unsafe {
            let code =
                ffi::avformat_alloc_output_context2(&mut output.context, ptr::null(), format_text.as_ptr(), c"output".as_ptr());
            check(code, &format!("begin a file of the format {format}"))?;
            let context = &mut *output.context;
            context.pb = output.bytes().writer.context();
            context.flags |= ffi::AVFMT_FLAG_CUSTOM_IO;
            context.opaque = bytes.cast();
            context.io_open = Some(open_again);
            context.io_close2 = Some(close_again);
        }
        Ok(output)
    }

    fn bytes(&self) -> &Bytes {
        // SAFETY: made with this value and freed with it; the muxer changes it only within calls that borrow this value.
        unsafe { &*self.bytes }
    }

    fn bytes_mut(&mut self) -> &mut Bytes {
        // SAFETY: as in `bytes`; the borrow of this value keeps the muxer away.
        unsafe { &mut *self.bytes }
    }

    /// Whether encoders must put their headers in front instead of into the stream.
    pub(crate) fn wants_global_header(format: &str) -> bool {
        // SAFETY: the text ends with NUL; the answer is null or static data.
        unsafe {
            let format = ffi::av_guess_format(c_text(format).as_ptr(), ptr::null(), ptr::null());
            !format.is_null() && (*format).flags & ffi::AVFMT_GLOBALHEADER != 0
        }
    }

    /// Tells priming as a delay of the codec, in a Matroska file: otherwise all streams of it begin that much later.
    pub(crate) fn tell_delays_of_codecs(&mut self) {
        self.tells_delays = true;
    }

    /// Adds a stream; streams are numbered in the order in which they are added.
    pub(crate) fn add_stream(
        &mut self,
        stream: &EncoderStream,
        tags: &BTreeMap<String, String>,
        roles: &[String],
    ) -> Result<(), WriteError> {
        let delay = stream.priming().filter(|_| self.tells_delays);
        let mut tags = tags.clone();
        if let Some(delay) = delay {
            tags.entry("title".to_owned()).or_default().push_str(ROOM);
            self.delays.insert(self.clocks.len(), delay);
        }
        // SAFETY: the context is ours and has no header yet; the new stream belongs to it.
        unsafe {
            let added = ffi::avformat_new_stream(self.context, ptr::null());
            if added.is_null() {
                return Err(AvError::new(ffi::AVERROR(super::ENOMEM), "add a stream").into());
            }
            let added = &mut *added;
            check(ffi::avcodec_parameters_copy(added.codecpar, stream.parameters), "add a stream")?;
            added.time_base = av_rational(stream.clock);
            if let Some(rate) = stream.rate {
                added.avg_frame_rate = av_rational(rate);
                added.r_frame_rate = av_rational(rate);
            }
            added.sample_aspect_ratio = (*added.codecpar).sample_aspect_ratio;
            added.metadata = dictionary_of(&tags);
            let hdr = stream.hdr.as_deref().map(super::input::side_data_of).unwrap_or_default();
            for (kind, bytes) in hdr {
                let room = ffi::av_stream_new_side_data(added, kind, bytes.len());
                if room.is_null() {
                    return Err(AvError::new(ffi::AVERROR(super::ENOMEM), "add a stream").into());
                }
                ptr::copy_nonoverlapping(bytes.as_ptr(), room, bytes.len());
            }
            for role in roles {
                let flag = ffi::av_disposition_from_string(c_text(role).as_ptr());
                added.disposition |= flag.max(0);
            }
        }
        self.clocks.push(stream.clock);
        if tags.contains_key("timecode") {
            // It becomes a track of its own.
            self.beside += AROUND;
        }
        let names = tags.values().map(|value| value.len() as u64).sum::<u64>();
        self.listed.push(Counted { described: stream.header_size() + 2 * names, ..Counted::default() });
        Ok(())
    }

    /// Tags of the whole file.
    pub(crate) fn set_tags(&mut self, tags: &BTreeMap<String, String>) {
        self.beside += tags.iter().map(|(name, value)| (name.len() + value.len()) as u64 + TAG).sum::<u64>();
        // SAFETY: the context is ours and has no tags yet.
        unsafe { (*self.context).metadata = dictionary_of(tags) };
    }

    /// Chapters, numbered in this order.
    pub(crate) fn set_chapters(&mut self, chapters: &[OutputChapter]) -> Result<(), WriteError> {
        if chapters.is_empty() {
            return Ok(());
        }
        // They become a track as well.
        self.beside += AROUND + chapters.iter().map(|chapter| 2 * chapter.title.len() as u64 + CHAPTER).sum::<u64>();
        let milliseconds = |time: Rational| (time * Rational::whole(1000)).round();
        // SAFETY: table and chapters are allocated by the libraries' allocator, which frees them
        // with the context; the count never exceeds what is filled.
        unsafe {
            let out_of_memory = || AvError::new(ffi::AVERROR(super::ENOMEM), "add chapters");
            let table = ffi::av_calloc(chapters.len(), size_of::<*mut ffi::AVChapter>()).cast::<*mut ffi::AVChapter>();
            if table.is_null() {
                return Err(out_of_memory().into());
            }
            (*self.context).chapters = table;
            for (number, chapter) in chapters.iter().enumerate() {
                let added = ffi::av_mallocz(size_of::<ffi::AVChapter>()).cast::<ffi::AVChapter>();
                if added.is_null() {
                    return Err(out_of_memory().into());
                }
                (*added).id = i64::try_from(number).unwrap_or(0);
                (*added).time_base = ffi::AVRational { num: 1, den: 1000 };
                (*added).start = milliseconds(chapter.start);
                (*added).end = milliseconds(chapter.end);
                (*added).metadata = dictionary_of(&BTreeMap::from([("title".to_owned(), chapter.title.clone())]));
                *table.add(number) = added;
                (*self.context).nb_chapters += 1;
            }
        }
        Ok(())
    }

    /// Leaves room for the index of a movie in front of the media, where each stream will be `expected`. What turns out not
    /// to fit there is brought to the front by a second writing of the file.
    pub(crate) fn leave_index_room(&mut self, expected: &[Listed]) {
        let with_headers = self.listed.iter().zip(expected);
        let with_headers = with_headers.map(|(counted, expected)| Listed { described: counted.described, ..*expected });
        let room = most_index(&with_headers.collect::<Vec<_>>(), self.beside) + FREE_BOX;
        // What is too much for the library is too little.
        self.index_room = Some(room.min(i32::MAX.unsigned_abs().into()));
    }

    /// Writes the header; each option must be known to the format.
    pub(crate) fn write_header(&mut self, options: &[(&str, &str)]) -> Result<(), WriteError> {
        let room = self.index_room.map(|room| room.to_string());
        let room = room.as_deref().map(|room| ("moov_size", room));
        let mut options = Dictionary::new(options.iter().copied().chain(room));
        // SAFETY: the context is ours and complete.
        let code = unsafe { ffi::avformat_write_header(self.context, options.as_mut()) };
        self.answer(code, "write the header")?;
        options.must_be_used_up("write the header")?;
        Ok(())
    }

    /// Writes a packet whose times count by the clock of its encoder, moved by `shift` seconds. Packets of all streams
    /// come in the order of their times.
    pub(crate) fn write(&mut self, packet: Packet, shift: Rational) -> Result<(), WriteError> {
        let packet = self.placed(packet, shift);
        self.list(&packet);
        // SAFETY: context and packet are ours; the packet stays so, and what it holds is only read.
        let code = unsafe { ffi::av_write_frame(self.context, packet.0) };
        self.answer(code, "write")
    }

    /// The same, where streams are in step by themselves: the library waits for a packet of each and orders them.
    pub(crate) fn write_in_any_order(&mut self, packet: Packet) -> Result<(), WriteError> {
        let packet = self.placed(packet, Rational::ZERO);
        self.list(&packet);
        // SAFETY: context and packet are ours; what the packet held is taken over.
        let code = unsafe { ffi::av_interleaved_write_frame(self.context, packet.0) };
        self.answer(code, "write")
    }

    /// Counts what the index will say of a packet.
    fn list(&mut self, packet: &Packet) {
        let stream = packet.stream();
        let is_run = self.last.replace(stream) != Some(stream);
        if let Some(counted) = self.listed.get_mut(stream) {
            counted.take(packet, is_run);
        }
    }

    /// A packet with its times by the clock of the format.
    fn placed(&self, mut packet: Packet, shift: Rational) -> Packet {
        let from = self.encoder_clock(packet.stream());
        let to = self.clock(packet.stream());
        let shift = shift + self.delays.get(&packet.stream()).copied().unwrap_or(Rational::ZERO);
        let ticks = shift.divided_by(to).map_or(0, Rational::round);
        packet.rescale(from, to, ticks);
        packet.forget_position();
        packet
    }

    /// The clock of the packets of a stream before they are written.
    pub(crate) fn encoder_clock(&self, stream: usize) -> Rational {
        self.clocks.get(stream).copied().unwrap_or(Rational::ONE)
    }

    /// The clock that the format chose for a stream.
    fn clock(&self, stream: usize) -> Rational {
        // SAFETY: the context is ours; the index is checked against the number of streams.
        unsafe {
            let context = &*self.context;
            if stream >= context.nb_streams as usize {
                return Rational::ONE;
            }
            rational((**context.streams.add(stream)).time_base).unwrap_or(Rational::ONE)
        }
    }

    /// Ends the file and brings it to the disk.
    pub(crate) fn finish(mut self) -> Result<(), WriteError> {
        self.fit_index()?;
        // SAFETY: the header was written, as callers make sure; the context is ours.
        let code = unsafe { ffi::av_write_trailer(self.context) };
        self.answer(code, "end the file")?;
        // SAFETY: the byte stream is ours and open.
        let code = unsafe {
            let writer = self.bytes().writer.context();
            ffi::avio_flush(writer);
            (*writer).error
        };
        self.answer(code, "end the file")?;
        #[cfg(debug_assertions)]
        self.see_index();
        self.write_delays()?;
        self.bytes_mut().writer.sync()?;
        Ok(())
    }

    /// Sees whether the index fits into the room that was left for it. Where it may not, that room becomes an empty box, and
    /// the index is brought in front of it by a second writing.
    fn fit_index(&mut self) -> Result<(), WriteError> {
        let listed: Vec<Listed> = self.listed.iter().map(Counted::listed).collect();
        let needed = most_index(&listed, self.beside) + FREE_BOX;
        let Some(room) = self.index_room.filter(|room| needed > *room) else { return Ok(()) };
        // SAFETY: the byte stream is ours and open.
        unsafe { ffi::avio_flush(self.bytes().writer.context()) };
        let mut first = [0; 4];
        self.bytes().writer.reader()?.into_file().read_exact(&mut first)?;
        let mut empty = u32::try_from(room).unwrap_or(u32::MAX).to_be_bytes().to_vec();
        empty.extend(b"free");
        self.bytes_mut().writer.write_at(u32::from_be_bytes(first).into(), &empty)?;
        for (name, value) in [(c"moov_size", c"0"), (c"movflags", c"+faststart")] {
            // SAFETY: the context and its muxer's own options are ours; both texts end with NUL.
            let code = unsafe { ffi::av_opt_set((*self.context).priv_data, name.as_ptr(), value.as_ptr(), 0) };
            self.answer(code, "bring the index to the front")?;
        }
        Ok(())
    }

    /// Sees that the index is not larger than it was reckoned to be: it would have been written over the media.
    #[cfg(debug_assertions)]
    fn see_index(&self) {
        use beryl_core::formats::iso::box_at;
        let Some(file) = self.bytes().writer.reader().ok().filter(|_| self.index_room.is_some()) else { return };
        let file = file.into_file();
        let mut read = crate::source::reader(&file);
        let index = box_at(&mut read, 0).and_then(|first| Some((first.end?, box_at(&mut read, first.end?)?)));
        let Some((begin, index)) = index.filter(|(_, index)| &index.kind == b"moov") else { panic!("no index in front") };
        let size = index.end.unwrap_or(u64::MAX) - begin;
        let most = most_index(&self.listed.iter().map(Counted::listed).collect::<Vec<_>>(), self.beside);
        assert!(size <= most, "an index of {size} bytes was reckoned to be {most} at most");
    }

    /// Writes the delays of codecs into the header, in the room that was left for them.
    fn write_delays(&mut self) -> Result<(), WriteError> {
        if self.delays.is_empty() {
            return Ok(());
        }
        let file = self.bytes().writer.reader()?.into_file();
        let mut header = Vec::new();
        file.take(LARGEST_HEADER).read_to_end(&mut header)?;
        for (stream, delay) in self.delays.clone() {
            let nanoseconds = u32::try_from((delay * Rational::whole(1_000_000_000)).round()).unwrap_or(0);
            let (at, bytes) = delay_in_name(&header, stream as u64 + 1, nanoseconds)
                .ok_or_else(|| AvError::own("end the file", "its header has no room for the delay of the sound"))?;
            self.bytes_mut().writer.write_at(at as u64, &bytes)?;
        }
        Ok(())
    }

    /// Bytes that have gone to the disk so far.
    pub(crate) fn written(&self) -> u64 {
        self.bytes().writer.written()
    }

    /// The system's own error tells more than the library's number for it.
    fn answer(&mut self, code: c_int, doing: &str) -> Result<(), WriteError> {
        if let Some(error) = self.bytes_mut().writer.take_error() {
            return Err(error.into());
        }
        check(code, doing)?;
        Ok(())
    }
}

/// Bytes around a tag, around a chapter, and of an empty box.
const TAG: u64 = 64;
const CHAPTER: u64 = 256;
const FREE_BOX: u64 = 8;
/// Bytes after which a run of packets ends.
const LONGEST_RUN: u64 = 1 << 20;

/// Bytes of a header in which tracks are described.
const LARGEST_HEADER: u64 = 1 << 20;

/// A dictionary for a structure of the libraries that will free it.
fn dictionary_of(tags: &BTreeMap<String, String>) -> *mut ffi::AVDictionary {
    Dictionary::new(tags.iter().map(|(name, value)| (name.as_str(), value.as_str()))).into_raw()
}

impl Drop for Output {
    fn drop(&mut self) {
        // SAFETY: ours alone, freed once, null being allowed; the byte streams are ours by the flag CUSTOM_IO and are
        // freed after it, from what `Box::into_raw` gave.
        unsafe {
            ffi::avformat_free_context(self.context);
            drop(Box::from_raw(self.bytes));
        }
    }
}
