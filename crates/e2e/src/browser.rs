//! A headless Chromium.

use std::cell::RefCell;
use std::io::{BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use anyhow::{Context as _, Result};
use serde_json::json;
use tempfile::TempDir;
use thirtyfour::prelude::*;

use crate::wait;

/// Chromium without the part that draws windows: it takes a third less of the processor. The program itself: `chromedriver`
/// cannot end what the script in front of it starts.
const PROGRAM: &str = "/usr/lib/chromium/chromium-headless-shell";

/// A browser window.
pub struct Browser {
    /// The browser's window.
    pub window: WebDriver,
    driver: Child,
    _profile: TempDir,
}

/// The port that chromedriver tells once it listens. What it says later is read and dropped.
fn port_of(driver: &mut Child) -> Result<u16> {
    let mut lines = BufReader::new(driver.stdout.take().context("chromedriver's output")?).lines();
    let told = lines.by_ref().map_while(Result::ok).find_map(|line| {
        line.rsplit_once("on port ")?.1.trim_end_matches('.').parse::<u16>().ok().filter(|port| *port > 0)
    });
    std::thread::spawn(move || lines.for_each(drop));
    told.context("chromedriver told no port")
}

impl Browser {
    /// Opens a window of this size; a narrow one is a phone's.
    pub async fn open(width: u32, height: u32) -> Result<Self> {
        // It chooses a port itself: one chosen here could be taken by another test before it listens.
        let profile = tempfile::Builder::new().prefix("keen-heron-browser-").tempdir()?;
        let mut driver = Command::new("chromedriver")
            .arg("--port=0")
            // It makes the browser's profile there.
            .env("TMPDIR", profile.path())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .context("chromedriver; scripts/test installs what is missing")?;
        let port = port_of(&mut driver)?;
        let mut wanted = DesiredCapabilities::chrome();
        wanted.set_binary(PROGRAM)?;
        for arg in [
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--disable-dev-shm-usage",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            &format!("--window-size={width},{height}"),
        ] {
            wanted.add_arg(arg)?;
        }
        if width < 500 {
            let metrics =
                json!({ "deviceMetrics": { "width": width, "height": height, "pixelRatio": 2, "touch": true } });
            wanted.add_experimental_option("mobileEmulation", metrics)?;
        }
        let address = format!("http://127.0.0.1:{port}");
        let window = wait::until("chromedriver", async || WebDriver::new(&address, wanted.clone()).await.ok()).await;
        Ok(Self { window, driver, _profile: profile })
    }

    /// The text of an element, once `right` agrees with it.
    pub async fn text_when(&self, css: &str, right: impl Fn(&str) -> bool) -> String {
        let last = RefCell::new(String::from("nothing"));
        let what = || format!("the text of {css}; the last one was {:?}", last.borrow());
        wait::until_or_tell(what, async || {
            let element = self.window.find(By::Css(css)).await.ok()?;
            let text = element.text().await.ok()?;
            let is_right = right(&text);
            last.replace(text.clone());
            is_right.then_some(text)
        })
        .await
    }

    /// Clicks an element as soon as it is there.
    pub async fn click(&self, by: By) {
        let what = format!("a click on {by:?}");
        wait::until(&what, async || self.window.find(by.clone()).await.ok()?.click().await.ok()).await;
    }

    /// Opens a tab of a page, by its name in the address.
    pub async fn tab(&self, id: &str) {
        self.click(By::Css(format!("[data-tab={id}]"))).await;
    }

    /// Types into a field as soon as it is there; one that is drawn again meanwhile is filled again.
    pub async fn fill(&self, css: &str, text: &str) -> Result<()> {
        let what = format!("typing into {css}");
        wait::until(&what, async || {
            let field = self.window.find(By::Css(css)).await.ok()?;
            field.clear().await.ok()?;
            field.send_keys(text).await.ok()
        })
        .await;
        Ok(())
    }

    /// Chooses an option of a list by its value.
    pub async fn choose(&self, css: &str, value: &str) {
        self.click(By::Css(format!("{css} option[value='{value}']"))).await;
    }

    /// Closes the window.
    pub async fn close(self) -> Result<()> {
        self.window.clone().quit().await?;
        // A moment for the browser to let go of its profile, which is about to be removed.
        tokio::time::sleep(Duration::from_millis(100)).await;
        Ok(())
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}
