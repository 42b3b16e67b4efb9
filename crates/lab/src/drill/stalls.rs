//! What stalls, lags or is gone for good: each scene does it to a running lab under load, looks at
//! what must hold, undoes it, and says in a few words what it saw. An error is a promise that was
//! not kept.

use super::doors::longest_stall;
use super::in_host::{InHost, LIMIT, server_ends};
use super::scenes::{apply, is_elsewhere, longest_authority};
use crate::cluster::Lab;
use crate::disk::Volume;
use crate::fault::{Fault, Frozen, Held};
use crate::find;
use crate::layout::{Layout, NODES, WORKLOAD};
use crate::steal::{boot_nanos, wall_nanos};
use anyhow::{Context, Result, ensure};
use karst_api::core::event::FactKind;
use karst_api::core::operation::Cause;
use karst_api::core::outage::{Case, worst_cases};
use karst_api::core::spec::FindingKind;
use karst_api::core::view::{DoingView, ReplicaView, Work};
use karst_api::{MoveBody, StatusReply, WishBody};
use rustix::process::Signal;
use std::time::{Duration, Instant};

/// How long a promotion may take before it is given up, and its server's end.
const PROMOTION_GIVEN_UP: Duration = Duration::from_secs(10);

/// A client over an address whose host's deadman stands still: the lease passes, another host takes
/// the address up, the client comes back.
const ADDRESS_LEFT: Duration = Duration::from_millis(3_000);
/// Two faults in a row, where writes wait for the one standby that is left: what a power cut takes,
/// and a copy of little data.
const STRUCK_TWICE: Duration = Duration::from_millis(5_000);

fn since(nanos: u64) -> Duration {
    Duration::from_nanos(boot_nanos() - nanos)
}

/// The server alone stands still: it runs, and answers nobody.
pub async fn hung_primary(lab: &Lab) -> Result<String> {
    lab.healthy(LIMIT).await?;
    let (primary, timings) = (lab.primary().await?, lab.timings().await?);
    let hangs = worst_cases(&timings)
        .into_iter()
        .find(|c| c.kind == Case::ServerHangs)
        .context("a printed case")?;
    let longest = hangs.total();
    let at = boot_nanos();
    apply(
        lab,
        Fault::Freeze {
            host: primary.clone(),
            what: Frozen::Server,
        },
    )?;
    let moved = lab
        .wait("a new primary", LIMIT, is_elsewhere(&primary))
        .await?;
    let took = since(at);
    ensure!(
        took < longest,
        "it was replaced only after {took:?}; {longest:?} were promised"
    );
    ensure!(
        took >= timings.answer_limit,
        "it was replaced after {took:?}: a look in vain is no verdict"
    );
    let last = moved.status.operations.first().context("an operation")?;
    let why = last.what.why.clone();
    ensure!(
        last.what.cause == Cause::ServerSilent,
        "the reason is another one: {why}"
    );
    apply(lab, Fault::Thaw { host: primary })?;
    lab.healthy(LIMIT).await?;
    Ok(format!("replaced {} ms after; {why}", took.as_millis()))
}

/// A standby has no room for its log any more: it leaves the set, the primary goes on, and it comes
/// home when there is room.
pub async fn full_standby(lab: &Lab) -> Result<String> {
    let well = lab.healthy(LIMIT).await?;
    let (primary, epoch) = (lab.primary().await?, well.status.workloads[0].epoch);
    let standby = well.status.workloads[0]
        .sync
        .sure
        .iter()
        .find(|n| n.as_str() != primary)
        .context("a standby")?
        .to_string();
    apply(
        lab,
        Fault::FillDisk {
            host: standby.clone(),
            volume: Volume::Log,
        },
    )?;
    let at = boot_nanos();
    let left = |r: &StatusReply| {
        r.status.workloads[0]
            .sync
            .sure
            .iter()
            .all(|n| n.as_str() != standby)
    };
    lab.wait("it leaves the sync set", LIMIT, left).await?;
    let took = since(at);
    apply(
        lab,
        Fault::FreeDisk {
            host: standby.clone(),
        },
    )?;
    let after = lab.healthy(LIMIT).await?;
    ensure!(
        after.status.workloads[0].epoch == epoch,
        "the primary moved for it"
    );
    Ok(format!(
        "{standby} left the set {} ms after, and came home; {primary} stayed primary",
        took.as_millis()
    ))
}

/// A node store that is gone: its daemon starts with an empty one, which does not vote until it is
/// enrolled.
pub async fn store_moved_away(lab: &Lab) -> Result<String> {
    let well = lab.healthy(LIMIT).await?;
    let epoch = well.status.workloads[0].epoch;
    let coordinator = well.status.coordinator.clone().context("a coordinator")?;
    let primary = lab.primary().await?;
    let voters = well.status.nodes.iter().filter(|n| n.votes > 0);
    let other = voters
        .map(|n| n.node.to_string())
        .find(|n| *n != primary && *n != coordinator.to_string());
    let host = other.context("a voter that neither leads nor serves")?;
    apply(lab, Fault::LoseStore { host: host.clone() })?;
    let says = |r: &StatusReply| {
        r.status
            .findings
            .iter()
            .any(|f| f.finding.kind == FindingKind::VoteNotCounted && f.name.contains(&host))
    };
    let said = lab.wait("the finding", LIMIT, says).await?;
    let finding = said
        .status
        .findings
        .iter()
        .find(|f| f.finding.kind == FindingKind::VoteNotCounted)
        .context("the finding")?;
    ensure!(
        finding
            .finding
            .remedy
            .contains(&format!("karst node enrol {host}")),
        "no way forward: {}",
        finding.finding.remedy
    );
    lab.client.enrol(&host, &WishBody::default()).await?;
    lab.wait("it votes again", LIMIT, |r| !says(r)).await?;
    let after = lab.healthy(LIMIT).await?;
    ensure!(
        after.status.workloads[0].epoch == epoch,
        "the primary moved for it"
    );
    Ok(format!(
        "{host} did not vote until it was enrolled; {primary} stayed primary"
    ))
}

/// The deadman of the primary's host is gone and does not come back: the daemon ends the server
/// before its lease, and another host has the workload.
pub async fn deadman_gone(lab: &Lab) -> Result<String> {
    lab.healthy(LIMIT).await?;
    let primary = lab.primary().await?;
    let longest = longest_authority(lab, &[&primary]).await?;
    let writing = InHost::start(lab, &primary).await?;
    let at = boot_nanos();
    apply(
        lab,
        Fault::Hold {
            host: primary.clone(),
            what: Held::Deadman,
        },
    )?;
    let took = server_ends(lab, &primary, at, longest, writing).await?;
    apply(
        lab,
        Fault::Release {
            host: primary.clone(),
        },
    )?;
    lab.healthy(LIMIT).await?;
    Ok(format!(
        "its last process had ended {} ms after; it came home",
        took.as_millis()
    ))
}

/// The disk of the primary's node store hangs: nothing moves for it. Cut off as well, the server
/// ends before its lease all the same: what takes authority away waits for no disk.
pub async fn disk_hangs(lab: &Lab) -> Result<String> {
    apply(lab, Fault::ControllerStop)?;
    let well = lab.healthy(LIMIT).await?;
    let (primary, epoch) = (lab.primary().await?, well.status.workloads[0].epoch);
    let longest = longest_authority(lab, &[&primary]).await?;
    apply(
        lab,
        Fault::HangDisk {
            host: primary.clone(),
        },
    )?;
    // Longer than any lease.
    tokio::time::sleep(lab.timings().await?.lease * 3 / 2).await;
    ensure!(
        lab.workload().await?.epoch == epoch,
        "it moved because a node store's disk hangs"
    );
    let writing = InHost::start(lab, &primary).await?;
    apply(
        lab,
        Fault::Cut {
            host: primary.clone(),
            network: None,
        },
    )?;
    let cut = boot_nanos();
    let took = server_ends(lab, &primary, cut, longest, writing).await?;
    apply(
        lab,
        Fault::FreeDisk {
            host: primary.clone(),
        },
    )?;
    apply(lab, Fault::Heal)?;
    lab.healthy(LIMIT).await?;
    Ok(format!(
        "nothing moved for it; cut off, its last process had ended {} ms after",
        took.as_millis()
    ))
}

/// The server of whoever was chosen stands still in the middle of its promotion: it loses the
/// assignment, and another is promoted.
pub async fn promotion_hangs(lab: &Lab) -> Result<String> {
    for _ in 0..4 {
        lab.healthy(LIMIT).await?;
        let primary = lab.primary().await?;
        let (at, wall) = (boot_nanos(), wall_nanos());
        let (layout, old) = (lab.layout.clone(), primary.clone());
        let stopping = tokio::task::spawn_blocking(move || stop_at_promotion(&layout, &old));
        // It looks from here on.
        tokio::time::sleep(Duration::from_millis(200)).await;
        crate::find::signal(
            crate::find::postmaster(&lab.layout, &primary)?,
            Signal::KILL,
        )?;
        // The trigger file is there for a moment only.
        let Some(chosen) = stopping.await?? else {
            continue;
        };
        let third = |r: &StatusReply| {
            let now = r.status.workloads[0].primary.as_ref();
            now.is_some_and(|p| p.as_str() != chosen)
        };
        let moved = lab
            .wait("another primary than the one that hangs", LIMIT, third)
            .await?;
        let took = since(at);
        let now = moved.status.workloads[0]
            .primary
            .clone()
            .context("a primary")?;
        apply(
            lab,
            Fault::Thaw {
                host: chosen.clone(),
            },
        )?;
        lab.healthy(LIMIT).await?;
        if lab
            .first_record(FactKind::ActionFailed, wall)
            .await
            .is_err()
        {
            // It was promoted before it stood still.
            continue;
        }
        ensure!(
            took < PROMOTION_GIVEN_UP * 2,
            "it was given up only after {took:?}"
        );
        return Ok(format!(
            "{chosen} was given up, and {now} is primary {} ms after the kill",
            took.as_millis()
        ));
    }
    anyhow::bail!("each promotion was over before its server could be stopped")
}

/// Lets the server of whoever is told to promote itself stand still at that moment: the trigger
/// file says so (manual, pg_promote). None where that moment was missed.
fn stop_at_promotion(layout: &Layout, primary: &str) -> Result<Option<String>> {
    let others: Vec<&str> = NODES
        .iter()
        .filter(|n| n.rank.is_some() && n.name != primary)
        .map(|n| n.name)
        .collect();
    let servers: Vec<(&str, Vec<i32>)> = others
        .iter()
        .map(|n| (*n, crate::find::working_in(&layout.data(n))))
        .collect();
    // The disks are mounted in the lab's own namespace.
    let inside = crate::find::inside(layout)?;
    let trigger =
        |name: &str| format!("/proc/{inside}/root{}/promote", layout.data(name).display());
    let begun = Instant::now();
    loop {
        let told = servers
            .iter()
            .find(|(name, _)| std::path::Path::new(&trigger(name)).exists());
        if let Some((name, server)) = told {
            server
                .iter()
                .for_each(|pid| drop(crate::find::signal(*pid, Signal::STOP)));
            return Ok(Some((*name).to_string()));
        }
        if begun.elapsed() > PROMOTION_GIVEN_UP {
            return Ok(None);
        }
        std::thread::sleep(Duration::from_micros(200));
    }
}

/// The deadman of the host that has the floating address stands still, and nothing else: the
/// address goes where one answers.
pub async fn address_without_deadman(lab: &Lab, load: &str) -> Result<String> {
    let journal = lab.layout.dir.join(format!("load/{load}.journal"));
    let before = lab.healthy(LIMIT).await?;
    let place = |r: &StatusReply| {
        r.status.workloads[0]
            .address
            .as_ref()
            .and_then(|a| a.holder.clone())
    };
    let host = place(&before)
        .context("the address is nowhere")?
        .to_string();
    if lab.primary().await? == host {
        // A primary whose deadman stands still is replaced, and that is another drill.
        let body = MoveBody::default();
        lab.client.begin(WORKLOAD, "switchover", &body).await?;
        lab.wait("the primary elsewhere", LIMIT, is_elsewhere(&host))
            .await?;
    }
    let before = lab.healthy(LIMIT).await?;
    let at = boot_nanos();
    apply(
        lab,
        Fault::Freeze {
            host: host.clone(),
            what: Frozen::Deadman,
        },
    )?;
    lab.wait("the address is elsewhere", LIMIT, |r| {
        place(r).is_some_and(|n| n.as_str() != host)
    })
    .await?;
    let moved = since(at);
    // Longer than whoever was on it needs to come back.
    tokio::time::sleep(ADDRESS_LEFT).await;
    apply(lab, Fault::Thaw { host })?;
    let after = lab.healthy(LIMIT).await?;
    ensure!(
        after.status.workloads[0].epoch == before.status.workloads[0].epoch,
        "the primary moved for it"
    );
    let stall = longest_stall(&journal, at)?;
    ensure!(stall < ADDRESS_LEFT, "clients waited for {stall:?}");
    Ok(format!(
        "it moved {} ms after; clients waited for {} ms",
        moved.as_millis(),
        stall.as_millis()
    ))
}

/// The primary's server dies, and as soon as the next one serves its host loses its power: the
/// first host, which was about to copy from that one, turns to the third.
pub async fn struck_twice(lab: &Lab, load: &str) -> Result<String> {
    let journal = lab.layout.dir.join(format!("load/{load}.journal"));
    lab.healthy(LIMIT).await?;
    let first = lab.primary().await?;
    find::signal(find::postmaster(&lab.layout, &first)?, Signal::KILL)?;
    let moved = lab
        .wait("a new primary", LIMIT, is_elsewhere(&first))
        .await?;
    let second = moved.status.workloads[0]
        .primary
        .clone()
        .context("a primary")?
        .to_string();
    let copies = |r: &StatusReply| {
        let rewinds = |v: &ReplicaView| {
            let rewinds = |doing: &DoingView| doing.work == Work::Rewind;
            v.node.as_str() == first && v.doing.as_ref().is_some_and(rewinds)
        };
        r.status.workloads[0].replicas.iter().any(rewinds)
    };
    lab.wait("it turns to the new primary", LIMIT, copies)
        .await?;
    let at = boot_nanos();
    apply(
        lab,
        Fault::PowerOff {
            host: second.clone(),
        },
    )?;
    lab.wait("another primary", LIMIT, is_elsewhere(&second))
        .await?;
    let whole = |r: &StatusReply| {
        r.status.workloads[0]
            .sync
            .sure
            .iter()
            .any(|n| n.as_str() == first)
    };
    lab.wait("the first host confirms writes", LIMIT, whole)
        .await?;
    apply(lab, Fault::PowerOn { host: second })?;
    lab.healthy(LIMIT).await?;
    let stall = longest_stall(&journal, at)?;
    ensure!(stall < STRUCK_TWICE, "writes waited for {stall:?}");
    Ok(format!(
        "writes waited for {} ms, a copy of all data among them",
        stall.as_millis()
    ))
}
