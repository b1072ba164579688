//! The files that a plan yields.
//!
//! Most plans yield one. Where several belong together they are planned, made, checked and named as one: each is an
//! [`Artifact`], and what is to be written into it is a plan of its own, which [`Artifact::plan`] cuts out of the whole.

use std::ops::Range;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::Plan;
use crate::formats::Container;

/// How the streams of an output are shared out over files.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Division {
    /// All are in one.
    #[default]
    Together,
    /// Each stream of sound is in a file of its own, beside that of the picture.
    SoundApart {
        /// The format of the sound's files.
        container: Container,
    },
}

impl Division {
    /// Whether all are in one.
    #[must_use]
    pub fn is_together(&self) -> bool {
        *self == Self::Together
    }
}

/// What a file is for, among those that belong together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Role {
    /// It is all there is.
    Whole,
    /// It holds the picture.
    Picture,
    /// It holds one stream of sound.
    Sound {
        /// Which, from 1.
        track: usize,
    },
}

/// One file of an output.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Artifact {
    /// What it is for.
    pub role: Role,
    /// Its format.
    pub container: Container,
    /// Whether it holds the picture.
    has_picture: bool,
    /// Which of the plan's streams of sound it holds.
    sound: Range<usize>,
}

impl Artifact {
    /// What stands behind the output's name: “.mov”, “_A1.wav”.
    #[must_use]
    pub fn ending(&self) -> String {
        let extension = self.container.extension();
        match self.role {
            Role::Whole | Role::Picture => format!(".{extension}"),
            Role::Sound { track } => format!("_A{track}.{extension}"),
        }
    }

    /// In words; nothing where it is all there is.
    #[must_use]
    pub fn words(&self) -> Option<String> {
        match self.role {
            Role::Whole => None,
            Role::Picture => Some("picture".to_owned()),
            Role::Sound { track } => Some(format!("A{track}")),
        }
    }

    /// The streams that it holds, by their place in the whole: the picture first, then the sound. In the file they stand in
    /// this order.
    pub fn slots(&self, plan: &Plan) -> impl Iterator<Item = usize> {
        let first = usize::from(plan.picture.is_some());
        self.has_picture.then_some(0).into_iter().chain(self.sound.clone().map(move |number| first + number))
    }

    /// What is written into it, as a plan that yields one file.
    #[must_use]
    pub fn plan(&self, whole: &Plan) -> Plan {
        let is_beside = match self.role {
            Role::Whole => return whole.clone(),
            Role::Picture => false,
            Role::Sound { .. } => true,
        };
        Plan {
            container: self.container,
            division: Division::Together,
            picture: whole.picture.clone().filter(|_| !is_beside),
            sound: whole.sound.get(self.sound.clone()).unwrap_or_default().to_vec(),
            // Beside a picture, sound lasts as long as the source has it.
            duration: whole.duration.filter(|_| !is_beside || whole.picture.is_none()),
            timecode: whole.timecode.clone().filter(|_| !is_beside),
            reel: whole.reel.clone().filter(|_| !is_beside),
            chapters: if is_beside { Vec::new() } else { whole.chapters.clone() },
            ..whole.clone()
        }
    }
}

impl Plan {
    /// What is written into its first file, as a plan that yields no other.
    #[must_use]
    pub fn first_file(&self) -> Self {
        self.artifacts().first().map_or_else(|| self.clone(), |artifact| artifact.plan(self))
    }

    /// The files that it yields, at least one; where there is a picture, the first holds it.
    #[must_use]
    pub fn artifacts(&self) -> Vec<Artifact> {
        let all = 0..self.sound.len();
        match self.division {
            Division::SoundApart { container } if self.picture.is_some() && !all.is_empty() || all.len() > 1 => {
                let picture = self.picture.as_ref().map(|_| Artifact {
                    role: Role::Picture,
                    container: self.container,
                    has_picture: true,
                    sound: 0..0,
                });
                let sound = all.map(|number| Artifact {
                    role: Role::Sound { track: number + 1 },
                    container,
                    has_picture: false,
                    sound: number..number + 1,
                });
                picture.into_iter().chain(sound).collect()
            }
            Division::SoundApart { .. } | Division::Together => {
                vec![Artifact { role: Role::Whole, container: self.container, has_picture: self.picture.is_some(), sound: all }]
            }
        }
    }
}
