//! A folder of three hundred sources, as a house gets them: what follows from them is taken at once, and all are queued.

use std::time::Duration;

use beryl_ui_tests::{Application, Browser, Outcome, make_clips};
use reqwest::Method;
use serde_json::{Value, json};
use thirtyfour::prelude::*;

const LETTERBOXED: usize = 10;
const INTERLACED: usize = 40;
const PLAIN: usize = 250;
const ALL: usize = LETTERBOXED + INTERLACED + PLAIN;
const PRESETS: [&str; 3] = ["review-small", "light-proxy", "sound-only"];
const PATIENCE: Duration = Duration::from_secs(20);

/// How many rows have the settings of a suggestion.
fn rows_with(sheet: &Value, place: &str) -> usize {
    let rows = sheet["sources"].as_array();
    rows.map_or(0, |rows| rows.iter().filter(|row| !row["overrides"].pointer(place).unwrap_or(&Value::Null).is_null()).count())
}

fn count_of(suggestions: &Value, subject: &str) -> usize {
    let all = suggestions.as_array();
    let of = |suggestion: &&Value| suggestion["subject"] == subject;
    all.and_then(|all| all.iter().find(of)).and_then(|one| one["sources"].as_array()).map_or(0, Vec::len)
}

/// Opens what follows from the findings, waits until the page offers all of it, and takes it: two gestures.
async fn take_all(browser: &Browser) -> Outcome<()> {
    browser.find("[data-testid=suggestions]").await?.click().await?;
    // The page gathers what it is told: the last source may come a moment after the server knows it.
    for count in [LETTERBOXED, INTERLACED] {
        browser.find_text(&format!("Apply to {count}")).await?;
    }
    browser.find("[data-testid=take-all]:enabled").await?.click().await?;
    Ok(())
}

/// One of these that stands well within the window; rows near the edges lie behind the heads.
async fn in_the_middle(browser: &Browser, css: &str) -> Outcome<WebElement> {
    browser.find(css).await?;
    for element in browser.window.find_all(By::Css(css)).await? {
        if (250.0..550.0).contains(&element.rect().await?.y) {
            return Ok(element);
        }
    }
    Err(format!("no {css} is in the middle").into())
}

#[tokio::test(flavor = "multi_thread")]
async fn three_hundred_sources_are_mended_in_a_few_gestures_and_queued() -> Outcome<()> {
    let application = Application::start().await?;
    let media = application.folder("media")?;
    let drawn = application.folder("drawn")?;
    let kinds = [("trailer_scope_v6.mp4", LETTERBOXED), ("openday-94_tape-2.mov", INTERLACED), ("glaze-db_screen.mp4", PLAIN)];
    make_clips(&drawn, &kinds.map(|(name, _)| name), 1)?;
    for (name, count) in kinds {
        let (stem, extension) = name.split_once('.').ok_or("a clip without extension")?;
        for number in 1..=count {
            std::fs::copy(drawn.join(name), media.join(format!("{stem}-{number:03}.{extension}")))?;
        }
    }
    application.add_storage("Media", &media).await?;
    let browser = Browser::open(false).await?;
    browser.window.goto(application.address()).await?;
    browser.find_text("New sheet").await?.click().await?;
    browser.find("[data-testid=add-sources]").await?.click().await?;
    // The first of a list and, with Shift, its last choose all between; more can be chosen in one go by the button.
    browser.find("[aria-label='Choose glaze-db_screen-001.mp4']").await?;
    browser.find_text(&format!("Choose all {ALL} files")).await?.click().await?;
    browser.find("[data-testid=confirm-sources]").await?.click().await?;
    let sheets = application.call(Method::GET, "/api/sheets", None).await?;
    let id = sheets[0]["id"].as_str().ok_or("no sheet")?.to_owned();
    let place = format!("/api/sheets/{id}");
    let suggestions = format!("{place}/suggestions");
    let whole = |sheet: &Value| {
        let rows = sheet["sources"].as_array();
        rows.is_some_and(|rows| rows.len() == ALL && rows.iter().all(|row| row["scan"] == "whole"))
    };
    let mut read = false;
    for _ in 0..8 {
        // Reading and scanning three hundred files takes minutes on a small machine.
        if application.wait_for(&place, whole).await.is_ok() {
            read = true;
            break;
        }
    }
    assert!(read, "not all sources were scanned");
    let offered = application.call(Method::GET, &suggestions, None).await?;
    assert_eq!((count_of(&offered, "crop"), count_of(&offered, "fields")), (LETTERBOXED, INTERLACED), "{offered}");

    // Two gestures: open what follows, take all of it. Six are allowed.
    take_all(&browser).await?;
    let taken = |sheet: &Value| {
        rows_with(sheet, "/picture/crop") == LETTERBOXED && rows_with(sheet, "/picture/deinterlacing") == INTERLACED
    };
    application.wait_for(&place, taken).await?;
    // One step takes both back, one more gesture takes them again.
    browser.wait_for_count("[role=dialog]", 0, PATIENCE).await?;
    browser.press(Key::Control + "z").await?;
    let nothing = |sheet: &Value| rows_with(sheet, "/picture") == 0;
    application.wait_for(&place, nothing).await?;
    take_all(&browser).await?;
    application.wait_for(&place, taken).await?;
    browser.wait_for_count("[role=dialog]", 0, PATIENCE).await?;

    // Three deliverables in one dialog.
    browser.press("d").await?;
    for preset in PRESETS {
        browser.find(&format!("[data-preset={preset}]")).await?.click().await?;
    }
    browser.find("[data-testid=confirm-deliverable]").await?.click().await?;
    browser.wait_for_count("[role=dialog]", 0, PATIENCE).await?;
    // Rows are found by their words, chosen all together, and given settings as one.
    browser.find("[data-testid=search]").await?.send_keys("openday").await?;
    browser.wait_for_text("[data-testid=shown]", &format!("{INTERLACED} of {ALL} rows")).await?;
    browser.find("[data-testid=choose-shown]").await?.click().await?;
    browser.wait_for_text("[data-testid=slip]", &format!("Settings of {INTERLACED} sources")).await?;
    browser.find_text("Show all").await?.click().await?;

    // All are queued; one is cancelled, and that is taken back.
    application.call(Method::POST, "/api/runs", Some(json!({ "action": "pause" }))).await?;
    browser.find("[data-testid=run]:enabled").await?.click().await?;
    let cells = |sheet: &Value, wanted: fn(&Value) -> bool| {
        sheet["cells"].as_array().map_or(0, |cells| cells.iter().filter(|cell| wanted(&cell["run"]["state"])).count())
    };
    let queued = application.wait_for(&place, |sheet| cells(sheet, |state| !state.is_null()) >= ALL).await?;
    let count = cells(&queued, |state| !state.is_null());
    assert!(count >= ALL * 2, "only {count} of {} were queued", ALL * PRESETS.len());
    let is_cancelled = |state: &Value| state == "cancelled";
    in_the_middle(&browser, "[role=gridcell][data-state=waiting]").await?.click().await?;
    browser.press("c").await?;
    application.wait_for(&place, |sheet| cells(sheet, is_cancelled) == 1).await?;
    browser.press(Key::Control + "z").await?;
    application.wait_for(&place, |sheet| cells(sheet, is_cancelled) == 0).await?;
    application.call(Method::POST, "/api/runs", Some(json!({ "action": "cancel" }))).await?;
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}
