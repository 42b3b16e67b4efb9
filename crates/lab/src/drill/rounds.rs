//! Rounds of one fault or move under load, each measured by the clients' own journal.

use super::compare::compare;
use super::load::{Running, start_load};
use super::loss::Loss;
use crate::bench::quantile;
use crate::capture::{self, Capture};
use crate::cluster::{Lab, is_well};
use crate::fault::{self, Fault};
use crate::find;
use crate::journal::{self, Ending, Line};
use crate::layout::{WORKLOAD, host};
use crate::steal::{boot_nanos, millis as steal_millis, wall_nanos};
use anyhow::{Context, Result, ensure};
use karst_api::core::operation::{Phase, Progress};
use karst_api::core::{NodeId, OperationId};
use karst_api::{MoveBody, StatusReply};
use rustix::process::Signal;
use serde::Serialize;
use std::collections::BTreeSet;
use std::time::Duration;

/// One round as it was measured. Milliseconds.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Round {
    pub what: String,
    pub from: String,
    pub to: String,
    /// From the fault to the first write that the new primary acknowledged.
    pub pause: f64,
    pub phases: Vec<(String, f64)>,
    pub refused: usize,
    pub unknown: usize,
    pub steal: u64,
    /// The lost primary's host was the coordinator too.
    pub coordinator_too: bool,
    /// FIN and RST frames that came out of its host from the fault to its mending; none where nothing was captured.
    pub goodbyes: Option<usize>,
    /// Times that two hosts answered for the floating address at once.
    pub clashes: Vec<String>,
}

/// What a whole drill found.
#[derive(Clone, Debug, Serialize)]
pub struct Report {
    /// The longest outage that was printed beforehand, in milliseconds; none for a planned move.
    pub worst: Option<u64>,
    pub rounds: Vec<Round>,
    pub acknowledged: usize,
    /// Per replica, acknowledged rows that it does not have.
    pub missing: Vec<(String, usize)>,
}

impl Report {
    pub fn missing_total(&self) -> usize {
        self.missing.iter().map(|(_, n)| n).sum()
    }
    pub fn refused(&self) -> usize {
        self.rounds.iter().map(|r| r.refused).sum()
    }
    /// Sorted.
    pub fn pauses(&self) -> Vec<f64> {
        let mut pauses: Vec<f64> = self.rounds.iter().map(|r| r.pause).collect();
        pauses.sort_by(f64::total_cmp);
        pauses
    }
    /// The fault of all its rounds.
    pub fn name(&self) -> &str {
        self.rounds.first().map_or("", |r| &r.what)
    }
    /// The median of each phase.
    pub fn phases(&self) -> Vec<(String, f64)> {
        let Some(first) = self.rounds.first() else { return Vec::new() };
        let median = |(i, (name, _)): (usize, &(String, f64))| {
            let mut all: Vec<f64> = self.rounds.iter().filter_map(|r| Some(r.phases.get(i)?.1)).collect();
            all.sort_by(f64::total_cmp);
            (name.clone(), quantile(&all, 0.5))
        };
        first.phases.iter().enumerate().map(median).collect()
    }
    /// A round that took longer than the worst case (L1). What the machine took from all of us is nobody's pause.
    pub fn late(&self) -> Option<&Round> {
        let worst = self.worst? as f64;
        self.rounds.iter().find(|r| r.pause - r.steal as f64 > worst)
    }
    pub fn median(&self) -> f64 {
        quantile(&self.pauses(), 0.5)
    }
    pub fn longest(&self) -> f64 {
        quantile(&self.pauses(), 1.0)
    }
}

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
        Self { rounds, together: 0, writers: 4 }
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
    println!("{}: at the worst, clients cannot write for {} ms", loss.name(), worst.as_millis());
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
        let of_round: Option<Vec<_>> = frames.map(|all| all.into_iter().filter(|f| f.at >= wall).collect());
        let left = |f: &&capture::Frame| f.host == from && f.what == capture::What::Goodbye && f.at < mended;
        marks.push(Mark {
            what: loss.name().into(),
            coordinator_too: coordinator.is_some_and(|c| c.as_str() == from),
            goodbyes: of_round.as_ref().map(|frames| frames.iter().filter(left).count()),
            clashes: of_round.iter().flat_map(|f| capture::clashes(f)).map(|clash| clash.to_string()).collect(),
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

/// Kills the coordinator's daemon again and again; how long until another node is coordinator, in milliseconds each.
///
/// # Errors
/// If the workload moves for it, or the cluster does not heal.
pub async fn lose_coordinator(lab: &Lab, rounds: u32) -> Result<Vec<f64>> {
    let mut took = Vec::new();
    for round in 1..=rounds {
        let well = lab.healthy(Duration::from_secs(180)).await?;
        let (epoch, term) = (well.status.workloads[0].epoch, well.status.term);
        let coordinator = well.status.coordinator.context("a coordinator")?.to_string();
        let daemon = find::daemon(&lab.layout, &coordinator, "run")?;
        let at = wall_nanos();
        find::signal(daemon, Signal::KILL)?;
        let newer = |r: &StatusReply| r.status.term > term && r.status.coordinator.is_some();
        let other = lab.wait("another coordinator", Duration::from_secs(60), newer).await?.status;
        let after = lab.healthy(Duration::from_secs(180)).await?;
        ensure!(after.status.workloads[0].epoch == epoch, "{coordinator} was killed, and the workload moved");
        let ms = (lab.first_record("elected", at).await? - at) as f64 / 1e6;
        println!("round {round}: {coordinator} -> {} after {ms:.0} ms", other.coordinator.context("a coordinator")?);
        took.push(ms);
    }
    Ok(took)
}

/// Makes the primary's host the coordinator too: a coordinator that cannot hold the workload is restarted until another
/// node is, and the primary is moved to it.
async fn one_for_both(lab: &Lab) -> Result<()> {
    loop {
        let well = lab.healthy(Duration::from_secs(180)).await?;
        let coordinator = well.status.coordinator.context("a coordinator")?.to_string();
        if well.status.workloads[0].primary.as_ref().is_some_and(|p| *p.as_str() == coordinator) {
            return Ok(());
        }
        if host(&coordinator).is_some_and(|h| h.rank.is_some()) {
            let body = MoveBody { to: Some(NodeId::from(coordinator.as_str())), ..MoveBody::default() };
            lab.client.begin(WORKLOAD, "switchover", &body).await?;
            let there = |r: &StatusReply| {
                r.status.workloads[0].primary.as_ref().is_some_and(|p| *p.as_str() == coordinator) && is_well(r)
            };
            lab.wait("the primary on the coordinator's host", Duration::from_secs(60), there).await?;
        } else {
            find::signal(find::daemon(&lab.layout, &coordinator, "run")?, Signal::KILL)?;
            let other = |r: &StatusReply| r.status.coordinator.as_ref().is_some_and(|c| *c.as_str() != coordinator);
            lab.wait("another coordinator", Duration::from_secs(60), other).await?;
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
        let body = MoveBody { to: Some(NodeId::from(to)), ..MoveBody::default() };
        lab.client.begin(WORKLOAD, "switchover", &body).await?;
        println!("round {round}: switchover of {WORKLOAD} from {from} to {to}");
        let operation = follow(lab, before, at).await?;
        let steal = steal_millis() - steal;
        let (coordinator_too, goodbyes, clashes) = (false, None, Vec::new());
        marks.push(Mark { what: "switchover".into(), from, at, operation, steal, coordinator_too, goodbyes, clashes });
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
        let lately: BTreeSet<u32> =
            lines.iter().filter(|l| l.began > begun && l.ending == Ending::Acknowledged).map(|l| l.writer).collect();
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
        let Some(operation) = newest else { return false };
        for step in operation.steps.iter().skip(shown) {
            println!("  {:>7.0} ms  {}", step.at.0.saturating_sub(from) as f64 / 1e6, step.text);
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

struct Mark {
    what: String,
    from: String,
    at: u64,
    operation: Progress,
    steal: u64,
    coordinator_too: bool,
    goodbyes: Option<usize>,
    clashes: Vec<String>,
}

async fn finish(lab: &Lab, load: Running, marks: Vec<Mark>) -> Result<Report> {
    let lines = load.finish()?;
    let mut rounds = Vec::new();
    for (i, mark) in marks.iter().enumerate() {
        let end = marks.get(i + 1).map_or(u64::MAX, |m| m.at);
        let round = measure(mark, &lines, end)?;
        let phases: Vec<String> = round.phases.iter().map(|(name, ms)| format!("{name} {ms:.0}")).collect();
        println!(
            "round {}: {} -> {}, no write for {:.0} ms = {}; steal {} ms{}{}",
            i + 1,
            round.from,
            round.to,
            round.pause,
            phases.join(" + "),
            round.steal,
            round.goodbyes.map_or(String::new(), |n| format!("; FIN or RST out of {}: {n}", round.from)),
            if round.coordinator_too { "; it was the coordinator too" } else { "" }
        );
        rounds.push(round);
    }
    let (acknowledged, missing) = compare(lab, &lines).await?;
    Ok(Report { worst: None, rounds, acknowledged, missing })
}

/// One round from the journal and the operation's steps. The phases' ends are the coordinator's; the beginning is the
/// fault, and the end the first write that a client of the new primary saw acknowledged.
fn measure(mark: &Mark, lines: &[Line], end: u64) -> Result<Round> {
    let old = host(&mark.from).map(|h| h.client());
    let of_round = || lines.iter().filter(|l| l.ended > mark.at && l.ended < end);
    let first = of_round()
        .filter(|l| l.ending == Ending::Acknowledged && l.server != old)
        .map(|l| l.ended)
        .min()
        .context("no write was acknowledged after the fault")?;
    // A planned move goes on serving writes while it prepares: its pause begins at the last one.
    let last = of_round().filter(|l| l.ending == Ending::Acknowledged && l.server == old).map(|l| l.ended).max();
    let begin = if mark.what == "switchover" { last.unwrap_or(mark.at).max(mark.at) } else { mark.at };
    let mut phases = Vec::new();
    let mut from = begin;
    let reached = |phase: Phase| mark.operation.steps.iter().find(|s| s.phase == Some(phase)).map(|s| s.at.0);
    let opened = reached(Phase::Promote).unwrap_or(first);
    let route = mark
        .operation
        .phases
        .iter()
        .find(|(p, _)| *p == Phase::Route)
        .map_or(opened, |(_, d)| opened + d.as_nanos() as u64);
    let ends = [
        reached(Phase::Detect),
        reached(Phase::Decide),
        reached(Phase::Isolate),
        Some(opened),
        Some(route),
        Some(first),
    ];
    for (phase, at) in Phase::ALL.into_iter().zip(ends) {
        let at = at.unwrap_or(from).clamp(from, first.max(from));
        phases.push((phase.name().to_string(), (at - from) as f64 / 1e6));
        from = at;
    }
    Ok(Round {
        what: mark.what.clone(),
        from: mark.from.clone(),
        to: mark.operation.target.as_ref().map(ToString::to_string).unwrap_or_default(),
        pause: (first - begin) as f64 / 1e6,
        phases,
        refused: of_round().filter(|l| l.ending == Ending::Refused).count(),
        unknown: of_round().filter(|l| l.ending == Ending::Unknown).count(),
        steal: mark.steal,
        coordinator_too: mark.coordinator_too,
        goodbyes: mark.goodbyes,
        clashes: mark.clashes.clone(),
    })
}
