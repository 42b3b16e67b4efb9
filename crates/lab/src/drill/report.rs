//! What rounds of a drill found, and the measuring of each by the clients' own journal.

use super::compare::compare;
use super::load::Running;
use crate::cluster::Lab;
use crate::journal::{Ending, Line};
use crate::layout::host;
use crate::quantile::quantile;
use anyhow::{Context, Result};
use karst_api::core::operation::Phase;
use karst_api::core::progress::Progress;
use serde::Serialize;

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
    /// FIN and RST frames that came out of its host from the fault to its mending; none where
    /// nothing was captured.
    pub goodbyes: Option<usize>,
    /// Times that two hosts answered for the floating address at once.
    pub clashes: Vec<String>,
}

/// What a whole drill found.
#[derive(Clone, Debug, Default, Serialize)]
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
        let Some(first) = self.rounds.first() else {
            return Vec::new();
        };
        let median = |(i, (name, _)): (usize, &(String, f64))| {
            let mut all: Vec<f64> = self
                .rounds
                .iter()
                .filter_map(|r| Some(r.phases.get(i)?.1))
                .collect();
            all.sort_by(f64::total_cmp);
            (name.clone(), quantile(&all, 0.5))
        };
        first.phases.iter().enumerate().map(median).collect()
    }
    /// A round that took longer than the worst case (L1). What the machine took from all of us is
    /// nobody's pause.
    pub fn late(&self) -> Option<&Round> {
        let worst = self.worst? as f64;
        self.rounds
            .iter()
            .find(|r| r.pause - r.steal as f64 > worst)
    }
    pub fn median(&self) -> f64 {
        quantile(&self.pauses(), 0.5)
    }
    pub fn longest(&self) -> f64 {
        quantile(&self.pauses(), 1.0)
    }
}

/// A round that is over, as it was marked while it went on.
pub(super) struct Mark {
    pub what: String,
    pub from: String,
    pub at: u64,
    pub operation: Progress,
    pub steal: u64,
    pub coordinator_too: bool,
    pub goodbyes: Option<usize>,
    pub clashes: Vec<String>,
}

/// Ends the load and measures each round.
pub(super) async fn finish(lab: &Lab, load: Running, marks: Vec<Mark>) -> Result<Report> {
    let lines = load.finish()?;
    let mut rounds = Vec::new();
    for (i, mark) in marks.iter().enumerate() {
        let end = marks.get(i + 1).map_or(u64::MAX, |m| m.at);
        let round = measure(mark, &lines, end)?;
        let phases: Vec<String> = round
            .phases
            .iter()
            .map(|(name, ms)| format!("{name} {ms:.0}"))
            .collect();
        println!(
            "round {}: {} -> {}, no write for {:.0} ms = {}; steal {} ms{}{}",
            i + 1,
            round.from,
            round.to,
            round.pause,
            phases.join(" + "),
            round.steal,
            round.goodbyes.map_or(String::new(), |n| format!(
                "; FIN or RST out of {}: {n}",
                round.from
            )),
            if round.coordinator_too {
                "; it was the coordinator too"
            } else {
                ""
            }
        );
        rounds.push(round);
    }
    let (acknowledged, missing) = compare(lab, &lines).await?;
    Ok(Report {
        worst: None,
        rounds,
        acknowledged,
        missing,
    })
}

/// One round from the journal and the operation's steps. The phases' ends are the coordinator's;
/// the beginning is the fault, and the end the first write that a client of the new primary saw
/// acknowledged.
fn measure(mark: &Mark, lines: &[Line], end: u64) -> Result<Round> {
    let old = host(&mark.from).map(|h| h.client());
    let of_round = || lines.iter().filter(|l| l.ended > mark.at && l.ended < end);
    let first = of_round()
        .filter(|l| l.ending == Ending::Acknowledged && l.server != old)
        .map(|l| l.ended)
        .min()
        .context("no write was acknowledged after the fault")?;
    // A planned move goes on serving writes while it prepares: its pause begins at the last one.
    let last = of_round()
        .filter(|l| l.ending == Ending::Acknowledged && l.server == old)
        .map(|l| l.ended)
        .max();
    let begin = if mark.what == "switchover" {
        last.unwrap_or(mark.at).max(mark.at)
    } else {
        mark.at
    };
    let mut phases = Vec::new();
    let mut from = begin;
    let reached = |phase: Phase| {
        mark.operation
            .steps
            .iter()
            .find(|s| s.phase == Some(phase))
            .map(|s| s.at.0)
    };
    let opened = reached(Phase::Promote).unwrap_or(first);
    let route = mark
        .operation
        .phases
        .iter()
        .find(|p| p.phase == Phase::Route)
        .map_or(opened, |p| opened + p.took.as_nanos() as u64);
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
        to: mark
            .operation
            .target
            .as_ref()
            .map(ToString::to_string)
            .unwrap_or_default(),
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
