//! A large house: 20 watch folders with 10 000 known files, 20 000 outputs with 110 000 finished runs, a sheet of 10 000 cells
//! with 100 000 runs behind it, and 8 000 runs in the queue.
//! `cargo bench -p beryl-cli --bench house` prints what the server takes at rest, how soon lists and
//! sheets are answered, how soon a sheet of 500 sources and 6 deliverables is seen and changed
//! in the page, and what the page takes: the rows of `docs/benchmarks.md`.

// A benchmark fails loudly.
#![allow(clippy::unwrap_used)]

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use beryl_core::after::check::CheckReport;
use beryl_core::flow::placing::Made;
use beryl_core::flow::run::{ClashRule, RunState};
use beryl_core::path::StoragePath;
use beryl_core::plan::plan_with as plan;
use beryl_core::preset::builtin_presets;
use beryl_core::reading::Reading;
use beryl_store::Database;
use beryl_store::private_server::PrivateServer;
use beryl_store::runs::{NewRun, Origin};
use beryl_store::sheets::Deliverable;
use beryl_store::sources::ScanState;
use beryl_store::storages::Storage;
use beryl_ui_tests::{Browser, make_clips};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use serde_json::{Value, json};
use sqlx::{Connection, MySqlConnection};
use uuid::Uuid;

const WATCH_FOLDERS: usize = 20;
const FILES_IN_EACH: usize = 500;
/// Sources and deliverables of each sheet, and how often each of its outputs was made: 20 000 finished outputs, of which
/// 10 000 were made ten times, a sheet that waits to be run, and one whose runs wait in the queue.
const SHEETS: [(usize, usize, usize); 7] =
    [(500, 6, 1), (500, 6, 1), (500, 6, 1), (500, 2, 1), (500, 6, 0), (1000, 10, 10), (1000, 8, 0)];
const TO_RUN: usize = 4;
const LARGE: usize = 5;
const QUEUED: usize = 6;
/// Two looks through every watch folder fall into it.
const AT_REST: Duration = Duration::from_secs(70);
const CALLS: usize = 100;

#[tokio::main(flavor = "multi_thread")]
async fn main() {
    let folder = tempfile::tempdir().unwrap();
    let media = folder.path().join("media");
    std::fs::create_dir(&media).unwrap();
    make_clips(&media, &["glaze-db_screen.mp4"], 1).unwrap();
    let clip = media.join("glaze-db_screen.mp4");
    let sheets = fill(folder.path(), &media, &reading_of(&clip)).await;
    let server = Server::start(folder.path());
    watch_all(&server, &media, &clip).await;
    at_rest(&server).await;
    answers(&server, &sheets).await;
    in_the_page(&server, sheets[TO_RUN]).await;
    events_in_the_page(&server, sheets[LARGE]).await;
    queue(&server, sheets[QUEUED]).await;
}

fn beryl() -> Command {
    Command::new(env!("CARGO_BIN_EXE_beryl"))
}

fn reading_of(clip: &Path) -> Reading {
    let output = beryl().arg("probe").arg(clip).arg("--json").output().unwrap();
    serde_json::from_slice(&output.stdout).unwrap()
}

/// Puts sheets with all their outputs finished into the database; answers the sheets.
async fn fill(state: &Path, media: &Path, reading: &Reading) -> Vec<Uuid> {
    let server = PrivateServer::start(&state.join("database")).unwrap();
    let database = Database::connect(&server.url()).await.unwrap();
    let storage = database.add_storage("Media", media.to_str().unwrap()).await.unwrap();
    let mut sheets = Vec::new();
    for (number, (rows, columns, times)) in SHEETS.into_iter().enumerate() {
        let sheet = database.add_sheet(&format!("Night {number}")).await.unwrap().id;
        let mut sources = Vec::new();
        for row in 0..rows {
            let path: StoragePath = format!("reel-{number}/clip-{row:04}.mp4").parse().unwrap();
            let id = database.ensure_source(storage.id, &path, None).await.unwrap();
            database.set_reading(id, &Ok(reading.clone()), false).await.unwrap();
            // A house at rest has scanned what it has.
            database.set_scan(id, ScanState::Whole, None).await.unwrap();
            sources.push((id, String::new()));
        }
        database.add_sheet_sources(sheet, &sources).await.unwrap();
        for place in 0..columns {
            let id = Uuid::now_v7();
            let preset = builtin_presets().into_iter().cycle().nth(place).unwrap();
            let name_pattern = format!("{}_{place}", preset.name_pattern);
            let folder = StoragePath::default();
            let column = Deliverable { id, sheet, preset, storage: None, folder, name_pattern, clash: ClashRule::Number };
            database.save_deliverable(&column).await.unwrap();
            if times > 0 {
                finish_column(&database, &storage, &column, &sources, reading).await;
            }
        }
        // The same runs, earlier.
        if times > 1 {
            let mut connection = MySqlConnection::connect(&server.url()).await.unwrap();
            for _ in 1..times {
                let earlier = "INSERT INTO runs (id, seq, source_id, sheet_id, deliverable_id, preset_name, expected_cpu, storage_id, stem, \
                    clash, priority, state, attempts, size, cpu_seconds, started, finished, notes, settings_id) \
                    SELECT UNHEX(REPLACE(UUID(), '-', '')), (SELECT MIN(seq) FROM runs) - ROW_NUMBER() OVER (), source_id, sheet_id, \
                    deliverable_id, preset_name, expected_cpu, storage_id, stem, clash, priority, state, attempts, size, cpu_seconds, \
                    started, finished, notes, settings_id FROM runs WHERE sheet_id = ? AND is_latest";
                sqlx::query(earlier).bind(sheet).execute(&mut connection).await.unwrap();
            }
        }
        sheets.push(sheet);
    }
    database.close().await;
    sheets
}

async fn finish_column(
    database: &Database,
    storage: &Storage,
    column: &Deliverable,
    sources: &[(Uuid, String)],
    reading: &Reading,
) {
    let plan = plan(reading, &column.preset, &Value::Null).unwrap();
    let report = CheckReport { passed: true, size: reading.facts.size, items: Vec::new(), remarks: Vec::new() };
    let run = |source: Uuid| NewRun {
        expected_cpu: 1.0,
        source,
        origin: Origin::Cell { sheet: column.sheet, deliverable: column.id },
        plan: plan.clone(),
        settings: column.preset.settings(),
        storage: storage.id,
        stem: format!("made/{source}").parse().unwrap(),
        clash: ClashRule::Number,
        priority: 0,
    };
    let runs: Vec<NewRun> = sources.iter().map(|(source, _)| run(*source)).collect();
    database.queue_runs(&runs).await.unwrap();
    loop {
        let claimed = database.claim("bench", Duration::from_secs(60)).await.unwrap();
        if claimed.is_empty() {
            return;
        }
        for one in claimed {
            database.set_checking(one.lease, &report, std::slice::from_ref(&reading.facts)).await.unwrap();
            database.set_temporaries(one.lease, std::slice::from_ref(&one.run.stem)).await.unwrap();
            let made = Made { number: 1, modified: 1, size: 1 };
            database.set_targets(one.lease, &[(one.run.stem.clone(), made)]).await.unwrap();
            database.finish(one.lease, RunState::Done, None).await.unwrap();
        }
    }
}

/// The running application.
struct Server {
    process: Child,
    address: String,
    client: reqwest::Client,
}

impl Server {
    fn start(state: &Path) -> Self {
        let arguments = ["serve", "--listen", "127.0.0.1:0", "--state"];
        let mut process = beryl().args(arguments).arg(state).stdout(Stdio::piped()).spawn().unwrap();
        let lines = BufReader::new(process.stdout.take().unwrap()).lines();
        let address = lines.map_while(Result::ok).find_map(|line| line.strip_prefix("Beryl is at ").map(str::to_owned)).unwrap();
        Self { process, address, client: reqwest::Client::new() }
    }

    async fn call(&self, method: reqwest::Method, path: &str, body: Value) -> Value {
        let response = self.client.request(method, format!("{}{path}", self.address)).json(&body).send().await.unwrap();
        let text = response.error_for_status().unwrap().text().await.unwrap();
        serde_json::from_str(&text).unwrap_or(Value::Null)
    }

    /// Processor seconds so far.
    fn cpu(&self) -> f64 {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.process.id())).unwrap();
        // After the name in brackets: fields 14 and 15 of proc(5), in hundredths of a second.
        let ticks = stat.rsplit_once(") ").unwrap().1.split(' ').skip(11).take(2).map(|field| field.parse::<u32>().unwrap());
        f64::from(ticks.sum::<u32>()) / 100.0
    }

    /// Resident memory in megabytes.
    fn memory(&self) -> f64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.process.id())).unwrap();
        let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
        line.split_whitespace().nth(1).unwrap().parse::<f64>().unwrap() * 1024.0 / 1e6
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _gone_already = kill(Pid::from_raw(self.process.id().try_into().unwrap()), Signal::SIGTERM);
        let _waited = self.process.wait();
    }
}

/// Watch folders with real files in them, all known.
async fn watch_all(server: &Server, media: &Path, clip: &Path) {
    let storages = server.call(reqwest::Method::GET, "/api/storages", Value::Null).await;
    let storage = &storages[0]["id"];
    for number in 0..WATCH_FOLDERS {
        let name = format!("arriving-{number:02}");
        std::fs::create_dir(media.join(&name)).unwrap();
        for file in 0..FILES_IN_EACH {
            std::fs::hard_link(clip, media.join(format!("{name}/clip-{file:03}.mp4"))).unwrap();
        }
        let body = json!({
            "name": name, "storage": storage, "folder": name, "presets": [builtin_presets()[0]],
            "destination_storage": storage, "destination": "out", "settle_seconds": 5,
        });
        let made = server.call(reqwest::Method::POST, "/api/watch", body).await;
        let on = format!("/api/watch/{}/on", made["id"].as_str().unwrap());
        server.call(reqwest::Method::POST, &on, json!({ "present": "leave" })).await;
    }
}

async fn at_rest(server: &Server) {
    let (began, before) = (Instant::now(), server.cpu());
    tokio::time::sleep(AT_REST).await;
    let share = (server.cpu() - before) / began.elapsed().as_secs_f64();
    println!("at rest: {:.2} % of a core, {:.0} MB", share * 100.0, server.memory());
}

async fn answers(server: &Server, sheets: &[Uuid]) {
    let paths = [
        ("/api/sheets".to_owned(), "sheets"),
        (format!("/api/sheets/{}", sheets[0]), "a sheet of 500 x 6"),
        (format!("/api/sheets/{}", sheets[LARGE]), "a sheet of 1000 x 10, made ten times"),
        ("/api/queue".to_owned(), "the queue, nothing open"),
        ("/api/watch".to_owned(), "watch folders"),
    ];
    timed(server, &paths).await;
    println!("after the calls: {:.0} MB", server.memory());
}

async fn timed(server: &Server, paths: &[(String, &str)]) {
    for (path, name) in paths {
        let mut times = Vec::with_capacity(CALLS);
        let mut bytes = 0;
        for _ in 0..CALLS {
            let began = Instant::now();
            let answer = server.client.get(format!("{}{path}", server.address)).send().await.unwrap();
            bytes = answer.bytes().await.unwrap().len();
            times.push(began.elapsed());
        }
        times.sort();
        let p95 = times[CALLS * 95 / 100].as_secs_f64() * 1000.0;
        println!("{name}: p95 {p95:.1} ms, {bytes} bytes");
    }
}

/// 8 000 runs in the queue: held at once, so that no engine begins, read, shown, moved and cancelled.
async fn queue(server: &Server, sheet: Uuid) {
    let (post, get) = (reqwest::Method::POST, reqwest::Method::GET);
    let act = async |name: &str, path: &str, body: Value| -> Value {
        let began = Instant::now();
        let answer = server.call(reqwest::Method::POST, path, body).await;
        println!("{name}: {:.0} ms", began.elapsed().as_secs_f64() * 1000.0);
        answer
    };
    let queued = act("8 000 runs queued", &format!("/api/sheets/{sheet}/run"), json!({})).await;
    let runs = queued["runs"].as_array().unwrap().clone();
    assert!(runs.len() > 7900, "{}", runs.len());
    act("8 000 runs held", "/api/runs", json!({ "action": "pause" })).await;
    let open = server.call(get.clone(), "/api/queue", Value::Null).await;
    println!("open: {} held, {} wait, {} at work", open["held"], open["waiting"], open["at_work"]);
    let parts = [
        ("/api/queue".to_owned(), "the first 100 of 8 000 in the queue"),
        ("/api/queue?from=7000&count=100".to_owned(), "100 of 8 000 far down in the queue"),
        ("/api/night".to_owned(), "the night"),
    ];
    timed(server, &parts).await;
    in_the_queue(server).await;
    let ids: Vec<Value> = runs.clone();
    act("8 000 runs cancelled", "/api/runs", json!({ "action": "cancel", "runs": ids })).await;
    let open = server.call(get, "/api/queue", Value::Null).await;
    println!("open: {} held, {} wait, {} at work", open["held"], open["waiting"], open["at_work"]);
    drop(post);
}

/// What the page of the queue takes of a core while nothing happens, and what scrolling takes.
async fn in_the_queue(server: &Server) {
    let browser = Browser::open(false).await.unwrap();
    browser.window.goto(&format!("{}/queue", server.address)).await.unwrap();
    browser.find("tr[data-run]").await.unwrap();
    tokio::time::sleep(Duration::from_secs(3)).await;
    let scrolled = scrolling(&browser, "document.querySelector('tr[data-run]').closest('table').parentElement").await;
    println!("60 wheel steps over 8 000 runs: {scrolled:.0} ms of script");
    tokio::time::sleep(Duration::from_secs(3)).await;
    println!("the page of 8 000 runs at rest: {:.2} % of a core", share_of_core(&browser, 20).await * 100.0);
}

/// The part of a core that the page takes.
async fn share_of_core(browser: &Browser, seconds: u32) -> f64 {
    let (began, before) = (Instant::now(), browser.metric("TaskDuration").await.unwrap());
    tokio::time::sleep(Duration::from_secs(seconds.into())).await;
    (browser.metric("TaskDuration").await.unwrap() - before) / began.elapsed().as_secs_f64()
}

/// Milliseconds of script that 60 steps of the wheel take, one a picture.
async fn scrolling(browser: &Browser, element: &str) -> f64 {
    let steps = format!(
        "const done = arguments[0]; const element = {element}; let step = 0; \
         const next = () => {{ if (step++ === 60) return done(element.scrollTop); element.scrollTop += 120; requestAnimationFrame(next); }}; next();"
    );
    let before = browser.metric("ScriptDuration").await.unwrap();
    let top = browser.window.execute_async(&steps, vec![]).await.unwrap();
    assert!(top.json().as_f64().unwrap() > 3000.0, "nothing was scrolled");
    (browser.metric("ScriptDuration").await.unwrap() - before) * 1000.0
}

/// What 200 events a second of runs take of a core in the page of a large sheet.
async fn events_in_the_page(server: &Server, sheet: Uuid) {
    let browser = Browser::open(false).await.unwrap();
    // The page's own stream, to which events are added.
    browser
        .run_before_pages(
            "const Real = window.WebSocket; window.WebSocket = function (address) { const stream = new Real(address); window.stream = stream; return stream; };",
        )
        .await
        .unwrap();
    browser.window.goto(&format!("{}/sheets/{sheet}", server.address)).await.unwrap();
    browser.find("[role=gridcell][data-state]").await.unwrap();
    let quiet = share_of_core(&browser, 10).await;
    let events = format!(
        "const done = arguments[0]; fetch('/api/sheets/{sheet}').then((answer) => answer.json()).then((sheet) => {{ \
         const cells = sheet.cells.filter((cell) => cell.run).slice(0, 200); let seq = sheet.seq; let turn = 0; \
         window.timer = setInterval(() => {{ turn += 1; for (let number = 0; number < 20; number++) {{ \
           const cell = cells[(turn * 20 + number) % cells.length]; seq += 1; \
           const progress = {{ task: 'encode', frames: turn, position: 1, bytes: 1, speed: 1, fraction: (turn % 100) / 100, remaining: 10, moved: turn }}; \
           const run = {{ ...cell.run, sheet: '{sheet}', source: cell.source, deliverable: cell.deliverable, watch_folder: null, priority: 0, state: 'running', progress }}; \
           const change = number % 4 === 0 ? {{ kind: 'runs', runs: [run] }} : {{ kind: 'progress', id: cell.run.id, progress }}; \
           window.stream.onmessage({{ data: JSON.stringify({{ seq, change }}) }}); }} }}, 100); done(cells.length); }});"
    );
    let cells = browser.window.execute_async(&events, vec![]).await.unwrap();
    assert!(cells.json().as_u64().unwrap() > 100);
    let busy = share_of_core(&browser, 15).await;
    println!("200 events a second in a sheet of 1000 x 10: {:.1} % of a core ({:.2} % without)", busy * 100.0, quiet * 100.0);
}

/// From the request for the page to the first cells of the sheet that are seen.
async fn in_the_page(server: &Server, sheet: Uuid) {
    let browser = Browser::open(false).await.unwrap();
    let seen = "const done = arguments[0]; const look = () => document.querySelector('[role=gridcell][data-state]') \
                ? done(performance.now()) : requestAnimationFrame(look); look();";
    for visit in ["first", "second"] {
        browser.window.goto(&format!("{}/sheets/{sheet}", server.address)).await.unwrap();
        let time = browser.window.execute_async(seen, vec![]).await.unwrap();
        println!("{visit} visit: cells are seen after {:.0} ms at most", time.json().as_f64().unwrap());
    }
    let scrolled = scrolling(&browser, "document.querySelector('[role=grid]')").await;
    println!("60 wheel steps over 500 x 6: {scrolled:.0} ms of script");
    browser.window.execute("document.querySelector('[role=grid]').scrollTop = 0", vec![]).await.unwrap();
    // From the click that gives another preset to a whole column to the new forecasts in its cells.
    browser.find("[role=columnheader]:nth-of-type(3)").await.unwrap().click().await.unwrap();
    // The Enter key, as WebDriver names it (§ 17.4.2): the slip of the column.
    browser.press("\u{E007}").await.unwrap();
    browser.find_text("Change the column").await.unwrap().click().await.unwrap();
    browser.find("[data-preset=sound-only]").await.unwrap().click().await.unwrap();
    browser.find("[data-testid=confirm-deliverable]").await.unwrap();
    let changed = "const done = arguments[0]; const cell = () => document.querySelectorAll('[role=gridcell][data-state]')[1].innerText; \
                   const before = cell(); const began = performance.now(); \
                   document.querySelector('[data-testid=confirm-deliverable]').click(); \
                   const look = () => cell() !== before ? done(performance.now() - began) : requestAnimationFrame(look); look();";
    let time = browser.window.execute_async(changed, vec![]).await.unwrap();
    println!("another preset for 500 cells is seen after {:.0} ms", time.json().as_f64().unwrap());
}
