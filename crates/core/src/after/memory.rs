//! Memory that a job needs, told from its plans before it begins.
//!
//! What counts is pictures: how many are held where, and how large each is. How many encoders hold was measured, codec by
//! codec and effort by effort; `cargo bench --bench memory` holds the sum against jobs that are done.

use crate::after::stages::{Stage, share_steps};
use crate::picture::PixelForm;
use crate::plan::{PicturePlan, Plan, Step};
use crate::preset::RateConversion;
use crate::units::ByteSize;

/// Bytes of packets that wait between two threads at most.
pub const QUEUED: u64 = 16 << 20;
/// Bytes of pictures that wait between two threads, where pictures are large.
const PICTURES_QUEUED: u64 = 32 << 20;
/// Pictures that wait between two threads at most, and at least.
const MOST_PICTURES: u64 = 6;
const FEWEST_PICTURES: u64 = 2;

/// The program and its libraries.
const PROGRAM: u64 = 80 << 20;
/// Packets, sound and the file of one output.
const OUTPUT: u64 = 24 << 20;
/// Pictures that a decoder keeps beside the one of each thread: those that others refer to, and those that wait to be shown.
const DECODED: u64 = 13;
/// Threads of a decoder at most.
const MOST_DECODER_THREADS: u32 = 16;
/// Threads of an encoder at most.
const MOST_ENCODER_THREADS: u32 = 16;
/// Threads of encoders for each processor at most, in one job.
const MOST_BY_PROCESSOR: u32 = 16;

/// What a job may use of the machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Means {
    /// Memory.
    pub memory: ByteSize,
    /// Processors.
    pub processors: u32,
}

impl Means {
    /// Threads of the decoder.
    #[must_use]
    pub fn decoder_threads(self) -> u32 {
        self.processors.saturating_add(1).clamp(1, MOST_DECODER_THREADS)
    }

    /// Threads of each encoder of pictures: half as many again as there are processors, so that none stands idle while one
    /// waits, and no more than still help. They do not depend on what else is made: with another number of them some
    /// encoders make another file.
    #[must_use]
    pub fn encoder_threads(self) -> u32 {
        self.processors.saturating_add(self.processors.div_ceil(2)).clamp(1, MOST_ENCODER_THREADS)
    }

    /// How many encoders of pictures work side by side at most.
    fn most_encoders(self) -> usize {
        let threads = self.processors.saturating_mul(MOST_BY_PROCESSOR);
        usize::try_from(threads / self.encoder_threads()).unwrap_or(usize::MAX).max(1)
    }
}

/// A picture at one point of its way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Point {
    size: (u32, u32),
    form: PixelForm,
}

impl Point {
    /// Bytes of one picture.
    fn bytes(self) -> u64 {
        self.form.picture_bytes(self.size)
    }

    fn with_depth(self, depth: u32) -> Self {
        Self { form: self.form.with_depth(depth), ..self }
    }

    fn after(self, step: &Step) -> Self {
        match step {
            Step::Crop { width, height, .. } | Step::Pad { width, height, .. } => Self { size: (*width, *height), ..self },
            Step::Turn { degrees } if degrees % 180 != 0 => Self { size: (self.size.1, self.size.0), ..self },
            Step::Resample { to, width, height, .. } => Self { size: (*width, *height), form: to.form() },
            Step::Rearrange { to, .. } => Self { form: to.form(), ..self },
            Step::Tone { .. } => self.with_depth(16),
            Step::Film { .. }
            | Step::EvenFilm { .. }
            | Step::Deinterlace { .. }
            | Step::Speed { .. }
            | Step::Mirror
            | Step::Turn { .. }
            | Step::ConstantRate { .. }
            | Step::Deblock { .. }
            | Step::Denoise { .. }
            | Step::Adjust { .. }
            | Step::Recolour { .. }
            | Step::LookUp { .. }
            | Step::Subtitles { .. }
            | Step::BurnIn(_)
            | Step::Watermark(_)
            | Step::Grey
            | Step::Earlier => self,
        }
    }
}

/// Bytes that a step holds beside the picture that it is given.
fn held_by(step: &Step, before: Point) -> u64 {
    let (taken, made) = (before.bytes(), before.after(step).bytes());
    match step {
        Step::Speed { .. } | Step::Crop { .. } | Step::EvenFilm { .. } | Step::Earlier => 0,
        // Fields of some frames before and behind.
        Step::Film { .. } => 8 * taken,
        Step::Deinterlace { .. } => 4 * taken + 2 * made,
        Step::ConstantRate { by: RateConversion::DropRepeat, .. } => taken,
        Step::ConstantRate { by: RateConversion::Blend, .. } => 2 * taken + 2 * made,
        // Vectors of motion beside the pictures.
        Step::ConstantRate { by: RateConversion::Motion, .. } => 8 * taken + 4 * made,
        // Spectra of overlapping blocks, in fractions of four bytes, twice.
        Step::Denoise { .. } => 2 * before.with_depth(32).bytes() * 4 + 2 * made,
        Step::Resample { fields_apart: true, .. } => 3 * taken + 3 * made,
        Step::Resample { .. }
        | Step::Mirror
        | Step::Turn { .. }
        | Step::Deblock { .. }
        | Step::Adjust { .. }
        | Step::Tone { .. }
        | Step::Recolour { .. }
        | Step::LookUp { .. }
        | Step::Rearrange { .. }
        | Step::Subtitles { .. }
        | Step::BurnIn(_)
        | Step::Watermark(_)
        | Step::Grey
        | Step::Pad { .. } => taken + 2 * made,
    }
}

/// How many pictures of so many bytes may wait between two threads.
fn pictures_queued(bytes: u64) -> usize {
    let count = (PICTURES_QUEUED / bytes.max(1)).clamp(FEWEST_PICTURES, MOST_PICTURES);
    usize::try_from(count).unwrap_or(1)
}

/// Bytes of pictures that wait between two threads, and of the one that is in the hands of one of them.
fn queue(point: Point) -> u64 {
    (pictures_queued(point.bytes()) as u64 + 1) * point.bytes()
}

/// How many pictures wait before a stage at most, and before each encoder behind it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Queues {
    /// Before the stage.
    pub into: usize,
    /// Before each encoder.
    pub out_of: usize,
}

/// For each stage of `pictures`, which are made in one decode.
#[must_use]
pub fn queues(pictures: &[&PicturePlan], stages: &[Stage]) -> Vec<Queues> {
    let queues = |(before, after): (Point, Point)| Queues {
        into: pictures_queued(before.bytes()),
        out_of: pictures_queued(after.bytes()),
    };
    points(pictures, stages).into_iter().map(queues).collect()
}

/// Pictures before and behind each stage.
fn points(pictures: &[&PicturePlan], stages: &[Stage]) -> Vec<(Point, Point)> {
    let mut points: Vec<(Point, Point)> = Vec::new();
    let Some(first) = pictures.first() else { return points };
    for stage in stages {
        let before = stage.parent.map_or(decoded(first), |parent| points[parent].1);
        points.push((before, stage.steps.iter().fold(before, |point, step| point.after(step))));
    }
    points
}

/// Frames that an encoder looks ahead to decide where bits are needed.
#[must_use]
pub fn look_ahead(picture: &PicturePlan) -> u32 {
    picture.format.effects().look_ahead
}

/// Bytes that the encoder of a picture holds on so many threads.
fn encoder(picture: &PicturePlan, threads: u32) -> u64 {
    let held = picture.format.codec().held;
    let tenths = held.always + held.ahead * u64::from(look_ahead(picture)) + held.by_thread * u64::from(threads);
    let point = encoded(picture);
    let bytes = point.bytes().max(point.with_depth(16).bytes() / 10 * held.least_depth_tenths);
    let written = u64::from(picture.width) * u64::from(picture.height) * held.written_per_pixel;
    (bytes.saturating_mul(tenths) / 10).saturating_add(written)
}

fn encoded(picture: &PicturePlan) -> Point {
    Point { size: (picture.width, picture.height), form: picture.pixel_format.form() }
}

/// The picture as it comes out of the decoder.
fn decoded(picture: &PicturePlan) -> Point {
    let first = picture.steps.iter().find_map(|step| match step {
        Step::Resample { from, .. } => Some(from.form()),
        Step::Rearrange { from, .. } => Some(from.form()),
        _ => None,
    });
    // Plans of earlier versions do not say how large their source was.
    let size = picture.source_size.unwrap_or((picture.width, picture.height));
    Point { size, form: first.unwrap_or(encoded(picture).form) }
}

/// Memory that making these of one source needs, all of them in one decode.
#[must_use]
pub fn of_job(plans: &[&Plan], means: Means) -> ByteSize {
    let pictures: Vec<&PicturePlan> = plans.iter().filter_map(|plan| plan.picture.as_ref()).collect();
    let threads = means.encoder_threads();
    let mut sum = PROGRAM + QUEUED + OUTPUT * plans.len() as u64;
    if let Some(first) = pictures.first() {
        let source = decoded(first);
        sum += (DECODED + u64::from(means.decoder_threads())) * source.bytes();
        let chains: Vec<&[Step]> = pictures.iter().map(|picture| picture.steps.as_slice()).collect();
        let stages = share_steps(&chains);
        for (stage, (before, after)) in stages.iter().zip(points(&pictures, &stages)) {
            if !stage.steps.is_empty() {
                sum = sum.saturating_add(queue(before));
            }
            let mut point = before;
            for step in &stage.steps {
                sum = sum.saturating_add(held_by(step, point));
                point = point.after(step);
            }
            sum = sum.saturating_add(queue(after) * stage.outputs.len() as u64);
        }
        sum = pictures.iter().fold(sum, |sum, picture| sum.saturating_add(encoder(picture, threads)));
    }
    ByteSize(sum)
}

/// The most of a job that is done in [`groups`].
#[must_use]
pub fn planned(plans: &[&Plan], means: Means) -> ByteSize {
    let of_group = |group: Vec<usize>| of_job(&group.into_iter().map(|place| plans[place]).collect::<Vec<_>>(), means);
    groups(plans, means).into_iter().map(of_group).max().unwrap_or(ByteSize(0))
}

/// Arranges outputs of one source in groups that are made one after the other, each within its means of memory and threads. An output that needs
/// more by itself has a group of its own.
#[must_use]
pub fn groups(plans: &[&Plan], means: Means) -> Vec<Vec<usize>> {
    let mut groups: Vec<Vec<usize>> = Vec::new();
    for place in 0..plans.len() {
        let fits = |group: &&mut Vec<usize>| {
            let with: Vec<&Plan> = group.iter().chain([&place]).map(|place| plans[*place]).collect();
            let encoders = with.iter().filter(|plan| plan.picture.is_some()).count();
            encoders <= means.most_encoders() && of_job(&with, means) <= means.memory
        };
        match groups.iter_mut().find(fits) {
            Some(group) => group.push(place),
            None => groups.push(vec![place]),
        }
    }
    groups
}
