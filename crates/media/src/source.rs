//! Sources: opened below their root, read-only, and read as packets whether they are one file or
//! the images of a sequence.

use std::ffi::OsStr;
use std::io::Read;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use beryl_core::formats::iso::presented_lengths;
use beryl_core::formats::media_types::image_name;
use beryl_core::formats::wholeness::announced_end;
use beryl_core::path::StoragePath;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{FileRef, Sequence, SourceClock, SourceRef};
use beryl_core::time::Rational;
use beryl_core::timeline::{Anchor, Continuity, Jump};
use cap_std::ambient_authority;
use cap_std::fs::{Dir, OpenOptions, OpenOptionsExt};

use crate::raw::{AvError, Input, Kind, OpenError, Packet, Stop, StreamView};

/// Opening must not wait for the other end of a pipe.
const O_NONBLOCK: i32 = 0o4000;

/// Reads packets of one file, or of one image after the other.
pub(crate) struct PacketSource {
    input: Input,
    images: Option<Images>,
    size: u64,
    /// Bytes that the file's own structure announces beyond its end.
    missing: Option<u64>,
    /// Seconds for which each stream is shown by its edit list, where the format has them.
    presented: Vec<Option<Rational>>,
    name: String,
    known: SourceClock,
    /// Carries the clock of the file on where it jumps; nothing where stamps are wanted as they are.
    continuity: Option<Continuity>,
    /// Places from which reading can begin, as they are met.
    met: Vec<Anchor>,
    /// Where the last packet of the picture lies that told: of several that are stored as one, the first does.
    place: u64,
}

/// Seconds between two places from which reading can begin.
const ANCHORED_EVERY: Rational = Rational::whole(10);
/// So many of them are noted: of some ten hours, less where the clock jumps often. What lies behind is read up to.
const MOST_ANCHORS: usize = 4096;

struct Images {
    folder: Dir,
    first: Vec<u8>,
    sequence: Sequence,
    next: u32,
}

/// Opens the folder of a file reference.
pub(crate) fn open_root(file: &FileRef) -> Result<Dir, Problem> {
    file.folder()
        .and_then(|root| Dir::open_ambient_dir(root, ambient_authority()))
        .map_err(|error| Problem::from_io(format!("the folder of {} could not be opened", file.path.name()), &error))
}

/// Opens a file for reading, whatever it is.
///
/// # Errors
/// Where there is none, it leads out of its root, or it may not be read.
pub fn open_for_reading(file: &FileRef) -> std::io::Result<std::fs::File> {
    let mut options = OpenOptions::new();
    options.read(true).custom_flags(O_NONBLOCK);
    let root = Dir::open_ambient_dir(file.folder()?, ambient_authority())?;
    Ok(root.open_with(system_path(&file.path), &options)?.into_std())
}

/// Opens the folder in which a file lies.
///
/// # Errors
/// Where there is none or it leads out of its root.
pub fn open_folder_of(file: &FileRef) -> std::io::Result<std::fs::File> {
    let root = Dir::open_ambient_dir(file.folder()?, ambient_authority())?;
    let parent = file.path.parent();
    let folder = if parent.is_root() { root } else { root.open_dir(system_path(&parent))? };
    Ok(folder.into_std_file())
}

/// The path as the system wants it.
pub(crate) fn system_path(path: &StoragePath) -> &Path {
    Path::new(OsStr::from_bytes(path.as_bytes()))
}

/// Opens a file for reading, whose size comes with it.
pub(crate) fn open_file(folder: &Dir, path: &StoragePath) -> Result<(std::fs::File, u64), Problem> {
    let what = || format!("{} could not be read", path.name());
    let mut options = OpenOptions::new();
    options.read(true).custom_flags(O_NONBLOCK);
    let file = folder.open_with(system_path(path), &options).map_err(|error| Problem::from_io(what(), &error))?;
    let metadata = file.metadata().map_err(|error| Problem::from_io(what(), &error))?;
    if metadata.is_dir() {
        return Err(Problem::new(ProblemKind::NotMedia, what(), "it is a folder, not a file")
            .with_next("Choose the files in it, or add the folder to the sheet."));
    }
    if !metadata.is_file() {
        return Err(Problem::new(ProblemKind::NotMedia, what(), "it is a device or a pipe, not a file"));
    }
    if metadata.len() == 0 {
        return Err(Problem::new(ProblemKind::NotMedia, what(), "it is empty"));
    }
    Ok((file.into_std(), metadata.len()))
}

/// What an error while opening or reading means for the file called `name`.
pub(crate) fn problem_of(name: &str, error: &OpenError) -> Problem {
    let what = format!("{name} could not be read");
    match error {
        OpenError::List(format) => Problem::new(
            ProblemKind::RefersElsewhere,
            what,
            format!("it is a list ({format}) of other files or addresses, which are never opened"),
        ),
        OpenError::Format(format) => {
            Problem::new(ProblemKind::Unsupported, what, format!("its format ({format}) is not one that is read here"))
        }
        OpenError::System(error) => Problem::from_io(what, error),
        OpenError::Library(error) if error.is_out_of_memory() => error.problem(what, ""),
        OpenError::Library(error) => {
            Problem::new(ProblemKind::NotMedia, what, "it is not a media file, or it is damaged or cut short")
                .with_details(error.to_string())
        }
    }
}

/// Reads places of a file and leaves its position as it is. What cannot be read is not there.
pub(crate) fn reader(file: &std::fs::File) -> impl FnMut(u64, usize) -> Vec<u8> + '_ {
    use std::os::unix::fs::FileExt;
    move |offset, length| {
        let mut bytes = vec![0; length];
        let mut got = 0;
        while got < length {
            match file.read_at(&mut bytes[got..], offset + got as u64) {
                Ok(count @ 1..) => got += count,
                Ok(0) | Err(_) => break,
            }
        }
        bytes.truncate(got);
        bytes
    }
}

/// Bytes that a file announces beyond its end. A byte that fills up to an even number may be left out.
fn missing_of(file: &std::fs::File, size: u64) -> Option<u64> {
    announced_end(&mut reader(file)).and_then(|end| end.checked_sub(size)).filter(|missing| *missing > 1)
}

impl PacketSource {
    pub(crate) fn open(source: &SourceRef, stop: &Stop) -> Result<Self, Problem> {
        let folder = open_root(&source.file)?;
        let path = &source.file.path;
        let (file, size) = open_file(&folder, path)?;
        let name = path.name();
        let missing = missing_of(&file, size);
        let lengths = presented_lengths(&mut reader(&file));
        let input = Input::open(file, &name, stop).map_err(|error| problem_of(&name, &error))?;
        let Some(sequence) = source.sequence else {
            let continuity = Some(Continuity::new(input.may_jump()).knowing(&source.clock.anchors));
            let known = source.clock.clone();
            let presented = lengths.filter(|_| input.has_edit_lists()).unwrap_or_default();
            return Ok(Self {
                input,
                images: None,
                size,
                missing,
                presented,
                name,
                known,
                continuity,
                met: Vec::new(),
                place: 0,
            });
        };
        if !sequence.rate.is_positive() {
            return Err(Problem::new(
                ProblemKind::Invalid,
                format!("{name} could not be read"),
                "an image sequence needs a frame rate above 0",
            ));
        }
        let parent = path.parent();
        let inside = if parent.is_root() { folder.try_clone() } else { folder.open_dir(system_path(&parent)) };
        let inside = inside.map_err(|error| Problem::from_io(format!("the folder of {name} could not be opened"), &error))?;
        let mut images = Images { folder: inside, first: path.name_bytes().to_vec(), sequence, next: 0 };
        let size = images.total_size()?;
        let (known, met) = (SourceClock::default(), Vec::new());
        Ok(Self {
            input,
            images: Some(images),
            size,
            missing: None,
            presented: Vec::new(),
            name,
            known,
            continuity: None,
            met,
            place: 0,
        })
    }

    /// With time stamps as they are in the file, jumps and all: for looking at what was made.
    pub(crate) fn with_stamps_as_they_are(self) -> Self {
        Self { continuity: None, ..self }
    }

    /// The first moving picture.
    pub(crate) fn moving_picture(&self) -> Option<usize> {
        let is_moving = |stream: &StreamView<'_>| stream.kind() == Kind::Picture && !stream.is_still();
        self.input.streams().find(is_moving).map(|stream| stream.index())
    }

    /// The name for people.
    pub(crate) fn name(&self) -> &str {
        &self.name
    }

    /// Bytes on disk.
    pub(crate) fn size(&self) -> u64 {
        self.size
    }

    /// Bytes that the file's own structure announces and that are not there.
    pub(crate) fn missing(&self) -> Option<u64> {
        self.missing
    }

    /// Seconds for which a stream is shown by its edit list, where it has one.
    pub(crate) fn presented(&self, stream: usize) -> Option<Rational> {
        self.presented.get(stream).copied().flatten()
    }

    pub(crate) fn input(&self) -> &Input {
        &self.input
    }

    pub(crate) fn sequence(&self) -> Option<Sequence> {
        self.images.as_ref().map(|images| images.sequence)
    }

    pub(crate) fn stream(&self, index: usize) -> StreamView<'_> {
        self.input.stream(index)
    }

    /// The clock by which the packets of a stream count.
    pub(crate) fn clock(&self, index: usize) -> Rational {
        let of_images = self.images.as_ref().and_then(|images| images.sequence.rate.inverse());
        of_images.unwrap_or_else(|| self.input.stream(index).clock())
    }

    /// The moment of its clock that people count from: its first picture or, without one, its first sound.
    pub(crate) fn zero(&self) -> Rational {
        if self.images.is_some() {
            return Rational::ZERO;
        }
        if let Some(zero) = self.known.zero {
            return zero;
        }
        let start = |kind| self.input.streams().filter(move |stream| stream.kind() == kind).filter_map(|stream| stream.start());
        start(Kind::Picture).next().or_else(|| start(Kind::Sound).min()).unwrap_or(Rational::ZERO)
    }

    /// The jumps of the file's clock that were met.
    pub(crate) fn jumps(&self) -> &[Jump] {
        self.continuity.as_ref().map_or(&[], Continuity::jumps)
    }

    /// Places from which reading can begin; needed where the clock jumps, so nothing where it did not.
    pub(crate) fn anchors(&self) -> Vec<Anchor> {
        if self.jumps().is_empty() { Vec::new() } else { self.met.clone() }
    }

    pub(crate) fn keep_only(&mut self, wanted: &[usize]) {
        self.input.keep_only(wanted);
    }

    /// The next packet, with its times on the clock that all streams of the source share; nothing at the end. A file
    /// that is damaged further on ends there.
    pub(crate) fn read(&mut self) -> Result<Option<Packet>, OpenError> {
        let packet = match &mut self.images {
            Some(images) => images.read(),
            None => self.input.read(),
        };
        let Some(mut packet) = packet? else { return Ok(None) };
        self.prime(&mut packet)?;
        Ok(Some(self.in_one_clock(packet)))
    }

    /// What primes the decoder, and the header tells of, is not heard: the demuxer moves the stamps and no more.
    fn prime(&self, packet: &mut Packet) -> Result<(), AvError> {
        if self.images.is_some() {
            return Ok(());
        }
        let stream = self.input.stream(packet.stream());
        let Some((samples, time)) = stream.priming().zip(packet.pts()) else { return Ok(()) };
        let length = Rational::new(samples.into(), stream.sample_rate().max(1).into()).unwrap_or(Rational::ZERO);
        let is_first = (Rational::whole(time) * stream.clock() + length).abs() < Rational::constant(1, 200);
        if is_first { packet.discard_in_front(samples) } else { Ok(()) }
    }

    fn in_one_clock(&mut self, mut packet: Packet) -> Packet {
        let clock = self.clock(packet.stream());
        let (Some(continuity), Some(time)) = (&mut self.continuity, packet.dts().or(packet.pts())) else { return packet };
        let time = Rational::whole(time) * clock;
        let shift = continuity.shift(packet.stream(), time, Rational::whole(packet.duration()) * clock);
        if shift != Rational::ZERO {
            packet.move_by(shift.divided_by(clock).map_or(0, Rational::round));
        }
        let is_settled = continuity.settled_shift() == Some(shift);
        if self.input.may_jump() && self.moving_picture().is_none_or(|picture| picture == packet.stream()) {
            self.place = packet.position().unwrap_or(self.place);
            if packet.is_key() && is_settled {
                self.note(Anchor { at: time + shift, byte: self.place, shift });
            }
        }
        packet
    }

    /// Notes a place that is far enough from the one before, or the first behind a jump.
    fn note(&mut self, anchor: Anchor) {
        let is_near = |last: &Anchor| last.shift == anchor.shift && anchor.at < last.at + ANCHORED_EVERY;
        if self.met.len() < MOST_ANCHORS && !self.met.last().is_some_and(is_near) {
            self.met.push(anchor);
        }
    }

    /// Goes to the last key frame at or before `time`, in seconds.
    pub(crate) fn seek(&mut self, time: Rational) {
        match &mut self.images {
            Some(images) => {
                let image = (time * images.sequence.rate).floor().clamp(0, i64::from(images.sequence.count.saturating_sub(1)));
                images.next = u32::try_from(image).unwrap_or(0);
            }
            None => self.seek_in_file(time),
        }
    }

    fn seek_in_file(&mut self, time: Rational) {
        // Where the clock jumps, the format's own way of finding a time leads astray.
        let before = self.known.anchors.iter().rev().find(|anchor| anchor.at <= time);
        let shift = match before {
            Some(anchor) if self.input.seek_to_byte(anchor.byte).is_ok() => anchor.shift,
            None if self.known.anchors.is_empty() => {
                // Where a format cannot jump, reading goes on from the beginning and finds the moment too.
                drop(self.input.seek(time));
                Rational::ZERO
            }
            Some(_) | None => {
                if self.input.seek_to_byte(0).is_err() {
                    drop(self.input.seek(self.input.start()));
                }
                Rational::ZERO
            }
        };
        if let Some(continuity) = &mut self.continuity {
            continuity.begin_elsewhere(shift);
        }
    }
}

impl Images {
    fn name(&self, number: u32) -> std::io::Result<std::path::PathBuf> {
        let name = image_name(&self.first, number.into());
        let name = name.ok_or_else(|| std::io::Error::new(std::io::ErrorKind::InvalidInput, "the image has no number"))?;
        Ok(Path::new(OsStr::from_bytes(&name)).to_path_buf())
    }

    fn total_size(&mut self) -> Result<u64, Problem> {
        (0..self.sequence.count).try_fold(0, |total, number| {
            let size = self.name(number).and_then(|name| Ok((self.folder.metadata(&name)?.len(), name)));
            let shown = String::from_utf8_lossy(&self.first).into_owned();
            size.map(|(size, _)| total + size).map_err(|error| {
                Problem::from_io(
                    format!("image {} of the sequence that begins with {shown} could not be read", number + 1),
                    &error,
                )
            })
        })
    }

    fn read(&mut self) -> Result<Option<Packet>, OpenError> {
        if self.next >= self.sequence.count {
            return Ok(None);
        }
        let mut bytes = Vec::new();
        self.folder.open(self.name(self.next)?)?.read_to_end(&mut bytes)?;
        let mut packet = Packet::from_bytes(&bytes)?;
        packet.set_times(self.next.into(), 1);
        packet.set_stream(0);
        // Each image stands alone; decoders that know moving pictures build on the one before otherwise.
        packet.mark_key();
        self.next += 1;
        Ok(Some(packet))
    }
}
