//! What went wrong, in a form that a person can act on.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What kind of thing went wrong; stable, for programs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ProblemKind {
    /// The file is not there, or no longer.
    Missing,
    /// The file may not be read, or the folder not be written to.
    Denied,
    /// The destination has no room left.
    DiskFull,
    /// The storage does not answer: a share that has gone away.
    Unreachable,
    /// The file is empty, cut short, or no media at all.
    NotMedia,
    /// The file ends before its own headers say it should.
    CutShort,
    /// The file refers to others outside itself, which are never opened.
    RefersElsewhere,
    /// The format is known, but this cannot be read or made.
    Unsupported,
    /// What was asked is impossible or contradicts itself.
    Invalid,
    /// A name is taken already.
    NameTaken,
    /// The finished file does not hold what its plan says.
    CheckFailed,
    /// The engine ended or hung.
    EngineLost,
    /// More memory is needed than there is.
    OutOfMemory,
    /// The run was cancelled.
    Cancelled,
    /// Something else; the details tell.
    Internal,
}

impl ProblemKind {
    /// Whether the same attempt may succeed later without anybody changing the file or the settings.
    #[must_use]
    pub const fn worth_retrying(self) -> bool {
        match self {
            Self::Missing | Self::Denied | Self::DiskFull | Self::Unreachable | Self::EngineLost | Self::OutOfMemory => true,
            Self::NotMedia
            | Self::CutShort
            | Self::RefersElsewhere
            | Self::Unsupported
            | Self::Invalid
            | Self::NameTaken
            | Self::CheckFailed
            | Self::Cancelled
            | Self::Internal => false,
        }
    }

    /// What a person should do next, in one sentence.
    #[must_use]
    pub const fn next_step(self) -> &'static str {
        match self {
            Self::Missing => "Put the file back where it was, or choose it again, then retry.",
            Self::Denied => "Give the program the right to this file or folder, then retry.",
            Self::DiskFull => "Make room there or choose another destination, then retry.",
            Self::Unreachable => "Nothing: it is tried again by itself. If it stays away, look at the share and its machine.",
            Self::NotMedia => "Copy the file again from where it came, or leave it out.",
            Self::CutShort => "Copy the file again; it seems that a copy was interrupted.",
            Self::RefersElsewhere => "Choose the media file itself instead of a list that points to it.",
            Self::Unsupported => "Convert it with the program that made it, or choose another preset.",
            Self::Invalid => "Change the setting that is named.",
            Self::NameTaken => "Choose another name, or let the program number its files.",
            Self::CheckFailed => "Run it again; if the same difference appears, look at the source at that place.",
            Self::OutOfMemory => "Retry while less is being made; where that does not help, make a smaller picture of it.",
            Self::EngineLost => "Retry. If it happens with the same file again, leave that file out.",
            Self::Cancelled => "Run it again when it is wanted.",
            Self::Internal => "Retry; if it stays, the technical details help those who maintain the program.",
        }
    }
}

/// What happened, to which file, why, and what to do next.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema, thiserror::Error)]
#[error("{what}: {why}")]
pub struct Problem {
    /// The kind, for programs.
    pub kind: ProblemKind,
    /// What could not be done, with the name of the file: “openday.mov could not be read”.
    pub what: String,
    /// Why, in words of the trade.
    pub why: String,
    /// What to do next.
    pub next: String,
    /// What the library said, word for word, for those who maintain the program.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub details: String,
    /// The settings that it is about, each with what is wrong with it.
    #[serde(default, skip_serializing_if = "<[Fault]>::is_empty")]
    #[schema(value_type = Vec<Fault>, required = false)]
    pub faults: Box<[Fault]>,
}

impl Problem {
    /// A problem with the usual advice for its kind.
    #[must_use]
    pub fn new(kind: ProblemKind, what: impl Into<String>, why: impl Into<String>) -> Self {
        let mut why = why.into();
        // A sentence that goes on where it is shown.
        if why.ends_with('.') {
            why.pop();
        }
        Self { kind, what: what.into(), why, next: kind.next_step().to_owned(), details: String::new(), faults: Box::default() }
    }

    /// The same about these settings.
    #[must_use]
    pub fn with_faults(mut self, faults: Vec<Fault>) -> Self {
        self.faults = faults.into();
        self
    }

    /// The same with the library's own words.
    #[must_use]
    pub fn with_details(mut self, details: impl Into<String>) -> Self {
        self.details = details.into();
        self
    }

    /// The same with other advice.
    #[must_use]
    pub fn with_next(mut self, next: impl Into<String>) -> Self {
        self.next = next.into();
        self
    }

    /// What an error of the file system means for `what`.
    #[must_use]
    pub fn from_io(what: impl Into<String>, error: &std::io::Error) -> Self {
        use std::io::ErrorKind;
        let (kind, why) = match error.kind() {
            ErrorKind::NotFound => (ProblemKind::Missing, "there is no such file or folder".to_owned()),
            ErrorKind::PermissionDenied => (ProblemKind::Denied, "the system does not permit it".to_owned()),
            ErrorKind::ReadOnlyFilesystem => (ProblemKind::Denied, "the disk is read-only".to_owned()),
            ErrorKind::StorageFull | ErrorKind::QuotaExceeded => {
                (ProblemKind::DiskFull, "there is no room left on the disk".to_owned())
            }
            ErrorKind::AlreadyExists => (ProblemKind::NameTaken, "a file of this name exists already".to_owned()),
            ErrorKind::InvalidFilename => (ProblemKind::Invalid, "the name is too long or not allowed there".to_owned()),
            ErrorKind::IsADirectory => (ProblemKind::NotMedia, "it is a folder, not a file".to_owned()),
            _ => (ProblemKind::Internal, "the system reported an error".to_owned()),
        };
        Self::new(kind, what, why).with_details(error.to_string())
    }
}

/// What is wrong with a setting; stable, for programs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FaultCode {
    /// It has to be there.
    Missing,
    /// It is less or more than can be.
    OutOfRange,
    /// It cannot be read as what it should be.
    NotUnderstood,
    /// It stands in no document of this form.
    Unknown,
    /// The container does not hold it.
    NotInContainer,
    /// The codec, or its profile, does not have it.
    NotOfCodec,
    /// It contradicts another setting.
    Contradiction,
    /// The source has nothing for it, or too much.
    NotOfSource,
}

/// What is wrong with a setting.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema, thiserror::Error)]
#[error("{words}")]
pub struct Fault {
    /// The place of the setting in a preset's document, as `picture.rate.crf`; empty for the document as a whole.
    pub field: String,
    /// The kind, for programs.
    pub code: FaultCode,
    /// What is wrong and what to choose instead, in a sentence or its end.
    pub words: String,
}

impl Fault {
    /// A fault of the setting at `field`.
    #[must_use]
    pub fn new(field: impl Into<String>, code: FaultCode, words: impl Into<String>) -> Self {
        Self { field: field.into(), code, words: words.into() }
    }
}
