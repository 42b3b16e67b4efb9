//! The sync set: who leaves at once, and who comes back when it has caught up (D1 to D3).

use super::scene::{Desk, Notes};
use super::steps::bare;
use crate::command::{Command, WorkloadAct};
use crate::ids::NodeId;
use crate::planted::Planted;
use crate::replica::{Downstream, Observation, ReplicaReport, Role};
use crate::spec::{Alone, Loss};
use crate::state::SyncSet;
use crate::time::Time;
use std::time::Duration;

impl Desk<'_> {
    pub(super) fn sync_changes(&self, holder: &NodeId, notes: &mut Notes) -> Option<Command> {
        let set = &self.w.sync;
        if let Some(command) = self.by_the_spec(set) {
            return Some(command);
        }
        if self.spec.loss != Loss::None {
            return None;
        }
        let report = self.report(holder)?;
        // Of a server that does not answer it is not known who streams from it (F2): its standbys
        // keep their place, and one of them may have to take over.
        let seen = report.seen.as_ref().filter(|o| o.is(Role::Primary))?;
        self.note_quiet(&seen.standbys, notes);
        let looked_at = self.looked_at(holder);
        self.note_owed(seen, looked_at, notes);

        if seen.is_unprotected() && !set.sure.is_empty() {
            // Commits may have returned without them: none of them is known to have everything
            // (F11).
            let why = "another setting was in force than the one that commits wait for".into();
            return Some(self.sync(set.number + 1, Vec::new(), set.asked.clone(), why));
        }
        let out: Vec<(NodeId, String)> = set
            .asked
            .iter()
            .filter_map(|n| Some((n.clone(), self.obstacle_to_staying(n, notes)?)))
            .collect();
        if !out.is_empty() {
            let keep = |list: &[NodeId]| -> Vec<NodeId> {
                list.iter()
                    .filter(|n| out.iter().all(|(o, _)| o != *n))
                    .cloned()
                    .collect()
            };
            let why: Vec<String> = out
                .iter()
                .map(|(n, why)| format!("{n} leaves: {why}"))
                .collect();
            let (mut sure, asked) = (keep(&set.sure), keep(&set.asked));
            if self.scene.breaks(Planted::ShrinkLate) {
                sure.clone_from(&set.sure);
            }
            return Some(self.sync(set.number + 1, sure, asked, why.join("; ")));
        }
        if set.asked != set.sure {
            let held = report.sync_held == Some((self.w.epoch, set.number));
            return (held || self.scene.breaks(Planted::GrowAtOnce)).then(|| {
                let sure = set.asked.clone();
                self.sync(
                    set.number,
                    sure.clone(),
                    sure,
                    "the newcomer has everything".into(),
                )
            });
        }
        if report.sync_held != Some((self.w.epoch, set.number)) {
            return None;
        }
        let newcomer = self
            .spec
            .replicas
            .keys()
            .filter(|n| *n != holder && !set.asked.contains(n))
            .find(|n| {
                let caught_up = |d: &Downstream| d.node == **n && d.streaming && d.near;
                self.can_follow(n)
                    && self.scene.leaving.replica(self.id, n).is_none()
                    && self.is_let_go(n)
                    && seen.standbys.iter().any(caught_up)
                    && self.is_stuck(n, notes).is_none()
            })?;
        let asked = std::iter::once(newcomer.clone())
            .chain(set.asked.iter().cloned())
            .collect();
        Some(self.sync(
            set.number + 1,
            set.sure.clone(),
            asked,
            format!("{newcomer} has caught up"),
        ))
    }

    /// A setting that is not what the spec in force asks for, however it came about (D3, R5).
    fn by_the_spec(&self, set: &SyncSet) -> Option<Command> {
        let why = "the spec in force asks for another setting".to_string();
        if self.spec.loss != Loss::None && !(set.asked.is_empty() && set.sure.is_empty()) {
            return Some(self.sync(set.number + 1, Vec::new(), Vec::new(), why));
        }
        let differs = set.unprotected != self.unprotected(&set.asked);
        differs.then(|| self.sync(set.number + 1, set.sure.clone(), set.asked.clone(), why))
    }

    /// Whether nothing stops the server of a standby, or goes on with it: its own node knows, once it
    /// knows who has been let go of (K4).
    fn is_let_go(&self, node: &NodeId) -> bool {
        let said = self.report(node).and_then(|r| r.let_go);
        let known = said.is_some_and(|upto| upto >= self.w.let_go);
        !self.w.restarts(node)
            && self.w.held_back(node).is_none()
            && (known || self.scene.breaks(Planted::JoinsWhileStopped))
    }

    /// When the primary was looked at that it was heard of last.
    fn looked_at(&self, holder: &NodeId) -> Time {
        let heard = self.scene.reports.get(holder);
        let replica = heard.and_then(|h| h.report.parts.replicas.get(self.id));
        heard
            .zip(replica)
            .map_or(Time::ZERO, |(heard, replica)| heard.at - replica.age)
    }

    fn sync(&self, number: u64, sure: Vec<NodeId>, asked: Vec<NodeId>, why: String) -> Command {
        self.about(WorkloadAct::Sync {
            epoch: self.w.epoch,
            number,
            sure,
            unprotected: self.unprotected(&asked),
            asked,
            why,
        })
    }

    /// Whether commits return with these standbys gone: where writes may be lost, or go on alone (D3).
    pub(super) fn unprotected(&self, asked: &[NodeId]) -> bool {
        let goes_on = self.spec.loss != Loss::None || self.spec.alone == Alone::Continue;
        asked.is_empty() && goes_on
    }

    fn note_quiet(&self, standbys: &[Downstream], notes: &mut Notes) {
        let streams = |n: &NodeId| standbys.iter().any(|d| d.node == *n && d.streaming);
        notes
            .quiet_standbys
            .retain(|n, _| self.w.sync.asked.contains(n) && !streams(n));
        for node in self.w.sync.asked.iter().filter(|n| !streams(n)) {
            notes
                .quiet_standbys
                .entry(node.clone())
                .or_insert(self.scene.now);
        }
    }

    /// What of the primary's log each standby still owes: once it has the position that was noted,
    /// the next one is.
    fn note_owed(&self, seen: &Observation, now: Time, notes: &mut Notes) {
        let Some(position) = seen.number() else {
            return;
        };
        let streams = |n: &NodeId| seen.standbys.iter().any(|d| d.node == *n);
        notes
            .owed
            .retain(|n, _| streams(n) || self.w.sync.asked.contains(n));
        notes
            .flushed
            .retain(|n, _| streams(n) || self.w.sync.asked.contains(n));
        for standby in &seen.standbys {
            let Some(flushed) = standby.flushed else {
                continue;
            };
            let was = notes
                .flushed
                .entry(standby.node.clone())
                .or_insert((flushed, now));
            if flushed != was.0 {
                *was = (flushed, now);
            }
            let owed = notes
                .owed
                .entry(standby.node.clone())
                .or_insert((position, now));
            if flushed >= owed.0 {
                *owed = (position, now);
            }
        }
    }

    /// Whether writes have waited for this member for so long that they go on without it (F7). Not
    /// where they would wait all the same: as the last member it has everything, and is worth more
    /// in the set than outside.
    fn holds_writes_up(&self, node: &NodeId, notes: &Notes) -> Option<String> {
        let (_, since) = notes.owed.get(node)?;
        let time = self.scene.now.since(*since);
        let last = self.spec.alone == Alone::Block && self.w.sync.asked.len() == 1;
        let late = time >= self.scene.spec.timings.keep_up_limit
            && !last
            && !self.scene.breaks(Planted::IgnoreSilence);
        late.then(|| format!("it has been behind for {} ms", time.as_millis()))
    }

    /// For how long nothing at all has come from a standby that owes something: its stream is dead,
    /// whether or not the server has noticed. A link that is cut is noticed after seconds only, and
    /// writes would wait for so long.
    fn is_stuck(&self, node: &NodeId, notes: &Notes) -> Option<Duration> {
        let holder = self.w.holder()?;
        let ((position, owes_since), (flushed, moved)) =
            (notes.owed.get(node)?, notes.flushed.get(node)?);
        // A primary that is not heard says nothing of its standbys (F2): what was seen last is not
        // growing older.
        let time = self.looked_at(holder).since((*owes_since).max(*moved));
        (flushed < position && time >= self.scene.spec.timings.stuck_after()).then_some(time)
    }

    /// Why a member has to leave, if it does: writes wait for it, so that this is decided on
    /// suspicion and not later.
    fn obstacle_to_staying(&self, node: &NodeId, notes: &Notes) -> Option<String> {
        if !self.scene.is_up(node) {
            return Some("its node is not heard".into());
        }
        if let Some(why) = self.scene.leaving.replica(self.id, node)
            && bare(self.scene, self.id, node).is_none()
        {
            return Some(why.into());
        }
        if self.w.restarts(node) && bare(self.scene, self.id, node).is_none() {
            return Some("its server is being restarted".into());
        }
        let down = |r: &ReplicaReport| {
            r.seen
                .as_ref()
                .is_some_and(|o| !o.runs() || o.role == Some(Role::Primary))
        };
        if self.report(node).is_some_and(down) {
            return Some("its server does not run".into());
        }
        if self.w.unsound(node).is_some() {
            return Some("its data must be rewound or cloned".into());
        }
        if let Some(why) = self.holds_writes_up(node, notes) {
            return Some(why);
        }
        let last = self.spec.alone == Alone::Block && self.w.sync.asked.len() == 1;
        if let Some(time) = self
            .is_stuck(node, notes)
            .filter(|_| !last && !self.scene.breaks(Planted::IgnoreSilence))
        {
            return Some(format!(
                "nothing has come from it for {} ms, and writes wait for it",
                time.as_millis()
            ));
        }
        let quiet = self.scene.now.since(*notes.quiet_standbys.get(node)?);
        let patience = self.scene.spec.timings.suspicion_ceiling;
        (quiet >= patience).then(|| format!("it has not streamed for {} ms", quiet.as_millis()))
    }
}
