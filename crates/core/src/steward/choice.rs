//! Who becomes primary once nobody is: the best of those who may take over, then whoever held the
//! last opened epoch, then those who failed to open one since.

use super::candidates::{self, Candidate, Way};
use super::outlook::outlook;
use super::scene::{Desk, Notes};
use crate::command::Command;
use crate::ids::NodeId;
use crate::ids::WorkloadId;
use crate::planted::Planted;
use crate::spec::{Alone, Loss};
use std::time::Duration;

/// For so long a workload waits for those that it needs, and no longer: one that does not come back
/// keeps no other one down.
pub(super) const NEEDED_FOR: Duration = Duration::from_secs(10);

impl Desk<'_> {
    /// Nobody holds the workload: assign the best candidate, or say by waiting that there is none
    /// yet.
    pub(super) fn choose(&self, last: &NodeId, notes: &mut Notes) -> Vec<Command> {
        let timings = &self.scene.spec.timings;
        let since = notes
            .tenure_since
            .as_ref()
            .map_or(self.scene.now, |(_, at)| *at);
        let ended_for = self.scene.now.since(since);
        // A try that failed at once would fail again at once.
        let rested = ended_for >= timings.lease;
        if self.w.opened.is_none() {
            return if rested { self.form() } else { Vec::new() };
        }
        // A former coordinator may have waited already: each new one would wait anew.
        if !notes.tenure_found && ended_for < NEEDED_FOR && self.waits_for_another() {
            return Vec::new();
        }
        let list = candidates::list(self.scene, self.id, self.spec);
        let running = self.scene.state.running(self.id);
        let accepted = running.map_or(0, |(_, o)| o.what.accept_loss);
        let wanted = running.and_then(|(_, o)| o.what.to.clone());
        let first_try = self.w.is_of_opened_epoch();
        let resumes = list
            .iter()
            .find(|c| c.way == Way::Resumes && c.excluded.is_none());
        if self.spec.restart
            && first_try
            && wanted.is_none()
            && let Some(resumes) = resumes
        {
            return vec![self.assign(&resumes.node, "local restart")];
        }
        let asked_for = wanted.and_then(|to| {
            list.iter()
                .find(|c| c.node == to && c.may_with_loss(accepted))
        });
        // Whoever failed in it comes after all others, and not at once.
        let target = asked_for.filter(|c| !self.w.attempts.contains(&c.node));
        // Of one that has what a clean stop left nobody is ahead.
        let has_all = |c: &Candidate| {
            c.position
                .zip(self.w.clean_end)
                .is_some_and(|(has, end)| has >= end)
        };
        if let Some(target) = target.filter(|c| c.excluded.is_none() && has_all(c)) {
            return vec![self.assign(&target.node, target.reason())];
        }
        // Everyone who can still say how far it is gets to say so: the newest is chosen, so that no
        // other standby is ahead of the new primary.
        let waited = ended_for >= timings.settle_limit;
        if !waited && list.iter().any(|c| c.pending) {
            return Vec::new();
        }
        if let Some(best) = target.or_else(|| self.best(&list)) {
            let patient = ended_for < timings.patience_alone();
            if patient && self.would_stand_alone(best, &list) {
                return Vec::new();
            }
            return vec![self.assign(&best.node, best.reason())];
        }
        if !(waited && (first_try || rested)) {
            return Vec::new();
        }
        let untried = resumes.filter(|c| !self.w.attempts.contains(&c.node));
        let again = || {
            let tried = list
                .iter()
                .filter(|c| c.way != Way::TakesOver && c.excluded.is_none());
            tried.max_by_key(|c| (c.node != *last, c.preference()))
        };
        untried
            .or_else(again)
            .or(asked_for.filter(|_| rested))
            .map(|c| self.assign(&c.node, c.reason()))
            .into_iter()
            .collect()
    }

    /// Whether a workload that this one needs has no primary, and gets one by itself.
    pub(super) fn waits_for_another(&self) -> bool {
        let comes = |id: &WorkloadId| {
            let Some(spec) = self.scene.spec.workloads.get(id) else {
                return false;
            };
            let now = outlook(self.scene, id, spec);
            !self.scene.state.workload(id).is_open() && now.need.is_none()
        };
        self.forced().is_none() && self.spec.rules.needs.iter().any(comes)
    }

    fn best<'l>(&self, list: &'l [Candidate]) -> Option<&'l Candidate> {
        if self.scene.breaks(Planted::PromoteLaggard) {
            let eligible = list.iter().filter(|c| c.may_take_over());
            return eligible.min_by_key(|c| c.preference());
        }
        candidates::best(list, true)
    }

    /// Whether anybody may hold the workload in place of `holder`, or may in a moment: without that
    /// nothing is gained by taking it away, nor by cutting its host's power (F8).
    pub(super) fn somebody_else(&self, holder: &NodeId) -> bool {
        let list = candidates::list(self.scene, self.id, self.spec);
        list.iter()
            .any(|c| c.node != *holder && (c.pending || c.excluded.is_none()))
    }

    /// Whether the only standby that could confirm the writes of `best` has not said yet how far it
    /// is. Where writes wait for one, choosing without it gains nothing, and costs a rewind if it
    /// turns out to be ahead (D3, D13).
    fn would_stand_alone(&self, best: &Candidate, list: &[Candidate]) -> bool {
        let others = || list.iter().filter(|c| c.node != best.node);
        let follows = |c: &Candidate| {
            c.way == Way::TakesOver && (c.excluded.is_none() || c.may_lack.is_some())
        };
        let blocks = self.spec.loss == Loss::None && self.spec.alone == Alone::Block;
        blocks && !others().any(follows) && others().any(|c| c.pending && c.in_sync_set)
    }
}
