//! Every place, dialog and slip, in both looks: nothing that the rules of WCAG 2.1 (A and AA, as axe-core checks them) call
//! serious.

use std::time::Duration;

use beryl_core::preset::{Preset, builtin};
use beryl_ui_tests::{Application, Browser, Outcome, make_clips};
use reqwest::Method;
use serde_json::{Value, json};

/// The checker, as it comes with the page's packages.
const CHECKER: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../web/node_modules/axe-core/axe.min.js");

/// What was found: where, and what.
struct Found<'a> {
    browser: &'a Browser,
    checker: String,
    look: &'static str,
    faults: Vec<String>,
}

impl Found<'_> {
    /// Looks over all that is shown now.
    async fn look_over(&mut self, place: &str) -> Outcome<()> {
        // While something fades in, it has less contrast than it will have.
        let at_rest = "const done = arguments[0]; const look = () => document.getAnimations().every((one) => one.playState !== 'running' \
                       || one.effect.getTiming().iterations === Infinity) ? done(true) : requestAnimationFrame(look); look();";
        self.browser.window.execute_async(at_rest, vec![]).await?;
        self.browser.window.execute(&self.checker, vec![]).await?;
        let check = "const done = arguments[0]; \
                     axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa'], resultTypes: ['violations'] }).then((result) => \
                     done(result.violations.filter((one) => one.impact === 'serious' || one.impact === 'critical').flatMap((one) => \
                     one.nodes.map((node) => `${one.id}: ${node.target.join(' ')}: ${node.failureSummary.split('\\n').slice(1, 3).join(' ')}`))));";
        let found = self.browser.window.execute_async(check, vec![]).await?;
        let found = found.json().as_array().cloned().ok_or("the checker says nothing")?;
        let words = |fault: &Value| format!("{place}, {}: {}", self.look, fault.as_str().unwrap_or_default());
        self.faults.extend(found.iter().map(words));
        Ok(())
    }

    async fn press(&self, key: &str, sign: &str) -> Outcome<()> {
        self.browser.press(key).await?;
        self.browser.find(sign).await?;
        Ok(())
    }

    async fn close(&self) -> Outcome<()> {
        // The Escape key, as WebDriver names it (§ 17.4.2).
        self.browser.press("\u{E00C}").await?;
        self.browser.wait_for_count("[role=dialog]", 0, Duration::from_secs(10)).await
    }
}

/// A house in which something of everything has happened: made, failed, withheld and waiting outputs, a proof, a watch folder.
async fn furnish(application: &Application) -> Outcome<(String, String, String)> {
    let media = application.folder("media")?;
    make_clips(&media, &["openday-94_tape-2.mov", "interview_odile_en-fr.mkv"], 2)?;
    std::fs::write(media.join("broken.mov"), "no film")?;
    let storage = application.add_storage("Media", &media).await?;
    let sheet = application.call(Method::POST, "/api/sheets", Some(json!({ "name": "Weekly" }))).await?;
    let id = sheet["id"].as_str().ok_or("no sheet")?.to_owned();
    let sources = json!({ "storage": storage, "paths": [""] });
    application.call(Method::POST, &format!("/api/sheets/{id}/sources"), Some(sources)).await?;
    for preset in ["review-small", "sound-only"] {
        let column = json!({ "preset": builtin(preset), "folder": "made" });
        application.call(Method::POST, &format!("/api/sheets/{id}/deliverables"), Some(column)).await?;
    }
    let path = format!("/api/sheets/{id}");
    let cells = |sheet: &Value| sheet["cells"].as_array().cloned().unwrap_or_default();
    let read = |sheet: &Value| {
        sheet["sources"]
            .as_array()
            .is_some_and(|rows| rows.iter().all(|row| row["summary"].is_string() || row["problem"].is_object()))
    };
    application.wait_for(&path, |sheet| cells(sheet).len() >= 6 && read(sheet)).await?;
    application.call(Method::POST, &format!("{path}/run"), Some(json!({}))).await?;
    let done = |sheet: &Value| cells(sheet).iter().filter(|cell| cell["run"]["state"] == "done").count() == 4;
    let sheet = application.wait_for(&path, done).await?;
    let folder = application.folder("media/arriving")?;
    std::fs::create_dir_all(&folder)?;
    let watch = json!({
        "name": "Arriving", "storage": storage, "folder": "arriving", "presets": [builtin("sound-only")],
        "destination_storage": storage, "destination": "out", "settle_seconds": 5,
    });
    application.call(Method::POST, "/api/watch", Some(watch)).await?;
    let own = builtin("web-720").map(|preset| Preset { id: "house-web".to_owned(), name: "House web".to_owned(), ..preset });
    application.call(Method::POST, "/api/presets", Some(json!(own))).await?;
    let made = cells(&sheet).into_iter().find(|cell| cell["run"]["state"] == "done").ok_or("nothing was made")?;
    let part = |key: &str| made[key].as_str().map(str::to_owned).ok_or("a cell without its key");
    Ok((id, part("source")?, part("deliverable")?))
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_serious_stands_in_anybodys_way() -> Outcome<()> {
    let application = Application::start().await?;
    let (sheet, source, column) = furnish(&application).await?;
    let checker = std::fs::read_to_string(CHECKER)?;
    let mut faults = Vec::new();
    for look in ["dark", "light"] {
        let browser = Browser::open(false).await?;
        let go = async |place: &str, sign: &str| -> Outcome<()> {
            browser.window.goto(&format!("{}/{place}", application.address())).await?;
            browser.find(sign).await.map(|_| ())
        };
        go("sheets", "main button").await?;
        browser.window.execute(format!("localStorage.setItem('beryl.look', '{look}')"), vec![]).await?;
        let mut found = Found { browser: &browser, checker: checker.clone(), look, faults: Vec::new() };

        go("sheets", "main button").await?;
        found.look_over("the list of sheets").await?;
        go(&format!("sheets/{sheet}"), "[role=gridcell][data-state=done]").await?;
        found.look_over("a sheet").await?;
        for (key, sign, place) in [
            ("s", "[data-testid=confirm-sources]", "the sources to add"),
            ("d", "[data-testid=confirm-deliverable]", "the deliverable to add"),
            ("?", "[data-testid=keys]", "the keys"),
        ] {
            found.press(key, sign).await?;
            found.look_over(place).await?;
            found.close().await?;
        }
        for (button, sign, place) in [
            ("[data-testid=suggestions]", "[data-testid=take-all]", "the suggestions"),
            ("[data-testid=columns]", "[aria-label^='Width of']", "the columns"),
        ] {
            browser.find(button).await?.click().await?;
            browser.find(sign).await?;
            found.look_over(place).await?;
            found.close().await?;
        }
        for (cell, place) in [
            ("[role=gridcell][data-state=done]", "the slip of an output"),
            ("[role=columnheader]:nth-of-type(2)", "the slip of a column"),
            ("[role=rowheader]", "the slip of a source"),
        ] {
            browser.find(cell).await?.click().await?;
            found.press("\u{E007}", "[data-testid=slip] h2").await?;
            found.look_over(place).await?;
            if place == "the slip of an output" {
                browser.find("[data-testid=own-settings]").await?.click().await?;
                browser.find("[data-testid=all-settings]").await?.click().await?;
                found.look_over("the overrides").await?;
                found.close().await?;
            }
            browser.press("\u{E00C}").await?;
            browser.wait_for_count("[data-testid=slip]", 0, Duration::from_secs(10)).await?;
        }
        go(&format!("sheets/{sheet}/sources/{source}"), "[data-testid=picture][data-shown=true]").await?;
        found.look_over("the bench").await?;
        for (key, sign, place) in [
            ("v", "[data-testid=scopes-shown] img", "the scopes"),
            ("m", "[data-testid=mend-panel]", "the mending"),
            ("x", "[data-testid=crop-rule]", "the crop"),
        ] {
            found.press(key, sign).await?;
            found.look_over(place).await?;
        }
        go(&format!("sheets/{sheet}/proof/{source}/{column}"), "[data-testid=prove]").await?;
        found.look_over("the proofs").await?;
        if look == "dark" {
            browser.find("[data-testid=prove]").await?.click().await?;
        }
        browser.find("[data-testid=compared][data-ready=true]").await?;
        found.look_over("a proof").await?;
        go("presets", "main tbody tr").await?;
        browser.find_text("Duplicate").await?.click().await?;
        browser.find("[data-testid=preset-form] [data-setting='sound.tracks'] button").await?.click().await?;
        found.look_over("a preset").await?;
        found.close().await?;
        browser.find_text("Versions").await?.click().await?;
        browser.find("[data-testid=version]").await?;
        found.look_over("the versions of a preset").await?;
        found.close().await?;
        for place in ["queue", "watch", "presets", "settings"] {
            go(place, "main h1").await?;
            browser.wait_for_count("[aria-busy=true]", 0, Duration::from_secs(20)).await?;
            found.look_over(place).await?;
        }
        go("watch", "main h1").await?;
        found.press("n", "[role=dialog] input").await?;
        found.look_over("the new watch folder").await?;
        faults.append(&mut found.faults);
    }
    assert!(faults.is_empty(), "{}", faults.join("\n"));
    Ok(())
}

/// Widths of rooms in which the page is used: two small screens, and a screen of 1280 with everything twice as large.
const ROOMS: [(u32, u32); 3] = [(1024, 768), (768, 1024), (640, 400)];

#[tokio::test(flavor = "multi_thread")]
async fn in_small_rooms_nothing_lies_outside() -> Outcome<()> {
    let application = Application::start().await?;
    let (sheet, source, column) = furnish(&application).await?;
    let browser = Browser::open(false).await?;
    let places = [
        ("sheets".to_owned(), "main button"),
        (format!("sheets/{sheet}"), "[role=gridcell][data-state=done]"),
        (format!("sheets/{sheet}/sources/{source}"), "[data-testid=picture][data-shown=true]"),
        (format!("sheets/{sheet}/proof/{source}/{column}"), "[data-testid=prove]"),
        ("queue".to_owned(), "main table"),
        ("watch".to_owned(), "[data-testid=watch-folder]"),
        ("presets".to_owned(), "main tbody tr"),
        ("settings".to_owned(), "main section"),
    ];
    // What can be pressed in the head or the foot of a place, and is not wholly in sight; and whether the page is too wide.
    let outside = "const far = [...document.querySelectorAll('main header button, main header a, main footer button, nav a')].filter((one) => { \
                   const { left, right, top, bottom, width } = one.getBoundingClientRect(); \
                   return width > 0 && (left < 0 || right > innerWidth + 1 || top < 0 || bottom > innerHeight + 1); }).map((one) => one.textContent); \
                   if (document.documentElement.scrollWidth > innerWidth) far.push(`${document.documentElement.scrollWidth} columns`); \
                   return far;";
    let mut faults = Vec::new();
    for (width, height) in ROOMS {
        let room = json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": false });
        browser.window.cdp().send_raw("Emulation.setDeviceMetricsOverride", room).await?;
        for (place, sign) in &places {
            browser.window.goto(&format!("{}/{place}", application.address())).await?;
            browser.find(sign).await?;
            let far = browser.window.execute(outside, vec![]).await?;
            let far = far.json().as_array().cloned().unwrap_or_default();
            faults.extend(far.iter().map(|what| format!("{width}×{height}, {place}: {what}")));
        }
    }
    assert!(faults.is_empty(), "{}", faults.join("\n"));
    Ok(())
}
