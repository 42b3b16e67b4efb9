//! The guarantees, checked from outside after every step, by someone who sees everything.

use karst_core::consensus::Entry;
use karst_core::replica::Parts;
use karst_core::state::{ClusterState, Command, Tenure};
use karst_core::{Index, Node, NodeId, Term, Time, WorkloadId};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::fmt;

/// A broken guarantee, and how it came to it.
#[derive(Clone, Debug)]
pub struct Failure {
    pub guarantee: &'static str,
    pub what: String,
    pub seed: u64,
    pub at_ms: u64,
    pub story: Vec<String>,
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(f, "{} broken at {} ms with seed {}: {}", self.guarantee, self.at_ms, self.seed, self.what)?;
        self.story.iter().try_for_each(|line| writeln!(f, "  {line}"))
    }
}

type Verdict = Result<(), (&'static str, String)>;

/// What is true of the cluster as a whole.
#[derive(Default)]
pub struct Truth {
    leaders: BTreeMap<Term, NodeId>,
    committed: Vec<Entry>,
    seen: BTreeMap<NodeId, Index>,
    pub state: ClusterState,
    /// Writes whose commit returned to the client.
    pub acknowledged: BTreeSet<u64>,
    /// What each node said in its last check-ins, and which of them each coordinator was found to have.
    said: BTreeMap<NodeId, VecDeque<(Checkin, Parts)>>,
    heard: BTreeMap<(NodeId, NodeId), Checkin>,
}

/// When a check-in was sent, and its number.
type Checkin = (Time, u64);

/// Check-ins remembered per node: more than are under way.
const SAID: usize = 64;

/// What the checker may ask about a replica's data.
pub trait Data {
    fn lacks(&self, holder: &NodeId, acknowledged: &BTreeSet<u64>) -> Option<u64>;
    /// Nodes on whose disk this entry is.
    fn durable_on(&self, index: Index, term: Term) -> Vec<NodeId>;
}

impl Truth {
    /// S1: at most one coordinator per term.
    pub fn check_leader(&mut self, node: &Node) -> Verdict {
        if !node.is_coordinator() {
            return Ok(());
        }
        let first = self.leaders.entry(node.term()).or_insert_with(|| node.me().clone());
        if first == node.me() {
            return Ok(());
        }
        Err(("S1", format!("{first} and {} both lead term {}", node.me(), node.term())))
    }

    /// S2: what one node committed, every node commits. S4, S5 and S8 are checked as the entries become true.
    pub fn check_commits(&mut self, node: &Node, data: &dyn Data) -> Verdict {
        let seen = self.seen.entry(node.me().clone()).or_default();
        let (term, base) = node.log().base();
        if *seen < base {
            // What a snapshot stands for was committed somewhere else before.
            if self.committed.get(base.0 as usize - 1).is_none_or(|e| e.term != term) {
                return Err(("S2", format!("{} has a snapshot up to {base}, which nobody committed", node.me())));
            }
            *seen = base;
        }
        while *seen < node.commit() {
            *seen = seen.next();
            let Some(entry) = node.log().get(*seen) else {
                return Err(("S2", format!("{} committed {seen} without having it", node.me())));
            };
            match self.committed.get(seen.0 as usize - 1) {
                Some(first) if first == entry => {}
                Some(first) => {
                    let what = format!("entry {seen} is {first:?} for one node and {entry:?} for {}", node.me());
                    return Err(("S2", what));
                }
                None => {
                    let on = data.durable_on(entry.index, entry.term);
                    if !node.spec().votes().is_majority(&on) {
                        return Err(("S8", format!("entry {seen} is committed and durable on {on:?} only")));
                    }
                    self.committed.push(entry.clone());
                    self.state.apply(entry.index, &entry.command);
                    check_open(&self.state, &entry.command, data, &self.acknowledged)?;
                }
            }
        }
        // However it came to it: by entries, by a snapshot of its own or another's.
        if node.state().applied == self.state.applied && *node.state() != self.state {
            return Err(("S2", format!("{} makes something else of the entries up to {seen}", node.me())));
        }
        Ok(())
    }

    /// A coordinator has of each node what that node said, however much of it came in pieces.
    pub fn check_reports(&mut self, node: &Node) -> Verdict {
        if let Some((checkin, parts)) = node.last_said() {
            let said = self.said.entry(node.me().clone()).or_default();
            if said.back().is_none_or(|(last, _)| *last != checkin) {
                said.push_back((checkin, parts.clone()));
                if said.len() > SAID {
                    said.pop_front();
                }
            }
        }
        if !node.is_coordinator() {
            return Ok(());
        }
        for (from, heard) in node.reports().iter().filter(|(from, _)| *from != node.me()) {
            let checkin = (heard.sent, heard.number);
            let before = self.heard.insert((node.me().clone(), from.clone()), checkin);
            let said = self.said.get(from).and_then(|s| s.iter().find(|(said, _)| *said == checkin));
            if let Some((_, parts)) = said
                && before != Some(checkin)
                && *parts != heard.report.parts.still()
            {
                let has = heard.report.parts.still();
                return Err(("report", format!("{from} said {parts:?} and {} has {has:?}", node.me())));
            }
        }
        Ok(())
    }

    pub fn forget(&mut self, node: &NodeId) {
        self.seen.remove(node);
    }

    /// S4: a promotion is covered by the newest committed epoch.
    pub fn check_promotion(&self, node: &NodeId, workload: &WorkloadId) -> Verdict {
        let w = self.state.workload(workload);
        match w.holder() {
            Some(holder) if holder == node => Ok(()),
            holder => Err(("S4", format!("{node} is promoted while epoch {} belongs to {holder:?}", w.epoch))),
        }
    }

    /// L1: at the end of a calm time, somebody serves.
    pub fn check_served(&self, workload: &WorkloadId, wrote_lately: bool) -> Verdict {
        let w = self.state.workload(workload);
        match &w.tenure {
            Tenure::Open { serving: true, .. } if wrote_lately => Ok(()),
            tenure => {
                Err(("L1", format!("after the calm {workload} is {tenure:?}, writes return: {wrote_lately}, {w:?}")))
            }
        }
    }
}

/// S5: a new primary has every write that was acknowledged before.
fn check_open(state: &ClusterState, command: &Command, data: &dyn Data, acknowledged: &BTreeSet<u64>) -> Verdict {
    let Command::Open { workload, epoch, .. } = command else { return Ok(()) };
    let w = state.workload(workload);
    let Some(opened) = w.opened.as_ref().filter(|o| o.epoch == *epoch) else { return Ok(()) };
    match data.lacks(&opened.holder, acknowledged) {
        None => Ok(()),
        Some(write) => {
            Err(("S5", format!("{} opened epoch {epoch} without acknowledged write {write}", opened.holder)))
        }
    }
}
