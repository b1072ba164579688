//! A decoder that a hostile file has taken over can reach nothing but the files of its job.

mod material;

use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};

use beryl_core::problem::ProblemKind;
use beryl_core::protocol::{Event, Job, RunNews, Said};

use material::{engine_program, sound_only, tone, wave};

/// What the decoder tries, in the words of the engine's debug build.
const ATTEMPTS: usize = 12;

/// What an engine with these arguments says of a job: events, and lines of its standard error.
fn run(arguments: &[&str], job: &Job, scratch: &Path) -> (Vec<Event>, Vec<String>) {
    let mut engine = Command::new(engine_program())
        .args(arguments)
        .current_dir(scratch)
        .env_clear()
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the engine starts");
    let mut input = engine.stdin.take().expect("an input");
    let mut line = serde_json::to_vec(job).expect("JSON");
    line.push(b'\n');
    input.write_all(&line).expect("it reads");
    let events = BufReader::new(engine.stdout.take().expect("an output"))
        .lines()
        .filter_map(|line| match serde_json::from_str(&line.expect("text")).expect("a word of an engine") {
            Said::News(event) => Some(event),
            Said::Hello(_) | Said::Alive => None,
        })
        .collect();
    let mut said = String::new();
    engine.stderr.take().expect("an output").read_to_string(&mut said).expect("text");
    engine.wait().expect("it ends");
    (events, said.lines().map(str::to_owned).collect())
}

#[tokio::test]
async fn a_decoder_that_misbehaves_reaches_nothing_and_its_job_is_done() {
    let place = tempfile::tempdir().expect("a folder");
    let root = place.path();
    let beside = root.join("beside");
    let scratch = root.join("scratch");
    for folder in [&beside, &scratch, &root.join("out")] {
        std::fs::create_dir(folder).expect("a folder");
    }
    let tone = wave(&tone(1));
    std::fs::write(root.join("source.wav"), &tone).expect("written");
    let job = sound_only(root, "source.wav").await;
    let misbehaving = |more: &[&str], output: &str| {
        for name in ["secret", "spare"] {
            std::fs::write(beside.join(name), "nobody's business").expect("written");
        }
        let arguments: Vec<&str> = more.iter().copied().chain(["--misbehave", beside.to_str().expect("text")]).collect();
        let (events, said) = run(&arguments, &job(output), &scratch);
        let attempts: Vec<String> = said.into_iter().filter(|line| line.starts_with("attempt: ")).collect();
        assert_eq!(attempts.len(), ATTEMPTS, "{attempts:?}");
        let is_written = |event: &Event| matches!(event, Event::Run { news: RunNews::Written { .. }, .. });
        assert!(events.iter().any(is_written), "{events:?}");
        attempts
    };

    // Beside the source and in a folder of its own: in neither can anything else be reached.
    for output in ["out/tone.part", "tone.part"] {
        let attempts = misbehaving(&[], output);
        assert!(attempts.iter().all(|line| line.contains(": refused: ")), "{attempts:#?}");
        for name in ["secret", "spare"] {
            assert_eq!(std::fs::read_to_string(beside.join(name)).expect("it is there"), "nobody's business");
        }
        assert_eq!(std::fs::read(root.join("source.wav")).expect("it is there"), tone);
    }

    // The attempts are real: where nothing holds the engine, each succeeds.
    let attempts = misbehaving(&["--unheld"], "out/unheld.part");
    assert!(attempts.iter().all(|line| line.ends_with(": done")), "{attempts:#?}");
}

#[tokio::test]
async fn an_engine_that_holds_too_much_is_ended_with_a_word_that_says_so() {
    let place = tempfile::tempdir().expect("a folder");
    let root = place.path();
    let scratch = root.join("scratch");
    let out = root.join("out");
    for folder in [&scratch, &out] {
        std::fs::create_dir(folder).expect("a folder");
    }
    std::fs::write(root.join("source.wav"), wave(&tone(20))).expect("written");
    let job = sound_only(root, "source.wav").await;
    let (events, _) = run(&["--hungry"], &job("out/tone.part"), &scratch);
    let problem = events.iter().find_map(|event| match event {
        Event::Failed { problem } => Some(problem),
        _ => None,
    });
    let problem = problem.expect("it failed");
    assert_eq!(problem.kind, ProblemKind::OutOfMemory, "{problem}");
    assert!(!out.join("tone.part").exists(), "what it had begun is gone");
    let Some(Event::Ended { peak_memory: Some(peak), .. }) = events.last() else { panic!("{events:?}") };
    // Sound alone needs next to nothing, and a gigabyte is left for what nobody foresees.
    assert!((1 << 30..2 << 30).contains(&peak.0), "{peak}");
}
