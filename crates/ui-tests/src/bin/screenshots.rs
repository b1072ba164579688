//! Takes the pictures of the main views for the documentation from a running application with its
//! demo data: `cargo run -p beryl-ui-tests --bin screenshots -- http://127.0.0.1:8470 docs/screenshots`

use std::path::PathBuf;
use std::time::Duration;

use beryl_ui_tests::{Browser, Outcome};
use thirtyfour::prelude::*;

/// The application, a browser that looks at it, and the folder for the pictures.
struct Tour {
    browser: Browser,
    address: String,
    folder: PathBuf,
    suffix: &'static str,
}

impl Tour {
    async fn begin(address: &str, folder: &std::path::Path, look: &'static str, suffix: &'static str) -> Outcome<Self> {
        let browser = Browser::open(false).await?;
        browser.window.goto(&format!("{address}/sheets")).await?;
        browser.window.execute(format!("localStorage.setItem('beryl.look', '{look}')"), vec![]).await?;
        Ok(Self { browser, address: address.to_owned(), folder: folder.to_owned(), suffix })
    }

    /// Goes to a place and waits for `sign` of it.
    async fn go(&self, place: &str, sign: &str) -> Outcome<()> {
        self.browser.window.goto(&format!("{}/{place}", self.address)).await?;
        self.browser.find(sign).await?;
        Ok(())
    }

    async fn open_sheet(&self, name: &str) -> Outcome<()> {
        self.go("sheets", "main button").await?;
        let path = format!("//main//button[contains(., '{name}')]");
        self.browser.window.query(By::XPath(path)).first().await?.click().await?;
        self.browser.find("[role=gridcell][data-state]").await?;
        Ok(())
    }

    /// Opens the bench of a source and waits until it was scanned and its picture is there.
    async fn open_bench(&self, sheet: &str, source: &str) -> Outcome<()> {
        self.open_sheet(sheet).await?;
        let row = format!("//*[@role='rowheader'][contains(., '{source}')]");
        self.browser.window.query(By::XPath(row)).first().await?.click().await?;
        self.browser.press("b").await?;
        self.browser.find("[data-testid='finding-Fields']").await?;
        self.browser.find("[data-testid=picture][data-shown=true]").await?;
        Ok(())
    }

    async fn click(&self, css: &str) -> Outcome<()> {
        Ok(self.browser.find(css).await?.click().await?)
    }

    /// Takes the entry of an open list that says this, and waits until the list is gone.
    async fn choose(&self, words: &str) -> Outcome<()> {
        let entry = format!("//*[@role='option'][contains(., '{words}')]");
        self.browser.window.query(By::XPath(entry)).first().await?.click().await?;
        self.browser.wait_for_count("[role=listbox]", 0, Duration::from_secs(10)).await
    }

    /// Puts a dialog away and waits until it is gone.
    async fn close_dialog(&self) -> Outcome<()> {
        self.browser.press(Key::Escape + "").await?;
        self.browser.wait_for_count("[role=dialog]", 0, Duration::from_secs(10)).await
    }

    async fn shoot(&self, name: &str) -> Outcome<()> {
        let settled = "return document.fonts.status === 'loaded' && [...document.images].every(image => image.complete) \
                       && document.getAnimations().every(one => one.playState !== 'running')";
        for _ in 0..50 {
            if self.browser.window.execute(settled, vec![]).await?.json() == &serde_json::Value::Bool(true) {
                break;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        Ok(self.browser.window.screenshot(&self.folder.join(format!("{name}-{}.png", self.suffix))).await?)
    }
}

#[tokio::main]
async fn main() -> Outcome<()> {
    let mut arguments = std::env::args().skip(1);
    let (Some(address), Some(folder)) = (arguments.next(), arguments.next().map(PathBuf::from)) else {
        return Err("say the address of the application and the folder for the pictures".into());
    };
    std::fs::create_dir_all(&folder)?;
    let night = Tour::begin(&address, &folder, "dark", "night").await?;
    night.go("sheets", "main button").await?;
    night.shoot("sheets").await?;
    night.open_sheet("ep. 3").await?;
    night.click("[role=gridcell][data-state]").await?;
    night.shoot("sheet").await?;
    night.browser.press(Key::Enter + "").await?;
    night.browser.find("[data-testid=slip] h2").await?;
    night.shoot("slip").await?;
    night.click("[role=columnheader]:nth-of-type(3)").await?;
    night.shoot("column").await?;
    for (button, name, sign) in
        [("add-sources", "add-sources", "input[type=checkbox]"), ("add-deliverable", "add-deliverable", "[data-preset]")]
    {
        night.click(&format!("[data-testid={button}]")).await?;
        night.browser.find(sign).await?;
        night.shoot(name).await?;
        night.close_dialog().await?;
    }
    night.browser.press(Key::Control + "k").await?;
    night.browser.find("[data-testid=palette]").await?;
    night.shoot("palette").await?;
    night.open_sheet("Open day").await?;
    night.click("[role=gridcell][data-state=done]").await?;
    night.browser.press(Key::Enter + "").await?;
    for side in ["source", "output"] {
        night.browser.find(&format!("video[data-of={side}]")).await?;
    }
    night.shoot("finished").await?;
    night.open_bench("Open day", "openday-94_tape-2.mov").await?;
    night.click("[data-testid='finding-Fields'] button").await?;
    night.shoot("bench").await?;
    night.browser.press("p").await?;
    night.click("[data-testid=prove]").await?;
    night.browser.wait_for_count("[data-testid=proof][data-state=done]", 4, Duration::from_secs(180)).await?;
    night.browser.find("[data-testid=compared][data-ready=true]").await?;
    night.shoot("proof").await?;
    night.click("[data-testid=make-strip]").await?;
    night.browser.wait_for_count("[data-testid=variant][data-state=done]", 5, Duration::from_secs(180)).await?;
    night.browser.find("[data-testid=compared][data-ready=true]").await?;
    let beside = "//button[text()='Side by side']";
    night.browser.window.query(By::XPath(beside)).first().await?.click().await?;
    night.shoot("strip").await?;
    night.open_bench("ep. 3", "trailer_scope_v6.mp4").await?;
    night.browser.press("x").await?;
    night.click("[data-testid=crop-rule] [role=combobox]").await?;
    night.choose("the bars that were found").await?;
    night.browser.wait_for_text("[data-testid=crop-result]", "no bars left").await?;
    night.shoot("crop").await?;
    night.open_bench("ep. 3", "clip-0003.mov").await?;
    night.browser.press("m").await?;
    night.click("[data-testid='more-Colour']").await?;
    night.click("[data-setting='picture.colour.lut'] [role=combobox]").await?;
    night.choose("fenmark-log-to-rec709").await?;
    night.browser.find("[data-testid=picture][data-shown=true] img[src*='look=']").await?;
    night.shoot("mend").await?;
    // As each preset says again.
    night.click("[data-setting='picture.colour.lut'] [role=combobox]").await?;
    night.choose("from the preset").await?;
    night.go("watch", "[data-testid=watch-folder]").await?;
    night.browser.wait_for_count("[data-stage=out][data-count='2']", 1, Duration::from_secs(120)).await?;
    night.browser.wait_for_count("[data-state=failed]", 1, Duration::from_secs(120)).await?;
    night.click("[data-state=failed]").await?;
    night.browser.find("[data-file]").await?;
    night.shoot("watch").await?;
    night.go("settings", "main section button").await?;
    night.shoot("settings").await?;

    let day = Tour::begin(&address, &folder, "light", "day").await?;
    day.open_sheet("ep. 3").await?;
    day.click("[role=gridcell][data-state]").await?;
    day.shoot("sheet").await?;
    day.open_bench("ep. 3", "works-film_1973_r1.mov").await?;
    day.click("[data-testid='finding-Fields'] button").await?;
    day.shoot("bench-film").await?;
    day.go("presets", "main tbody tr").await?;
    day.shoot("presets").await?;

    // The last one: the queue is worth looking at only while it works, and is emptied again.
    night.open_sheet("ep. 3").await?;
    night.click("[data-testid=run]").await?;
    // Leaving the page at once would take the wish back with it.
    night.browser.find("[role=gridcell][data-state=running]").await?;
    night.go("queue", "[data-testid=night] button").await?;
    night.browser.find("tr[data-state=running] td:nth-of-type(6):not(:empty)").await?;
    night.shoot("queue").await?;
    night.open_sheet("ep. 3").await?;
    let cancel = "//footer//button[text()='Cancel']";
    night.browser.window.query(By::XPath(cancel)).first().await?.click().await?;
    night.browser.wait_for_count("[role=gridcell][data-state=running]", 0, Duration::from_secs(60)).await?;
    Ok(())
}
