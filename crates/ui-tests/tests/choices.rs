//! What is chosen for one thing and used for others, through the real interface: marks for sources that are as
//! long, a variant of a test strip for a column and as a preset, tables and pictures by name.

use std::time::Duration;

use beryl_core::preset::{Preset, builtin};
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
    browser.wait_for_count("[data-testid=asset]", 1, PATIENCE).await?;
    let chooser = browser.window.find(By::Css("[data-testid=add-assets]")).await?;
    chooser.send_keys(warm.display().to_string()).await?;
    browser.wait_for_count("[data-testid=asset]", 2, PATIENCE).await?;
    browser.find_text("Warm kiln, curves of 2 points").await?;
    // What is no table says where it goes wrong, and nothing is kept.
    chooser.send_keys(broken.display().to_string()).await?;
    browser.wait_for_text("[role=alert]", "line 3").await?;
    browser.wait_for_count("[data-testid=asset]", 2, PATIENCE).await?;
    // What ships with the program stays; one's own can go.
    browser.wait_for_count("[data-testid=asset] button", 1, PATIENCE).await?;
    browser.find("[data-testid=asset] button").await?.click().await?;
    browser.wait_for_count("[data-testid=asset]", 1, PATIENCE).await?;
    assert_eq!(application.call(Method::GET, "/api/assets", None).await?.as_array().map(Vec::len), Some(1));
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preset_of_the_house_gets_tracks_and_another_id_and_goes_back_to_an_earlier_version() -> Outcome<()> {
    let application = Application::start().await?;
    let preset = builtin("web-1080").map(|preset| Preset { id: "house-web".to_owned(), name: "House web".to_owned(), ..preset });
    application.call(Method::POST, "/api/presets", Some(json!(preset))).await?;
    let browser = Browser::open(false).await?;
    browser.window.goto(&format!("{}/presets", application.address())).await?;
    let of_row = |button: &str| format!("//tr[contains(., 'House web')]//button[text()='{button}']");
    let click = async |path: String| -> Outcome<()> { Ok(browser.window.query(By::XPath(path)).first().await?.click().await?) };
    let field = async |label: &str, words: &str| -> Outcome<()> {
        let path = format!("//label[text()='{label}']/following-sibling::div//input");
        let field = browser.window.query(By::XPath(path)).first().await?;
        field.send_keys(Key::Control + "a").await?;
        Ok(field.send_keys(words).await?)
    };
    let saved = async |version: u64| -> Outcome<Value> {
        browser.find("[data-testid=save-preset]:enabled").await?.click().await?;
        browser.wait_for_count("[role=dialog]", 0, PATIENCE).await?;
        let own = |one: &&Value| one["version"].as_u64() == Some(version);
        let all = application.call(Method::GET, "/api/presets", None).await?;
        let found = all.as_array().and_then(|all| all.iter().find(own)).ok_or(format!("no version {version}: {all}"))?;
        Ok(found["preset"].clone())
    };
    click(of_row("Change")).await?;
    field("Id", "house-stems").await?;
    browser.find("[data-setting='sound.tracks'] button").await?.click().await?;
    field("Track 1 from", "1: 2, 1 + 2").await?;
    field("Language", "deu").await?;
    let changed = saved(2).await?;
    assert_eq!(changed["id"], "house-stems");
    let from = json!([{ "stream": 0, "channels": [1, 0] }, { "stream": 1 }]);
    assert_eq!(changed["sound"]["tracks"], json!([{ "from": from, "language": "deu" }]));

    // What it was is a version, and saved again it is the newest.
    click(of_row("Versions")).await?;
    browser.wait_for_count("[data-testid=version]", 2, PATIENCE).await?;
    browser.wait_for_text("[data-testid=version]", "Audio tracks changed").await?;
    click("//*[@data-testid='version']//button[text()='Open']".to_owned()).await?;
    browser.wait_for_text("[data-testid=differences]", "1 setting other than House web").await?;
    let back = saved(3).await?;
    assert_eq!((&back["id"], &back["sound"]["tracks"]), (&json!("house-stems"), &json!([])));
    let errors = browser.console_errors().await?;
    assert!(errors.is_empty(), "{errors:?}");
    Ok(())
}
