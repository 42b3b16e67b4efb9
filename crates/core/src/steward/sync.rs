//! The sync set: who leaves at once, and who comes back when it has caught up (D1 to D3).

use super::{Desk, Notes};
use crate::ids::{Lsn, NodeId};
use crate::replica::{Downstream, ReplicaReport, Role};
use crate::spec::Loss;
use crate::state::Command;

/// A standby this close behind counts as caught up: the rest is waited for when it joins.
const CAUGHT_UP: u64 = 16 * 1024 * 1024;

impl Desk<'_> {
    pub(super) fn sync_changes(&self, holder: &NodeId, notes: &mut Notes) -> Option<Command> {
        if self.spec.loss != Loss::None {
            return None;
        }
        let report = self.report(holder)?;
        let set = &self.w.sync;
        let seen = report.seen.as_ref()?;
        self.note_quiet(&seen.standbys, notes);

        let out: Vec<(NodeId, String)> =
            set.asked.iter().filter_map(|n| Some((n.clone(), self.cannot_keep(n, notes)?))).collect();
        if !out.is_empty() {
            let keep = |list: &[NodeId]| -> Vec<NodeId> {
                list.iter().filter(|n| out.iter().all(|(o, _)| o != *n)).cloned().collect()
            };
            let why: Vec<String> = out.iter().map(|(n, why)| format!("{n} leaves: {why}")).collect();
            let (sure, asked) = (keep(&set.sure), keep(&set.asked));
            return Some(self.sync(set.number + 1, sure, asked, why.join("; ")));
        }
        if set.asked != set.sure {
            let held = report.sync_held == Some((self.w.epoch, set.number));
            return held.then(|| {
                let sure = set.asked.clone();
                self.sync(set.number, sure.clone(), sure, "the newcomer has everything".into())
            });
        }
        if report.sync_held != Some((self.w.epoch, set.number)) {
            return None;
        }
        let newcomer = self.spec.replicas.keys().filter(|n| *n != holder && !set.asked.contains(n)).find(|n| {
            let caught_up = |d: &Downstream| d.node == **n && d.streaming && near(d.flushed, seen.position);
            self.can_follow(n) && seen.standbys.iter().any(caught_up)
        })?;
        let asked = std::iter::once(newcomer.clone()).chain(set.asked.iter().cloned()).collect();
        Some(self.sync(set.number + 1, set.sure.clone(), asked, format!("{newcomer} has caught up")))
    }

    fn sync(&self, number: u64, sure: Vec<NodeId>, asked: Vec<NodeId>, why: String) -> Command {
        Command::Sync { workload: self.id.clone(), epoch: self.w.epoch, number, sure, asked, why }
    }

    fn note_quiet(&self, standbys: &[Downstream], notes: &mut Notes) {
        let streams = |n: &NodeId| standbys.iter().any(|d| d.node == *n && d.streaming);
        notes.quiet_standbys.retain(|n, _| self.w.sync.asked.contains(n) && !streams(n));
        for node in self.w.sync.asked.iter().filter(|n| !streams(n)) {
            notes.quiet_standbys.entry(node.clone()).or_insert(self.scene.now);
        }
    }

    /// Why a member has to leave, if it does: writes wait for it, so that this is decided on suspicion and not later.
    fn cannot_keep(&self, node: &NodeId, notes: &Notes) -> Option<String> {
        if !self.scene.is_up(node) {
            return Some("its node is not heard".into());
        }
        let down = |r: &ReplicaReport| r.seen.as_ref().is_some_and(|o| !o.runs || o.role == Some(Role::Primary));
        if self.report(node).is_some_and(down) {
            return Some("its server does not run".into());
        }
        if self.w.unsound(node).is_some() {
            return Some("its data must be rewound or cloned".into());
        }
        let quiet = self.scene.now.since(*notes.quiet_standbys.get(node)?);
        let patience = self.scene.spec.timings.suspicion_ceiling;
        (quiet >= patience).then(|| format!("it has not streamed for {} ms", quiet.as_millis()))
    }
}

fn near(flushed: Lsn, position: Lsn) -> bool {
    position.0.saturating_sub(flushed.0) <= CAUGHT_UP
}
