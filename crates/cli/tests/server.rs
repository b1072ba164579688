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
    // What was saved before is still known, and it can be taken back under another id.
    house.says(&["preset", "save", "house-small", "--from", "review-small", "--set", "picture.rate.crf=35", "--replace"]);
    assert_eq!(house.says(&["preset", "versions", "house-small"]).lines().count(), 2);
    assert!(house.refuses(&["preset", "show", "house-small", "--version", "7"]).contains("it has 2 versions"));
    let renamed = house.says(&["preset", "rename", "house-small", "house-tiny", "--name", "House, tiny"]);
    assert!(renamed.contains("house-tiny") && renamed.contains("version 3"), "{renamed}");
    house.says(&["preset", "revert", "house-tiny", "1"]);
    let shown: Value = serde_json::from_str(&house.says(&["preset", "show", "house-tiny"])).unwrap();
    assert_eq!(shown["picture"]["rate"]["crf"], 29);
    house.says(&["preset", "rename", "house-tiny", "house-small"]);
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

/// What each command refuses, and a part of the reason that it gives.
const REFUSALS: &[(&str, &str)] = &[
    ("sheet show Nobody", "there is no sheet “Nobody”: there are Evening"),
    ("sheet new ", "a name must have 1 to 200 characters"),
    ("sheet rename Evening ", "a name must have 1 to 200 characters"),
    ("sheet duplicate Nobody Copy", "there is no sheet “Nobody”"),
    ("sheet remove Nobody", "there is no sheet “Nobody”"),
    ("sheet restore NOBODY", "there is no such sheet"),
    ("sheet add Evening /nowhere/at/all", "it lies in no storage of the server; these are Media"),
    ("sheet add Evening Media:gone.mov", "there is no such file or folder"),
    ("sheet add Evening Media:../x", "has the part “..”"),
    ("sheet take-out Evening gone.mov", "there is no source “gone.mov”"),
    ("sheet split Evening gone.mov --part 1-2", "there is no source “gone.mov”"),
    ("sheet split Evening notes.mov --part 2-1", "it is not a media file"),
    ("sheet deliver Evening nobody", "there is no preset “nobody”: there are Web 1080 (web-1080)"),
    ("sheet deliver Evening web-720 --storage Nowhere", "there is no storage “Nowhere”"),
    ("sheet change Evening nobody --name <name>", "there is no deliverable “nobody”"),
    ("sheet change Evening review-small --name <client>", "unknown token “<client>”: known are <name>, <folders>"),
    ("sheet change Evening review-small --name ../<name>", "it stays inside the destination"),
    ("sheet drop Evening nobody", "there is no deliverable “nobody”"),
    ("sheet set Evening picture.glaze=1", "picture.glaze"),
    ("sheet set Evening picture.rate.crf", "write a setting as name=value"),
    ("sheet set Evening picture.size.rule=sideways", "picture.size"),
    ("sheet set Evening --source gone.mov picture.greyscale=true", "there is no source “gone.mov”"),
    ("sheet switch Evening sideways", "sideways"),
    ("sheet run Nobody", "there is no sheet “Nobody”"),
    ("sheet output Evening notes.mov nobody", "there is no deliverable “nobody”"),
    ("sheet suggestions Nobody", "there is no sheet “Nobody”"),
    ("source show Evening gone.mov", "there is no source “gone.mov”: there are notes.mov"),
    ("source curves Evening gone.mov", "there is no source “gone.mov”"),
    ("source still Evening notes.mov FILE", "it is not a media file"),
    ("source fetch Evening gone.mov FILE", "there is no source “gone.mov”"),
    ("source crop Evening notes.mov sideways", "sideways"),
    ("proof list Evening gone.mov review-small", "there is no source “gone.mov”"),
    ("proof curve NOBODY", "there is no such curve of the proof"),
    ("proof film NOBODY FILE", "there is no such proof"),
    ("proof remove NOBODY", "there is no such proof"),
    ("queue cancel 123", "“123” is no id of a run"),
    ("queue cancel NOBODY", "none of these runs"),
    ("queue retry NOBODY", "none of these runs"),
    ("queue move NOBODY", "none of these runs"),
    ("queue release NOBODY --because fine", "there is no such run"),
    ("queue discard NOBODY", "there is no such run"),
    ("queue fetch NOBODY FILE", "there is no such run"),
    ("watch add Dailies Media:gone --preset nobody --into Media:out", "there is no preset “nobody”"),
    ("watch add Dailies /nowhere --preset web-720 --into Media:out", "it lies in no storage"),
    ("watch on Nobody", "there is no watch folder “Nobody”"),
    ("watch files Nobody", "there is no watch folder “Nobody”"),
    ("watch take Nobody in/x.mov", "there is no watch folder “Nobody”"),
    ("watch restore NOBODY", "there is no such watch folder"),
    ("watch remove Nobody", "there is no watch folder “Nobody”"),
    ("preset show nobody", "there is no preset “nobody”"),
    ("preset import NOTES", "this is not JSON"),
    ("preset save Own --from web-720", "lower-case letters, figures and hyphens"),
    ("preset save own --from web-720 --set picture.rate.crf=20", "picture.rate.crf"),
    ("preset save own --from web-720 --set picture.adjustment.gamma=9", "gamma"),
    ("preset remove web-720", "it comes with the program"),
    ("asset add table NOTES --kind lut", "line 1"),
    ("asset add mark NOTES --kind picture", "PNG"),
    ("asset remove nobody", "none of the house has this name"),
    ("storage add Media MEDIA", "the name “Media” is taken"),
    ("storage add Other /nowhere", "/nowhere is no folder of this machine"),
    ("storage add System /proc", "not for media"),
    ("storage remove Media", "still in use"),
    ("storage mark Nobody", "there is no storage “Nobody”"),
    ("storage look Nobody:", "it lies in no storage"),
    ("storage picture Media:notes.mov FILE", "it is not a media file"),
    ("upload send /nowhere.mov --to Media:", "/nowhere.mov"),
    ("upload show NOBODY", "there is no such upload"),
    ("settings set --slots 0", "slots"),
    ("settings set --time-zone Elsewhere/Nowhere", "Elsewhere/Nowhere"),
];

#[test]
fn each_command_says_what_it_refuses_and_why() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    std::fs::create_dir(at("media")).unwrap();
    let notes = format!("{}/notes.mov", at("media"));
    std::fs::write(&notes, "no film").unwrap();
    let house = House::open(Path::new(&at("state")));
    house.says(&["storage", "add", "Media", &at("media")]);
    house.says(&["sheet", "new", "Evening"]);
    house.says(&["sheet", "add", "Evening", "Media:notes.mov"]);
    house.says(&["sheet", "deliver", "Evening", "review-small"]);
    house.wait(&["sheet", "show", "Evening"], |sheet| sheet["sources"][0]["problem"].is_object());
    let state = || [house.says(&["sheet", "list", "--json"]), house.says(&["preset", "list", "--json"])];
    let before = state();
    let (media, file) = (at("media"), at("file"));
    let mut wrong = Vec::new();
    for (command, reason) in REFUSALS {
        let words = command.split(' ').map(|word| match word {
            "NOBODY" => "00000000-0000-0000-0000-000000000000",
            "FILE" => file.as_str(),
            "NOTES" => notes.as_str(),
            "MEDIA" => media.as_str(),
            word => word,
        });
        let output = house.output(&words.collect::<Vec<_>>());
        let said = String::from_utf8(output.stderr).unwrap();
        // A refusal is a sentence with one full stop, says the reason, and writes nothing where an answer would stand.
        if output.status.success() || !said.contains(reason) || said.contains("..\n") || !output.stdout.is_empty() {
            wrong.push(format!("{command}: {said}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(!Path::new(&file).exists(), "nothing is left of what could not be fetched");
    assert_eq!(state(), before, "nothing was changed");

    // A server that is not there is named.
    let away = beryl(&["sheet", "--server", "http://127.0.0.1:9", "list"]);
    let said = String::from_utf8(away.stderr).unwrap();
    assert!(!away.status.success() && said.contains("http://127.0.0.1:9") && said.contains("beryl serve"), "{said}");
}
