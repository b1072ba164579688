//! The engine: one job a process.
//!
//! The first line of standard input is a [`Job`] as JSON; following lines are [`Command`]s. Standard
//! output carries what it says ([`Said`]) as JSON lines: [`Said::Hello`] first, [`Event::Ended`] last. When standard input
//! ends, whoever started the engine is gone: it gives up and leaves nothing behind.

mod hold;
mod memory;
#[cfg(debug_assertions)]
mod misbehave;
mod storages;

use std::collections::HashSet;
use std::io::{BufRead, Write};
use std::path::Path;
use std::process::ExitCode;
use std::sync::mpsc::TryRecvError;
use std::sync::{Arc, LazyLock, Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use beryl_core::after::memory::Means;
use beryl_core::problem::{Problem, ProblemKind};
use beryl_core::protocol::{ALIVE_EVERY, Answer, Command, EncodeRun, Event, Hello, Job, PROTOCOL, RunNews, Said, SourceRef};
use beryl_core::units::ByteSize;
use beryl_media::{Control, Outputs, StillWish};
use nix::sys::resource::{UsageWho, getrusage};
use nix::sys::time::TimeValLike;
use uuid::Uuid;

/// How long a cancelled job may take to put its things away before it is ended.
const CANCEL_GRACE: Duration = Duration::from_millis(700);
/// How far jobs stand behind other programs of the machine, as nice(2) counts: 0 is level, 19 last.
const WAY_GIVEN: i32 = 10;

static ACCOUNT: LazyLock<memory::Account> = LazyLock::new(memory::Account::open);
/// Runs whose files are whole.
static WRITTEN: Mutex<Vec<Uuid>> = Mutex::new(Vec::new());
/// What the job is planned to need.
static PLANNED: OnceLock<Option<ByteSize>> = OnceLock::new();

fn main() -> ExitCode {
    // Before other files are closed off.
    LazyLock::force(&ACCOUNT);
    #[cfg(debug_assertions)]
    let held = !misbehave::wishes().unheld;
    #[cfg(not(debug_assertions))]
    let held = true;
    if held {
        hold::hold();
    }
    beryl_media::silence_libraries();
    let storages = storages::Storages::told();
    let began = Instant::now();
    say(&Said::Hello(Hello {
        protocol: PROTOCOL,
        build: env!("CARGO_PKG_VERSION").to_owned(),
        encoders: beryl_media::codecs_written(),
        storages: storages.known(),
    }));
    std::thread::spawn(|| {
        loop {
            std::thread::sleep(ALIVE_EVERY);
            say(&Said::Alive);
        }
    });
    let mut first_line = String::new();
    let mut job = match std::io::stdin().lock().read_line(&mut first_line).map(|_| serde_json::from_str::<Job>(&first_line)) {
        Ok(Ok(job)) => job,
        Ok(Err(error)) => return refuse(&error.to_string()),
        Err(error) => return refuse(&error.to_string()),
    };
    if let Err(problem) = storages.place(&mut job) {
        tell(Event::Failed { problem });
        tell(ended(began.elapsed()));
        return ExitCode::SUCCESS;
    }
    // The night's work gives way to whoever works at the machine, and to the server.
    if let (Job::Encode { .. } | Job::Scan { .. }, Err(error)) = (&job, rustix::process::nice(WAY_GIVEN)) {
        eprintln!("the job could not be put behind others: {error}");
    }
    let outputs = Outputs::create(runs_of(&job));
    let means = beryl_media::means_of_machine(if let Job::Encode { share, .. } = &job { *share } else { 1 });
    if held {
        hold::confine(&job);
    }
    let planned = memory::planned(&job, means);
    PLANNED.get_or_init(|| planned);
    if held {
        let runs = runs_of(&job).to_vec();
        memory::watch(&ACCOUNT, memory::most(planned), move |held, most| out_of_memory(&runs, held, most));
    }
    let control = Arc::new(Control::default());
    // What is asked of an open source comes the same way as commands.
    if !matches!(job, Job::Stills { .. }) {
        listen(Arc::clone(&control), runs_of(&job).to_vec());
    }
    if let Err(problem) = work(&job, outputs, means, &control) {
        tell(Event::Failed { problem });
    }
    tell(ended(began.elapsed().saturating_sub(control.paused_for())));
    ExitCode::SUCCESS
}

/// Writes pictures of a source as they are asked for, until nobody asks any more.
fn stills(source: &SourceRef) -> Result<(), Problem> {
    let mut open = beryl_media::Stills::open(source)?;
    let (asked, wishes) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        for line in std::io::stdin().lock().lines().map_while(Result::ok) {
            let Ok(Command::Still(wish)) = serde_json::from_str(&line) else { return };
            if asked.send(wish).is_err() {
                return;
            }
        }
    });
    let mut ahead = false;
    loop {
        let wish = if ahead { wishes.try_recv() } else { wishes.recv().map_err(|_| TryRecvError::Disconnected) };
        match wish {
            Ok(wish) => {
                let still = StillWish {
                    at: wish.at,
                    width: wish.width,
                    field: wish.field,
                    shape: wish.shape.as_ref(),
                    scope: wish.scope,
                    output: &wish.output,
                };
                match open.write(still, Path::new(".")) {
                    Ok(()) => answer(Answer::StillWritten),
                    Err(problem) => answer(Answer::StillRefused { problem }),
                }
                ahead = true;
            }
            Err(TryRecvError::Empty) => ahead = open.look_ahead(Path::new(".")),
            Err(TryRecvError::Disconnected) => return Ok(()),
        }
    }
}

fn refuse(details: &str) -> ExitCode {
    let problem =
        Problem::new(ProblemKind::Internal, "the engine could not begin", "its job could not be read").with_details(details);
    tell(Event::Failed { problem });
    ExitCode::from(2)
}

fn work(job: &Job, outputs: Outputs, means: Means, control: &Control) -> Result<(), Problem> {
    match job {
        Job::Probe { source } => beryl_media::probe(source).map(|reading| answer(Answer::Probed { reading: Box::new(reading) })),
        Job::Scan { source, quick } => beryl_media::scan(source, *quick, control, &answer).map(|(reading, curves)| {
            answer(Answer::Scanned { reading: Box::new(reading), curves: Box::new(curves) });
        }),
        Job::Compare { reference, file, film } => {
            beryl_media::compare(reference, file, film.as_ref(), Path::new("."), control, &answer)
                .map(|comparison| answer(Answer::Compared { comparison: Box::new(comparison) }))
        }
        Job::Stills { source, .. } => stills(source),
        // The starter gives every engine a working folder of its own.
        Job::Encode { source, runs, .. } => {
            beryl_media::encode_into(source, runs, outputs, Path::new("."), means, control, &|event| {
                if let Event::Run { id, news: RunNews::Written { .. } } = &event {
                    WRITTEN.lock().unwrap_or_else(PoisonError::into_inner).push(*id);
                }
                tell(event);
            })
        }
    }
}

fn answer(answer: Answer) {
    tell(Event::Answer(answer));
}

fn tell(event: Event) {
    say(&Said::News(event));
}

/// Writes what is said as one line. Where nobody reads any more, standard input has ended as well,
/// and the listener ends the job.
fn say(said: &Said) {
    static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());
    let Ok(mut line) = serde_json::to_vec(said) else { return };
    line.push(b'\n');
    let _guard = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
    let mut out = std::io::stdout().lock();
    drop(out.write_all(&line).and_then(|()| out.flush()));
}

fn runs_of(job: &Job) -> &[EncodeRun] {
    match job {
        Job::Encode { runs, .. } => runs,
        Job::Probe { .. } | Job::Scan { .. } | Job::Compare { .. } | Job::Stills { .. } => &[],
    }
}

/// Follows commands until the input ends. A codec that does not come to its end in time after a
/// cancel is not waited for: the files go, and the process with them.
fn listen(control: Arc<Control>, runs: Vec<EncodeRun>) {
    std::thread::spawn(move || {
        let mut given_up = HashSet::new();
        for line in std::io::stdin().lock().lines().map_while(Result::ok) {
            match serde_json::from_str(&line) {
                Ok(Command::Pause) => control.pause(),
                Ok(Command::Resume) => control.resume(),
                Ok(Command::CancelRun { id }) => {
                    control.cancel_run(id);
                    given_up.insert(id);
                    // A job that stands still would see to it only when it goes on.
                    if control.is_paused() {
                        put_away(runs.iter().filter(|run| run.id == id));
                    }
                    if runs.iter().all(|run| given_up.contains(&run.id)) {
                        break;
                    }
                }
                Ok(Command::Cancel | Command::Still(_)) => break,
                Err(error) => eprintln!("a command could not be read: {error}"),
            }
        }
        control.cancel();
        std::thread::sleep(CANCEL_GRACE);
        put_away(runs.iter());
        tell(ended(Duration::ZERO));
        std::process::exit(0);
    });
}

/// Removes what given-up runs have written and tells their end, which is told again, without harm,
/// where the job comes to it by itself.
fn put_away<'a>(runs: impl Iterator<Item = &'a EncodeRun>) {
    for run in runs {
        beryl_media::remove_temporary_files(std::slice::from_ref(run));
        let what = format!("{} was given up", run.plan.preset_name);
        let problem = Problem::new(ProblemKind::Cancelled, what, "it was cancelled");
        tell(Event::Run { id: run.id, news: RunNews::Failed { problem } });
    }
}

/// Ends the process, which holds more than its job may: what is not whole yet is removed, and told of.
fn out_of_memory(runs: &[EncodeRun], held: ByteSize, most: ByteSize) -> ! {
    let why = format!("its pictures took {held} of memory, and it may take {most}");
    // What is whole already is somebody's.
    let written = WRITTEN.lock().unwrap_or_else(PoisonError::into_inner);
    for run in runs.iter().filter(|run| !written.contains(&run.id)) {
        beryl_media::remove_temporary_files(std::slice::from_ref(run));
    }
    tell(Event::Failed { problem: Problem::new(ProblemKind::OutOfMemory, "the job was ended", why) });
    tell(ended(Duration::ZERO));
    std::process::exit(0);
}

fn ended(wall: Duration) -> Event {
    Event::Ended {
        cpu_seconds: cpu_seconds(),
        wall_seconds: wall.as_secs_f64(),
        peak_memory: ACCOUNT.peak(),
        planned_memory: PLANNED.get().copied().flatten(),
    }
}

fn cpu_seconds() -> f64 {
    getrusage(UsageWho::RUSAGE_SELF)
        .map_or(0.0, |usage| (usage.user_time().num_microseconds() + usage.system_time().num_microseconds()) as f64 / 1e6)
}
