//! Pictures of a source that are drawn before anybody asks: where key frames are rare, any other way to a
//! frame far away takes the decoding of all frames since the last one.

use std::collections::BTreeMap;
use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;

use beryl_core::time::Rational;

use super::draw::Look;

/// Bytes that the pictures of one source may take on disk.
const MOST_BYTES: u64 = 4_000_000_000;

/// Drawn pictures of one look, in stretches of the source without a gap.
pub(super) struct Album {
    look: Look,
    file: File,
    used: u64,
    /// Where each lies in the file, by the time from which it is shown.
    pictures: BTreeMap<Rational, (u64, usize)>,
    /// From when to when every picture is there, in the order of time and apart from each other.
    stretches: Vec<(Rational, Rational)>,
}

impl Album {
    /// Nothing where there is no room for its file.
    pub(super) fn new(look: Look, folder: &Path) -> Option<Self> {
        Some(Self { look, file: tempfile::tempfile_in(folder).ok()?, used: 0, pictures: BTreeMap::new(), stretches: Vec::new() })
    }

    pub(super) const fn look(&self) -> &Look {
        &self.look
    }

    pub(super) const fn is_full(&self) -> bool {
        self.used >= MOST_BYTES
    }

    pub(super) fn has(&self, time: Rational) -> bool {
        self.pictures.contains_key(&time)
    }

    /// The picture that is shown at a moment.
    pub(super) fn picture(&self, at: Rational) -> Option<Vec<u8>> {
        self.end_of_stretch(at)?;
        let (_, (place, length)) = self.pictures.range(..=at).next_back()?;
        let mut bytes = vec![0; *length];
        self.file.read_exact_at(&mut bytes, *place).ok()?;
        Some(bytes)
    }

    /// Until when every picture is there from this moment on; nothing where the one of the moment is missing.
    pub(super) fn end_of_stretch(&self, at: Rational) -> Option<Rational> {
        self.stretches.iter().find(|(from, to)| *from <= at && at < *to).map(|(_, to)| *to)
    }

    /// Keeps a picture that is shown from `time` on.
    pub(super) fn add(&mut self, time: Rational, bytes: &[u8]) -> std::io::Result<()> {
        self.file.write_all_at(bytes, self.used)?;
        self.pictures.insert(time, (self.used, bytes.len()));
        self.used += bytes.len() as u64;
        Ok(())
    }

    /// Notes that from one time to another every picture is there.
    pub(super) fn cover(&mut self, from: Rational, to: Rational) {
        let (mut from, mut to) = (from, to);
        self.stretches.retain(|(start, end)| {
            let is_apart = *end < from || to < *start;
            if !is_apart {
                (from, to) = (from.min(*start), to.max(*end));
            }
            is_apart
        });
        let place = self.stretches.partition_point(|(start, _)| *start < from);
        self.stretches.insert(place, (from, to));
    }
}
