//! The main job through the real interface: from an empty sheet to checked files.

use std::time::Duration;

use beryl_ui_tests::{Application, Browser, Outcome, make_clips};
use reqwest::Method;
use serde_json::json;
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread")]
async fn three_sources_and_three_deliverables_run_to_done() -> Outcome<()> {
    let application = Application::start().await?;
    let media = application.folder("media")?;
    let files = ["openday-94_tape-2.mov", "glaze-db_screen.mp4", "clip-0001.mov"];
    make_clips(&media, &files, 1)?;
    application.add_storage("Media", &media).await?;
    let deliveries = application.folder("out")?;
    application.add_storage("Out", &deliveries).await?;

    let browser = Browser::open(false).await?;
    browser.window.goto(application.address()).await?;
    browser.find_text("New sheet").await?.click().await?;

    // First gesture: sources, a whole folder with the camera card in it.
    browser.find("[data-testid=add-sources]").await?.click().await?;
    browser.find("[aria-label='Choose card-C014']").await?.click().await?;
    browser.find("[aria-label='Choose glaze-db_screen.mp4']").await?.click().await?;
    browser.find("[aria-label='Choose openday-94_tape-2.mov']").await?.click().await?;
    browser.find("[data-testid=confirm-sources]").await?.click().await?;
    browser.wait_for_count("[role=rowheader]", 3, Duration::from_secs(20)).await?;

    // Second gesture: deliverables, by key.
    for preset in ["review-small", "light-proxy", "sound-only"] {
        browser.wait_for_count("[role=dialog]", 0, Duration::from_secs(10)).await?;
        browser.find("body").await?.send_keys("d").await?;
        browser.find(&format!("[data-preset={preset}]")).await?.click().await?;
        browser.find("[data-testid=confirm-deliverable]").await?.click().await?;
    }
    browser.wait_for_count("[role=gridcell][data-state=idle]", 9, Duration::from_secs(30)).await?;
    browser.wait_for_count("[role=rowheader] img", 3, Duration::from_secs(30)).await?;

    // Third gesture: run. Nothing is left to do when all cells are done.
    browser.wait_for_count("[role=dialog]", 0, Duration::from_secs(10)).await?;
    browser.find("[data-testid=run]").await?.click().await?;
    browser.wait_for_count("[role=gridcell][data-state=done]", 9, Duration::from_secs(180)).await?;
    let progress = browser.find("[data-testid=progress]").await?.text().await?;
    assert!(progress.contains("9 of 9 files done"), "{progress}");

    // The files are whole, and what the sheet shows of them is true.
    let sheets = application.call(Method::GET, "/api/sheets", None).await?;
    let id = sheets[0]["id"].as_str().ok_or("no sheet")?;
    let sheet = application.call(Method::GET, &format!("/api/sheets/{id}"), None).await?;
    let cells = sheet["cells"].as_array().ok_or("no cells")?;
    let mut total = 0;
    for cell in cells {
        let run = &cell["run"];
        let path = media.join(run["path"].as_str().ok_or("no path")?);
        let size = std::fs::metadata(&path)?.len();
        assert_eq!(run["size"].as_u64(), Some(size), "{}", path.display());
        total += size;
        let output = application
            .call(Method::GET, &format!("/api/outputs/{}/{}", text(&cell["source"]), text(&cell["deliverable"])), None)
            .await?;
        assert_eq!(output["report"]["passed"], true, "{}", output["report"]);
    }
    let weight = browser.find("[data-testid=weight]").await?.text().await?;
    let shown = beryl_core::units::ByteSize(total).to_string();
    assert!(weight.contains(&format!("→ {shown}")), "{weight} does not show {shown}");

    // A finished output opens and plays in the page.
    let done = browser.find("[role=gridcell][data-state=done]").await?;
    done.click().await?;
    browser.find("[role=gridcell][data-chosen=true]").await?.send_keys(Key::Enter).await?;
    browser.find("[data-testid=slip] video").await?;
    let plays = "const video = document.querySelector('[data-testid=slip] video'); await video.play(); return video.videoWidth;";
    let width = browser
        .window
        .execute_async(format!("const done = arguments[0]; (async () => {{ {plays} }})().then(done)"), vec![])
        .await?;
    assert!(width.json().as_u64().is_some_and(|width| width > 0), "the file does not play");
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}

fn text(value: &serde_json::Value) -> &str {
    value.as_str().unwrap_or_default()
}

#[tokio::test(flavor = "multi_thread")]
async fn cells_answer_to_keys() -> Outcome<()> {
    let application = Application::start().await?;
    let media = application.folder("media")?;
    make_clips(&media, &["glaze-db_screen.mp4"], 1)?;
    let storage = application.add_storage("Media", &media).await?;
    let sheet = application.call(Method::POST, "/api/sheets", Some(json!({ "name": "Keys" }))).await?;
    let id = text(&sheet["id"]);
    application
        .call(Method::POST, &format!("/api/sheets/{id}/sources"), Some(json!({ "storage": storage, "paths": [""] })))
        .await?;
    for preset in ["review-small", "sound-only"] {
        let preset = beryl_core::preset::builtin(preset).ok_or("no preset")?;
        application.call(Method::POST, &format!("/api/sheets/{id}/deliverables"), Some(json!({ "preset": preset }))).await?;
    }
    let browser = Browser::open(false).await?;
    browser.window.goto(&format!("{}/sheets/{id}", application.address())).await?;
    browser.wait_for_count("[role=gridcell][data-state=idle]", 2, Duration::from_secs(30)).await?;
    browser.find("[role=gridcell][data-state=idle]").await?.click().await?;
    browser.find("[data-chosen=true]").await?.send_keys(Key::Right + "").await?;
    browser.find("[data-chosen=true]").await?.send_keys(" ").await?;
    browser.wait_for_count("[role=gridcell][data-state=off]", 1, Duration::from_secs(10)).await?;
    browser.find("[data-chosen=true]").await?.send_keys(Key::Enter + "").await?;
    let slip = browser.find("[data-testid=slip]").await?.text().await?;
    assert!(slip.contains("Sound only") && slip.contains("Switch on"), "{slip}");
    // What was switched off is so for everybody: the server knows.
    let sheet = application.call(Method::GET, &format!("/api/sheets/{id}"), None).await?;
    let enabled: Vec<_> = sheet["cells"].as_array().ok_or("no cells")?.iter().map(|cell| cell["enabled"].as_bool()).collect();
    assert_eq!(enabled, [Some(true), Some(false)]);
    Ok(())
}
