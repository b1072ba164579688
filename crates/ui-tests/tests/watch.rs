//! A watch folder and the queue through the real interface.

use std::time::Duration;

use beryl_ui_tests::{Application, Browser, Outcome, make_clips, names_in};
use reqwest::Method;
use serde_json::json;
use thirtyfour::prelude::*;

const PATIENCE: Duration = Duration::from_secs(60);

/// Chooses an entry of a list that opens.
async fn choose(browser: &Browser, label: &str, entry: &str) -> Outcome<()> {
    let path = format!("//*[@role='combobox'][contains(@aria-labelledby, //*[@id][normalize-space(text())='{label}']/@id)]");
    browser.window.query(By::XPath(path)).first().await?.click().await?;
    browser.find_text(entry).await?.click().await?;
    browser.wait_for_count("[role=listbox] [role=option][data-value]", 0, PATIENCE).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_watch_folder_is_set_up_asks_about_what_is_there_and_works_by_itself() -> Outcome<()> {
    let application = Application::start().await?;
    let (arrivals, stock) = (application.folder("arrivals")?, application.folder("stock")?);
    make_clips(&stock, &["glaze-db_screen.mp4"], 1)?;
    let clip = stock.join("glaze-db_screen.mp4");
    std::fs::copy(&clip, arrivals.join("from-before.mp4"))?;
    application.add_storage("Arrivals", &arrivals).await?;
    application.add_storage("Out", &application.folder("out")?).await?;

    let browser = Browser::open(true).await?;
    browser.window.goto(&format!("{}/watch", application.address())).await?;
    browser.find_text("Set up the first").await?.click().await?;
    browser.find("[role=dialog] input").await?.send_keys("Dailies").await?;
    choose(&browser, "What is watched", "Arrivals").await?;
    choose(&browser, "Where outputs go", "Out").await?;
    browser.find("[data-preset=review-small]").await?.click().await?;
    browser.find("[data-preset=sound-only]").await?.click().await?;
    let settle = browser.find("[role=dialog] input[type=number]").await?;
    settle.send_keys(Key::Control + "a").await?;
    settle.send_keys("1").await?;
    browser.find("[data-testid=confirm-watch]").await?.click().await?;
    browser.wait_for_count("[role=dialog]", 0, PATIENCE).await?;

    // Switching on asks, with the count.
    browser.find("[aria-label='Watch Dailies']").await?.click().await?;
    browser.wait_for_text("[role=dialog]", "1 file is in “Dailies” already").await?;
    browser.find("[data-testid=present-leave]").await?.click().await?;
    browser.wait_for_count("[role=dialog]", 0, PATIENCE).await?;
    browser.find("[data-state=left]").await?;

    // What arrives flows through; each file says why it is where it is.
    std::fs::copy(&clip, arrivals.join("new.mp4"))?;
    std::fs::write(arrivals.join("notes.mov"), "no film")?;
    browser.wait_for_count("[data-stage=out][data-count='1']", 1, PATIENCE).await?;
    browser.wait_for_count("[data-state=failed]", 1, PATIENCE).await?;
    browser.find("[data-state=failed]").await?.click().await?;
    browser.wait_for_text("[data-file='notes.mov']", "It is not a media file").await?;
    let made = names_in(&application.folder("out")?)?;
    assert_eq!(made.len(), 2, "{made:?}");

    // The file that was left is taken up by hand.
    browser.find("[data-state=left]").await?.click().await?;
    browser.find_text("Process").await?.click().await?;
    browser.wait_for_count("[data-stage=out][data-count='2']", 1, PATIENCE).await?;
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn the_queue_foretells_its_end_and_waiting_runs_are_moved() -> Outcome<()> {
    let application = Application::start().await?;
    let media = application.folder("media")?;
    make_clips(&media, &["openday-94_tape-2.mov", "glaze-db_screen.mp4", "trailer_scope_v6.mp4"], 3)?;
    let storage = application.add_storage("Media", &media).await?;
    application.call(Method::PUT, "/api/settings", Some(json!({ "engine_slots": 1, "withheld_days": 7 }))).await?;
    let sheet = application.call(Method::POST, "/api/sheets", Some(json!({ "name": "Night" }))).await?;
    let path = format!("/api/sheets/{}", sheet["id"].as_str().ok_or("no id")?);
    application.call(Method::POST, &format!("{path}/sources"), Some(json!({ "storage": storage, "paths": [""] }))).await?;
    let preset = beryl_core::preset::builtin("delivery-hevc").ok_or("no preset")?;
    application.call(Method::POST, &format!("{path}/deliverables"), Some(json!({ "preset": preset }))).await?;
    application.settled_sheet(sheet["id"].as_str().unwrap_or_default()).await?;
    application.call(Method::POST, &format!("{path}/run"), Some(json!({}))).await?;
    let browser = Browser::open(false).await?;
    browser.window.goto(&format!("{}/queue", application.address())).await?;
    browser.wait_for_count("[data-testid=night] button", 3, PATIENCE).await?;
    let end = browser.find("[data-testid=night-end]").await?.text().await?;
    assert!(end.starts_with("All done at about "), "{end}");
    // The last one goes to the front of those that wait, by key.
    browser.wait_for_count("tr[data-state=waiting]", 2, PATIENCE).await?;
    let rows = browser.window.find_all(By::Css("tr[data-state=waiting]")).await?;
    let last = rows[1].attr("data-run").await?.ok_or("no run")?;
    rows[1].click().await?;
    browser.press("f").await?;
    browser.find(&format!("tr[data-state=waiting]:nth-of-type(2)[data-run='{last}']")).await?;
    let queue = application.call(Method::GET, "/api/queue", None).await?;
    let waiting: Vec<_> =
        queue["items"].as_array().ok_or("no items")?.iter().filter(|item| item["run"]["state"] == "waiting").collect();
    assert_eq!(waiting[0]["run"]["id"], json!(last));
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}
