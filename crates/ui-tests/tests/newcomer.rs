//! An empty Beryl: the first storage is found by browsing, and three gestures later a batch runs.

use std::time::Duration;

use beryl_ui_tests::{Application, Browser, Outcome, make_clips};
use reqwest::Method;
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread")]
async fn a_newcomer_finds_the_media_and_runs_a_batch() -> Outcome<()> {
    let application = Application::start().await?;
    // Folders that are hidden are not offered, and those of tests usually are.
    let house = tempfile::Builder::new().prefix("house").tempdir_in(env!("CARGO_TARGET_TMPDIR"))?;
    let media = house.path().canonicalize()?.join("camera originals");
    std::fs::create_dir(&media)?;
    make_clips(&media, &["glaze-db_screen.mp4"], 1)?;

    let browser = Browser::open(false).await?;
    browser.window.goto(application.address()).await?;
    browser.find("[data-testid=first-storage]").await?.click().await?;
    // From the root of the machine down to the folder, as somebody would click.
    let shown = async |text: &str| browser.wait_for_text("[data-testid=folder]", text).await;
    shown("Volumes and folders of this machine").await?;
    let choose = async |name: &str| -> Outcome<()> {
        let entry = format!("//*[@aria-label='Folders']//*[normalize-space(text())='{name}']");
        let entry = browser.window.query(By::XPath(entry)).wait(Duration::from_secs(20), Duration::from_millis(100));
        Ok(entry.first().await?.click().await?)
    };
    choose("/").await?;
    shown("/").await?;
    // The root holds what is the system's own: it is refused before anything is asked of it.
    let refusal = browser.find("[role=dialog] p").await?.text().await?;
    assert!(refusal.contains("not for media"), "{refusal}");
    assert!(!browser.find("[data-testid=use-folder]").await?.is_enabled().await?);
    let mut path = std::path::PathBuf::from("/");
    for name in media.iter().skip(1) {
        choose(name.to_str().ok_or("a name that is no text")?).await?;
        path.push(name);
        shown(path.to_str().ok_or("a path that is no text")?).await?;
    }
    browser.find("[data-testid=use-folder]:enabled").await?.click().await?;
    browser.wait_for_count("[role=dialog]", 0, Duration::from_secs(10)).await?;
    let storages = application.call(Method::GET, "/api/storages", None).await?;
    assert_eq!(storages[0]["name"], "Camera originals");

    // Sources, a deliverable, run.
    browser.find_text("New sheet").await?.click().await?;
    browser.find("[data-testid=add-sources]").await?.click().await?;
    browser.find("[aria-label='Choose glaze-db_screen.mp4']").await?.click().await?;
    browser.find("[data-testid=confirm-sources]").await?.click().await?;
    browser.wait_for_count("[role=rowheader]", 1, Duration::from_secs(20)).await?;
    browser.wait_for_count("[role=dialog]", 0, Duration::from_secs(10)).await?;
    browser.press("d").await?;
    browser.find("[data-preset=review-small]").await?.click().await?;
    browser.find("[data-testid=confirm-deliverable]").await?.click().await?;
    browser.wait_for_count("[role=dialog]", 0, Duration::from_secs(10)).await?;
    browser.find("[data-testid=run]:enabled").await?.click().await?;
    browser.wait_for_count("[role=gridcell][data-state=done]", 1, Duration::from_secs(60)).await
}
