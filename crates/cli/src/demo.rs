//! The demo: media, and two sheets made through the application's own API.

use std::path::Path;
use std::time::Duration;

use beryl_core::preset::{Preset, builtin};
use beryl_core::problem::{Problem, ProblemKind};
use serde_json::{Value, json};

use crate::terminal::say;

/// How long the demo's own outputs may take before the application is shown without them.
const PATIENCE: Duration = Duration::from_secs(240);

const FINISHED: &str = "Open day tapes · review";
const READY: &str = "Kiln Year · ep. 3 delivery";

/// Makes the demo media and the two sheets, each where it is not there already.
pub(crate) async fn seed(address: &str, state: &Path) -> Result<(), Problem> {
    let media = state.join("demo").join("media");
    let deliveries = state.join("demo").join("deliveries");
    std::fs::create_dir_all(&deliveries).map_err(|error| Problem::from_io("the demo folder could not be made", &error))?;
    make_media(&media).await?;
    let api = Api { client: reqwest::Client::new(), address };
    let sheets = api.get("/api/sheets").await?;
    if sheets.as_array().is_some_and(|sheets| !sheets.is_empty()) {
        return Ok(());
    }
    let sources = api.storage("Kiln Year media", &media).await?;
    let outputs = api.storage("Deliveries", &deliveries).await?;
    let finished = api.sheet(FINISHED).await?;
    api.add_sources(&finished, &sources, &["openday-94_tape-2.mov", "glaze-db_screen.mp4"]).await?;
    for (preset, folder) in [("review-small", "review"), ("sound-only", "sound")] {
        api.add_deliverable(&finished, preset, &outputs, folder).await?;
    }
    let ready = api.sheet(READY).await?;
    api.add_sources(&ready, &sources, &[""]).await?;
    for (preset, folder) in [
        ("web-1080", "web"),
        ("review-small", "review"),
        ("edit-friendly", "edit"),
        ("light-proxy", "proxy"),
        ("sound-only", "sound"),
    ] {
        api.add_deliverable(&ready, preset, &outputs, folder).await?;
    }
    api.wait(&format!("/api/sheets/{ready}"), |sheet| {
        all(&sheet["sources"], |source| !source["summary"].is_null() || !source["problem"].is_null())
    })
    .await?;
    api.post(&format!("/api/sheets/{finished}/run"), &json!({})).await?;
    api.wait(&format!("/api/sheets/{finished}"), |sheet| {
        all(&sheet["cells"], |cell| {
            matches!(cell["run"]["state"].as_str(), Some("done" | "failed")) || !cell["refusal"].is_null()
        })
    })
    .await?;
    watch_arrivals(&api, state, &media, &outputs).await
}

/// A watch folder with a file from before, two that arrive, and one that is none.
async fn watch_arrivals(api: &Api<'_>, state: &Path, media: &Path, outputs: &str) -> Result<(), Problem> {
    let arrivals = state.join("demo").join("arrivals");
    let put = |from: &str, to: &str| {
        let to = arrivals.join(to);
        to.parent().map_or(Ok(()), std::fs::create_dir_all)?;
        std::fs::copy(media.join(from), to).map(drop)
    };
    let failed = |error: std::io::Error| Problem::from_io("the demo's arrivals could not be made", &error);
    put("trailer_scope_v6.mp4", "trailer_scope_v5.mp4").map_err(failed)?;
    let storage = api.storage("Arrivals", &arrivals).await?;
    let presets: Vec<Option<Preset>> = ["review-small", "light-proxy"].into_iter().map(builtin).collect();
    let wanted = json!({
        "name": "Dailies of the kiln", "storage": storage, "folder": "", "presets": presets,
        "destination_storage": outputs, "destination": "dailies", "settle_seconds": 5,
    });
    let made = api.post("/api/watch", &wanted).await?;
    let id = made["id"].as_str().unwrap_or_default();
    api.post(&format!("/api/watch/{id}/on"), &json!({ "present": "leave" })).await?;
    put("card-C014/CLIPS/001/clip-0001.mov", "card-C015/CLIPS/001/clip-0001.mov").map_err(failed)?;
    put("glaze-db_screen.mp4", "glaze-db_screen-2.mp4").map_err(failed)?;
    std::fs::write(arrivals.join("camera-report.mov"), "Reel 15: cam B had no clock.\n").map_err(failed)
}

fn all(list: &Value, check: impl Fn(&Value) -> bool) -> bool {
    list.as_array().is_some_and(|items| items.iter().all(check))
}

async fn make_media(folder: &Path) -> Result<(), Problem> {
    let program =
        std::env::current_exe().ok().and_then(|own| Some(own.parent()?.join("beryl-demo"))).filter(|program| program.is_file());
    let program = program.ok_or_else(|| {
        Problem::new(ProblemKind::Missing, "the demo media could not be made", "the program beryl-demo is not beside this one")
            .with_next("Build it with `cargo build --release`, or start without --demo.")
    })?;
    say!("Drawing the demo media (only the first time) …");
    let status = tokio::process::Command::new(program).arg(folder).kill_on_drop(true).status().await;
    match status {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(Problem::new(ProblemKind::Internal, "the demo media could not be made", status.to_string())),
        Err(error) => Err(Problem::from_io("the demo media could not be made", &error)),
    }
}

struct Api<'a> {
    client: reqwest::Client,
    address: &'a str,
}

impl Api<'_> {
    async fn answer(&self, request: reqwest::RequestBuilder) -> Result<Value, Problem> {
        let failed =
            |error: reqwest::Error| Problem::new(ProblemKind::Internal, "the demo could not be set up", error.to_string());
        let response = request.send().await.map_err(failed)?;
        let status = response.status();
        let body = response.text().await.map_err(failed)?;
        if !status.is_success() {
            return Err(Problem::new(ProblemKind::Internal, "the demo could not be set up", format!("{status}: {body}")));
        }
        Ok(serde_json::from_str(&body).unwrap_or(Value::Null))
    }

    async fn get(&self, path: &str) -> Result<Value, Problem> {
        self.answer(self.client.get(format!("{}{path}", self.address))).await
    }

    async fn post(&self, path: &str, body: &Value) -> Result<Value, Problem> {
        self.answer(self.client.post(format!("{}{path}", self.address)).json(body)).await
    }

    async fn storage(&self, name: &str, root: &Path) -> Result<String, Problem> {
        let made = self.post("/api/storages", &json!({ "name": name, "root": root })).await?;
        Ok(made["id"].as_str().unwrap_or_default().to_owned())
    }

    async fn sheet(&self, name: &str) -> Result<String, Problem> {
        let made = self.post("/api/sheets", &json!({ "name": name })).await?;
        Ok(made["id"].as_str().unwrap_or_default().to_owned())
    }

    async fn add_sources(&self, sheet: &str, storage: &str, paths: &[&str]) -> Result<(), Problem> {
        self.post(&format!("/api/sheets/{sheet}/sources"), &json!({ "storage": storage, "paths": paths })).await.map(|_| ())
    }

    async fn add_deliverable(&self, sheet: &str, preset: &str, storage: &str, folder: &str) -> Result<(), Problem> {
        let preset: Option<Preset> = builtin(preset);
        let body = json!({ "preset": preset, "storage": storage, "folder": folder });
        self.post(&format!("/api/sheets/{sheet}/deliverables"), &body).await.map(|_| ())
    }

    /// Asks until the answer is as wanted, or patience is over; the demo starts all the same then.
    async fn wait(&self, path: &str, wanted: impl Fn(&Value) -> bool) -> Result<(), Problem> {
        let began = tokio::time::Instant::now();
        while !wanted(&self.get(path).await?) && began.elapsed() < PATIENCE {
            tokio::time::sleep(Duration::from_millis(300)).await;
        }
        Ok(())
    }
}
