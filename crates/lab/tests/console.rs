//! The console in a real browser: the *Now* page shows a failover's steps as they happen, without
//! navigation.

use anyhow::{Context, Result, ensure};
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use karst_lab::shape::Shape;
use karst_lab::{Lab, Layout, find};
use rustix::process::Signal;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const LIMIT: Duration = Duration::from_secs(120);

struct Browser {
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

async fn open_browser(port: u16) -> Result<(Browser, Client)> {
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

#[tokio::test(flavor = "multi_thread")]
async fn now_shows_a_failover_as_it_happens() {
    let dir = PathBuf::from("/var/tmp/karst-test-console");
    if let Ok(old) = Layout::load(&dir) {
        Lab::attach(old).unwrap().remove().unwrap();
    }
    let lab = Lab::up(Layout::new(&dir, 9700, Shape::default()).unwrap()).unwrap();
    let seen = watch_failover(&lab).await;
    lab.remove().unwrap();
    seen.unwrap();
}

async fn watch_failover(lab: &Lab) -> Result<()> {
    lab.healthy(LIMIT).await?;
    let (_browser, page) = open_browser(9790).await?;
    let outcome = steps_in_order(lab, &page).await;
    page.close().await?;
    outcome
}

async fn steps_in_order(lab: &Lab, page: &Client) -> Result<()> {
    page.goto(&lab.layout.servers()[2]).await?;
    let token = page
        .wait()
        .at_most(LIMIT)
        .for_element(Locator::Id("token"))
        .await?;
    token.send_keys("not the token").await?;
    page.find(Locator::Css("button[type=submit]"))
        .await?
        .click()
        .await?;
    let refused = page
        .wait()
        .at_most(LIMIT)
        .for_element(Locator::Css(".alert-danger"))
        .await?;
    ensure!(
        refused.text().await?.contains("not known"),
        "a wrong token is refused in words"
    );
    page.find(Locator::Id("token")).await?.clear().await?;
    page.find(Locator::Id("token"))
        .await?
        .send_keys(&lab.layout.token()?)
        .await?;
    page.find(Locator::Css("button[type=submit]"))
        .await?
        .click()
        .await?;
    let sentence = page
        .wait()
        .at_most(LIMIT)
        .for_element(Locator::Id("sentence"))
        .await?;
    ensure!(
        sentence.text().await?.starts_with("All is well."),
        "{}",
        sentence.text().await?
    );

    // A mark on the page's own window: it is gone if the page was loaded anew.
    page.execute("window.untouched = true", vec![]).await?;
    let before = operation(page).await?;
    let primary = lab.primary().await?;
    find::signal(find::postmaster(&lab.layout, &primary)?, Signal::KILL)?;
    let wanted = ["operation-began", "isolated", "opened"];
    let mut seen: Vec<&str> = Vec::new();
    let begun = Instant::now();
    while seen.len() < wanted.len() {
        ensure!(
            begun.elapsed() < LIMIT,
            "only {seen:?} of {wanted:?} were shown"
        );
        if operation(page).await? != before {
            let steps = kinds_of_steps(page).await?;
            let place = |wanted: &&str| steps.iter().position(|kind| kind == wanted);
            let at: Vec<Option<usize>> = wanted.iter().map(place).collect();
            ensure!(at.iter().flatten().is_sorted(), "out of order: {steps:?}");
            seen = wanted
                .iter()
                .zip(at)
                .filter(|(_, at)| at.is_some())
                .map(|(w, _)| *w)
                .collect();
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let untouched = page
        .execute("return window.untouched === true", vec![])
        .await?;
    ensure!(
        untouched.as_bool() == Some(true),
        "the page was loaded anew"
    );
    the_other_pages(lab, page).await?;
    nothing_old_looks_live(lab, page).await
}

/// The page's own node stands still, says no goodbye, and what it said last is shown as old.
async fn nothing_old_looks_live(lab: &Lab, page: &Client) -> Result<()> {
    let daemon = find::daemon(&lab.layout, karst_lab::layout::NODES[2].name, "run")?;
    find::signal(daemon, Signal::STOP)?;
    let said = text_of(page, "stale").await.context("it still looks live");
    find::signal(daemon, Signal::CONT)?;
    ensure!(said?.contains("Not live"), "it is not said in words");
    let begun = Instant::now();
    while page.find(Locator::Id("stale")).await.is_ok() {
        ensure!(
            begun.elapsed() < LIMIT,
            "it stays old though its node is back"
        );
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    Ok(())
}

/// Each page shows what the cluster says of itself.
async fn the_other_pages(lab: &Lab, page: &Client) -> Result<()> {
    let status = lab.healthy(LIMIT).await?.status;
    let newest = status
        .operations
        .first()
        .context("an operation")?
        .id
        .0
        .to_string();
    let zones = text_of(page, "zones").await?;
    let wrong = status
        .nodes
        .iter()
        .find(|n| !zones.contains(n.node.as_str()) || !zones.contains(&n.zone));
    ensure!(
        wrong.is_none() && zones.contains("primary of"),
        "the map: {zones}"
    );
    page.find(Locator::Css("[data-writes=sailings] canvas"))
        .await
        .context("the graph of what is written")?;
    go(page, "operation").await?;
    let list = text_of(page, "operations").await?;
    ensure!(
        list.contains(&format!("op-{newest}")),
        "the operations: {list}"
    );
    go(page, "history").await?;
    let history = text_of(page, "history").await?;
    ensure!(
        history.contains("is coordinator of term") && history.contains("vote."),
        "the history: {history}"
    );
    go(page, "workload/sailings").await?;
    let endpoints = text_of(page, "endpoints").await?;
    ensure!(
        endpoints.contains(karst_lab::layout::FLOATING),
        "the endpoints: {endpoints}"
    );
    let positions = text_of(page, "positions").await?;
    let standbys = status.workloads[0]
        .replicas
        .iter()
        .filter(|r| Some(&r.node) != status.workloads[0].primary.as_ref());
    let missing = standbys
        .map(|r| r.node.as_str())
        .find(|n| !positions.contains(n));
    ensure!(
        missing.is_none() && positions.contains("0/"),
        "the positions: {positions}"
    );
    Ok(())
}

async fn go(page: &Client, place: &str) -> Result<()> {
    page.execute(&format!("window.location.hash = '#/{place}'"), vec![])
        .await?;
    Ok(())
}

/// The text of an element that has one.
async fn text_of(page: &Client, id: &str) -> Result<String> {
    let begun = Instant::now();
    loop {
        let element = page
            .wait()
            .at_most(LIMIT)
            .for_element(Locator::Id(id))
            .await?;
        let text = element.text().await.unwrap_or_default();
        if !text.is_empty() {
            return Ok(text);
        }
        ensure!(begun.elapsed() < LIMIT, "{id} stays empty");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// Of the newest operation, in the order in which the page shows them.
async fn kinds_of_steps(page: &Client) -> Result<Vec<String>> {
    let script =
        "return [...document.querySelectorAll('#steps li')].map(step => step.dataset.kind)";
    Ok(serde_json::from_value(page.execute(script, vec![]).await?)?)
}

/// The operation that the page shows.
async fn operation(page: &Client) -> Result<Option<String>> {
    let shown = page.find(Locator::Id("operation")).await;
    match shown {
        Ok(element) => Ok(element.attr("data-operation").await?),
        Err(_) => Ok(None),
    }
}
