//! Giving the files of an output their names: all of them get theirs, or none does.
//!
//! Whoever names files looks where they lie, makes the one change that [`next`] says, and looks again. Nothing is
//! remembered in between, so that the way goes on from wherever a crash has left it.

/// By what a file is known again, whatever it is called: a share that is mounted twice has other device numbers, but the
/// same files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Made {
    /// Its number in its file system.
    pub number: u64,
    /// Nanoseconds of its last change since 1970.
    pub modified: i64,
    /// Bytes.
    pub size: u64,
}

impl Made {
    /// Whether another look at a file shows this one. Some shares number their files anew when they are mounted, and some
    /// round times.
    #[must_use]
    pub const fn is_same(&self, other: &Self) -> bool {
        self.size == other.size && (self.number == other.number || self.modified == other.modified)
    }
}

/// What lies under a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Found {
    /// No file.
    Nothing,
    /// The file that is to be named.
    Ours,
    /// Another one.
    Other,
    /// Another one, which nothing may replace.
    Kept,
}

/// What was seen of the places of one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Seen {
    /// Under its temporary name.
    pub temporary: Found,
    /// Under the name that it is to get.
    pub target: Found,
    /// Under the name to which a file goes that makes room for it.
    pub aside: Found,
}

/// Where to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Goal {
    /// Every file gets its name.
    Names {
        /// Whether files that have these names make room.
        replace: bool,
    },
    /// Every file is under its temporary name again, and what has made room is back.
    Back,
}

/// One change, which is whole or does not happen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Change {
    /// The file gets its name, which is free.
    Name,
    /// The file gets its name, in the place of the file that has it.
    NameOver,
    /// The file that has the name makes room.
    SetAside,
    /// The file goes back to its temporary name.
    TakeBack,
    /// The file that has made room goes back.
    PutBack,
    /// The file that has made room is removed: all have their names.
    RemoveAside,
    /// The file has both names, which happens where a file system links instead of renaming: the temporary one goes.
    DropTemporary,
    /// The same, and the new one goes.
    DropTarget,
}

/// What to do next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Next {
    /// A change of this file's names, by its place in the list.
    Change(usize, Change),
    /// Nothing more.
    Done,
    /// The name of this file is another's: the way leads back.
    Taken(usize),
    /// The name of this file is that of one that nothing may replace: the way leads back.
    Kept(usize),
    /// This file is nowhere.
    Missing(usize),
}

/// What to do next, from what is seen of each file.
#[must_use]
pub fn next(seen: &[Seen], goal: Goal) -> Next {
    match goal {
        Goal::Names { replace } => next_name(seen, replace),
        Goal::Back => next_back(seen),
    }
}

fn next_name(seen: &[Seen], replace: bool) -> Next {
    let is_named = |file: &Seen| file.target == Found::Ours;
    if let Some(place) = seen.iter().position(|file| is_named(file) && file.temporary == Found::Ours) {
        return Next::Change(place, Change::DropTemporary);
    }
    let mut waiting = seen.iter().enumerate().filter(|(_, file)| !is_named(file));
    let Some((place, file)) = waiting.next() else {
        let aside = seen.iter().position(|file| file.aside != Found::Nothing);
        return aside.map_or(Next::Done, |place| Next::Change(place, Change::RemoveAside));
    };
    if file.temporary != Found::Ours {
        return Next::Missing(place);
    }
    // Behind the last name nothing can fail any more, so that the old file need not wait aside.
    let is_last = waiting.next().is_none();
    match file.target {
        Found::Nothing | Found::Ours => Next::Change(place, Change::Name),
        Found::Kept => Next::Kept(place),
        // Where one has made room already, this one came later and is nobody's to remove.
        Found::Other if !replace || file.aside != Found::Nothing => Next::Taken(place),
        Found::Other if is_last => Next::Change(place, Change::NameOver),
        Found::Other => Next::Change(place, Change::SetAside),
    }
}

fn next_back(seen: &[Seen]) -> Next {
    let change = |file: &Seen| match (file.temporary, file.target, file.aside) {
        (Found::Ours, Found::Ours, _) => Some(Change::DropTarget),
        (Found::Nothing, Found::Ours, _) => Some(Change::TakeBack),
        (_, Found::Nothing, Found::Other | Found::Kept | Found::Ours) => Some(Change::PutBack),
        _ => None,
    };
    let mut changes = seen.iter().enumerate().filter_map(|(place, file)| Some(Next::Change(place, change(file)?)));
    changes.next().unwrap_or(Next::Done)
}
