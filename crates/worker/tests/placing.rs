//! Names in a real folder: files that belong together get all of theirs or none, whenever the process is killed.

use std::collections::BTreeMap;
use std::path::Path;

use beryl_core::flow::placing::{Goal, Next};
use beryl_core::path::StoragePath;
use beryl_worker::{FileId, Placed, Placing, Replacing, made, place, step, take_back, withhold};

const NAMES: [&str; 5] = ["reel.mov", "reel_A1.wav", "reel_A2.wav", "reel_A3.wav", "reel_A4.wav"];

fn path(name: &str) -> StoragePath {
    name.parse().expect("a path")
}

/// Five files that were written, in a folder with others that have some of their names.
fn written(root: &Path, taken: &[&str]) -> Vec<Placing> {
    for name in taken {
        std::fs::write(root.join(name), format!("an old {name}")).expect("a file");
    }
    let one = |(number, name): (usize, &&str)| {
        let temporary = path(&format!(".run-{number}.part"));
        std::fs::write(root.join(temporary.to_string()), format!("the new {name}, {number}")).expect("a file");
        Placing { made: made(root, &temporary).expect("it is there"), target: path(name), temporary }
    };
    NAMES.iter().enumerate().map(one).collect()
}

fn contents(root: &Path) -> BTreeMap<String, String> {
    let entries = std::fs::read_dir(root).expect("a folder").map(|entry| entry.expect("an entry"));
    let read = |entry: std::fs::DirEntry| {
        (entry.file_name().into_string().expect("UTF-8"), std::fs::read_to_string(entry.path()).expect("text"))
    };
    entries.map(read).collect()
}

fn all_new() -> BTreeMap<String, String> {
    NAMES.iter().enumerate().map(|(number, name)| ((*name).to_owned(), format!("the new {name}, {number}"))).collect()
}

/// Makes so many changes as a process would that is killed then; nothing of it but the folder is left.
fn killed_after(changes: usize, root: &Path, files: &[Placing], replacing: &Replacing, goal: Goal) -> bool {
    (0..changes).all(|_| matches!(step(root, files, replacing, goal).expect("a change"), Next::Change(..)))
}

#[test]
fn five_files_killed_at_every_step_end_with_all_names_or_none() {
    for taken in [&[][..], &["reel_A2.wav"], &["reel.mov", "reel_A4.wav"], &NAMES] {
        for (replacing, replace) in [(Replacing::Never, false), (Replacing::AllBut(Vec::new()), true)] {
            let mut steps = 0;
            loop {
                let folder = tempfile::tempdir().expect("a folder");
                let root = folder.path();
                let files = written(root, taken);
                let before = contents(root);
                let went_on = killed_after(steps, root, &files, &replacing, Goal::Names { replace });
                let placed = place(root, &files, &replacing).expect("the system obeys");
                let first_taken = NAMES.iter().position(|name| taken.contains(name)).filter(|_| !replace);
                assert_eq!(placed, first_taken.map_or(Placed::Done, Placed::Taken), "{taken:?}, killed after {steps}");
                match placed {
                    Placed::Done => assert_eq!(contents(root), all_new(), "{taken:?}, killed after {steps}"),
                    Placed::Taken(_) => assert_eq!(contents(root), before, "{taken:?}, killed after {steps}"),
                    Placed::Protected(_) | Placed::Missing(_) => panic!("{placed:?}"),
                }
                if !went_on {
                    assert!(steps > 0 || taken == NAMES, "nothing was ever begun");
                    break;
                }
                steps += 1;
            }
        }
    }
}

#[test]
fn a_way_back_that_is_killed_is_gone_to_its_end() {
    let replacing = Replacing::AllBut(Vec::new());
    for back in 0..8 {
        let folder = tempfile::tempdir().expect("a folder");
        let root = folder.path();
        let files = written(root, &["reel.mov", "reel_A2.wav"]);
        let before = contents(root);
        assert!(killed_after(4, root, &files, &replacing, Goal::Names { replace: true }), "it has more than four steps");
        assert_ne!(contents(root), before);
        killed_after(back, root, &files, &replacing, Goal::Back);
        take_back(root, &files).expect("the system obeys");
        assert_eq!(contents(root), before, "killed after {back} on the way back");
    }
}

#[test]
fn a_source_is_not_replaced_whatever_its_name_and_what_is_missing_is_told_of() {
    let folder = tempfile::tempdir().expect("a folder");
    let root = folder.path();
    let files = written(root, &["reel.mov", "reel_A3.wav"]);
    std::fs::rename(root.join("reel_A3.wav"), root.join("source.wav")).expect("renamed");
    std::os::unix::fs::symlink("source.wav", root.join("reel_A3.wav")).expect("a link");
    let before = contents(root);
    let kept = FileId::of(root, &path("source.wav")).expect("it is there");
    assert_eq!(place(root, &files, &Replacing::AllBut(vec![kept])), Ok(Placed::Protected(3)));
    assert_eq!(contents(root), before);
    std::fs::remove_file(root.join(".run-2.part")).expect("removed");
    let before = contents(root);
    assert_eq!(place(root, &files, &Replacing::AllBut(Vec::new())), Ok(Placed::Missing(2)));
    assert_eq!(contents(root), before);
}

#[test]
fn withheld_files_get_names_that_belong_together() {
    let folder = tempfile::tempdir().expect("a folder");
    let root = folder.path();
    let files = written(root, &["reel_A2.wav.withheld"]);
    let temporaries: Vec<StoragePath> = files.iter().map(|file| file.temporary.clone()).collect();
    let endings = [".mov", "_A1.wav", "_A2.wav", "_A3.wav", "_A4.wav"].map(str::to_owned);
    let names = withhold(root, &temporaries, &path("reel"), &endings).expect("the system obeys");
    let wanted = endings.map(|ending| path(&format!("reel_2{ending}.withheld")));
    assert_eq!(names, wanted);
    assert_eq!(contents(root).len(), 6);
}
