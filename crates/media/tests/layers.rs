//! What stands beside what: scans know nothing of jobs and jobs nothing of scans; both use what lies below.

use std::path::{Path, PathBuf};

fn sources(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).expect("a folder of sources").map(|entry| entry.expect("a readable folder").path());
    entries.flat_map(|path| if path.is_dir() { sources(&path) } else { vec![path] }).collect()
}

#[test]
fn scans_and_jobs_know_nothing_of_each_other() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut seen = 0;
    for (module, others) in [("scan", ["crate::job", "crate::still"]), ("job", ["crate::scan", "crate::still"])] {
        for path in sources(&root.join(module)) {
            let text = std::fs::read_to_string(&path).expect("a readable source");
            let named = others.iter().find(|other| text.contains(*other));
            assert_eq!(named, None, "{}", path.display());
            seen += 1;
        }
    }
    assert!(seen > 15, "{seen} sources");
}
