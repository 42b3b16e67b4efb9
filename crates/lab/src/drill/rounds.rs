//! Rounds of one fault or move under load, one after the other.

use super::load::{Running, start_load};
use super::loss::Loss;
use super::report::{Mark, Report, finish};
use crate::capture::{self, Capture};
use crate::cluster::{Lab, is_well};
use crate::fault::{self, Fault};
use crate::find;
use crate::journal::{self, Ending};
use crate::layout::{WORKLOAD, host};
use crate::steal::{boot_nanos, millis as steal_millis, wall_nanos};
use anyhow::{Context, Result, ensure};
use karst_api::core::event::FactKind;
use karst_api::core::progress::Progress;
use karst_api::core::{NodeId, OperationId};
use karst_api::{MoveBody, StatusReply};
use rustix::process::Signal;
use std::collections::BTreeSet;
use std::time::Duration;

/// How often, and under which load.
#[derive(Clone, Copy, Debug)]
pub struct Course {
    pub rounds: u32,
    /// In the first of these the primary's host is the coordinator too.
    pub together: u32,
    /// Clients that commit one row after the other with no pause.
    pub writers: u32,
}

impl Course {
    /// With the load of a drill.
    pub fn of(rounds: u32) -> Self {
        Self {
            rounds,
            together: 0,
            writers: 4,
        }
    }
}

/// Loses the primary again and again, each time waiting until all is well again.
///
/// # Errors
/// If the cluster does not heal.
pub async fn lose_primary(lab: &Lab, loss: Loss, course: Course) -> Result<Report> {
    let controller = match loss {
        Loss::PowerAlone | Loss::Peers => Some(Fault::ControllerStop),
        Loss::Power => Some(Fault::ControllerStart),
        Loss::Server => None,
    };
    if let Some(fault) = controller {
        let done = fault::apply(&lab.layout, &fault)?;
        println!("{done}");
    }
    let worst = loss.worst_case(&lab.client.spec().await?.worst_cases);
    println!(
        "{}: at the worst, clients cannot write for {} ms",
        loss.name(),
        worst.as_millis()
    );
    let load = start_load(&lab.layout, "drill", course.writers, 0)?;
    let mut capture = Capture::start(&lab.layout)?;
    let mut marks = Vec::new();
    for round in 1..=course.rounds {
        if round <= course.together {
            one_for_both(lab).await?;
        }
        let before = settle(lab, &load, course.writers).await?;
        let from = lab.primary().await?;
        let coordinator = lab.status().await?.status.coordinator;
        let (steal, wall) = (steal_millis(), wall_nanos());
        let (at, done) = loss.happen(lab, &from)?;
        println!("round {round}: {done}");
        let operation = follow(lab, before, at).await?;
        let mended = wall_nanos();
        loss.mend(lab, &from)?;
        let steal = steal_millis() - steal;
        lab.healthy(Duration::from_secs(180)).await?;
        let frames = capture.as_mut().map(Capture::seen).transpose()?;
        let of_round: Option<Vec<_>> =
            frames.map(|all| all.into_iter().filter(|f| f.at >= wall).collect());
        let left = |f: &&capture::Frame| {
            f.host == from && f.what == capture::What::Goodbye && f.at < mended
        };
        marks.push(Mark {
            what: loss.name().into(),
            coordinator_too: coordinator.is_some_and(|c| c.as_str() == from),
            goodbyes: of_round
                .as_ref()
                .map(|frames| frames.iter().filter(left).count()),
            clashes: of_round
                .iter()
                .flat_map(|f| capture::clashes(f))
                .map(|clash| clash.to_string())
                .collect(),
            from,
            at,
            operation,
            steal,
        });
    }
    let mut report = finish(lab, load, marks).await?;
    report.worst = u64::try_from(worst.as_millis()).ok();
    fault::apply(&lab.layout, &Fault::ControllerStart)?;
    Ok(report)
}

/// Kills the coordinator's daemon again and again; how long until a coordinator is elected, in
/// milliseconds each. Whether the workload's primary is on the same host or not, it goes on.
///
/// # Errors
/// If the workload moves for it, or the cluster does not heal.
pub async fn lose_coordinator(lab: &Lab, rounds: u32) -> Result<Vec<f64>> {
    let mut took = Vec::new();
    for round in 1..=rounds {
        let well = lab.healthy(Duration::from_secs(180)).await?;
        let (epoch, term) = (well.status.workloads[0].epoch, well.status.term);
        let coordinator = well
            .status
            .coordinator
            .context("a coordinator")?
            .to_string();
        let daemon = find::daemon(&lab.layout, &coordinator, "run")?;
        let at = wall_nanos();
        find::signal(daemon, Signal::KILL)?;
        let newer = |r: &StatusReply| r.status.term > term && r.status.coordinator.is_some();
        let other = lab
            .wait("an election", Duration::from_secs(60), newer)
            .await?
            .status;
        let moved = |r: &StatusReply| r.status.workloads[0].epoch != epoch;
        let after = lab
            .wait("all is well", Duration::from_secs(180), |r| {
                is_well(r) || moved(r)
            })
            .await?;
        ensure!(
            !moved(&after),
            "{coordinator}'s daemon was killed, and the workload moved"
        );
        let ms = (lab.first_record(FactKind::Elected, at).await? - at) as f64 / 1e6;
        println!(
            "round {round}: {coordinator} -> {} after {ms:.0} ms",
            other.coordinator.context("a coordinator")?
        );
        took.push(ms);
    }
    Ok(took)
}

/// Makes the primary's host the coordinator too: a coordinator that cannot hold the workload is
/// restarted until another node is, and the primary is moved to it.
async fn one_for_both(lab: &Lab) -> Result<()> {
    loop {
        let well = lab.healthy(Duration::from_secs(180)).await?;
        let coordinator = well
            .status
            .coordinator
            .context("a coordinator")?
            .to_string();
        if well.status.workloads[0]
            .primary
            .as_ref()
            .is_some_and(|p| *p.as_str() == coordinator)
        {
            return Ok(());
        }
        if host(&coordinator).is_some_and(|h| h.rank.is_some()) {
            let body = MoveBody {
                to: Some(NodeId::from(coordinator.as_str())),
                ..MoveBody::default()
            };
            lab.client.begin(WORKLOAD, "switchover", &body).await?;
            let there = |r: &StatusReply| {
                r.status.workloads[0]
                    .primary
                    .as_ref()
                    .is_some_and(|p| *p.as_str() == coordinator)
                    && is_well(r)
            };
            lab.wait(
                "the primary on the coordinator's host",
                Duration::from_secs(60),
                there,
            )
            .await?;
        } else {
            find::signal(
                find::daemon(&lab.layout, &coordinator, "run")?,
                Signal::KILL,
            )?;
            // It is back soon, and may be elected again.
            let term = well.status.term;
            let elected = |r: &StatusReply| r.status.term > term && r.status.coordinator.is_some();
            lab.wait("an election", Duration::from_secs(60), elected)
                .await?;
        }
    }
}

/// Switches over to the next replica, there and back.
pub async fn switchover(lab: &Lab, course: Course) -> Result<Report> {
    let load = start_load(&lab.layout, "drill", course.writers, 0)?;
    let mut marks = Vec::new();
    for round in 1..=course.rounds {
        let before = settle(lab, &load, course.writers).await?;
        let from = lab.primary().await?;
        let to = if from == "doline" { "polje" } else { "doline" };
        let (steal, at) = (steal_millis(), boot_nanos());
        let body = MoveBody {
            to: Some(NodeId::from(to)),
            ..MoveBody::default()
        };
        lab.client.begin(WORKLOAD, "switchover", &body).await?;
        println!("round {round}: switchover of {WORKLOAD} from {from} to {to}");
        let operation = follow(lab, before, at).await?;
        let steal = steal_millis() - steal;
        let (coordinator_too, goodbyes, clashes) = (false, None, Vec::new());
        marks.push(Mark {
            what: "switchover".into(),
            from,
            at,
            operation,
            steal,
            coordinator_too,
            goodbyes,
            clashes,
        });
        lab.healthy(Duration::from_secs(180)).await?;
    }
    finish(lab, load, marks).await
}

/// All is well, and every writer has written lately. The newest operation so far.
async fn settle(lab: &Lab, load: &Running, writers: u32) -> Result<Option<OperationId>> {
    lab.healthy(Duration::from_secs(180)).await?;
    let begun = boot_nanos();
    loop {
        let lines = journal::read(&load.journal).unwrap_or_default();
        let lately: BTreeSet<u32> = lines
            .iter()
            .filter(|l| l.began > begun && l.ending == Ending::Acknowledged)
            .map(|l| l.writer)
            .collect();
        if lately.len() >= writers as usize {
            break;
        }
        anyhow::ensure!(
            boot_nanos() - begun < 30_000_000_000,
            "the writers do not write (`karst-lab demo` makes their table); see {}",
            lab.layout.dir.join("logs/load.log").display()
        );
        tokio::time::sleep(crate::cluster::LOOK).await;
    }
    Ok(lab.status().await?.status.operations.first().map(|o| o.id))
}

/// Prints the operation's steps while they happen, and returns it when it is done.
async fn follow(lab: &Lab, before: Option<OperationId>, from: u64) -> Result<Progress> {
    let mut shown = 0;
    let mut finished = None;
    let reply = lab.wait("the operation's end", Duration::from_secs(120), |reply| {
        let newest = reply.status.operations.iter().find(|o| Some(o.id) > before);
        let Some(operation) = newest else {
            return false;
        };
        for step in operation.steps.iter().skip(shown) {
            println!(
                "  {:>7.0} ms  {}",
                step.at.0.saturating_sub(from) as f64 / 1e6,
                step.text
            );
        }
        shown = shown.max(operation.steps.len());
        if operation.outcome.is_some() {
            finished = Some(operation.clone());
        }
        operation.outcome.is_some()
    });
    reply.await?;
    finished.context("the operation ended")
}
