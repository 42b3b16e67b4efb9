//! Faults one after the other on one lab, under load: deadman, coordinator, standby, history store.
//! No acknowledged row is missing after any of them, and everything heals.

use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::core::authority::{Claim, Deadline};
use karst_lab::drill::{InHost, server_ends};
use karst_lab::journal::{self, Ending, Line};
use karst_lab::layout::{ARCHIVE, NODES};
use karst_lab::steal::boot_nanos;
use karst_lab::{Lab, drill, find};
use rustix::process::Signal;
use std::time::Duration;

#[tokio::test(flavor = "multi_thread")]
async fn faults_under_load() {
    let lab = TestLab::start("test-faults", 9800).await.unwrap();
    let load = drill::start_load(&lab.layout, "faults", 2, 2).unwrap();
    let journal = load.journal.clone();
    standby_killed(&lab, &journal).await.unwrap();
    voters_killed(&lab, &journal).await.unwrap();
    deadman_killed(&lab).await.unwrap();
    deadman_frozen(&lab).await.unwrap();
    history_away(&lab).await.unwrap();
    let lines = load.finish().unwrap();
    let (acknowledged, missing) = drill::compare(&lab, &lines).await.unwrap();
    assert!(
        acknowledged > 1000 && missing.iter().all(|(_, n)| *n == 0),
        "{acknowledged}: {missing:?}"
    );
    assert_eq!(
        lines.iter().filter(|l| l.ending == Ending::Refused).count(),
        0,
        "a gate refused a connection"
    );
}

/// The longest time without an acknowledged write since `from`.
fn longest_stall(lines: &[Line], from: u64) -> Duration {
    let mut acks: Vec<u64> = lines
        .iter()
        .filter(|l| l.ending == Ending::Acknowledged)
        .map(|l| l.ended)
        .collect();
    acks.retain(|at| *at >= from);
    acks.push(from);
    acks.sort_unstable();
    acks.windows(2)
        .map(|w| Duration::from_nanos(w[1] - w[0]))
        .max()
        .unwrap_or_default()
}

/// Writers have gone on for a while since `from`.
async fn writes_since(path: &std::path::Path, from: u64) -> Result<Vec<Line>> {
    let begun = std::time::Instant::now();
    loop {
        let lines = journal::read(path)?;
        let fresh = lines
            .iter()
            .filter(|l| l.ending == Ending::Acknowledged && l.began > from)
            .count();
        if fresh > 200 {
            return Ok(lines);
        }
        ensure!(
            begun.elapsed() < LIMIT,
            "only {fresh} writes since the fault"
        );
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

async fn standby_killed(lab: &Lab, path: &std::path::Path) -> Result<()> {
    let before = lab.workload().await?;
    let standby = before.sync.sure.first().context("a standby")?.clone();
    let pid = find::postmaster(&lab.layout, standby.as_str())?;
    let at = boot_nanos();
    find::signal(pid, Signal::KILL)?;
    lab.wait("the set shrinks", LIMIT, |r| {
        r.status.workloads[0].sync.number > before.sync.number
    })
    .await?;
    let lines = writes_since(path, at).await?;
    let stall = longest_stall(&lines, at);
    ensure!(
        stall < Duration::from_secs(1),
        "writes stalled for {stall:?}"
    );
    let well = lab.healthy(LIMIT).await?;
    let after = &well.status.workloads[0];
    ensure!(
        after.sync.sure.contains(&standby) && after.epoch == before.epoch,
        "{:?}",
        after.sync
    );
    Ok(())
}

/// The coordinator's daemon and each other voter's that is not the primary's, in turn.
async fn voters_killed(lab: &Lab, path: &std::path::Path) -> Result<()> {
    for node in NODES.iter().filter(|n| n.votes > 0) {
        let well = lab.healthy(LIMIT).await?;
        let workload = &well.status.workloads[0];
        if workload
            .primary
            .as_ref()
            .is_some_and(|p| p.as_str() == node.name)
        {
            continue;
        }
        // Two coordinators lost within one lease would be one too many.
        leased(
            lab,
            workload.primary.as_ref().context("a primary")?.as_str(),
        )
        .await?;
        let daemon = find::daemon(&lab.layout, node.name, "run")?;
        let at = boot_nanos();
        find::signal(daemon, Signal::KILL)?;
        let lines = writes_since(path, at).await?;
        let stall = longest_stall(&lines, at);
        ensure!(
            stall < Duration::from_millis(1500),
            "{}: writes stalled for {stall:?}",
            node.name
        );
        lab.wait("its daemon again", LIMIT, |_| {
            find::daemon(&lab.layout, node.name, "run").is_ok_and(|p| p != daemon)
        })
        .await?;
        let after = lab.healthy(LIMIT).await?;
        ensure!(
            after.status.workloads[0].epoch == workload.epoch,
            "{}: nothing had to move",
            node.name
        );
    }
    Ok(())
}

/// Waits until the primary's lease is new, as its deadman counts it.
async fn leased(lab: &Lab, primary: &str) -> Result<()> {
    let kept = lab.layout.host(primary).join("run/deadman.json");
    let deadline = || {
        let list: Vec<(Claim, Deadline)> =
            serde_json::from_slice(&std::fs::read(&kept).ok()?).ok()?;
        list.into_iter().map(|(_, deadline)| deadline.at.0).max()
    };
    let is_new = || deadline().is_some_and(|at| at > boot_nanos() + 1_600_000_000);
    lab.wait("a lease of whoever coordinates now", LIMIT, |_| is_new())
        .await?;
    Ok(())
}

/// A deadman that dies is started again and goes on counting: nothing moves.
async fn deadman_killed(lab: &Lab) -> Result<()> {
    let before = lab.workload().await?;
    let primary = before.primary.context("a primary")?.to_string();
    let deadman = find::daemon(&lab.layout, &primary, "deadman")?;
    find::signal(deadman, Signal::KILL)?;
    lab.wait("a new deadman", LIMIT, |_| {
        find::daemon(&lab.layout, &primary, "deadman").is_ok_and(|p| p != deadman)
    })
    .await?;
    let after = lab.healthy(LIMIT).await?;
    ensure!(
        after.status.workloads[0].epoch == before.epoch,
        "nothing had to move"
    );
    Ok(())
}

/// A deadman that stands still confirms nothing: the daemon ends the server before the confirmed
/// deadline (C6).
async fn deadman_frozen(lab: &Lab) -> Result<()> {
    let primary = lab.primary().await?;
    let deadman = find::daemon(&lab.layout, &primary, "deadman")?;
    let writing = InHost::start(lab, &primary).await?;
    let frozen = boot_nanos();
    find::signal(deadman, Signal::STOP)?;
    let lease = lab.timings().await?.lease;
    server_ends(lab, &primary, frozen, lease, writing).await?;
    find::signal(deadman, Signal::CONT)?;
    lab.healthy(LIMIT).await?;
    Ok(())
}

/// With the history store away a failover works the same; afterwards each node's record is
/// complete.
async fn history_away(lab: &Lab) -> Result<()> {
    let well = lab.healthy(LIMIT).await?;
    let hold = lab.layout.host(ARCHIVE).join("hold");
    std::fs::write(&hold, "")?;
    for pid in find::working_in(&lab.layout.host(ARCHIVE).join("data")) {
        let _ = find::signal(pid, Signal::KILL);
    }
    let primary = lab.primary().await?;
    let coordinator = well
        .status
        .coordinator
        .context("a coordinator")?
        .to_string();
    find::signal(find::postmaster(&lab.layout, &primary)?, Signal::KILL)?;
    find::signal(
        find::daemon(&lab.layout, &coordinator, "run")?,
        Signal::KILL,
    )?;
    let delayed = |r: &karst_api::StatusReply| !r.history.reachable && r.history.waiting > 0;
    lab.wait("history delayed, and said so", LIMIT, delayed)
        .await?;
    lab.healthy(LIMIT).await?;
    std::fs::remove_file(&hold)?;
    crate::rig::history_is_complete(lab).await
}
