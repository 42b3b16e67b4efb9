//! A browser that a test drives.

use anyhow::{Context, Result, ensure};
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

pub const LIMIT: Duration = Duration::from_secs(120);

pub struct Browser {
    driver: Child,
    profile: PathBuf,
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.driver.kill();
        let _ = self.driver.wait();
        let _ = std::fs::remove_dir_all(&self.profile);
    }
}

pub async fn open_browser(port: u16) -> Result<(Browser, Client)> {
    let profile = std::env::temp_dir().join(format!("karst-console-{}", std::process::id()));
    let driver = Command::new("chromedriver")
        .arg(format!("--port={port}"))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .context("chromedriver")?;
    let browser = Browser {
        driver,
        profile: profile.clone(),
    };
    let mut arguments = vec![
        "--headless=new".to_string(),
        "--disable-gpu".into(),
        "--disable-dev-shm-usage".into(),
        "--no-first-run".into(),
        "--disable-background-networking".into(),
        "--disable-component-update".into(),
        "--disable-sync".into(),
        "--window-size=1280,800".into(),
        format!("--user-data-dir={}", profile.display()),
    ];
    if rustix::process::geteuid().is_root() {
        arguments.push("--no-sandbox".into());
    }
    let mut capabilities = serde_json::map::Map::new();
    capabilities.insert(
        "goog:chromeOptions".into(),
        serde_json::json!({ "args": arguments, "binary": "/usr/bin/chromium" }),
    );
    let begun = Instant::now();
    loop {
        match ClientBuilder::new(HttpConnector::new())
            .capabilities(capabilities.clone())
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
        {
            Ok(client) => return Ok((browser, client)),
            Err(error) => ensure!(
                begun.elapsed() < Duration::from_secs(30),
                "no browser: {error}"
            ),
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

/// Waits until this holds, and says what was waited for.
pub async fn until<F: AsyncFnMut() -> Result<bool>>(what: &str, mut holds: F) -> Result<()> {
    let begun = Instant::now();
    while !holds().await? {
        ensure!(begun.elapsed() < LIMIT, "not within {LIMIT:?}: {what}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    Ok(())
}

/// Clicks what is there, as soon as it is there and can be clicked.
pub async fn click(page: &Client, css: &str) -> Result<()> {
    until(&format!("{css} can be clicked"), async || {
        match page.find(Locator::Css(css)).await {
            Ok(element) if element.is_enabled().await.unwrap_or(false) => {
                Ok(element.click().await.is_ok())
            }
            _ => Ok(false),
        }
    })
    .await
}

/// The text of an element that has one.
pub async fn text_of(page: &Client, css: &str) -> Result<String> {
    let mut text = String::new();
    until(&format!("{css} has a text"), async || {
        if let Ok(element) = page.find(Locator::Css(css)).await {
            text = element.text().await.unwrap_or_default();
        }
        Ok(!text.is_empty())
    })
    .await?;
    Ok(text)
}

pub async fn is_there(page: &Client, css: &str) -> bool {
    page.find(Locator::Css(css)).await.is_ok()
}

/// Fills a field, as soon as it is there and takes it: a drawer may still be sliding in.
pub async fn type_in(page: &Client, css: &str, text: &str) -> Result<()> {
    until(&format!("{css} takes a text"), async || {
        let Ok(field) = page.find(Locator::Css(css)).await else {
            return Ok(false);
        };
        Ok(field.clear().await.is_ok() && field.send_keys(text).await.is_ok())
    })
    .await
}

/// Chooses from a list.
pub async fn choose(page: &Client, css: &str, value: &str) -> Result<()> {
    until(&format!("{css} offers {value}"), async || {
        let Ok(list) = page.find(Locator::Css(css)).await else {
            return Ok(false);
        };
        Ok(list.select_by_value(value).await.is_ok())
    })
    .await
}

/// Shows the sign-in page of a node, and signs in.
pub async fn sign_in(page: &Client, url: &str, token: &str) -> Result<()> {
    page.goto(url).await?;
    type_in(page, "#token", token).await?;
    click(page, "button[type=submit]").await?;
    text_of(page, "#sentence").await.map(drop)
}
