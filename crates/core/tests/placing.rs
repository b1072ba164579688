//! Names of files that belong together: all of them or none, whenever it ends.

use beryl_core::flow::placing::{Change, Found, Goal, Next, Seen, next};
use proptest::prelude::*;

/// A folder, as far as it matters: what lies under each of three names of each file. Ours are numbered by their place,
/// strangers otherwise.
#[derive(Debug, Clone, PartialEq)]
struct Folder(Vec<[Option<u32>; 3]>);

const TEMPORARY: usize = 0;
const TARGET: usize = 1;
const ASIDE: usize = 2;

fn stranger(place: usize) -> u32 {
    100 + u32::try_from(place).unwrap_or(0)
}

impl Folder {
    fn seen(&self) -> Vec<Seen> {
        let found = |place: usize, there: Option<u32>| match there {
            None => Found::Nothing,
            Some(file) if file as usize == place => Found::Ours,
            Some(_) => Found::Other,
        };
        let seen = |(place, names): (usize, &[Option<u32>; 3])| Seen {
            temporary: found(place, names[TEMPORARY]),
            target: found(place, names[TARGET]),
            aside: found(place, names[ASIDE]),
        };
        self.0.iter().enumerate().map(seen).collect()
    }

    fn make(&mut self, place: usize, change: Change) {
        let names = &mut self.0[place];
        let mut to_free = |from: usize, to: usize| {
            assert!(names[to].is_none() && names[from].is_some(), "{change:?} of {place} is no change: {names:?}");
            names[to] = names[from].take();
        };
        match change {
            Change::Name => to_free(TEMPORARY, TARGET),
            Change::SetAside => to_free(TARGET, ASIDE),
            Change::TakeBack => to_free(TARGET, TEMPORARY),
            Change::PutBack => to_free(ASIDE, TARGET),
            Change::NameOver => names[TARGET] = names[TEMPORARY].take(),
            Change::RemoveAside => names[ASIDE] = None,
            Change::DropTemporary => names[TEMPORARY] = None,
            Change::DropTarget => names[TARGET] = None,
        }
    }

    /// Goes on until there is nothing more to do, or for so many changes.
    fn go(&mut self, goal: Goal, most: usize) -> Option<Next> {
        for _ in 0..most {
            match next(&self.seen(), goal) {
                Next::Change(place, change) => self.make(place, change),
                end => return Some(end),
            }
        }
        None
    }

    fn all_under(&self, name: usize) -> bool {
        self.0.iter().enumerate().all(|(place, names)| names[name] == u32::try_from(place).ok())
    }

    fn strangers(&self) -> Vec<u32> {
        let mut strangers: Vec<u32> = self.0.iter().flatten().flatten().copied().filter(|file| *file >= 100).collect();
        strangers.sort_unstable();
        strangers
    }
}

fn names(replace: bool) -> Goal {
    Goal::Names { replace }
}

/// More changes than any way has.
const ENOUGH: usize = 100;

proptest! {
    #[test]
    fn all_files_get_their_names_or_none_does(taken in prop::collection::vec(any::<bool>(), 1..6), replace: bool, killed_after in 0_usize..20) {
        let ours = |place: usize| u32::try_from(place).ok();
        let begun = Folder(taken.iter().enumerate().map(|(place, taken)| [ours(place), taken.then(|| stranger(place)), None]).collect());
        let mut folder = begun.clone();
        // Killed at any moment, and taken up again.
        let _ = folder.go(names(replace), killed_after);
        match folder.go(names(replace), ENOUGH).unwrap() {
            Next::Done => {
                prop_assert!(folder.all_under(TARGET));
                prop_assert!(folder.strangers().is_empty() && folder.0.iter().all(|names| names[TEMPORARY].is_none()));
                prop_assert!(replace || !taken.contains(&true));
            }
            Next::Taken(place) => {
                prop_assert!(!replace && taken[place]);
                // Killed on the way back as well.
                let _ = folder.go(Goal::Back, killed_after / 2);
                prop_assert_eq!(folder.go(Goal::Back, ENOUGH), Some(Next::Done));
                prop_assert_eq!(&folder, &begun);
            }
            end => prop_assert!(false, "{:?}", end),
        }
    }

    #[test]
    fn the_way_back_leads_to_the_beginning_from_everywhere(taken in prop::collection::vec(any::<bool>(), 2..6), killed_after in 0_usize..20) {
        let ours = |place: usize| u32::try_from(place).ok();
        let begun = Folder(taken.iter().enumerate().map(|(place, taken)| [ours(place), taken.then(|| stranger(place)), None]).collect());
        let mut folder = begun.clone();
        // The last name is given over the old file, and asides are removed, when nothing can fail any more.
        let mut changes = 0;
        while let Next::Change(place, change) = next(&folder.seen(), names(true)) {
            if changes == killed_after || matches!(change, Change::NameOver | Change::RemoveAside) {
                break;
            }
            folder.make(place, change);
            changes += 1;
        }
        prop_assert_eq!(folder.strangers(), begun.strangers());
        prop_assert_eq!(folder.go(Goal::Back, ENOUGH), Some(Next::Done));
        prop_assert_eq!(folder, begun);
    }
}

#[test]
fn what_is_lost_or_came_later_is_told_of() {
    let named = Seen { temporary: Found::Nothing, target: Found::Ours, aside: Found::Nothing };
    let waiting = Seen { temporary: Found::Ours, target: Found::Nothing, aside: Found::Nothing };
    let gone = Seen { temporary: Found::Nothing, target: Found::Other, aside: Found::Nothing };
    assert_eq!(next(&[named, gone, waiting], names(true)), Next::Missing(1));
    // A file that stands where another has made room came later: nobody asked for it to go.
    let late = Seen { temporary: Found::Ours, target: Found::Other, aside: Found::Other };
    assert_eq!(next(&[named, late, waiting], names(true)), Next::Taken(1));
    let kept = Seen { temporary: Found::Ours, target: Found::Kept, aside: Found::Nothing };
    assert_eq!(next(&[waiting, kept], names(true)), Next::Change(0, Change::Name));
    assert_eq!(next(&[named, kept], names(true)), Next::Kept(1));
    // Where a file system links instead of renaming, a crash leaves a file under both names.
    let both = Seen { temporary: Found::Ours, target: Found::Ours, aside: Found::Nothing };
    assert_eq!(next(&[both, waiting], names(false)), Next::Change(0, Change::DropTemporary));
    assert_eq!(next(&[both, waiting], Goal::Back), Next::Change(0, Change::DropTarget));
}
