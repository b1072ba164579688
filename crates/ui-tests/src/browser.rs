//! Headless Chromium through its driver.

use std::io::{BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use nix::sys::signal::{Signal, killpg};
use nix::unistd::Pid;
use thirtyfour::prelude::*;

use crate::Outcome;

/// A browser window; dropping it ends the browser and its driver.
pub struct Browser {
    /// The window.
    pub window: WebDriver,
    driver: Child,
    driver_address: String,
    _folder: tempfile::TempDir,
}

impl Browser {
    /// Opens a window whose page is 1280 by 800, dark or light.
    ///
    /// # Errors
    /// Where Chromium or its driver is missing.
    pub async fn open(dark: bool) -> Outcome<Self> {
        let folder = tempfile::tempdir()?;
        let mut driver = Command::new("chromedriver")
            .arg("--port=0")
            .env("HOME", folder.path())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            // A group of its own, so that browsers end with their driver.
            .process_group(0)
            .spawn()?;
        let lines = BufReader::new(driver.stdout.take().ok_or("the driver says nothing")?).lines();
        let port = lines
            .map_while(Result::ok)
            .find_map(|line| {
                line.strip_prefix("ChromeDriver was started successfully on port ")
                    .map(|rest| rest.trim_end_matches('.').to_owned())
            })
            .ok_or("the driver did not start")?;
        let mut wishes = DesiredCapabilities::chrome();
        for argument in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-dev-shm-usage",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-quic",
            "--window-size=1280,943",
            "--force-device-scale-factor=1",
            "--autoplay-policy=no-user-gesture-required",
        ] {
            wishes.add_arg(argument)?;
        }
        wishes.add_arg(&format!("--user-data-dir={}", folder.path().join("profile").display()))?;
        if dark {
            wishes.add_arg("--force-dark-mode")?;
        }
        wishes.set("goog:loggingPrefs", serde_json::json!({ "browser": "ALL" }))?;
        let driver_address = format!("http://127.0.0.1:{port}");
        let window = WebDriver::new(&driver_address, wishes).await?;
        Ok(Self { window, driver, driver_address, _folder: folder })
    }

    /// A figure of the browser's own instrument for the page, such as `ScriptDuration` in seconds; from the first call on it
    /// counts.
    ///
    /// # Errors
    /// Where there is none of this name.
    pub async fn metric(&self, name: &str) -> Outcome<f64> {
        let instrument = self.window.cdp();
        instrument.send_raw("Performance.enable", serde_json::json!({})).await?;
        let metrics = instrument.send_raw("Performance.getMetrics", serde_json::json!({})).await?;
        let metrics = metrics["metrics"].as_array().cloned().unwrap_or_default();
        let metric = metrics.iter().find(|metric| metric["name"] == name);
        Ok(metric.and_then(|metric| metric["value"].as_f64()).ok_or(format!("there is no figure {name}"))?)
    }

    /// Has a script run in every page before its own ones.
    ///
    /// # Errors
    /// Where the browser refuses it.
    pub async fn run_before_pages(&self, script: &str) -> Outcome<()> {
        let wish = serde_json::json!({ "source": script });
        self.window.cdp().send_raw("Page.addScriptToEvaluateOnNewDocument", wish).await?;
        Ok(())
    }

    /// The element that `css` finds, waited for.
    ///
    /// # Errors
    /// Where it does not come within half a minute.
    pub async fn find(&self, css: &str) -> Outcome<WebElement> {
        Ok(self.window.query(By::Css(css)).wait(Duration::from_secs(30), Duration::from_millis(100)).first().await?)
    }

    /// The button (or anything else) that shows exactly this text, waited for.
    ///
    /// # Errors
    /// Where it does not come within half a minute.
    pub async fn find_text(&self, text: &str) -> Outcome<WebElement> {
        let path = format!("//*[normalize-space(text())='{text}']");
        Ok(self.window.query(By::XPath(path)).wait(Duration::from_secs(30), Duration::from_millis(100)).first().await?)
    }

    /// Waits until what `css` finds shows `text`; while a dialog fades in it shows nothing.
    ///
    /// # Errors
    /// Where that does not happen within half a minute; the message says what was shown instead.
    pub async fn wait_for_text(&self, css: &str, text: &str) -> Outcome<()> {
        let began = std::time::Instant::now();
        loop {
            let shown = self.find(css).await?.text().await?;
            if shown.contains(text) {
                return Ok(());
            }
            if began.elapsed() > Duration::from_secs(30) {
                return Err(format!("{css} shows “{shown}” and not “{text}”").into());
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// Waits until `css` finds exactly `count` elements.
    ///
    /// # Errors
    /// Where that does not happen within `patience`.
    pub async fn wait_for_count(&self, css: &str, count: usize, patience: Duration) -> Outcome<()> {
        let began = std::time::Instant::now();
        loop {
            let found = self.window.find_all(By::Css(css)).await?.len();
            if found == count {
                return Ok(());
            }
            if began.elapsed() > patience {
                return Err(format!("{found} instead of {count} of {css} after {patience:?}").into());
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// Presses keys wherever the page has its focus.
    ///
    /// # Errors
    /// Where the browser does not answer.
    pub async fn press(&self, keys: impl Into<TypingData>) -> Outcome<()> {
        Ok(self.window.active_element().await?.send_keys(keys).await?)
    }

    /// Drops files or folders of this machine onto the middle of what `css` finds, as from outside
    /// the browser.
    ///
    /// # Errors
    /// Where the browser refuses.
    pub async fn drop_files(&self, css: &str, paths: &[&Path]) -> Outcome<()> {
        let target = self.find(css).await?.rect().await?;
        let (x, y) = (target.x + target.width / 2.0, target.y + target.height / 2.0);
        let files: Vec<String> = paths.iter().map(|path| path.display().to_string()).collect();
        let command = format!("{}/session/{}/goog/cdp/execute", self.driver_address, self.window.session_id());
        for kind in ["dragEnter", "dragOver", "drop"] {
            let event = serde_json::json!({
                "type": kind, "x": x, "y": y, "data": { "items": [], "files": files, "dragOperationsMask": 1 },
            });
            let call = serde_json::json!({ "cmd": "Input.dispatchDragEvent", "params": event });
            reqwest::Client::new().post(&command).json(&call).send().await?.error_for_status()?;
        }
        Ok(())
    }

    /// Errors that the page wrote to the browser's console.
    ///
    /// # Errors
    /// Where the browser does not answer.
    pub async fn console_errors(&self) -> Outcome<Vec<String>> {
        let log = format!("{}/session/{}/se/log", self.driver_address, self.window.session_id());
        let answer = reqwest::Client::new().post(log).json(&serde_json::json!({ "type": "browser" })).send().await?;
        let answer: serde_json::Value = serde_json::from_str(&answer.text().await?)?;
        let entries = answer["value"].as_array().ok_or("the driver gave no log")?;
        Ok(entries.iter().filter(|entry| entry["level"] == "SEVERE").map(|entry| entry["message"].to_string()).collect())
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        if let Ok(id) = i32::try_from(self.driver.id()) {
            let _gone_already = killpg(Pid::from_raw(id), Signal::SIGKILL);
        }
        drop(self.driver.wait());
    }
}
