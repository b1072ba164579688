//! Knowing and mending one source through the real interface: the finding, its moment, the
//! suggestion, and a file that is mended.

use std::time::Duration;

use beryl_core::findings::FieldsVerdict;
use beryl_core::preset::builtin;
use beryl_core::protocol::{FileRef, SourceRef};
use beryl_ui_tests::{Application, Browser, Outcome, make_clips};
use beryl_worker::Engine;
use reqwest::Method;
use serde_json::{Value, json};
use thirtyfour::prelude::*;

const TAPE: &str = "openday-94_tape-2.mov";

#[tokio::test(flavor = "multi_thread")]
async fn an_interlaced_tape_is_known_and_mended() -> Outcome<()> {
    let application = Application::start().await?;
    let media = application.folder("media")?;
    make_clips(&media, &[TAPE], 2)?;
    let storage = application.add_storage("Media", &media).await?;
    let sheet = application.call(Method::POST, "/api/sheets", Some(json!({ "name": "Tapes" }))).await?;
    let sheet = word(&sheet["id"]);
    let sources = json!({ "storage": storage, "paths": [TAPE] });
    application.call(Method::POST, &format!("/api/sheets/{sheet}/sources"), Some(sources)).await?;
    let presets = application.call(Method::GET, "/api/presets", None).await?;
    let keeper = presets.as_array().and_then(|all| all.iter().find(|one| one["preset"]["id"] == "master-keeper"));
    let column = json!({ "preset": keeper.ok_or("no such preset")?["preset"], "storage": null, "folder": "", "name_pattern": "<name>_made", "clash": "number" });
    application.call(Method::POST, &format!("/api/sheets/{sheet}/deliverables"), Some(column)).await?;

    let browser = Browser::open(false).await?;
    browser.window.goto(&format!("{}/sheets/{sheet}", application.address())).await?;
    browser.find("[role=gridcell][data-state=idle]").await?.click().await?;
    browser.press("b").await?;

    // What it is, in words; a moment that shows it is one click away, as a picture of the source itself.
    browser.wait_for_text("[data-testid='finding-Fields']", "interlaced, top field first").await?;
    browser.find("[data-testid=picture][data-shown=true]").await?;
    let moment = browser.find("[data-testid='finding-Fields'] button").await?;
    let at = moment.text().await?;
    moment.click().await?;
    browser.wait_for_text("[data-testid=timecode]", &at).await?;
    browser.find("[data-testid=picture][data-shown=true]").await?;
    browser.press(Key::Right + "").await?;
    let shown = browser.find("[data-testid=timecode]").await?.text().await?;
    assert_ne!(shown, at, "a key goes one frame on");
    // Both fields of a moving picture can be seen apart, and differ.
    browser.press("f").await?;
    browser.find("[data-testid=picture][data-shown=true] img[src*='field=top']").await?;

    // The preset keeps fields; the suggestion, once taken, stands above it for all outputs of the source.
    let source = source_of(&application, &sheet).await?;
    assert!(decision(&application, &sheet, &source, "fields").await?.0.contains("fields kept"));
    browser.find("[data-testid=suggestion] button").await?.click().await?;
    browser.find("[data-testid=suggestion][data-taken=true]").await?;
    let (what, origin) = decision(&application, &sheet, &source, "fields").await?;
    assert!(what.contains("only frames that show combing") && origin == "editor", "{what} ({origin})");
    // What cannot hold is refused and changes nothing.
    let wrong = json!({ "sources": [source], "overrides": { "picture": { "crop": { "rule": "sideways" } } } });
    let refused = application.call(Method::POST, &format!("/api/sheets/{sheet}/rows"), Some(wrong)).await;
    assert!(refused.is_err_and(|error| error.to_string().contains("picture.crop")));

    // A proof of it, made by the plan: the source is combed, the proof beside it is not.
    browser.find("[data-testid=prove-it]").await?.click().await?;
    browser.find("[data-testid=prove]").await?.click().await?;
    browser.find("[data-testid=compared][data-ready=true]").await?;
    let [combed, mended] = torn_lines(&browser).await?;
    assert!(combed > 1.3 * mended, "{combed:.2} in the source, {mended:.2} in the proof");
    browser.wait_for_text("[data-testid=forecast]", "for the whole").await?;
    // Another frame is another picture, and a valley of the quality is one click away.
    browser.press(Key::Right + "").await?;
    browser.wait_for_text("[data-testid=proof-frame]", "2 of").await?;
    browser.find("[data-testid=valley]").await?.click().await?;
    browser.find("[data-testid=compared][data-ready=true]").await?;

    // Two ways of deinterlacing beside each other; the one that is used is set for this output.
    browser.find("[data-testid=strip-setting] [role=combobox]").await?.click().await?;
    option(&browser, "Deinterlacing").await?.click().await?;
    // The list closes over the button.
    browser.wait_for_count("[role=listbox]", 0, Duration::from_secs(20)).await?;
    browser.find("[data-testid=make-strip]").await?.click().await?;
    browser.wait_for_count("[data-testid=variant][data-state=done]", 4, Duration::from_secs(120)).await?;
    // The proof is held against the same moment of another output, which is proved for that.
    let column = json!({ "preset": builtin("web-720"), "folder": "other" });
    application.call(Method::POST, &format!("/api/sheets/{sheet}/deliverables"), Some(column)).await?;
    browser.find("[data-testid=against] [role=combobox]").await?.click().await?;
    option(&browser, "Web 720 (make a proof)").await?.click().await?;
    browser.wait_for_text("[data-testid=compared]", "Web 720").await?;
    browser.find("[data-testid=compared][data-ready=true]").await?;
    let shown = async |side: &str| -> Outcome<String> {
        let image = browser.find(&format!("[data-side={side}] img")).await?;
        Ok(image.attr("src").await?.unwrap_or_default())
    };
    let (other, made) = (shown("against").await?, shown("made").await?);
    assert!(other.ends_with("side=made") && made.ends_with("side=made") && other[..60] != made[..60], "{other} {made}");
    // In motion both go on together, and stop where the shorter one ends.
    browser.find("[data-testid=play]").await?.click().await?;
    browser.wait_for_text("[data-testid=play]", "Stop").await?;
    browser.wait_for_text("[data-testid=play]", "Play").await?;
    let third = "(//*[@data-testid='variant'])[3]//button[text()='Use this one']";
    browser.window.query(By::XPath(third)).first().await?.click().await?;
    option(&browser, "for this output alone").await?.click().await?;
    let cell = application.call(Method::GET, &format!("/api/sheets/{sheet}"), None).await?["cells"][0].clone();
    wait_for(|| async { Ok(decision(&application, &sheet, &source, "fields").await?.0.contains("every frame")) }).await?;
    assert!(cell["forecast"].as_u64().is_some());

    // The file that is made shows no combing any more, by a scan of its own.
    browser.press(Key::Escape + "").await?;
    browser.find("[data-testid=run]").await?.click().await?;
    browser.find("[role=gridcell][data-state=done]").await?;
    let made = std::fs::read_dir(&media)?
        .filter_map(Result::ok)
        .map(|entry| entry.file_name())
        .find(|name| name.to_string_lossy().contains("_made"));
    let name = made.ok_or("no file was made")?.to_string_lossy().into_owned();
    let file = FileRef::within(media.display().to_string(), name.parse()?);
    let (reading, _) = Engine::locate()?.scan(&SourceRef::of(file), false, |_| {}).await?;
    let fields = reading.findings.and_then(|findings| findings.fields).ok_or("no fields were judged")?;
    assert_eq!(fields.verdict, FieldsVerdict::Progressive, "{}", fields.words);
    let errors = browser.console_errors().await?;
    assert!(errors.is_empty(), "{errors:?}");
    Ok(())
}

/// How much each line differs from the mean of its neighbours, for the source and the proof as they are shown.
async fn torn_lines(browser: &Browser) -> Outcome<[f64; 2]> {
    let script = r"
        return ['against', 'made'].map((side) => {
            const image = document.querySelector(`[data-side=${side}] img`);
            const canvas = document.createElement('canvas');
            [canvas.width, canvas.height] = [image.naturalWidth, image.naturalHeight];
            const pen = canvas.getContext('2d');
            pen.drawImage(image, 0, 0);
            const { data } = pen.getImageData(0, 0, canvas.width, canvas.height);
            const at = (x, y) => data[(y * canvas.width + x) * 4 + 1];
            let torn = 0;
            for (let y = 1; y + 1 < canvas.height; y += 1)
                for (let x = 0; x < canvas.width; x += 1) torn += Math.max(0, Math.abs(at(x, y) - (at(x, y - 1) + at(x, y + 1)) / 2) - 12);
            return torn / canvas.width / canvas.height;
        });";
    let told = browser.window.execute(script, vec![]).await?;
    let figure = |side: usize| told.json()[side].as_f64().ok_or_else(|| format!("no figures: {}", told.json()));
    Ok([figure(0)?, figure(1)?])
}

/// The entry of an open list that says this.
async fn option(browser: &Browser, words: &str) -> Outcome<WebElement> {
    let entry = format!("//*[@role='option' or @role='menuitem'][contains(., '{words}')]");
    Ok(browser.window.query(By::XPath(entry)).first().await?)
}

/// Waits until something that is asked for again and again holds.
async fn wait_for<F: Future<Output = Outcome<bool>>>(holds: impl Fn() -> F) -> Outcome<()> {
    let until = std::time::Instant::now() + Duration::from_secs(20);
    while !holds().await? {
        if std::time::Instant::now() > until {
            return Err("it did not come to hold in 20 s".into());
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    Ok(())
}

fn word(value: &Value) -> String {
    value.as_str().unwrap_or_default().to_owned()
}

async fn source_of(application: &Application, sheet: &str) -> Outcome<String> {
    let sheet = application.call(Method::GET, &format!("/api/sheets/{sheet}"), None).await?;
    Ok(word(&sheet["sources"][0]["id"]))
}

/// What the plan of the first column says on a subject, and who decided it.
async fn decision(application: &Application, sheet: &str, source: &str, subject: &str) -> Outcome<(String, String)> {
    let sheet = application.call(Method::GET, &format!("/api/sheets/{sheet}"), None).await?;
    let column = word(&sheet["deliverables"][0]["id"]);
    let output = application.call(Method::GET, &format!("/api/outputs/{source}/{column}"), None).await?;
    let decisions = output["plan"]["decisions"].as_array().ok_or_else(|| format!("no plan: {}", output["refusal"]))?;
    let found = decisions.iter().find(|decision| decision["subject"] == subject).ok_or("nothing was decided")?;
    Ok((word(&found["what"]), word(&found["origin"])))
}

#[tokio::test(flavor = "multi_thread")]
async fn parts_are_marked_and_pictures_cut_by_hand() -> Outcome<()> {
    let application = Application::start().await?;
    let media = application.folder("media")?;
    make_clips(&media, &["kiln-07_firing_cam-b.mp4", "trailer_scope_v6.mp4"], 4)?;
    let storage = application.add_storage("Media", &media).await?;
    let sheet = application.call(Method::POST, "/api/sheets", Some(json!({ "name": "Cuts" }))).await?;
    let sheet = word(&sheet["id"]);
    let sources = json!({ "storage": storage, "paths": [""] });
    application.call(Method::POST, &format!("/api/sheets/{sheet}/sources"), Some(sources)).await?;
    let presets = application.call(Method::GET, "/api/presets", None).await?;
    let web =
        presets.as_array().and_then(|all| all.iter().find(|one| one["preset"]["id"] == "web-720")).ok_or("no such preset")?;
    let column =
        json!({ "preset": web["preset"], "storage": null, "folder": "", "name_pattern": "<name>_made", "clash": "number" });
    application.call(Method::POST, &format!("/api/sheets/{sheet}/deliverables"), Some(column)).await?;
    let source = source_of(&application, &sheet).await?;

    let browser = Browser::open(false).await?;
    browser.window.goto(&format!("{}/sheets/{sheet}/sources/{source}", application.address())).await?;
    // The camera's own timecode is what is shown, planned and typed.
    browser.wait_for_text("[data-testid=timecode]", "10:00:04:12").await?;
    browser.find("[data-testid='finding-Fields']").await?;
    // From 1 s to the end of second 2, and the last frame: keys mark, and what is marked is what is planned.
    for key in [
        Key::Up + "",
        Key::Null + "i",
        Key::Up + "",
        Key::Up + "",
        Key::Null + "o",
        Key::End + "",
        Key::Null + "i",
        Key::Null + "o",
    ] {
        browser.press(key).await?;
    }
    browser.wait_for_count("[data-testid=marked]", 2, Duration::from_secs(10)).await?;
    wait_for(|| async {
        Ok(decision(&application, &sheet, &source, "parts")
            .await
            .is_ok_and(|(what, _)| what == "10:00:05:12 to 10:00:07:13, then 10:00:08:11 to 10:00:08:12"))
    })
    .await?;
    // A timecode that is typed moves the out point.
    let field = browser.find("[data-mark=out]").await?;
    field.click().await?;
    browser.press(Key::Control + "a").await?;
    field.send_keys("10:00:07:11" + Key::Enter).await?;
    wait_for(|| async {
        Ok(decision(&application, &sheet, &source, "parts").await?.0.starts_with("10:00:05:12 to 10:00:07:12"))
    })
    .await?;
    // Each part becomes an output of its own.
    browser.find("[data-testid=split]").await?.click().await?;
    browser.wait_for_count("[role=rowheader]", 3, Duration::from_secs(20)).await?;
    browser.find_text("kiln-07_firing_cam-b.mp4 · part 2").await?;

    // The bars of the trailer are cut off by the finding, and by hand on the picture.
    let rows = application.call(Method::GET, &format!("/api/sheets/{sheet}"), None).await?;
    let trailer = rows["sources"].as_array().and_then(|rows| rows.iter().find(|row| row["name"] == "trailer_scope_v6.mp4"));
    let trailer = word(&trailer.ok_or("no trailer")?["id"]);
    browser.window.goto(&format!("{}/sheets/{sheet}/sources/{trailer}", application.address())).await?;
    browser.find("[data-testid='finding-Bars']").await?;
    browser.find("[data-testid=picture][data-shown=true]").await?;
    application.settled_sheet(&sheet).await?;
    browser.press("x").await?;
    browser.find("[data-testid=crop-rule] [role=combobox]").await?.click().await?;
    option(&browser, "the bars that were found").await?.click().await?;
    browser.wait_for_text("[data-testid=crop-result]", "1920×804 of 1920×1080").await?;
    browser.wait_for_text("[data-testid=crop-result]", "No picture lost, no bars left").await?;
    let handle = browser.find("[data-testid='crop-handle-0-1']").await?;
    browser.window.action_chain().click_and_hold_element(&handle).move_by_offset(0, 40).release().perform().await?;
    browser.wait_for_text("[data-testid=crop-result]", "of the picture lost").await?;
    browser.find("[data-testid=crop-set]").await?.click().await?;
    wait_for(|| async {
        Ok(decision(&application, &sheet, &trailer, "crop")
            .await
            .is_ok_and(|(what, origin)| what.starts_with("cropped to 1920×") && origin == "editor"))
    })
    .await?;
    let errors = browser.console_errors().await?;
    assert!(errors.is_empty(), "{errors:?}");
    Ok(())
}
