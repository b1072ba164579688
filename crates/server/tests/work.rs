//! Runs at work through the API: held, let go, cancelled, retried, told of as events.

use std::path::PathBuf;
use std::time::{Duration, Instant};

use beryl_core::preset::builtin;
use beryl_ui_tests::{Application, Outcome, make_clips, names_in};
use futures::StreamExt;
use reqwest::Method;
use serde_json::{Value, json};
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::{MaybeTlsStream, WebSocketStream, connect_async};

type Stream = WebSocketStream<MaybeTlsStream<TcpStream>>;

const PATIENCE: Duration = Duration::from_secs(90);

fn text(value: &Value) -> String {
    value.as_str().unwrap_or_default().to_owned()
}

/// A sheet with one source.
struct Night {
    application: Application,
    path: String,
    storage: String,
    destination: String,
    out: PathBuf,
}

impl Night {
    async fn begin(clip: &str, seconds: i64, presets: &[&str], clash: &str) -> Outcome<Self> {
        let application = Application::start().await?;
        let media = application.folder("media")?;
        let out = application.folder("out")?;
        make_clips(&media, &[clip], seconds)?;
        let storage = application.add_storage("Media", &media).await?;
        let destination = application.add_storage("Out", &out).await?;
        let mut night = Self { application, path: String::new(), storage, destination, out };
        night.path = night.add_sheet(presets, "made", clash).await?;
        Ok(night)
    }

    /// Adds a sheet of all sources and waits until everything in it is forecast; answers its path.
    async fn add_sheet(&self, presets: &[&str], folder: &str, clash: &str) -> Outcome<String> {
        let call = async |path: &str, body: Value| self.application.call(Method::POST, path, Some(body)).await;
        let path = format!("/api/sheets/{}", text(&call("/api/sheets", json!({ "name": "Night" })).await?["id"]));
        call(&format!("{path}/sources"), json!({ "storage": self.storage, "paths": [""] })).await?;
        for preset in presets {
            let body = json!({ "preset": builtin(preset), "storage": self.destination, "folder": folder, "clash": clash });
            call(&format!("{path}/deliverables"), body).await?;
        }
        self.wait_at(&path, |cells| cells.iter().all(|cell| cell["forecast"].is_u64())).await?;
        Ok(path)
    }

    /// Makes something else of the same source, from the beginning to the end.
    async fn make_something_else(&self, folder: &str) -> Outcome<()> {
        let path = self.add_sheet(&["sound-only"], folder, "number").await?;
        self.application.call(Method::POST, &format!("{path}/run"), Some(json!({}))).await?;
        self.wait_at(&path, |cells| cells.iter().all(|cell| cell["run"]["state"] == "done")).await?;
        Ok(())
    }

    async fn post(&self, what: &str, body: Value) -> Outcome<Value> {
        self.application.call(Method::POST, &format!("{}/{what}", self.path), Some(body)).await
    }

    async fn act(&self, action: &str, run: &Value) -> Outcome<u64> {
        let body = json!({ "action": action, "runs": [run["id"]] });
        let done = self.application.call(Method::POST, "/api/runs", Some(body)).await?;
        Ok(done["done"].as_u64().unwrap_or(0))
    }

    /// Waits until the sheet is as wanted; answers the runs of its cells.
    async fn wait(&self, wanted: impl Fn(&[Value]) -> bool) -> Outcome<Vec<Value>> {
        self.wait_at(&self.path, wanted).await
    }

    async fn wait_at(&self, path: &str, wanted: impl Fn(&[Value]) -> bool) -> Outcome<Vec<Value>> {
        let cells = |sheet: &Value| sheet["cells"].as_array().cloned().unwrap_or_default();
        let sheet = self.application.wait_for(path, |sheet| wanted(&cells(sheet))).await?;
        Ok(cells(&sheet).iter().map(|cell| cell["run"].clone()).collect())
    }

    async fn wait_for_state(&self, state: &str) -> Outcome<Vec<Value>> {
        self.wait(|cells| cells.iter().all(|cell| cell["run"]["state"] == state)).await
    }

    /// Names of what lies in the folder for outputs, hidden ones too.
    fn made(&self) -> Vec<String> {
        let entries = std::fs::read_dir(self.out.join("made")).into_iter().flatten().flatten();
        let mut names: Vec<String> = entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
        names.sort();
        names
    }
}

fn has_begun(cells: &[Value]) -> bool {
    let run = &cells[0]["run"];
    run["state"] == "running" && run["progress"]["frames"].as_u64().unwrap_or(0) > 0
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_held_goes_on_is_cancelled_and_retried() -> Outcome<()> {
    let night = Night::begin("kiln-07_firing_cam-b.mp4", 4, &["delivery-hevc"], "number").await?;
    night.post("run", json!({})).await?;
    let run = night.wait(has_begun).await?.remove(0);
    assert_eq!(night.made().len(), 1, "one temporary file: {:?}", night.made());

    // Held, it stands still, and the other slot goes on with what waits.
    assert_eq!(night.act("pause", &run).await?, 1);
    night.wait_for_state("paused").await?;
    let frames = async || -> Outcome<Value> { Ok(night.wait(|_| true).await?[0]["progress"]["frames"].clone()) };
    night.make_something_else("first").await?;
    let before = frames().await?;
    night.make_something_else("second").await?;
    assert_eq!(frames().await?, before, "it moved while it was held");
    // What cannot be asked of it now is refused without harm.
    assert_eq!(night.act("retry", &run).await?, 0);

    // Cancelled, it leaves nothing within a second or so.
    assert_eq!(night.act("cancel", &run).await?, 1);
    let asked = Instant::now();
    night.wait_for_state("cancelled").await?;
    assert!(asked.elapsed() < Duration::from_secs(3), "it took {:?}", asked.elapsed());
    assert_eq!(night.made(), Vec::<String>::new());

    // Retried, it is made from the beginning, once.
    assert_eq!(night.act("retry", &run).await?, 1);
    let done = night.wait_for_state("done").await?.remove(0);
    assert_eq!(done["id"], run["id"]);
    assert_eq!(night.made(), ["kiln-07_firing_cam-b_delivery-hevc.mp4"]);
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_made_with_other_settings_is_out_of_date_and_made_again() -> Outcome<()> {
    let night = Night::begin("glaze-db_screen.mp4", 1, &["review-small", "screen-page"], "number").await?;
    let cells = async || -> Outcome<Vec<Value>> {
        let sheet = night.application.call(Method::GET, &night.path, None).await?;
        Ok(sheet["cells"].as_array().cloned().unwrap_or_default())
    };
    // What is not so is left out.
    let out_of_date =
        async || -> Outcome<Vec<bool>> { Ok(cells().await?.iter().map(|cell| cell["is_out_of_date"] == true).collect()) };
    let run = async || -> Outcome<usize> {
        let queued = night.post("run", json!({})).await?;
        night.wait_for_state("done").await?;
        Ok(queued["runs"].as_array().map_or(0, Vec::len))
    };
    assert_eq!(run().await?, 2);
    assert_eq!(out_of_date().await?, [false, false]);
    assert_eq!(run().await?, 0, "all is made as it is set");

    let first = cells().await?.remove(0);
    let set = async |overrides: Value| {
        let cell = json!({ "source": first["source"], "deliverable": first["deliverable"] });
        night.post("cells", json!({ "cells": [cell], "overrides": overrides })).await
    };
    set(json!({ "picture": { "rate": { "mode": "constant_quality", "crf": 35 } } })).await?;
    assert_eq!(out_of_date().await?, [true, false]);
    assert_eq!(run().await?, 1);
    assert_eq!(out_of_date().await?, [false, false]);
    assert_eq!(night.made().len(), 3, "what was made before stays: {:?}", night.made());
    set(json!({})).await?;
    assert_eq!(out_of_date().await?, [true, false], "its last file was made otherwise");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn outputs_that_would_get_one_name_are_told_of_before_they_are_made() -> Outcome<()> {
    let night = Night::begin("glaze-db_screen.mp4", 1, &["review-small"], "replace").await?;
    let column = json!({
        "preset": builtin("screen-page"), "storage": night.destination, "folder": "made", "clash": "replace",
        "name_pattern": "<name>_review-small",
    });
    night.post("deliverables", column).await?;
    let sheet = night.application.call(Method::GET, &night.path, None).await?;
    let shared: Vec<&Value> = sheet["cells"].as_array().into_iter().flatten().map(|cell| &cell["shares_name"]).collect();
    assert_eq!(shared, [true, true]);
    let queued = night.post("run", json!({})).await?;
    assert_eq!((queued["runs"].as_array().map_or(9, Vec::len), queued["passed_over"].as_u64()), (0, Some(2)), "{queued}");
    assert_eq!(night.made(), Vec::<String>::new());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_is_not_as_planned_waits_is_looked_at_and_released_or_discarded() -> Outcome<()> {
    let night = Night::begin("glaze-db_screen.mp4", 2, &["review-small", "screen-page"], "number").await?;
    // The source's index stands at its end in the demo media: an output, whose index stands in front, is cut instead.
    night.post("run", json!({})).await?;
    night.wait_for_state("done").await?;
    let whole = std::fs::read(night.out.join("made").join(&night.made()[0]))?;
    let media = night.application.folder("media")?;
    for name in names_in(&media)? {
        std::fs::remove_file(media.join(name))?;
    }
    std::fs::write(media.join("cut.mp4"), &whole[..whole.len() * 8 / 11])?;
    let sheet = night.add_sheet(&["review-small", "screen-page"], "cut", "number").await?;
    let call = async |path: &str, body: Value| night.application.call(Method::POST, path, Some(body)).await;
    call(&format!("{sheet}/run"), json!({})).await?;
    let withheld = |cells: &[Value]| {
        cells
            .iter()
            .filter(|cell| cell["run"]["path"].as_str().is_some_and(|path| path.contains("cut")))
            .all(|cell| cell["run"]["state"] == "withheld")
    };
    let runs = night.wait_at(&sheet, withheld).await?;
    let runs: Vec<&Value> = runs.iter().filter(|run| run["state"] == "withheld").collect();
    assert_eq!(runs.len(), 2, "{runs:?}");
    let folder = night.out.join("cut");
    for run in &runs {
        let name = text(&run["path"]);
        assert!(name.ends_with(".withheld") && night.out.join(&name).is_file(), "{name}");
        assert_eq!(run["problem"]["kind"], "cut_short");
        // It can be seen beside its source.
        let seen = reqwest::get(format!("{}/api/runs/{}/media", night.application.address(), text(&run["id"]))).await?;
        assert!(seen.status().is_success() && seen.content_length() == run["size"].as_u64());
    }
    let path = |run: &Value, what: &str| format!("/api/runs/{}/{what}", text(&run["id"]));
    // A release needs a reason, which is kept; a second one finds nothing to release.
    assert!(call(&path(runs[0], "release"), json!({ "because": " " })).await.is_err());
    call(&path(runs[0], "release"), json!({ "because": "the client wants what there is" })).await?;
    assert!(call(&path(runs[0], "release"), json!({ "because": "again" })).await.is_err());
    call(&path(runs[1], "discard"), json!({})).await?;
    let settled =
        |cells: &[Value]| cells.iter().all(|cell| cell["run"]["state"] != "withheld" && cell["run"]["state"] != "checking");
    let runs = night.wait_at(&sheet, settled).await?;
    let released =
        runs.iter().find(|run| run["released_because"] == "the client wants what there is").ok_or("none was released")?;
    assert_eq!(released["state"], "done");
    assert_eq!(names_in(&folder)?, [text(&released["path"]).rsplit('/').next().unwrap_or_default()]);
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_is_never_replaced_nor_is_what_beryl_did_not_make() -> Outcome<()> {
    let night = Night::begin("glaze-db_screen.mp4", 1, &[], "number").await?;
    let media = night.application.folder("media")?;
    let before = std::fs::read(media.join("glaze-db_screen.mp4"))?;
    let call = async |path: &str, body: Value| night.application.call(Method::POST, path, Some(body)).await;
    // A column that names its outputs like their sources and replaces what is there.
    let body =
        json!({ "preset": builtin("review-small"), "storage": null, "folder": "", "name_pattern": "<name>", "clash": "replace" });
    call(&format!("{}/deliverables", night.path), body).await?;
    night.wait(|cells| cells.iter().all(|cell| cell["forecast"].is_u64())).await?;
    night.post("run", json!({})).await?;
    let run = night.wait_for_state("withheld").await?.remove(0);
    assert_eq!(run["problem"]["kind"], "name_taken");
    assert_eq!(std::fs::read(media.join("glaze-db_screen.mp4"))?, before);
    // The finished file is not lost, and gets its name once that is free.
    assert!(media.join(text(&run["path"])).is_file());
    std::fs::rename(media.join("glaze-db_screen.mp4"), media.join("moved.mp4"))?;
    call(&format!("/api/runs/{}/release", text(&run["id"])), json!({ "because": "the source was moved away" })).await?;
    night.wait_for_state("done").await?;
    assert!(media.join("glaze-db_screen.mp4").is_file());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_that_is_taken_follows_its_rule() -> Outcome<()> {
    let night = Night::begin("glaze-db_screen.mp4", 1, &["sound-only"], "skip").await?;
    std::fs::create_dir_all(night.out.join("made"))?;
    let taken = night.out.join("made/glaze-db_screen_sound-only.wav");
    std::fs::write(&taken, "another's")?;
    night.post("run", json!({})).await?;
    // To skip is no failure.
    let skipped = night.wait_for_state("cancelled").await?.remove(0);
    assert_eq!(skipped["problem"]["kind"], "name_taken", "{skipped}");
    assert_eq!(std::fs::read(&taken)?, b"another's");

    // The rule of the column is changed: now a file takes the place of one that was made before, whole or not at all;
    // another's it does not take.
    let sheet = night.application.call(Method::GET, &night.path, None).await?;
    let column = &sheet["deliverables"][0];
    let body =
        json!({ "preset": column["preset"], "storage": column["storage"], "folder": column["folder"], "clash": "replace" });
    night.application.call(Method::PUT, &format!("/api/deliverables/{}", text(&column["id"])), Some(body)).await?;
    night.post("run", json!({})).await?;
    let withheld = night.wait_for_state("withheld").await?.remove(0);
    assert_eq!(std::fs::read(&taken)?, b"another's");
    std::fs::remove_file(&taken)?;
    let release = format!("/api/runs/{}/release", text(&withheld["id"]));
    night.application.call(Method::POST, &release, Some(json!({ "because": "the other file is gone" }))).await?;
    night.wait_for_state("done").await?;
    let first = std::fs::metadata(&taken)?.modified()?;
    let cell = json!({ "cells": [{ "source": sheet["sources"][0]["id"], "deliverable": column["id"] }] });
    night.post("run", cell).await?;
    let replaced =
        |cells: &[Value]| cells.iter().all(|cell| cell["run"]["state"] == "done" && cell["run"]["id"] != withheld["id"]);
    night.wait(replaced).await?;
    assert_eq!(night.made(), ["glaze-db_screen_sound-only.wav"]);
    assert!(&std::fs::read(&taken)?[..4] == b"RIFF" && std::fs::metadata(&taken)?.modified()? > first);
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn events_tell_of_everything_in_order_and_a_page_that_was_away_is_brought_up_to_date() -> Outcome<()> {
    let night = Night::begin("glaze-db_screen.mp4", 2, &["review-small", "sound-only"], "number").await?;
    let follow = async |after: Option<u64>| -> Outcome<Stream> {
        let query = after.map_or_else(String::new, |after| format!("?after={after}"));
        let address = format!("{}/api/events{query}", night.application.address()).replace("http:", "ws:");
        Ok(connect_async(address).await?.0)
    };
    /// Reads events until `enough`.
    async fn read(mut stream: Stream, enough: impl Fn(&[Value]) -> bool) -> Outcome<Vec<Value>> {
        let mut events = Vec::new();
        let until = tokio::time::Instant::now() + PATIENCE;
        while !enough(&events) {
            let message = tokio::time::timeout_at(until, stream.next()).await?.ok_or("the stream ended")??;
            if let Message::Text(text) = message {
                events.push(serde_json::from_str::<Value>(&text)?);
            }
        }
        Ok(events)
    }
    let done_runs = |events: &[Value]| -> Vec<Value> {
        let told = events.iter().filter_map(|event| event["change"]["runs"].as_array()).flatten();
        told.filter(|run| run["state"] == "done").cloned().collect()
    };
    let done = |events: &[Value]| done_runs(events).len() == 2;
    let stream = follow(None).await?;
    night.post("run", json!({})).await?;
    let events = read(stream, done).await?;
    let numbers: Vec<u64> = events.iter().filter_map(|event| event["seq"].as_u64()).collect();
    assert!(numbers.windows(2).all(|pair| pair[1] == pair[0] + 1), "{numbers:?}");
    let kinds: Vec<String> = events.iter().map(|event| text(&event["change"]["kind"])).collect();
    assert!(kinds.contains(&"progress".to_owned()), "{kinds:?}");
    for run in done_runs(&events) {
        assert!(run["size"].as_u64() > Some(0), "{run}");
    }

    // Away for a moment, a page gets what it missed; with a number of another start, it loads again.
    let missed = read(follow(Some(numbers[1])).await?, |events| events.len() >= numbers.len() - 2).await?;
    assert_eq!(missed[..numbers.len() - 2], events[2..]);
    for other in [0, 1 << 60] {
        let gap = read(follow(Some(other)).await?, |events| !events.is_empty()).await?;
        assert_eq!(gap[0]["change"]["kind"], "gap", "{other}");
    }

    // When the server ends, so does the stream, and after the next start the page loads again.
    let mut stream = follow(None).await?;
    let night = Night { application: night.application.restart().await?, ..night };
    while let Some(Ok(_)) = tokio::time::timeout(PATIENCE, stream.next()).await? {}
    let address =
        format!("{}/api/events?after={}", night.application.address(), numbers[numbers.len() - 1]).replace("http:", "ws:");
    let gap = read(connect_async(address).await?.0, |events| !events.is_empty()).await?;
    assert_eq!(gap[0]["change"]["kind"], "gap");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sheet_of_five_hundred_sources_and_six_columns_is_answered_whole() -> Outcome<()> {
    let night = Night::begin("glaze-db_screen.mp4", 1, &["sound-only"], "number").await?;
    let media = night.application.folder("media")?;
    for number in 0..499 {
        std::fs::hard_link(media.join("glaze-db_screen.mp4"), media.join(format!("clip-{number:03}.mp4")))?;
    }
    let added = night.post("sources", json!({ "storage": night.storage, "paths": [""] })).await?;
    assert_eq!((&added["added"], &added["found"]), (&json!(499), &json!(500)));
    for preset in ["web-1080", "web-720", "review-small", "light-proxy", "edit-friendly"] {
        night.post("deliverables", json!({ "preset": builtin(preset) })).await?;
    }
    let sheet = night.application.call(Method::GET, &night.path, None).await?;
    let cells: Vec<Value> = sheet["cells"].as_array().ok_or("no cells")?.clone();
    assert_eq!(cells.len(), 3000);
    // All cells of a column are switched in one call, and nothing else.
    let column = sheet["deliverables"][2]["id"].clone();
    let keys: Vec<Value> = cells
        .iter()
        .filter(|cell| cell["deliverable"] == column)
        .map(|cell| json!({ "source": cell["source"], "deliverable": column }))
        .collect();
    night.post("cells", json!({ "cells": keys, "enabled": false })).await?;
    let sheet = night.application.call(Method::GET, &night.path, None).await?;
    let off = sheet["cells"].as_array().ok_or("no cells")?.iter().filter(|cell| cell["enabled"] == false);
    assert!(off.clone().all(|cell| cell["deliverable"] == column));
    assert_eq!(off.count(), 500);
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn more_than_it_can_answer_slows_the_server_and_stops_neither_runs_nor_events() -> Outcome<()> {
    const CLIENTS: usize = 150;
    let night = Night::begin("kiln-07_firing_cam-b.mp4", 3, &["delivery-hevc"], "number").await?;
    let media = night.application.folder("media")?;
    for number in 0..9 {
        std::fs::hard_link(media.join("kiln-07_firing_cam-b.mp4"), media.join(format!("clip-{number:03}.mp4")))?;
    }
    let sheet = night.application.call(Method::GET, &night.path, None).await?;
    let key = json!({ "source": sheet["cells"][0]["source"], "deliverable": sheet["cells"][0]["deliverable"] });
    night.post("sources", json!({ "storage": night.storage, "paths": [""] })).await?;
    for preset in ["web-1080", "web-720", "review-small", "light-proxy", "edit-friendly"] {
        night.post("deliverables", json!({ "preset": builtin(preset) })).await?;
    }
    night.post("run", json!({ "cells": [key] })).await?;
    night.wait(has_begun).await?;
    let address = night.application.address().to_owned();
    let mut events = connect_async(format!("{address}/api/events").replace("http:", "ws:")).await?.0;

    // Connections that say nothing, and requests that stop in the middle.
    let host = address.strip_prefix("http://").ok_or("no host")?.to_owned();
    let mut silent = Vec::new();
    for number in 0..1000 {
        let mut socket = TcpStream::connect(&host).await?;
        if number % 10 == 0 {
            let half = format!("POST /api/sheets HTTP/1.1\r\nHost: {host}\r\nContent-Length: 1000\r\n\r\n{{\"name\":");
            socket.write_all(half.as_bytes()).await?;
        }
        silent.push(socket);
    }
    let load = async |_| -> Outcome<usize> {
        let answer = reqwest::get(format!("{address}{}", night.path)).await?.error_for_status()?;
        Ok(serde_json::from_slice::<Value>(&answer.bytes().await?)?["cells"].as_array().map_or(0, Vec::len))
    };
    let loads = futures::future::try_join_all((0..CLIENTS).map(load));
    tokio::pin!(loads);
    let mut told = 0;
    let loaded = loop {
        tokio::select! {
            loaded = &mut loads => break loaded?,
            event = events.next() => {
                event.ok_or("the stream ended")??;
                told += 1;
            }
        }
    };
    assert_eq!(loaded, vec![60; CLIENTS]);
    assert!(told > 0, "nothing was told while {CLIENTS} clients were answered");
    let is_done = |cells: &[Value]| cells[0]["run"]["state"] == "done";
    let run = night.wait(is_done).await?.remove(0);
    assert_eq!(run["attempts"], 1, "{run}");
    drop(silent);
    Ok(())
}
