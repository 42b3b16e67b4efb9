//! The guarantees, checked from outside after every step, by someone who sees everything.

use crate::cluster::FORGER;
use karst_core::author::Author;
use karst_core::command::{ClusterAct, Command, NodeAct, WorkloadAct};

use karst_core::consensus::{Entry, LogId};
use karst_core::operation::Kind;
use karst_core::replica::Parts;
use karst_core::safetypoint::HeldBack;
use karst_core::spec::Loss;
use karst_core::state::{ClusterState, Tenure};
use karst_core::votes::Voters;
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
        writeln!(
            f,
            "{} broken at {} ms with seed {}: {}",
            self.guarantee, self.at_ms, self.seed, self.what
        )?;
        self.story
            .iter()
            .try_for_each(|line| writeln!(f, "  {line}"))
    }
}

/// The name of the person in whose name something is decided.
fn asks(command: &Command) -> Option<&str> {
    let by = match command {
        Command::Workload(_, WorkloadAct::Begin(operation)) => &operation.by,
        Command::Workload(_, WorkloadAct::Mode(set)) => &set.by,
        Command::Node(_, NodeAct::Fence { by, .. } | NodeAct::Readmit { by, .. }) => by,
        Command::Cluster(ClusterAct::Intend(intent)) => &intent.by,
        _ => return None,
    };
    match by {
        Author::Person { name, .. } => Some(name),
        Author::Cluster => None,
    }
}

/// Which guarantee or rule is broken, and how.
pub type Verdict = Result<(), (&'static str, String)>;

/// When a check-in was sent, and its number.
type Checkin = (Time, u64);

/// Check-ins remembered per node: more than are under way.
const SAID: usize = 64;

/// What a primary wrote so shortly before its end may be lost beyond a bound by size: nobody heard
/// how far it was.
const UNHEARD: u64 = 2_000_000_000;

#[derive(Clone, Copy)]
struct Acknowledged {
    write: u64,
    at: u64,
    /// A majority of the voters heard the primary then.
    heard: bool,
    /// What the spec in force said by then: whoever got this answer was promised so much.
    loss: Loss,
}

/// What is true of the cluster as a whole.
pub struct Truth {
    leaders: BTreeMap<Term, NodeId>,
    committed: Vec<Entry>,
    seen: BTreeMap<NodeId, Index>,
    pub state: ClusterState,
    /// Per workload: writes whose commit returned to the client.
    acknowledged: Vec<Vec<Acknowledged>>,
    /// Since when a node is fenced.
    pub fenced_at: BTreeMap<NodeId, u64>,
    pub restarted_in_place: BTreeSet<(usize, u64)>,
    /// Who was promoted under which epoch (S4).
    promoted: BTreeMap<(WorkloadId, u64), NodeId>,
    /// What each node said in its last check-ins, and which of them each coordinator was found to
    /// have.
    said: BTreeMap<NodeId, VecDeque<(Checkin, Parts)>>,
    heard: BTreeMap<(NodeId, NodeId), Checkin>,
}

/// What the checker may ask about a replica's data.
pub trait Data {
    fn log_of(&self, holder: &NodeId, workload: usize) -> &[u64];
    /// Nodes on whose disk this entry is or was, and whose disk counts or did.
    fn durable_on(&self, index: Index, term: Term) -> Vec<NodeId>;
}

impl Truth {
    pub fn new(workloads: usize) -> Self {
        Self {
            leaders: BTreeMap::new(),
            committed: Vec::new(),
            seen: BTreeMap::new(),
            state: ClusterState::default(),
            acknowledged: vec![Vec::new(); workloads],
            fenced_at: BTreeMap::new(),
            restarted_in_place: BTreeSet::new(),
            promoted: BTreeMap::new(),
            said: BTreeMap::new(),
            heard: BTreeMap::new(),
        }
    }

    pub fn acknowledge(
        &mut self,
        workload: usize,
        writes: &[u64],
        loss: Loss,
        (at, heard): (u64, bool),
    ) {
        let all = writes.iter().map(|&write| Acknowledged {
            write,
            at,
            heard,
            loss,
        });
        self.acknowledged[workload].extend(all);
    }

    fn loss_of(&self, workload: &WorkloadId) -> Loss {
        let revision = self.state.charter.revision.as_ref();
        let spec = revision.and_then(|r| r.spec.workloads.get(workload));
        spec.map_or(Loss::None, |spec| spec.loss)
    }

    pub fn acknowledged(&self) -> usize {
        self.acknowledged.iter().map(Vec::len).sum()
    }

    /// Acknowledged writes that are not in this log.
    pub fn lacks(&self, workload: usize, log: &[u64]) -> Vec<u64> {
        self.missing(workload, log).map(|a| a.write).collect()
    }

    /// The newest write that was acknowledged before that moment.
    pub fn newest_before(&self, workload: usize, before: u64) -> Option<u64> {
        let all = &self.acknowledged[workload];
        let earlier = all.partition_point(|a| a.at < before);
        all[..earlier]
            .iter()
            .rev()
            .find(|a| a.heard)
            .map(|a| a.write)
    }

    fn missing(&self, workload: usize, log: &[u64]) -> impl Iterator<Item = Acknowledged> {
        let has: BTreeSet<u64> = log.iter().copied().collect();
        let all = self.acknowledged[workload].iter().copied();
        all.filter(move |a| !has.contains(&a.write))
    }

    /// S1: at most one coordinator per term.
    pub fn check_leader(&mut self, node: &Node) -> Verdict {
        if !node.is_coordinator() {
            return Ok(());
        }
        match self.leaders.get(&node.term()) {
            None => drop(self.leaders.insert(node.term(), node.me().clone())),
            Some(first) if first == node.me() => {}
            Some(first) => {
                return Err((
                    "S1",
                    format!("{first} and {} both lead term {}", node.me(), node.term()),
                ));
            }
        }
        Ok(())
    }

    /// S2: what one node committed, every node commits. S4, S5 and S8 are checked as the entries
    /// become true.
    pub fn check_commits(
        &mut self,
        node: &Node,
        workloads: &[WorkloadId],
        data: &dyn Data,
        now: u64,
    ) -> Verdict {
        let mut seen = self.seen.get(node.me()).copied().unwrap_or_default();
        let LogId { term, index: base } = node.log().base();
        if seen >= base && seen == node.commit() {
            return Ok(());
        }
        if seen < base {
            // What a snapshot stands for was committed somewhere else before.
            if self
                .committed
                .get(base.0 as usize - 1)
                .is_none_or(|e| e.term != term)
            {
                return Err((
                    "S2",
                    format!(
                        "{} has a snapshot up to {base}, which nobody committed",
                        node.me()
                    ),
                ));
            }
            seen = base;
        }
        while seen < node.commit() {
            seen = seen.next();
            let Some(entry) = node.log().get(seen) else {
                return Err((
                    "S2",
                    format!("{} committed {seen} without having it", node.me()),
                ));
            };
            match self.committed.get(seen.0 as usize - 1) {
                Some(first) if first == entry => {}
                Some(first) => {
                    let what = format!(
                        "entry {seen} is {first:?} for one node and {entry:?} for {}",
                        node.me()
                    );
                    return Err(("S2", what));
                }
                None => {
                    let on = data.durable_on(entry.index, entry.term);
                    if !self
                        .voters_for(node, entry)
                        .iter()
                        .any(|v| v.is_majority(&on))
                    {
                        return Err((
                            "S8",
                            format!("entry {seen} is committed and durable on {on:?} only"),
                        ));
                    }
                    self.commit(entry.clone(), workloads, data, now)?;
                }
            }
        }
        self.seen.insert(node.me().clone(), seen);
        // However it came to it: by entries, by a snapshot of its own or another's.
        if node.state().applied == self.state.applied && *node.state() != self.state {
            return Err((
                "S2",
                format!(
                    "{} makes something else of the entries up to {seen}",
                    node.me()
                ),
            ));
        }
        Ok(())
    }

    /// Who may have committed an entry: those who voted when it was appended, or whoever was to vote
    /// after them by the time that it was counted.
    fn voters_for(&self, node: &Node, entry: &Entry) -> Vec<Voters> {
        let before = self.state.charter.voters.clone();
        let before = before.unwrap_or_else(|| node.voters().clone());
        let from = Index(entry.index.0 - 1);
        let later = node.log().after(from).iter();
        let later = later.filter_map(|e| e.command.voters().cloned());
        std::iter::once(before).chain(later).collect()
    }

    fn commit(
        &mut self,
        entry: Entry,
        workloads: &[WorkloadId],
        data: &dyn Data,
        now: u64,
    ) -> Verdict {
        if asks(&entry.command) == Some(FORGER) {
            let what = format!("{:?} on the word of a node alone", entry.command);
            return Err(("who asks", what));
        }
        let in_place = restarts_in_place(&self.state, &entry.command);
        let forced = entry
            .command
            .workload()
            .and_then(|id| self.state.running(id))
            .map(|(_, o)| o.what.clone());
        let held = entry.command.workload();
        let held = held.and_then(|id| self.state.workload(id).held_back.clone());
        let changed = self.state.apply(entry.index, &entry.command);
        match &entry.command {
            // A person types the name of a workload to remove it, and gives up its writes by that.
            Command::Cluster(ClusterAct::Adopt { intent }) if changed => {
                let intended = self.state.charter.intents.get(intent);
                for gone in intended.into_iter().flat_map(|i| &i.change.workloads_out) {
                    if let Ok(w) = workloads.binary_search(gone) {
                        self.acknowledged[w].clear();
                    }
                }
            }
            Command::Node(node, NodeAct::Fence { .. }) if changed => {
                self.fenced_at.insert(node.clone(), now);
            }
            Command::Node(node, NodeAct::Readmit { .. }) if changed => {
                self.fenced_at.remove(node);
            }
            Command::Workload(workload, WorkloadAct::Open { epoch, point, .. }) if changed => {
                let holder = self.state.workload(workload).holder();
                let held = held.filter(|held| Some(&held.node) == holder);
                if let Some(mark) = held.as_ref().and_then(HeldBack::mark)
                    && mark.at.number != point.writes_from
                {
                    let what = format!(
                        "{workload} goes on from {}, and its safety point is at {}",
                        point.writes_from, mark.at.number
                    );
                    return Err(("P1", what));
                }
                let w = workloads
                    .binary_search(workload)
                    .expect("it is in the spec");
                if in_place {
                    self.restarted_in_place.insert((w, epoch.0));
                }
                // A person accepts a loss for one node, and not for whichever comes in its place.
                let opener = self.state.workload(workload).holder();
                let accepted = forced
                    .filter(|o| o.kind == Kind::ForcedFailover && o.to.as_ref() == opener)
                    .map_or(0, |o| o.accept_loss);
                self.check_open((w, workload), accepted, data)?;
            }
            _ => {}
        }
        self.committed.push(entry);
        Ok(())
    }

    /// S5: a new primary has every write that was acknowledged before; or lacks no more of them
    /// than might be lost when they were acknowledged, or now by a person's word.
    fn check_open(
        &mut self,
        (w, workload): (usize, &WorkloadId),
        accepted: u64,
        data: &dyn Data,
    ) -> Verdict {
        let Some(opened) = self.state.workload(workload).opened.clone() else {
            return Ok(());
        };
        let lost: Vec<Acknowledged> = self.missing(w, data.log_of(&opened.holder, w)).collect();
        let last = self.acknowledged[w].iter().rev().find(|a| a.heard);
        let end = last.map_or(0, |a| a.at);
        let lately = |a: &&Acknowledged| !a.heard || a.at >= end.saturating_sub(UNHEARD);
        // What may be lost holds for a write from when its primary had taken that, and where more may
        // be lost by now, from the entry that says so.
        let now = self.loss_of(workload);
        let may = |a: &&Acknowledged| a.loss != Loss::None || now != Loss::None;
        let (bounded, never): (Vec<_>, Vec<_>) = lost.iter().partition(may);
        let bounded: Vec<_> = bounded.into_iter().filter(|a| !lately(a)).collect();
        let losses = bounded.iter().map(|a| a.loss).chain([now]);
        let allowed = losses.filter_map(|loss| match loss {
            Loss::Bytes(bytes) => Some(bytes),
            Loss::None => None,
        });
        let allowed = allowed.max().unwrap_or(0).max(accepted);
        for (missing, allowed) in [(never, accepted), (bounded, allowed)] {
            if missing.len() as u64 > allowed {
                let (holder, first, count) = (&opened.holder, missing[0].write, missing.len());
                let what = format!(
                    "{holder} opened epoch {} without {count} acknowledged writes from {first} on",
                    opened.epoch
                );
                return Err(("S5", what));
            }
        }
        // What may be lost is lost.
        let lost: BTreeSet<u64> = lost.iter().map(|a| a.write).collect();
        if !lost.is_empty() {
            self.acknowledged[w].retain(|a| !lost.contains(&a.write));
        }
        Ok(())
    }

    /// A coordinator has of each node what that node said, however much of it came in pieces.
    pub fn check_reports(&mut self, node: &Node, checked_in: Option<&NodeId>) -> Verdict {
        if let Some((checkin, parts)) = node.last_said() {
            let news = self
                .said
                .get(node.me())
                .and_then(|s| s.back())
                .is_none_or(|(last, _)| *last != checkin);
            if news {
                let said = self.said.entry(node.me().clone()).or_default();
                said.push_back((checkin, parts.clone()));
                if said.len() > SAID {
                    said.pop_front();
                }
            }
        }
        if !node.is_coordinator() || checked_in.is_none() {
            return Ok(());
        }
        for (from, heard) in node.reports().filter(|(from, _)| *from != node.me()) {
            let checkin = (heard.sent, heard.number);
            let key = (node.me().clone(), from.clone());
            if self.heard.get(&key) == Some(&checkin) {
                continue;
            }
            self.heard.insert(key, checkin);
            let said = self
                .said
                .get(from)
                .and_then(|s| s.iter().find(|(said, _)| *said == checkin));
            if let Some((_, parts)) = said
                && *parts != heard.report.parts.still()
            {
                let has = heard.report.parts.still();
                return Err((
                    "report",
                    format!("{from} said {parts:?} and {} has {has:?}", node.me()),
                ));
            }
        }
        Ok(())
    }

    pub fn forget(&mut self, node: &NodeId) {
        self.seen.remove(node);
    }

    /// S4: a promotion is covered by the newest committed epoch, and nobody else was ever promoted
    /// under it.
    pub fn check_promotion(&mut self, node: &NodeId, workload: &WorkloadId) -> Verdict {
        let w = self.state.workload(workload);
        if w.holder() != Some(node) {
            let what = format!(
                "{node} is promoted while epoch {} belongs to {:?}",
                w.epoch,
                w.holder()
            );
            return Err(("S4", what));
        }
        let first = self
            .promoted
            .entry((workload.clone(), w.epoch.0))
            .or_insert_with(|| node.clone());
        if first != node {
            return Err((
                "S4",
                format!(
                    "{first} and {node} were promoted under epoch {} of {workload}",
                    w.epoch
                ),
            ));
        }
        Ok(())
    }

    /// L1: at the end of a calm time, somebody serves.
    pub fn check_served(&self, workload: &WorkloadId, wrote_lately: bool) -> Verdict {
        let w = self.state.workload(workload);
        match &w.tenure {
            Tenure::Open { serving: true, .. } if wrote_lately => Ok(()),
            tenure => {
                let operation = self.state.running(workload);
                let what = format!(
                    "after the calm {workload} is {tenure:?}, writes return: {wrote_lately}, {w:?} {operation:?}"
                );
                Err(("L1", what))
            }
        }
    }
}

/// A restart in place: the holder of the epoch before opens the next one on the same history.
fn restarts_in_place(state: &ClusterState, command: &Command) -> bool {
    let Command::Workload(workload, WorkloadAct::Open { point, .. }) = command else {
        return false;
    };
    let w = state.workload(workload);
    w.opened
        .as_ref()
        .is_some_and(|o| w.holder() == Some(&o.holder) && o.point.history == point.history)
}
