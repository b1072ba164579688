//! The page's own unit tests, in the page's own runner: what stands in `web/src/**/*.test.ts`.

use std::path::Path;
use std::process::Command;

#[test]
fn the_unit_tests_of_the_page_pass() {
    let web = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../web");
    let run = Command::new("npm").args(["run", "--silent", "test"]).current_dir(web).env("CI", "true").output();
    let run = run.expect("npm, with the page's packages installed");
    let words = format!("{}{}", String::from_utf8_lossy(&run.stdout), String::from_utf8_lossy(&run.stderr));
    assert!(run.status.success(), "{words}");
    // A runner that found nothing to run says so and has failed nothing.
    let passed = words.lines().find(|line| line.contains("Tests") && line.contains("passed"));
    assert!(passed.is_some(), "{words}");
}
