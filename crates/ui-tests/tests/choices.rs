//! What is chosen for one thing and used for others, through the real interface: marks for sources that are as
//! long, a variant of a test strip for a column and as a preset, tables and pictures by name.

use std::time::Duration;

use beryl_core::preset::builtin;
use beryl_ui_tests::{Application, Browser, Outcome, make_clips};
use reqwest::Method;
use serde_json::{Value, json};
use thirtyfour::prelude::*;

const PATIENCE: Duration = Duration::from_secs(90);

fn word(value: &Value) -> String {
    value.as_str().unwrap_or_default().to_owned()
}

/// What plans say on a subject, for the outputs of all rows in the first column.
async fn decisions(application: &Application, sheet: &str, subject: &str) -> Outcome<Vec<String>> {
    let sheet = application.call(Method::GET, &format!("/api/sheets/{sheet}"), None).await?;
    let column = word(&sheet["deliverables"][0]["id"]);
    let mut words = Vec::new();
    for row in sheet["sources"].as_array().ok_or("no rows")? {
        let output = application.call(Method::GET, &format!("/api/outputs/{}/{column}", word(&row["id"])), None).await?;
        let decisions = output["plan"]["decisions"].as_array().ok_or("no plan")?;
        let said = decisions.iter().find(|decision| decision["subject"] == subject);
        words.push(said.map_or_else(String::new, |decision| word(&decision["what"])));
    }
    Ok(words)
}

#[tokio::test(flavor = "multi_thread")]
async fn marks_go_to_sources_as_long_and_a_variant_to_its_column_or_a_preset() -> Outcome<()> {
    let application = Application::start().await?;
    let media = application.folder("media")?;
    make_clips(&media, &["glaze-db_screen.mp4"], 3)?;
    std::fs::copy(media.join("glaze-db_screen.mp4"), media.join("glaze-db_take-2.mp4"))?;
    make_clips(&media, &["trailer_scope_v6.mp4"], 2)?;
    let storage = application.add_storage("Media", &media).await?;
    let sheet = word(&application.call(Method::POST, "/api/sheets", Some(json!({ "name": "Takes" }))).await?["id"]);
    let sources = json!({ "storage": storage, "paths": [""] });
    application.call(Method::POST, &format!("/api/sheets/{sheet}/sources"), Some(sources)).await?;
    let column = json!({ "preset": builtin("review-small") });
    application.call(Method::POST, &format!("/api/sheets/{sheet}/deliverables"), Some(column)).await?;
    let rows = application.settled_sheet(&sheet).await?;
    let source = word(&rows["sources"][0]["id"]);

    let browser = Browser::open(false).await?;
    browser.window.goto(&format!("{}/sheets/{sheet}/sources/{source}", application.address())).await?;
    browser.wait_for_text("[data-testid=timecode]", "00:00:00:00").await?;
    browser.press(Key::Up + "").await?;
    browser.press("i").await?;
    browser.press(Key::Up + "").await?;
    browser.press("o").await?;
    browser.find("[data-testid=part]").await?;
    browser.wait_for_text("[data-testid=copy-marks]", "Copy marks to 1 source of equal length").await?;
    browser.find("[data-testid=copy-marks]").await?.click().await?;
    browser.find_text("Marks copied to 1 source of equal length.").await?;
    let parts = decisions(&application, &sheet, "parts").await?;
    // Its frames come at times of their own: that which is shown a second on has begun before.
    assert_eq!(parts[0], "00:00:00.700 to 00:00:01.734");
    assert_eq!(parts[0], parts[1]);
    assert_eq!(parts[2], "", "a source of another length was marked too");

    // A strip; one of its variants becomes a preset, then the setting of the whole column, which is taken back.
    browser.find("[data-testid=prove-it]").await?.click().await?;
    browser.find("[data-testid=strip-setting] [role=combobox]").await?.click().await?;
    let effort = "//*[@role='option'][contains(., 'Effort of the encoder')]";
    browser.window.query(By::XPath(effort)).first().await?.click().await?;
    // The list closes over the button.
    browser.wait_for_count("[role=listbox]", 0, PATIENCE).await?;
    browser.find("[data-testid=make-strip]").await?.click().await?;
    browser.wait_for_count("[data-testid=variant][data-state=done]", 3, PATIENCE).await?;
    let use_quick = async |target: &str| -> Outcome<()> {
        let quick = "//*[@data-testid='variant'][contains(., 'quick')]//button[text()='Use this one']";
        browser.window.query(By::XPath(quick)).first().await?.click().await?;
        browser.find_text(target).await?.click().await?;
        browser.wait_for_count("[role=menu]", 0, PATIENCE).await
    };
    let effort_of = |preset: &Value| word(&preset["picture"]["effort"]);
    use_quick("as a preset of its own").await?;
    let kept =
        |presets: &Value| presets.as_array().into_iter().flatten().any(|one| word(&one["preset"]["name"]).ends_with(", quick"));
    let presets = application.wait_for("/api/presets", kept).await?;
    let quick = presets.as_array().into_iter().flatten().find(|one| word(&one["preset"]["name"]).ends_with(", quick"));
    assert_eq!(quick.map(|one| effort_of(&one["preset"])).as_deref(), Some("quick"));
    let path = format!("/api/sheets/{sheet}");
    let column_effort = |sheet: &Value| effort_of(&sheet["deliverables"][0]["preset"]);
    let before = column_effort(&application.call(Method::GET, &path, None).await?);
    assert_ne!(before, "quick");
    use_quick("for the whole column").await?;
    application.wait_for(&path, |sheet| column_effort(sheet) == "quick").await?;
    browser.find_text("quick: set for the whole column.").await?;
    browser.press("u").await?;
    application.wait_for(&path, |sheet| column_effort(sheet) == before).await?;
    assert_eq!(browser.console_errors().await?, Vec::<String>::new());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn tables_and_pictures_are_added_refused_and_removed_in_the_settings() -> Outcome<()> {
    let application = Application::start().await?;
    let files = application.folder("files")?;
    let (warm, broken) = (files.join("warm.cube"), files.join("broken.cube"));
    std::fs::write(&warm, "TITLE \"Warm kiln\"\nLUT_1D_SIZE 2\n0 0 0\n1 0.9 0.8\n")?;
    std::fs::write(&broken, "LUT_3D_SIZE 2\n0 0 0\n0 one 0\n")?;
    let browser = Browser::open(true).await?;
    browser.window.goto(&format!("{}/settings", application.address())).await?;
    browser.wait_for_count("[data-testid=aid]", 1, PATIENCE).await?;
    let chooser = browser.window.find(By::Css("[data-testid=add-aids]")).await?;
    chooser.send_keys(warm.display().to_string()).await?;
    browser.wait_for_count("[data-testid=aid]", 2, PATIENCE).await?;
    browser.find_text("Warm kiln, curves of 2 points").await?;
    // What is no table says where it goes wrong, and nothing is kept.
    chooser.send_keys(broken.display().to_string()).await?;
    browser.wait_for_text("[role=alert]", "line 3").await?;
    browser.wait_for_count("[data-testid=aid]", 2, PATIENCE).await?;
    // What ships with the program stays; one's own can go.
    browser.wait_for_count("[data-testid=aid] button", 1, PATIENCE).await?;
    browser.find("[data-testid=aid] button").await?.click().await?;
    browser.wait_for_count("[data-testid=aid]", 1, PATIENCE).await?;
    assert_eq!(application.call(Method::GET, "/api/aids", None).await?.as_array().map(Vec::len), Some(1));
    Ok(())
}
