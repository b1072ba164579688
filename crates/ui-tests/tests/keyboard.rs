//! The whole job by keys alone: no pointer is moved from the empty page to the finished file.

use std::time::Duration;

use beryl_ui_tests::{Application, Browser, Outcome, make_clips};
use reqwest::Method;
use serde_json::{Value, json};
use thirtyfour::prelude::*;

const PATIENCE: Duration = Duration::from_secs(30);
const TAPES: usize = 10;
/// Places that Tab passes at most on its way through a page.
const FARTHEST: usize = 150;

struct Keys<'a>(&'a Browser);

impl Keys<'_> {
    async fn press(&self, keys: impl Into<TypingData>) -> Outcome<()> {
        self.0.press(keys).await
    }

    async fn is_at(&self, css: &str) -> Outcome<bool> {
        let script = format!("return document.activeElement !== null && document.activeElement.matches({css:?})");
        Ok(self.0.window.execute(&script, vec![]).await?.json() == &Value::Bool(true))
    }

    /// Goes on with Tab until the focus is there.
    async fn tab_to(&self, css: &str) -> Outcome<()> {
        self.0.find(css).await?;
        for _ in 0..FARTHEST {
            if self.is_at(css).await? {
                return Ok(());
            }
            self.press(Key::Tab + "").await?;
        }
        Err(format!("Tab does not come to {css}").into())
    }

    /// Goes there with Tab, and presses it.
    async fn call(&self, css: &str) -> Outcome<()> {
        self.tab_to(css).await?;
        self.press(Key::Enter + "").await
    }

    async fn no_dialog(&self) -> Outcome<()> {
        self.0.wait_for_count("[role=dialog]", 0, PATIENCE).await
    }
}

fn rows(sheet: &Value) -> Vec<Value> {
    sheet["sources"].as_array().cloned().unwrap_or_default()
}

fn count(sheet: &Value, state: &str) -> usize {
    sheet["cells"].as_array().map_or(0, |cells| cells.iter().filter(|cell| cell["run"]["state"] == state).count())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_is_done_by_keys_alone() -> Outcome<()> {
    let application = Application::start().await?;
    let media = application.folder("media")?;
    make_clips(&media, &["openday-94_tape-2.mov"], 2)?;
    for number in 1..TAPES {
        std::fs::copy(media.join("openday-94_tape-2.mov"), media.join(format!("openday-94_tape-2-{number}.mov")))?;
    }
    application.add_storage("Media", &media).await?;
    let one_slot = json!({ "engine_slots": 1, "withheld_days": 7 });
    application.call(Method::PUT, "/api/settings", Some(one_slot)).await?;
    let browser = Browser::open(false).await?;
    browser.window.goto(application.address()).await?;
    browser.find("main button").await?;
    let keys = Keys(&browser);

    // A sheet, its sources, its deliverable.
    keys.press("n").await?;
    browser.find("[data-testid=add-sources]").await?;
    let sheets = application.call(Method::GET, "/api/sheets", None).await?;
    let place = format!("/api/sheets/{}", sheets[0]["id"].as_str().ok_or("no sheet")?);
    keys.press("s").await?;
    keys.tab_to("[aria-label='Choose openday-94_tape-2.mov']").await?;
    keys.press(" ").await?;
    keys.call("[data-testid=choose-all]").await?;
    keys.call("[data-testid=confirm-sources]:enabled").await?;
    keys.no_dialog().await?;
    application.wait_for(&place, |sheet| rows(sheet).iter().filter(|row| row["scan"] == "whole").count() == TAPES).await?;
    keys.press("d").await?;
    keys.tab_to("[data-preset=review-small]").await?;
    keys.press(" ").await?;
    keys.call("[data-testid=confirm-deliverable]:enabled").await?;
    keys.no_dialog().await?;
    browser.wait_for_count("[role=gridcell][data-state=idle]", TAPES, PATIENCE).await?;

    // Ten rows are chosen and mended together: the first with Shift and Space, the others with Shift and the arrow.
    keys.tab_to("[role=grid]").await?;
    keys.press(Key::Down + "").await?;
    keys.press(Key::Shift + " ").await?;
    for _ in 1..TAPES {
        keys.press(Key::Shift + Key::Down).await?;
    }
    keys.press(Key::Enter + "").await?;
    browser.wait_for_text("[data-testid=slip]", &format!("Settings of {TAPES} sources")).await?;
    keys.call("[data-testid=row-settings]").await?;
    keys.call("[data-testid=all-settings]").await?;
    keys.tab_to("[data-setting='picture.greyscale'] [role=combobox]").await?;
    keys.press(Key::Enter + "").await?;
    browser.find("[role=listbox]").await?;
    keys.press(Key::Down + Key::Enter).await?;
    browser.wait_for_count("[role=listbox]", 0, PATIENCE).await?;
    keys.call("[data-testid=confirm-own]").await?;
    let is_grey = |row: &&Value| row["overrides"]["picture"]["greyscale"] == true;
    application.wait_for(&place, |sheet| rows(sheet).iter().filter(is_grey).count() == TAPES).await?;
    keys.no_dialog().await?;

    // Marks on the bench of one of them, and a proof.
    keys.press(Key::Escape + "").await?;
    keys.tab_to("[role=gridcell][data-cursor=true]").await?;
    keys.press(Key::Up + "").await?;
    keys.press("b").await?;
    browser.find("[data-testid=picture][data-shown=true]").await?;
    keys.press(Key::Right + Key::Right + "i" + Key::Up + "o").await?;
    browser.find("[data-testid=part]").await?;
    let is_marked = |row: &&Value| row["overrides"]["parts"][0]["from"] == "2/25";
    application.wait_for(&place, |sheet| rows(sheet).iter().filter(is_marked).count() == 1).await?;
    keys.press("p").await?;
    keys.call("[data-testid=prove]:enabled").await?;
    browser.wait_for_count("[data-testid=proof][data-state=done]", 1, Duration::from_secs(90)).await?;
    keys.press(Key::Escape + "").await?;

    // All are run; in the queue one that waits is brought to the front, and held, and goes on.
    browser.find("[data-testid=run]:enabled").await?;
    keys.press("R").await?;
    browser.wait_for_count("[data-testid=run]:enabled", 0, PATIENCE).await?;
    keys.press("3").await?;
    browser.find("tr[data-state=waiting]").await?;
    let waiting = async || -> Outcome<Vec<String>> {
        let queue = application.call(Method::GET, "/api/queue", None).await?;
        let items = queue["items"].as_array().cloned().unwrap_or_default();
        let of = |item: &Value| (item["run"]["state"] == "waiting").then(|| item["run"]["id"].as_str().map(str::to_owned))?;
        Ok(items.iter().filter_map(of).collect())
    };
    let last = waiting().await?.pop().ok_or("nothing waits")?;
    for _ in 0..TAPES {
        keys.press(Key::Down + "").await?;
    }
    browser.find(&format!("tr[data-run='{last}'][aria-selected=true]")).await?;
    keys.press("f").await?;
    let mut first = waiting().await?.into_iter().next();
    let began = std::time::Instant::now();
    // What was at work may end meanwhile: then the one in front is begun.
    while first.as_ref().is_some_and(|first| *first != last) && waiting().await?.contains(&last) {
        assert!(began.elapsed() < PATIENCE, "{last} did not come to the front");
        first = waiting().await?.into_iter().next();
    }
    application.wait_for(&place, |sheet| count(sheet, "done") == TAPES).await?;

    // A finished output, and its file.
    keys.press("1").await?;
    browser.find("main button").await?;
    keys.call("main button[data-sheet]").await?;
    browser.find("[role=gridcell][data-state=done]").await?;
    keys.tab_to("[role=grid]").await?;
    keys.press(Key::Down + Key::Enter).await?;
    keys.tab_to("[data-testid=slip] a[download]").await?;
    let link = browser.window.active_element().await?.prop("href").await?.ok_or("a link without address")?;
    let fetched = reqwest::get(link).await?.bytes().await?;
    let sheet = application.call(Method::GET, &place, None).await?;
    let path = sheet["cells"][0]["run"]["path"].as_str().ok_or("no path")?.to_owned();
    assert!(std::fs::read(media.join(path))? == fetched, "another file is handed out");
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}
