//! The console in a real browser: it shows a failover as it happens, moves a workload when somebody
//! asks for that, and goes on at another node when its own is gone.

use crate::rig::browser::{
    LIMIT, choose, click, is_there, open_browser, sign_in, text_of, type_in, until,
};
use anyhow::{Context, Result, ensure};
use fantoccini::Client;
use fantoccini::Locator;
use karst_lab::layout::NODES;
use karst_lab::shape::Shape;
use karst_lab::{Lab, Layout, find};
use rustix::process::Signal;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// The node whose console is looked at: it is no primary's host, nor the first coordinator.
const OWN: usize = 2;

#[tokio::test(flavor = "multi_thread")]
async fn a_night_at_the_console() {
    let dir = PathBuf::from("/var/tmp/karst-test-console");
    if let Ok(old) = Layout::load(&dir) {
        Lab::attach(old).unwrap().remove().unwrap();
    }
    let lab = Lab::up(Layout::new(&dir, 9700, Shape::default()).unwrap()).unwrap();
    let seen = watch(&lab).await;
    lab.remove().unwrap();
    seen.unwrap();
}

async fn watch(lab: &Lab) -> Result<()> {
    lab.healthy(LIMIT).await?;
    let (_browser, page) = open_browser(9790).await?;
    let outcome = all_night(lab, &page).await;
    page.close().await?;
    outcome
}

async fn all_night(lab: &Lab, page: &Client) -> Result<()> {
    a_wrong_token_is_refused(lab, page).await?;
    steps_in_order(lab, page)
        .await
        .context("a failover, live")?;
    the_other_pages(lab, page)
        .await
        .context("the other pages")?;
    nobody_is_shut_out(page).await.context("axe")?;
    switchover(lab, page).await.context("a switchover")?;
    kept(lab, page).await.context("a safety point")?;
    approved(lab, page).await.context("mode ask")?;
    forced(lab, page).await.context("a forced failover")?;
    a_restart_is_no_matter(lab, page)
        .await
        .context("a restart of the daemon")?;
    it_goes_on_elsewhere(lab, page)
        .await
        .context("its node is gone")
}

async fn a_wrong_token_is_refused(lab: &Lab, page: &Client) -> Result<()> {
    page.goto(&lab.layout.servers()[OWN]).await?;
    type_in(page, "#token", "not the token").await?;
    click(page, "button[type=submit]").await?;
    let refused = text_of(page, ".alert-danger").await?;
    ensure!(refused.contains("not known"), "{refused}");
    sign_in(page, &lab.layout.servers()[OWN], &lab.layout.token()?).await?;
    let sentence = text_of(page, "#sentence").await?;
    ensure!(sentence.starts_with("All is well."), "{sentence}");
    Ok(())
}

async fn steps_in_order(lab: &Lab, page: &Client) -> Result<()> {
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
    untouched(page).await
}

async fn untouched(page: &Client) -> Result<()> {
    let untouched = page
        .execute("return window.untouched === true", vec![])
        .await?;
    ensure!(
        untouched.as_bool() == Some(true),
        "the page was loaded anew"
    );
    Ok(())
}

/// Each page shows what the cluster says of itself; its address leads there, and back.
async fn the_other_pages(lab: &Lab, page: &Client) -> Result<()> {
    let status = lab.healthy(LIMIT).await?.status;
    let newest = status.operations.first().context("an operation")?.id;
    let zones = text_of(page, "#zones").await?;
    let wrong = status
        .nodes
        .iter()
        .find(|n| !zones.contains(n.node.as_str()) || !zones.contains(&n.zone));
    ensure!(
        wrong.is_none() && zones.contains("primary of"),
        "the map: {zones}"
    );
    let way = text_of(page, "[data-way=sailings]").await?;
    let primary = lab.primary().await?;
    ensure!(
        way.contains(&primary) && way.contains("has every write"),
        "the way of a write: {way}"
    );
    until("the graph of what is written", async || {
        Ok(is_there(page, "[data-writes=sailings] canvas").await)
    })
    .await?;
    click(page, "a[href='/operations']").await?;
    let list = text_of(page, "#operations").await?;
    ensure!(list.contains(&newest.to_string()), "{list}");
    click(page, &format!("a[href='/operations/{}']", newest.0)).await?;
    let timeline = text_of(page, "#timeline").await?;
    ensure!(timeline.contains("finished"), "{timeline}");
    click(page, "a[href='/history']").await?;
    let history = text_of(page, "#history").await?;
    ensure!(
        history.contains("is coordinator of term") && history.contains("vote."),
        "the history: {history}"
    );
    click(page, "a[href='/quorum']").await?;
    let voters = text_of(page, "#voters").await?;
    ensure!(voters.contains("witness"), "{voters}");
    click(page, "a[href='/nodes']").await?;
    click(page, "#nodes a[href='/nodes/doline']").await?;
    let node = text_of(page, "[data-node=doline]").await?;
    ensure!(
        node.contains("PostgreSQL") && node.contains("node store"),
        "{node}"
    );
    page.back().await?;
    text_of(page, "#nodes").await?;
    click(page, "a[href='/workloads/sailings']").await?;
    let endpoints = text_of(page, "#endpoints tbody").await?;
    ensure!(
        endpoints.contains(karst_lab::layout::FLOATING),
        "the endpoints: {endpoints}"
    );
    let positions = text_of(page, "#positions").await?;
    let unnamed = status.workloads[0]
        .replicas
        .iter()
        .find(|r| !positions.contains(r.node.as_str()));
    ensure!(
        unnamed.is_none() && positions.contains("0/"),
        "the positions: {positions}"
    );
    untouched(page).await
}

/// What a public checker calls serious is nowhere, in either theme (WCAG 2, by axe-core).
async fn nobody_is_shut_out(page: &Client) -> Result<()> {
    let axe = Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("../../console/node_modules/axe-core/axe.min.js");
    let axe = std::fs::read_to_string(&axe).with_context(|| axe.display().to_string())?;
    let check = "const done = arguments[arguments.length - 1];
        axe.run().then((r) => done(r.violations
            .filter((v) => v.impact === 'serious' || v.impact === 'critical')
            .map((v) => `${v.id}: ${v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160)).join(' | ')}`)))";
    for theme in ["light", "dark"] {
        let choose = format!("localStorage.setItem('karst-theme', '{theme}')");
        page.execute(&choose, vec![]).await?;
        page.refresh().await?;
        text_of(page, "#sentence").await?;
        page.execute(&format!("{axe}; window.axe = axe"), vec![])
            .await?;
        for place in PLACES {
            go(page, place).await?;
            until("the page is drawn", async || {
                let drawn = "return document.querySelector('main > div:not(.old) > *:nth-child(2)') !== null \
                             && !document.body.innerText.includes('Reading ...')";
                Ok(page.execute(drawn, vec![]).await?.as_bool() == Some(true))
            })
            .await?;
            let found = page.execute_async(check, vec![]).await?;
            let found: Vec<String> = serde_json::from_value(found)?;
            ensure!(found.is_empty(), "{place}, {theme}: {found:#?}");
        }
    }
    page.execute("localStorage.removeItem('karst-theme')", vec![])
        .await?;
    Ok(())
}

const PLACES: [&str; 8] = [
    "/",
    "/workloads/sailings",
    "/operations",
    "/nodes",
    "/nodes/doline",
    "/quorum",
    "/history",
    "/runbook/bring-back",
];

/// As a link within the page does.
async fn go(page: &Client, place: &str) -> Result<()> {
    let script =
        "history.pushState(null, '', arguments[0]); dispatchEvent(new PopStateEvent('popstate'))";
    page.execute(script, vec![place.into()]).await?;
    Ok(())
}

/// Opens the drawer for something that can be done to the workload.
async fn act(page: &Client, what: &str) -> Result<()> {
    go(page, "/workloads/sailings").await?;
    click(page, "#act-sailings").await?;
    click(page, &format!("[data-act={what}]")).await
}

/// What was asked for is shown as it goes on.
async fn is_shown(page: &Client) -> Result<()> {
    until("the page shows the operation", async || {
        Ok(page.current_url().await?.path().starts_with("/operations/"))
    })
    .await
}

/// And comes to its end.
async fn comes_to_its_end(lab: &Lab, page: &Client) -> Result<()> {
    is_shown(page).await?;
    until("it is done", async || {
        let head = text_of(page, "#operation").await?;
        Ok(head.contains("done"))
    })
    .await?;
    lab.healthy(LIMIT).await.map(drop)
}

async fn switchover(lab: &Lab, page: &Client) -> Result<()> {
    let before = lab.primary().await?;
    act(page, "switchover").await?;
    let plan = text_of(page, "#plan").await?;
    ensure!(
        plan.contains("It needs") && plan.contains("Steps"),
        "{plan}"
    );
    ensure!(
        page.find(Locator::Css("#drawer button[type=submit]"))
            .await?
            .attr("disabled")
            .await?
            .is_some(),
        "it can be done without a name"
    );
    type_in(page, "#consent", "sailings").await?;
    click(page, "#drawer button[type=submit]").await?;
    comes_to_its_end(lab, page).await?;
    ensure!(lab.primary().await? != before, "it is where it was");
    Ok(())
}

/// A safety point is taken and dropped here, and shown for as long as it stands.
async fn kept(lab: &Lab, page: &Client) -> Result<()> {
    act(page, "keep").await?;
    type_in(page, "#point", "before-fares").await?;
    until("its plan is shown", async || {
        let drawer = text_of(page, "#drawer").await?;
        Ok(drawer.contains("goes up to point before-fares"))
    })
    .await?;
    type_in(page, "#consent", "sailings").await?;
    click(page, "#drawer button[type=submit]").await?;
    is_shown(page).await?;
    go(page, "/workloads/sailings").await?;
    until("it stands", async || {
        let card = text_of(page, "#safety-point").await?;
        Ok(card.contains("stands there") && card.contains("before-fares."))
    })
    .await?;
    let drop_it = "//*[@id='safety-point']//button[contains(., 'Drop it')]";
    page.find(Locator::XPath(drop_it)).await?.click().await?;
    click(page, "#drawer button[type=submit]").await?;
    is_shown(page).await?;
    go(page, "/workloads/sailings").await?;
    until("it is gone", async || {
        Ok(!is_there(page, "#safety-point").await)
    })
    .await?;
    lab.healthy(LIMIT).await.map(drop)
}

/// Mode `ask` is set here; a lost primary then waits for somebody to say so here.
async fn approved(lab: &Lab, page: &Client) -> Result<()> {
    let before = lab.primary().await?;
    go(page, "/workloads/sailings").await?;
    click(page, "#act-sailings").await?;
    let item = "//button[contains(., 'Mode ask')]";
    page.find(Locator::XPath(item)).await?.click().await?;
    type_in(page, "#why", "the tide").await?;
    click(page, "#drawer button[type=submit]").await?;
    text_of(page, "#done").await?;
    click(page, "#drawer .btn-close").await?;
    let band = text_of(page, "[data-mode=ask]").await?;
    ensure!(
        band.contains("captain") && band.contains("the tide"),
        "{band}"
    );
    find::signal(find::postmaster(&lab.layout, &before)?, Signal::KILL)?;
    go(page, "/").await?;
    click(page, "[data-need=approve] button").await?;
    click(page, "#drawer button[type=submit]").await?;
    is_shown(page).await?;
    lab.client
        .set_mode("sailings", &karst_api::core::operation::Mode::Act.into())
        .await?;
    comes_to_its_end(lab, page).await?;
    ensure!(lab.primary().await? != before, "it is where it was");
    Ok(())
}

async fn forced(lab: &Lab, page: &Client) -> Result<()> {
    let well = lab.healthy(LIMIT).await?;
    let sure = &well.status.workloads[0].sync.sure;
    let target = sure.first().context("a standby")?.to_string();
    act(page, "failover").await?;
    choose(page, "#target", &target).await?;
    text_of(page, "#plan").await?;
    type_in(page, "#consent", "sailings").await?;
    click(page, "#drawer button[type=submit]").await?;
    comes_to_its_end(lab, page).await?;
    ensure!(lab.primary().await? == target, "it is elsewhere");
    Ok(())
}

/// Its daemon ends and is started again: the same page goes on, and nobody signs in anew.
async fn a_restart_is_no_matter(lab: &Lab, page: &Client) -> Result<()> {
    page.execute("window.untouched = true", vec![]).await?;
    let daemon = find::daemon(&lab.layout, NODES[OWN].name, "run")?;
    find::signal(daemon, Signal::KILL)?;
    let again = || find::daemon(&lab.layout, NODES[OWN].name, "run").is_ok_and(|pid| pid != daemon);
    until("the daemon is back", async || Ok(again())).await?;
    let applied = lab.healthy(LIMIT).await?.status.applied.0;
    lab.client
        .set_mode("sailings", &karst_api::core::operation::Mode::Act.into())
        .await?;
    until("the page hears what came after", async || {
        // The daemon is a process before it answers: until then there is nothing to fetch.
        let script = "return fetch('/api/v1/status').then((r) => r.json())\
                      .then((r) => r.status.applied, () => null)";
        let heard = page.execute(script, vec![]).await?.as_u64();
        Ok(heard > Some(applied) && !is_there(page, "#stale").await)
    })
    .await?;
    untouched(page).await
}

/// The page's own node stands still, says no goodbye, and what it said last is shown as old; then
/// the page goes on at another node, and nobody signs in anew.
async fn it_goes_on_elsewhere(lab: &Lab, page: &Client) -> Result<()> {
    let before = page.current_url().await?;
    let daemon = find::daemon(&lab.layout, NODES[OWN].name, "run")?;
    find::signal(daemon, Signal::STOP)?;
    let said = text_of(page, "#stale").await.context("it still looks live");
    let moved = until("it goes on at another node", async || {
        let url = page.current_url().await?;
        let shown = url.port() != before.port() && is_there(page, "#sentence").await;
        Ok(shown && url.fragment().is_none())
    })
    .await;
    find::signal(daemon, Signal::CONT)?;
    ensure!(said?.contains("Not live"), "it is not said in words");
    moved
}

/// Of the newest operation, in the order in which the page shows them.
async fn kinds_of_steps(page: &Client) -> Result<Vec<String>> {
    let script =
        "return [...document.querySelectorAll('#steps li')].map(step => step.dataset.kind)";
    Ok(serde_json::from_value(page.execute(script, vec![]).await?)?)
}

/// The operation that the page shows.
async fn operation(page: &Client) -> Result<Option<String>> {
    let script = "return document.querySelector('#operation')?.dataset.operation ?? null";
    Ok(serde_json::from_value(page.execute(script, vec![]).await?)?)
}
