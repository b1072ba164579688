//! Takes the pictures of the main views for the documentation from a running application with its
//! demo data: `cargo run -p beryl-ui-tests --bin screenshots -- http://127.0.0.1:8470 docs/screenshots`

use std::path::PathBuf;
use std::time::Duration;

use beryl_ui_tests::{Browser, Outcome};
use thirtyfour::prelude::*;

#[tokio::main(flavor = "current_thread")]
async fn main() -> Outcome<()> {
    let mut arguments = std::env::args().skip(1);
    let (Some(address), Some(folder)) = (arguments.next(), arguments.next().map(PathBuf::from)) else {
        return Err("say the address of the application and the folder for the pictures".into());
    };
    std::fs::create_dir_all(&folder)?;
    for dark in [true, false] {
        let browser = Browser::open(false).await?;
        let suffix = if dark { "night" } else { "day" };
        browser.window.goto(&format!("{address}/sheets")).await?;
        let look = format!("localStorage.setItem('beryl.look', '{}')", if dark { "dark" } else { "light" });
        browser.window.execute(look, vec![]).await?;
        browser.window.refresh().await?;
        let shoot = async |name: &str| -> Outcome<()> {
            // Fonts and thumbnails arrive after the elements.
            tokio::time::sleep(Duration::from_millis(700)).await;
            browser.window.screenshot(&folder.join(format!("{name}-{suffix}.png"))).await?;
            Ok(())
        };
        browser.find("main button").await?;
        shoot("sheets").await?;
        open_sheet(&browser, "ep. 3").await?;
        browser.find("[role=gridcell][data-state]").await?.click().await?;
        shoot("sheet").await?;
        if dark {
            browser.find("[role=gridcell][data-state]").await?.send_keys(Key::Enter).await?;
            browser.find("[data-testid=slip] h2").await?;
            shoot("slip").await?;
            for (button, name, sign) in
                [("add-sources", "add-sources", "input[type=checkbox]"), ("add-deliverable", "add-deliverable", "[data-preset]")]
            {
                browser.find(&format!("[data-testid={button}]")).await?.click().await?;
                browser.find(sign).await?;
                shoot(name).await?;
                browser.find_text("Cancel").await?.click().await?;
                tokio::time::sleep(Duration::from_millis(400)).await;
            }
            browser.window.goto(&format!("{address}/sheets")).await?;
            open_sheet(&browser, "Open day").await?;
            browser.find("[role=gridcell][data-state=done]").await?.click().await?;
            browser.find("[role=gridcell][data-state=done]").await?.send_keys(Key::Enter).await?;
            browser.find("[data-testid=slip] video").await?;
            shoot("finished").await?;
        }
        for place in ["queue", "presets", "settings"] {
            if dark || place == "presets" {
                browser.window.goto(&format!("{address}/{place}")).await?;
                browser.find("main h1").await?;
                shoot(place).await?;
            }
        }
    }
    Ok(())
}

async fn open_sheet(browser: &Browser, name: &str) -> Outcome<()> {
    browser.find("main button").await?;
    let path = format!("//button[contains(., '{name}')]");
    browser.window.query(By::XPath(path)).first().await?.click().await?;
    browser.find("[role=grid]").await?;
    Ok(())
}
