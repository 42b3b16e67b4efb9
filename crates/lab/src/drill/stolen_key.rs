//! The key of a node without a vote is stolen, and its daemon gives way to a program that speaks to all
//! others with it. No primary moves, no spec is revised and no node loses the coordinator by it.

use super::callers::acts;
use super::in_host::LIMIT;
use super::scenes::apply;
use super::steady::Steady;
use crate::cluster::Lab;
use crate::fault::{Fault, Held};
use crate::find;
use crate::layout::NODES;
use anyhow::{Context, Result, ensure};
use karst_api::StatusReply;
use std::process::Stdio;
use std::time::Duration;

/// # Errors
/// If a promise was not kept.
pub async fn run(lab: &Lab, time: Duration, seed: u64) -> Result<()> {
    println!("a stolen key: seed {seed}, {} s", time.as_secs());
    acts(lab).await?;
    let stolen = NODES.iter().find(|node| node.votes == 0);
    let stolen = stolen.context("a node without a vote")?.name;
    let before = lab.healthy(LIMIT).await?;
    let others = NODES.iter().map(|node| node.name);
    let mut steady = Steady::of(lab, others.filter(|node| *node != stolen))?;
    let host = stolen.to_string();
    apply(
        lab,
        Fault::Hold {
            host: host.clone(),
            what: Held::Daemon,
        },
    )?;
    let kept = speak(lab, stolen, (time, seed), &before, &mut steady).await;
    let after = lab.status().await;
    apply(lab, Fault::Release { host })?;
    kept?;
    is_as_before(&before, &after?)?;
    steady.end(lab)?;
    lab.healthy(LIMIT).await.map(drop)
}

async fn speak(
    lab: &Lab,
    stolen: &str,
    (time, seed): (Duration, u64),
    before: &StatusReply,
    steady: &mut Steady,
) -> Result<()> {
    let mut command = find::enter(&lab.layout, stolen)?;
    command
        .arg(find::sibling("karst-lab")?)
        .arg("--dir")
        .arg(&lab.layout.dir);
    command.args(["thief", stolen]);
    for (option, value) in [
        ("--seconds", time.as_secs()),
        ("--seed", seed),
        ("--term", before.status.term.0),
        ("--applied", before.status.applied.0),
    ] {
        command.args([option, &value.to_string()]);
    }
    let mut thief = command.stdin(Stdio::null()).spawn().context("nsenter")?;
    let steady = steady.watch(lab, time).await;
    if steady.is_err() {
        thief.kill()?;
    }
    let ended = thief.wait()?;
    steady?;
    ensure!(ended.success(), "the program with the stolen key: {ended}");
    Ok(())
}

/// A host without a vote, and without a token, has nothing changed.
fn is_as_before(before: &StatusReply, after: &StatusReply) -> Result<()> {
    let (before, after) = (&before.status, &after.status);
    ensure!(before.revision == after.revision, "the spec was revised");
    ensure!(after.intents.is_empty(), "{:?} is wanted", after.intents);
    for (had, has) in before.workloads.iter().zip(&after.workloads) {
        ensure!(had.epoch == has.epoch, "{} was moved", has.workload);
        ensure!(
            had.mode == has.mode,
            "the mode of {} is another",
            has.workload
        );
    }
    for node in &after.nodes {
        ensure!(node.fenced.is_none(), "{} was fenced", node.node);
        ensure!(!node.maintenance, "{} is in maintenance", node.node);
    }
    Ok(())
}
