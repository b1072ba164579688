//! Markers by which a storage is told from an empty mount point, and the files that jobs name in them.

use beryl_core::path::StoragePath;
use beryl_core::plan::plan_with as plan;
use beryl_core::preset::builtin;
use beryl_core::protocol::{Asset, EncodeRun, FileRef, Job, PairFilm, Reference, Root, SourceRef};
use beryl_core::storage::{StorageName, names, with_storage};
use proptest::prelude::*;
use uuid::Uuid;

mod common;

fn storage(id: u128, name: &str) -> StorageName {
    StorageName { id: Uuid::from_u128(id), name: name.to_owned() }
}

proptest! {
    #[test]
    fn a_marker_names_every_storage_that_was_written_into_it_and_no_other(
        ids in prop::collection::btree_set(1_u128..1000, 0..8), name in "\\PC{0,40}", before in "[a-z \n]{0,40}"
    ) {
        let marker = ids.iter().fold(before.clone(), |marker, id| with_storage(&marker, &storage(*id, &name)));
        for id in 1..1000 {
            prop_assert_eq!(names(&marker, Uuid::from_u128(id)), ids.contains(&id), "{} in {:?}", id, marker);
        }
        prop_assert!(marker.starts_with(&before), "what others have written stays");
        // Written again, nothing is added.
        let again = ids.iter().fold(marker.clone(), |marker, id| with_storage(&marker, &storage(*id, "other")));
        prop_assert_eq!(again, marker);
    }
}

#[test]
fn a_name_with_line_breaks_adds_no_storage() {
    let other = Uuid::from_u128(2);
    let marker = with_storage("", &storage(1, &format!("Rushes\n{other} Stolen")));
    assert!(names(&marker, Uuid::from_u128(1)) && !names(&marker, other), "{marker:?}");
    assert!(!names("", other) && !names("\n\n", other));
}

#[test]
fn a_job_tells_every_file_that_it_names() {
    let path = |name: &str| name.parse::<StoragePath>().expect("a path");
    let file = |name: &str| FileRef { root: Root::Storage(storage(1, "Rushes")), path: path(name) };
    let source = SourceRef::of(file("source.mov"));
    let asset = |name: &str| Asset { name: name.to_owned(), file: file(name) };
    let plan = plan(&common::reading(|_| {}), &builtin("web-1080").expect("a preset"), &serde_json::Value::Null).expect("a plan");
    let run = |name: &str| EncodeRun {
        id: Uuid::from_u128(7),
        plan: plan.clone(),
        outputs: vec![file(name), file(&format!("{name}-2"))],
        assets: vec![asset(&format!("{name}-lut"))],
    };
    let reference = Reference { assets: vec![asset("mark")], ..Reference::of(source.clone()) };
    let film = PairFilm { seen: Vec::new(), width: 64, height: 36, output: file("film.mp4") };
    for (mut job, wanted) in [
        (Job::Probe { source: source.clone() }, vec!["source.mov"]),
        (Job::Scan { source: source.clone(), quick: true }, vec!["source.mov"]),
        (Job::Stills { source: source.clone(), folder: "/scratch".to_owned() }, vec!["source.mov"]),
        (
            Job::Encode { source: source.clone(), runs: vec![run("a"), run("b")], share: 1 },
            vec!["source.mov", "a", "a-2", "a-lut", "b", "b-2", "b-lut"],
        ),
        (
            Job::Compare { reference: Box::new(reference), file: SourceRef::of(file("made.mov")), film: Some(film) },
            vec!["source.mov", "made.mov", "mark", "film.mp4"],
        ),
    ] {
        let told: Vec<String> = job.files_mut().iter().map(|file| file.path.to_string()).collect();
        assert_eq!(told, wanted);
        // Brought to folders of a machine, none is left that nobody can open.
        assert!(job.files_mut().iter().all(|file| file.folder().is_err_and(|error| error.to_string().contains("Rushes"))));
        job.files_mut().into_iter().for_each(|file| file.root = Root::Folder("/mnt/rushes".to_owned()));
        let line = serde_json::to_string(&job).expect("a line");
        assert!(!line.contains("Rushes"), "{line}");
        let mut read: Job = serde_json::from_str(&line).expect("a job");
        assert!(read.files_mut().iter().all(|file| file.folder().is_ok_and(|folder| folder.ends_with("rushes"))));
    }
}
