//! The ways between hosts, as `karst check` finds them: whole packets and every port, from both ends.

use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::{Client, HostNeed, Met};
use karst_lab::fault::{self, Fault};
use karst_lab::layout::NODES;
use karst_lab::{Lab, find};
use rustix::process::Signal;
use std::time::{Duration, Instant};

#[tokio::test(flavor = "multi_thread")]
async fn each_end_says_which_way_is_closed_or_narrow() {
    let lab = TestLab::start("test-ways", 10_080).await.unwrap();
    all_are_open(&lab).await.unwrap();
    one_is_closed_from_one_end(&lab).await.unwrap();
    one_is_narrow(&lab).await.unwrap();
}

/// What a node says of the ways to another.
async fn ways(lab: &Lab, from: &str, to: &str) -> Result<Vec<HostNeed>> {
    let servers = lab.layout.servers();
    let at = NODES.iter().position(|node| node.name == from);
    let server = servers[at.context("a node of the lab")?].clone();
    let one = Client::new(&[server], &lab.layout.token()?, None)?;
    let of_it = |need: &HostNeed| {
        need.what.starts_with(&format!("the way to {to} "))
            || need.what.contains(&format!(" on {to} at "))
    };
    let all = one.examination().await?.into_iter();
    Ok(all.filter(of_it).collect())
}

async fn until(
    lab: &Lab,
    (from, to): (&str, &str),
    what: &str,
    is_so: impl Fn(&[HostNeed]) -> bool,
) -> Result<()> {
    let begun = Instant::now();
    loop {
        let seen = ways(lab, from, to).await;
        if seen.as_ref().is_ok_and(|seen| is_so(seen)) {
            return Ok(());
        }
        ensure!(begun.elapsed() < LIMIT, "{from} to {to}: {what}: {seen:?}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

fn are_open(needs: &[HostNeed]) -> bool {
    !needs.is_empty() && needs.iter().all(|need| need.met == Met::Yes)
}

async fn all_are_open(lab: &Lab) -> Result<()> {
    for from in NODES {
        for to in NODES.iter().filter(|to| to.name != from.name) {
            let pair = (from.name, to.name);
            until(lab, pair, "all of them are open", are_open).await?;
        }
    }
    // Who has a copy connects to the other copies, and a gate does.
    let all = ways(lab, "ponor", "doline").await?;
    ensure!(all.len() == 2, "{all:?}");
    Ok(())
}

async fn one_is_closed_from_one_end(lab: &Lab) -> Result<()> {
    let cut = Fault::CutPair {
        from: "uvala".into(),
        to: "polje".into(),
        one_way: true,
        network: None,
    };
    fault::apply(&lab.layout, &cut)?;
    let closed = |needs: &[HostNeed]| needs.iter().any(|need| need.met == Met::No);
    until(lab, ("uvala", "polje"), "one is closed", closed).await?;
    fault::apply(&lab.layout, &Fault::Heal)?;
    until(lab, ("uvala", "polje"), "it is open again", are_open).await
}

/// An interface that was set up otherwise: short messages pass, and long ones get lost.
async fn one_is_narrow(lab: &Lab) -> Result<()> {
    let narrow = "for i in $(ip -o link | cut -d: -f2 | cut -d@ -f1); do [ $i = lo ] || ip link set dev $i mtu 1300; done";
    let status = find::enter(&lab.layout, "uvala")?
        .args(["sh", "-ec", narrow])
        .status()?;
    ensure!(status.success(), "{status}");
    find::signal(find::daemon(&lab.layout, "uvala", "run")?, Signal::KILL)?;
    let is_narrow = |needs: &[HostNeed]| {
        let named = |need: &HostNeed| {
            let why = need.why.as_deref().unwrap_or_default();
            need.met == Met::Better && why.contains("larger ones do not")
        };
        needs.iter().any(named)
    };
    until(lab, ("doline", "uvala"), "it is narrow", is_narrow).await
}
