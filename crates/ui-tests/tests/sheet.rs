//! The main job through the real interface: from an empty sheet to checked files.

use std::path::{Path, PathBuf};
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
        browser.press("d").await?;
        browser.find(&format!("[data-preset={preset}]")).await?.click().await?;
        browser.find("[data-testid=confirm-deliverable]").await?.click().await?;
    }
    browser.wait_for_count("[role=gridcell][data-state=idle]", 9, Duration::from_secs(30)).await?;
    browser.wait_for_count("[role=rowheader] img", 3, Duration::from_secs(30)).await?;

    // Third gesture: run. Nothing is left to do when all cells are done.
    browser.wait_for_count("[role=dialog]", 0, Duration::from_secs(10)).await?;
    browser.find("[data-testid=run]:enabled").await?.click().await?;
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

    // A finished output opens beside its source, and both play: the source as a viewing copy.
    let done = browser.find("[role=gridcell][data-state=done]").await?;
    done.click().await?;
    browser.find("[role=gridcell][data-cursor=true]").await?.send_keys(Key::Enter).await?;
    for side in ["source", "output"] {
        let video = format!("[data-testid=slip] video[data-of={side}]");
        browser.find(&video).await?;
        let plays = format!("const video = document.querySelector('{video}'); await video.play(); return video.videoWidth;");
        let width = browser
            .window
            .execute_async(format!("const done = arguments[0]; (async () => {{ {plays} }})().then(done)"), vec![])
            .await?;
        assert!(width.json().as_u64().is_some_and(|width| width > 0), "the {side} does not play");
    }
    let differs = browser.window.find_all(By::Css("[data-testid=slip] tr[data-differs=true]")).await?.len();
    assert!(differs >= 3, "only {differs} facts are marked as different");
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}

fn text(value: &serde_json::Value) -> &str {
    value.as_str().unwrap_or_default()
}

/// A sheet with one short source and these deliverables, open in a browser; answers both with its id.
async fn open_sheet(application: &Application, presets: &[&str]) -> Outcome<(Browser, String)> {
    let media = application.folder("media")?;
    make_clips(&media, &["glaze-db_screen.mp4"], 1)?;
    let storage = application.add_storage("Media", &media).await?;
    let sheet = application.call(Method::POST, "/api/sheets", Some(json!({ "name": "Keys" }))).await?;
    let id = text(&sheet["id"]).to_owned();
    application
        .call(Method::POST, &format!("/api/sheets/{id}/sources"), Some(json!({ "storage": storage, "paths": [""] })))
        .await?;
    for preset in presets {
        let preset = beryl_core::preset::builtin(preset).ok_or("no preset")?;
        application.call(Method::POST, &format!("/api/sheets/{id}/deliverables"), Some(json!({ "preset": preset }))).await?;
    }
    let browser = Browser::open(false).await?;
    browser.window.goto(&format!("{}/sheets/{id}", application.address())).await?;
    browser.wait_for_count("[role=gridcell][data-state=idle]", presets.len(), Duration::from_secs(30)).await?;
    // What has not been read yet would be passed over by a run.
    let planned = |sheet: &serde_json::Value| {
        sheet["cells"].as_array().is_some_and(|cells| cells.iter().all(|cell| cell["forecast"].is_u64()))
    };
    application.wait_for(&format!("/api/sheets/{id}"), planned).await?;
    Ok((browser, id))
}

async fn cells(application: &Application, id: &str) -> Outcome<Vec<serde_json::Value>> {
    let sheet = application.call(Method::GET, &format!("/api/sheets/{id}"), None).await?;
    Ok(sheet["cells"].as_array().ok_or("no cells")?.clone())
}

#[tokio::test(flavor = "multi_thread")]
async fn cells_answer_to_keys() -> Outcome<()> {
    let application = Application::start().await?;
    let (browser, id) = open_sheet(&application, &["review-small", "sound-only"]).await?;
    browser.find("[role=gridcell][data-state=idle]").await?.click().await?;
    browser.find("[data-cursor=true]").await?.send_keys(Key::Right + "").await?;
    browser.find("[data-cursor=true]").await?.send_keys(" ").await?;
    browser.wait_for_count("[role=gridcell][data-state=off]", 1, Duration::from_secs(10)).await?;
    browser.find("[data-cursor=true]").await?.send_keys(Key::Enter + "").await?;
    browser.wait_for_text("[data-testid=slip]", "Sound only").await?;
    browser.wait_for_text("[data-testid=slip]", "Switch on").await?;
    // What was switched off is so for everybody: the server knows.
    let enabled: Vec<_> = cells(&application, &id).await?.iter().map(|cell| cell["enabled"].as_bool()).collect();
    assert_eq!(enabled, [Some(true), Some(false)]);

    // Shift and an arrow choose both; one palette reaches every action by name, `?` shows the keys.
    browser.find("[data-cursor=true]").await?.send_keys(Key::Shift + Key::Left).await?;
    browser.wait_for_count("[role=gridcell][data-chosen=true]", 2, Duration::from_secs(10)).await?;
    browser.press("?").await?;
    browser.wait_for_text("[data-testid=keys]", "Run the chosen outputs").await?;
    browser.wait_for_text("[data-testid=keys]", "Ctrl + K").await?;
    browser.wait_for_text("[data-testid=keys]", "Shift + R").await?;
    browser.press(Key::Escape + "").await?;
    browser.wait_for_count("[role=dialog]", 0, Duration::from_secs(10)).await?;
    browser.press(Key::Control + "k").await?;
    browser.find("[data-testid=palette]").await?.send_keys("chosen switch" + Key::Enter).await?;
    browser.wait_for_count("[role=gridcell][data-state=off]", 0, Duration::from_secs(10)).await?;
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sheet_that_comes_late_does_not_hide_what_happened_meanwhile() -> Outcome<()> {
    let application = Application::start().await?;
    let (browser, id) = open_sheet(&application, &["sound-only"]).await?;
    // Answers to questions for the sheet are kept back from now on, until they are let go.
    let keep_back = "const ask = window.fetch; window.kept = 0; const gate = new Promise((open) => { window.letGo = open; }); \
                     window.fetch = async (path, init) => { const answer = await ask(path, init); \
                     if (init.method === 'GET' && path.startsWith('/api/sheets/')) { \
                     const text = await answer.text(); window.kept += 1; await gate; return new Response(text); } return answer; };";
    browser.window.execute(keep_back, vec![]).await?;
    application.call(Method::PATCH, &format!("/api/sheets/{id}"), Some(json!({ "name": "Slow line" }))).await?;
    let is_kept = "const done = arguments[0]; (function look() { window.kept > 0 ? done(true) : setTimeout(look, 20); })();";
    browser.window.execute_async(is_kept, vec![]).await?;
    // The kept answer is from before the run, and arrives after it has ended.
    application.call(Method::POST, &format!("/api/sheets/{id}/run"), Some(json!({}))).await?;
    browser.wait_for_count("[role=gridcell][data-state=done]", 1, Duration::from_secs(60)).await?;
    browser.window.execute("window.letGo();", vec![]).await?;
    browser.find_text("Slow line").await?;
    browser.wait_for_count("[role=gridcell][data-state=done]", 1, Duration::from_secs(1)).await?;
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dozen_tabs_follow_the_same_sheet() -> Outcome<()> {
    let application = Application::start().await?;
    let (browser, id) = open_sheet(&application, &["sound-only"]).await?;
    let mut tabs = vec![browser.window.window().await?];
    for _ in 0..11 {
        let tab = browser.window.new_tab().await?;
        browser.window.switch_to_window(tab.clone()).await?;
        browser.window.goto(&format!("{}/sheets/{id}", application.address())).await?;
        browser.wait_for_count("[role=gridcell][data-state=idle]", 1, Duration::from_secs(10)).await?;
        tabs.push(tab);
    }
    // What is done in the last is seen in all.
    browser.find("[data-testid=run]:enabled").await?.click().await?;
    for (number, tab) in tabs.into_iter().enumerate() {
        browser.window.switch_to_window(tab).await?;
        let done = browser.wait_for_count("[role=gridcell][data-state=done]", 1, Duration::from_secs(60)).await;
        done.map_err(|error| format!("tab {number}: {error}"))?;
    }
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn cells_get_their_own_settings_columns_change_and_removals_are_taken_back() -> Outcome<()> {
    let application = Application::start().await?;
    let (browser, id) = open_sheet(&application, &["review-small", "web-720"]).await?;
    // What is found in the source changes forecasts too; that shall be over.
    application.settled_sheet(&id).await?;
    let before = cells(&application, &id).await?;

    // Another preset for one cell: its forecast is another one, and its corner is marked.
    browser.find("[role=gridcell][data-state=idle]").await?.click().await?;
    browser.find("[data-cursor=true]").await?.send_keys(Key::Enter + "").await?;
    browser.find("[data-testid=other-preset]").await?.click().await?;
    browser.find("[data-preset=master-keeper]").await?.click().await?;
    browser.find("[data-testid=confirm-preset]").await?.click().await?;
    browser.wait_for_count("[role=gridcell] [data-own=true]", 1, Duration::from_secs(10)).await?;
    let now = cells(&application, &id).await?;
    assert!(now[0]["forecast"].as_u64() > before[0]["forecast"].as_u64(), "{}", now[0]);
    assert_eq!(now[0]["overrides"]["name"], "Archive master");
    // Taken back, it is as it was.
    browser.wait_for_count("[role=dialog]", 0, Duration::from_secs(10)).await?;
    browser.press("u").await?;
    browser.wait_for_count("[role=gridcell] [data-own=true]", 0, Duration::from_secs(10)).await?;
    assert_eq!(cells(&application, &id).await?[0]["forecast"], before[0]["forecast"]);

    // The whole column is chosen by its head, taken out, and comes back.
    browser.find("[role=columnheader]:nth-of-type(3)").await?.click().await?;
    browser.wait_for_text("[data-testid=slip]", "Web 720").await?;
    browser.wait_for_text("[data-testid=slip]", "Change the column").await?;
    browser.find_text("Remove from sheet").await?.click().await?;
    browser.wait_for_count("[role=gridcell][data-state]", 1, Duration::from_secs(10)).await?;
    browser.press("u").await?;
    browser.wait_for_count("[role=gridcell][data-state]", 2, Duration::from_secs(10)).await?;
    assert_eq!(cells(&application, &id).await?, before);
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn overrides_are_chosen_and_typed_and_what_cannot_be_had_says_what_can() -> Outcome<()> {
    let application = Application::start().await?;
    let (browser, id) = open_sheet(&application, &["web-720"]).await?;
    application.settled_sheet(&id).await?;
    browser.find("[role=gridcell][data-state=idle]").await?.click().await?;
    browser.find("[data-cursor=true]").await?.send_keys(Key::Enter + "").await?;
    browser.find("[data-testid=own-settings]").await?.click().await?;
    browser.find("[data-setting='picture.rate'] [role=combobox]").await?.click().await?;
    browser.find_text("constant rate").await?.click().await?;
    browser.wait_for_text("[data-setting='picture.rate'] [role=combobox]", "constant rate").await?;
    // Another form begins with what the column has, and takes whatever is allowed.
    let rate = "[data-setting='picture.rate.bits_per_second'] input";
    assert_eq!(browser.find(rate).await?.prop("value").await?.as_deref(), Some("4 Mb/s"));
    let typed = async |text: &str| -> Outcome<()> {
        browser.find(rate).await?.send_keys(Key::Control + "a").await?;
        browser.find(rate).await?.send_keys(text).await?;
        browser.find(rate).await?.send_keys(Key::Enter + "").await?;
        Ok(())
    };
    typed("9 kb/s").await?;
    browser.wait_for_text("[data-setting='picture.rate.bits_per_second']", "16 kb/s to 2000 Mb/s").await?;
    typed("2,5 Mb/s").await?;
    browser.find("[data-testid=confirm-own]").await?.click().await?;
    browser.wait_for_count("[role=gridcell] [data-own=true]", 1, Duration::from_secs(10)).await?;
    let own = &cells(&application, &id).await?[0]["overrides"];
    assert_eq!(own, &json!({ "picture": { "rate": { "mode": "constant", "bits_per_second": 2_500_000 } } }));
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_withheld_file_says_why_is_seen_and_is_released_from_its_slip() -> Outcome<()> {
    let application = Application::start().await?;
    let (browser, id) = open_sheet(&application, &["review-small"]).await?;
    browser.find("[data-testid=run]:enabled").await?.click().await?;
    browser.wait_for_count("[role=gridcell][data-state=done]", 1, Duration::from_secs(60)).await?;
    // An output stands for a file that was cut on its way here: its index stands in front.
    let media = application.folder("media")?;
    let whole = std::fs::read(media.join(text(&cells(&application, &id).await?[0]["run"]["path"])))?;
    std::fs::create_dir(media.join("inbox"))?;
    std::fs::write(media.join("inbox/glaze-db_part.mp4"), &whole[..whole.len() * 8 / 11])?;
    let storages = application.call(Method::GET, "/api/storages", None).await?;
    let sources = json!({ "storage": storages[0]["id"], "paths": ["inbox"] });
    application.call(Method::POST, &format!("/api/sheets/{id}/sources"), Some(sources)).await?;
    browser.find("[role=gridcell][data-state=idle]").await?;
    browser.find("[data-testid=run]:enabled").await?.click().await?;
    browser.wait_for_count("[role=gridcell][data-state=withheld]", 1, Duration::from_secs(60)).await?;

    browser.find("[role=gridcell][data-state=withheld]").await?.click().await?;
    browser.find("[data-cursor=true]").await?.send_keys(Key::Enter + "").await?;
    browser.wait_for_text("[data-testid=slip]", "source ends too early").await?;
    browser.find("[data-testid=slip] video[data-of=output]").await?;
    browser.wait_for_text("[data-testid=progress]", "1 withheld until you decide").await?;
    let release = browser.find_text("Release").await?;
    assert!(!release.is_enabled().await?, "it can be released without a reason");
    browser.find("[data-testid=slip] textarea").await?.send_keys("that is all there is").await?;
    release.click().await?;
    browser.wait_for_count("[role=gridcell][data-state=done]", 2, Duration::from_secs(30)).await?;
    browser.wait_for_text("[data-testid=slip]", "that is all there is").await?;
    let released = cells(&application, &id).await?;
    let released = released.iter().find(|cell| text(&cell["run"]["path"]).contains("_part")).ok_or("no cell")?;
    assert!(media.join(text(&released["run"]["path"])).is_file() && !text(&released["run"]["path"]).ends_with(".withheld"));
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn files_dropped_onto_the_page_become_sources() -> Outcome<()> {
    let application = Application::start().await?;
    let (browser, id) = open_sheet(&application, &["review-small"]).await?;
    let desk = application.folder("desk")?;
    make_clips(&desk, &["clip-0001.mov"], 1)?;
    let card = std::fs::read_dir(&desk)?.next().ok_or("no clip")??.path();
    std::fs::write(desk.join("loose.wav"), std::fs::read(first_file(&card)?)?)?;
    // A folder and a file, dropped from outside the browser.
    browser.drop_files("[data-testid=drop-area]", &[&card, &desk.join("loose.wav")]).await?;
    browser.find("[data-testid=confirm-upload]").await?.click().await?;
    browser.wait_for_count("[role=rowheader]", 3, Duration::from_secs(30)).await?;
    browser.wait_for_count("[role=rowheader] img", 3, Duration::from_secs(30)).await?;
    let copied = application.folder("media")?.join(card.file_name().ok_or("no name")?);
    assert!(std::fs::read(first_file(&copied)?)? == std::fs::read(first_file(&card)?)?, "the copy differs");
    let sheet = application.call(Method::GET, &format!("/api/sheets/{id}"), None).await?;
    let names: Vec<_> = sheet["sources"].as_array().ok_or("no sources")?.iter().map(|row| text(&row["name"])).collect();
    assert!(names.contains(&"loose.wav") && names.contains(&"clip-0001.mov"), "{names:?}");
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}

/// The one file below a folder.
fn first_file(folder: &Path) -> Outcome<PathBuf> {
    let mut path = folder.to_path_buf();
    while path.is_dir() {
        path = std::fs::read_dir(&path)?.next().ok_or("an empty folder")??.path();
    }
    Ok(path)
}
