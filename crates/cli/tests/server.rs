//! A whole job through the command line, against a server that runs.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

mod common;

use std::path::Path;
use std::process::Output;
use std::time::{Duration, Instant};

use common::{Application, beryl, clip, names};
use serde_json::Value;

/// The command line of the house, which reaches its server through the socket.
struct House {
    socket: String,
    _application: Application,
}

impl House {
    fn open(state: &Path) -> Self {
        let application = Application::start(state);
        Self { socket: state.join("socket").to_str().unwrap().to_owned(), _application: application }
    }

    fn output(&self, words: &[&str]) -> Output {
        beryl(&[&[words[0], "--server", &self.socket], &words[1..]].concat())
    }

    /// What is said where all goes well.
    fn says(&self, words: &[&str]) -> String {
        let output = self.output(words);
        assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    }

    fn json(&self, words: &[&str]) -> Value {
        serde_json::from_str(&self.says(&[&[words[0], "--json"], &words[1..]].concat())).unwrap()
    }

    /// Why it is refused.
    fn refuses(&self, words: &[&str]) -> String {
        let output = self.output(words);
        assert!(!output.status.success(), "{words:?} was not refused");
        String::from_utf8(output.stderr).unwrap()
    }

    /// Asks until the answer is as wanted.
    fn wait(&self, words: &[&str], wanted: impl Fn(&Value) -> bool) -> Value {
        let began = Instant::now();
        loop {
            let answer = self.json(words);
            if wanted(&answer) {
                return answer;
            }
            assert!(began.elapsed() < Duration::from_secs(120), "not in time: {answer}");
            std::thread::sleep(Duration::from_millis(100));
        }
    }
}

#[test]
fn a_job_is_done_from_the_first_storage_to_the_fetched_file() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    let text = |name: &str| at(name).to_str().unwrap().to_owned();
    ["media", "out"].iter().for_each(|name| std::fs::create_dir(at(name)).unwrap());
    clip(&at("media"), "glaze-db_screen.mp4", 2);
    clip(&at("media"), "interview_odile_en-fr.mkv", 2);
    let house = House::open(&at("state"));

    house.says(&["storage", "add", "Media", &text("media")]);
    house.says(&["storage", "add", "Deliveries", &text("out")]);
    assert!(house.says(&["storage", "look", "Media:"]).contains("glaze-db_screen.mp4"));
    house.says(&["sheet", "new", "Evening"]);
    // A path of this machine is found in the storage that holds it.
    assert_eq!(house.says(&["sheet", "add", "Evening", &text("media")]), "2 of 2 added\n");
    house.says(&["sheet", "deliver", "Evening", "review-small", "--storage", "Deliveries", "--folder", "made"]);
    house.wait(&["sheet", "show", "Evening"], |sheet| {
        sheet["sources"].as_array().unwrap().iter().all(|source| !source["summary"].is_null())
    });
    house.says(&["sheet", "set", "Evening", "--source", "glaze", "--deliverable", "review-small", "picture.rate.crf=33"]);
    house.says(&["sheet", "set", "Evening", "--source", "glaze", "--deliverable", "review-small", "picture.effort=quick"]);
    house.says(&["sheet", "switch", "Evening", "off", "--source", "interview"]);
    let sheet = house.json(&["sheet", "show", "Evening"]);
    let own = sheet["cells"].as_array().unwrap().iter().find(|cell| !cell["overrides"].is_null()).unwrap();
    assert_eq!(
        (&own["overrides"]["picture"]["rate"]["crf"], &own["overrides"]["picture"]["effort"]),
        (&33.into(), &"quick".into())
    );

    // A second sheet has the same rows, columns and settings, and nothing that was made.
    house.says(&["sheet", "duplicate", "Evening", "Late"]);
    let late = house.json(&["sheet", "show", "Late"]);
    let of = |sheet: &Value, key: &str| -> Vec<Value> {
        sheet["cells"].as_array().unwrap().iter().map(|cell| cell[key].clone()).collect()
    };
    assert_eq!((of(&late, "overrides"), of(&late, "enabled")), (of(&sheet, "overrides"), of(&sheet, "enabled")));
    assert_ne!(late["deliverables"][0]["id"], sheet["deliverables"][0]["id"]);
    house.says(&["sheet", "set", "Late", "--source", "glaze", "picture.greyscale=true"]);
    assert_eq!(house.json(&["sheet", "show", "Late"])["sources"][0]["overrides"]["picture"]["greyscale"], true);
    assert!(house.json(&["sheet", "show", "Evening"])["sources"][0]["overrides"].is_null());
    assert!(house.says(&["sheet", "suggestions", "Late", "--take-all"]).is_empty(), "nothing follows for these");

    assert_eq!(house.says(&["sheet", "run", "Evening"]), "1 queued\n");
    house.says(&["sheet", "follow", "Evening"]);
    assert_eq!(names(&at("out/made")), ["glaze-db_screen_review-small.mp4"]);
    let shown = house.says(&["sheet", "output", "Evening", "glaze", "review-small"]);
    assert!(shown.contains("done: made/glaze-db_screen_review-small.mp4") && shown.contains("because"), "{shown}");
    let run = house.json(&["queue", "list"])["items"][0]["run"]["id"].as_str().unwrap().to_owned();
    house.says(&["queue", "fetch", &run, &text("fetched.mp4")]);
    let made = std::fs::read(at("out/made/glaze-db_screen_review-small.mp4")).unwrap();
    assert!(std::fs::read(at("fetched.mp4")).unwrap() == made);
    // Nothing is written over, and nothing is made up.
    assert!(house.refuses(&["queue", "fetch", &run, &text("fetched.mp4")]).contains("fetched.mp4"));
    assert!(house.refuses(&["queue", "fetch", &run, &text("second.mp4"), "--file", "1"]).contains("not so many"));

    // What is gone comes back.
    let sheet = house.json(&["sheet", "show", "Evening"])["id"].as_str().unwrap().to_owned();
    house.says(&["sheet", "remove", "Evening"]);
    let refusal = house.refuses(&["sheet", "show", "Evening"]);
    assert!(refusal.contains("there is no sheet “Evening”"), "{refusal}");
    house.says(&["sheet", "restore", &sheet]);
    house.says(&["sheet", "rename", "Evening", "Morning"]);

    house.says(&["source", "still", "Morning", "interview", &text("still.jpg"), "--at", "1"]);
    assert_eq!(std::fs::read(at("still.jpg")).unwrap()[..3], [0xFF, 0xD8, 0xFF]);
    assert!(house.says(&["source", "show", "Morning", "interview"]).contains("1280×720"));
    house.says(&["proof", "new", "Morning", "glaze", "review-small", "--at", "1/2", "--seconds", "1"]);
    let proofs = house.wait(&["proof", "list", "Morning", "glaze", "review-small"], |cell| {
        cell["proofs"].as_array().is_some_and(|proofs| proofs.iter().all(|proof| proof["state"] == "done"))
    });
    let proof = proofs["proofs"][0]["id"].as_str().unwrap();
    assert!(house.says(&["proof", "curve", proof]).contains("SSIM 0.9"), "{}", house.says(&["proof", "curve", proof]));
    house.says(&["proof", "remove", proof]);
}

#[test]
fn presets_watch_folders_uploads_and_settings_are_kept_through_the_command_line() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    let text = |name: &str| at(name).to_str().unwrap().to_owned();
    ["media", "media/arrivals", "out", "here"].iter().for_each(|name| std::fs::create_dir(at(name)).unwrap());
    let file = clip(&at("here"), "glaze-db_screen.mp4", 2);
    let house = House::open(&at("state"));
    house.says(&["storage", "add", "Media", &text("media")]);
    house.says(&["storage", "add", "Deliveries", &text("out")]);

    house.says(&["preset", "save", "house-small", "--from", "review-small", "--set", "picture.rate.crf=29"]);
    house.says(&["preset", "export", "house-small", &text("house-small.json")]);
    let refusal = house.refuses(&["preset", "import", &text("house-small.json")]);
    assert!(refusal.contains("has a preset of this id") && refusal.contains("--replace"), "{refusal}");
    house.says(&["preset", "import", "--replace", &text("house-small.json")]);
    let shown: Value = serde_json::from_str(&house.says(&["preset", "show", "house-small"])).unwrap();
    assert_eq!(shown["picture"]["rate"]["crf"], 29);
    house.says(&["preset", "remove", "house-small"]);
    assert!(house.refuses(&["preset", "show", "house-small"]).contains("there is no preset"));

    house.says(&[
        "watch",
        "add",
        "Dailies",
        "Media:arrivals",
        "--preset",
        &text("house-small.json"),
        "--into",
        "Deliveries:dailies",
        "--settle",
        "1",
    ]);
    house.says(&["watch", "on", "Dailies", "--present", "leave"]);
    house.says(&["upload", "send", file.to_str().unwrap(), "--to", "Media:arrivals"]);
    assert!(std::fs::read(at("media/arrivals/glaze-db_screen.mp4")).unwrap() == std::fs::read(&file).unwrap());
    house.wait(&["watch", "files", "Dailies", "--state", "out"], |files| files.as_array().is_some_and(|files| files.len() == 1));
    assert_eq!(names(&at("out/dailies")).len(), 1);
    house.says(&["watch", "off", "Dailies"]);
    house.says(&["watch", "change", "Dailies", "--name", "Rushes"]);
    assert!(house.says(&["watch", "list"]).contains("Rushes · off"));
    house.says(&["watch", "remove", "Rushes"]);

    house.says(&["settings", "set", "--slots", "3", "--time-zone", "Asia/Kolkata"]);
    let settings = house.json(&["settings", "show"]);
    assert_eq!((&settings["engine_slots"], &settings["time_zone"]), (&3.into(), &"Asia/Kolkata".into()));
    assert!(house.refuses(&["settings", "set", "--time-zone", "Kiln/Yard"]).contains("no time zone “Kiln/Yard”"));
    // Where nobody answers, it says what to do.
    let alone = beryl(&["queue", "--server", "127.0.0.1:9", "list"]);
    let words = String::from_utf8(alone.stderr).unwrap();
    assert!(
        !alone.status.success() && words.contains("no server answers at 127.0.0.1:9") && words.contains("beryl serve"),
        "{words}"
    );
}
