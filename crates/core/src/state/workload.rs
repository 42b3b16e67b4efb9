//! What the log says of one workload: the epoch, who holds it, the sync set, each replica's
//! standing, where its address is.

use super::operation::Operations;
use crate::command::{Ended, Restarting, Standing, WorkloadAct};
use crate::ids::{Epoch, History, Index, NodeId, OperationId};
use crate::operation::{Mode, ModeSet};
use crate::position::SwitchPoint;
use crate::safetypoint::{HeldBack, Stage};
use crate::spec::{Alone, Loss, WorkloadSpec};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Who holds the workload's current epoch, and how far it is.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "phase")]
pub enum Tenure {
    /// Never had a primary.
    #[default]
    Vacant,
    /// The holder may be promoted now, and not before (S4).
    Assigned { holder: NodeId },
    /// The holder is primary. Endpoints forward once it is `serving`.
    Open { holder: NodeId, serving: bool },
    /// No more grants for the holder; its authority is being ended (C7).
    Revoking { holder: NodeId },
    /// Nobody holds it; the next epoch may be assigned.
    Ended { last: NodeId, how: Ended },
}

/// The last epoch that was opened: what a history must contain to be eligible (D6).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Opened {
    pub epoch: Epoch,
    pub holder: NodeId,
    pub point: SwitchPoint,
    /// The epoch that was opened before it; 0 for the first one.
    pub after: Epoch,
}

/// Which standbys have every acknowledged write (D1 to D4). Newest member first.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SyncSet {
    pub epoch: Epoch,
    /// Strictly increasing within the epoch; a late setting is refused (D2).
    pub number: u64,
    /// Guaranteed: any of them is safe to promote.
    pub sure: Vec<NodeId>,
    /// What the primary is told to wait for; always holds `sure`, and more while the set grows.
    pub asked: Vec<NodeId>,
    /// With nobody in it, commits return all the same (D3); (epoch, number) is a setting in full (D2).
    pub unprotected: bool,
}

/// The names of the histories that were open, and whether two of them had the same (D5).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Histories {
    names: BTreeSet<History>,
    twins: bool,
}

impl Histories {
    /// More are not remembered: then any name may have been one.
    const MOST: usize = 1_000;

    pub(super) const NONE: Self = Self {
        names: BTreeSet::new(),
        twins: false,
    };

    /// One is open from here on; `same` is the one that its holder had opened before.
    fn open(&mut self, name: &History, same: bool) {
        self.twins |= !self.names.insert(name.clone()) && !same;
        self.twins |= self.names.len() > Self::MOST;
        while self.names.len() > Self::MOST {
            self.names.pop_first();
        }
    }
}

#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct WorkloadState {
    /// The highest epoch committed.
    pub epoch: Epoch,
    pub tenure: Tenure,
    pub opened: Option<Opened>,
    pub sync: SyncSet,
    /// Replicas whose data cannot be used as they are.
    pub standing: BTreeMap<NodeId, Standing>,
    /// Who was assigned an epoch since the last one was opened, and did not open it.
    pub attempts: BTreeSet<NodeId>,
    /// Where the log of the last opened epoch ends, if its holder stopped cleanly: nobody has more
    /// than that.
    pub clean_end: Option<u64>,
    /// The operation under way.
    pub operation: Option<OperationId>,
    /// Whether the cluster moves it by itself.
    pub mode: Mode,
    pub mode_set: Option<ModeSet>,
    pub place: Place,
    /// The standby whose server is being restarted; one at a time.
    #[serde(default)]
    pub restarting: Option<Restarting>,
    /// The standby that is held back at a safety point.
    #[serde(default)]
    pub held_back: Option<HeldBack>,
    /// The entry by which a standby that was restarted or held back was let go of last.
    #[serde(default)]
    pub let_go: Index,
    /// The histories that were open.
    #[serde(default)]
    pub histories: Histories,
    /// Whose copies its data are, as its primary said.
    #[serde(default)]
    pub identity: Option<String>,
}

/// Where the floating address is (S7).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    /// Strictly increasing; 0 means "was never anywhere".
    pub number: Epoch,
    pub holder: Option<NodeId>,
    /// No more grants for the holder: it has to be gone before it arrives anywhere else.
    pub leaving: bool,
}

impl WorkloadState {
    /// It is served, nothing is under way, and every standby that has to be is in the sync set.
    pub fn is_calm(&self, spec: &WorkloadSpec) -> bool {
        let placed = |n: &NodeId| {
            self.holder() == Some(n)
                || self.sync.sure.contains(n)
                || self.held_back(n).is_some()
                || spec.loss != Loss::None
        };
        let serves = matches!(self.tenure, Tenure::Open { serving: true, .. });
        serves
            && self.operation.is_none()
            && self.standing.is_empty()
            && spec.replicas.keys().all(placed)
    }

    /// Whether commits return without a standby is part of the setting: where a revision says
    /// something else it is another setting, with a number of its own (D2, R5).
    pub(super) fn take_loss(&mut self, spec: &WorkloadSpec) {
        let mut next = self.sync.clone();
        if spec.loss != Loss::None {
            // Nobody is waited for where some loss is accepted.
            (next.sure, next.asked) = (Vec::new(), Vec::new());
        }
        let goes_on = spec.loss != Loss::None || spec.alone == Alone::Continue;
        next.unprotected = next.asked.is_empty() && goes_on;
        if next.number > 0 && next != self.sync {
            next.number += 1;
            self.sync = next;
        }
    }

    /// A workload of the same name as one that was removed. It goes on from the epochs of that one
    /// (S4), and from the names of histories that may still lie on disks (D5). The rest of that one's
    /// state is not its own (G8).
    pub(super) fn begin_anew(&mut self) {
        *self = Self {
            epoch: self.epoch,
            place: Place {
                number: self.place.number,
                ..Place::default()
            },
            histories: std::mem::take(&mut self.histories),
            ..Self::default()
        };
    }

    /// Whether the server of a standby there is to be restarted.
    pub fn restarts(&self, node: &NodeId) -> bool {
        self.restarting.as_ref().is_some_and(|r| r.node == *node)
    }

    /// What a replica is held back for, if so.
    pub fn held_back(&self, node: &NodeId) -> Option<&HeldBack> {
        self.held_back.as_ref().filter(|held| held.node == *node)
    }

    /// Somebody is primary.
    pub fn is_open(&self) -> bool {
        matches!(self.tenure, Tenure::Open { .. })
    }

    /// The node that holds the current epoch, revoked or not.
    pub fn holder(&self) -> Option<&NodeId> {
        match &self.tenure {
            Tenure::Assigned { holder }
            | Tenure::Open { holder, .. }
            | Tenure::Revoking { holder } => Some(holder),
            Tenure::Vacant | Tenure::Ended { .. } => None,
        }
    }

    /// Standbys that have every acknowledged write. While a new primary is on its way the set is that
    /// of the former one, and the new one may be in it: nobody is a standby of itself (G7).
    pub fn confirming(&self) -> impl Iterator<Item = &NodeId> {
        let holder = self.holder();
        self.sync.sure.iter().filter(move |n| Some(*n) != holder)
    }

    /// The holder of the last opened epoch; `me` where none was.
    pub fn last_holder(&self, me: &NodeId) -> NodeId {
        let opened = self.opened.as_ref();
        opened.map_or_else(|| me.clone(), |opened| opened.holder.clone())
    }

    /// The node that may be granted the lease of the current epoch.
    pub fn grantable(&self) -> Option<&NodeId> {
        match &self.tenure {
            Tenure::Assigned { holder } | Tenure::Open { holder, .. } => Some(holder),
            _ => None,
        }
    }

    /// Why a replica's data cannot be used as they are, if so.
    pub fn unsound(&self, node: &NodeId) -> Option<&str> {
        match self.standing.get(node) {
            Some(Standing::NeedsClone(why) | Standing::Diverged(why)) => Some(why),
            _ => None,
        }
    }

    pub fn must_clone(&self, node: &NodeId) -> bool {
        matches!(self.standing.get(node), Some(Standing::NeedsClone(_)))
    }
}

impl WorkloadState {
    /// Applies what was decided by the entry of that index; returns whether it changed anything.
    pub(super) fn apply(
        &mut self,
        index: Index,
        act: &WorkloadAct,
        operations: &mut Operations,
    ) -> bool {
        let stopped = |w: &Self| [w.restarting.is_some(), w.held_back.is_some()];
        let before = stopped(self);
        let changed = self.apply_act(index, act, operations);
        let after = stopped(self);
        if before.iter().zip(after).any(|(was, is)| *was && !is) {
            self.let_go = index;
        }
        changed
    }

    fn apply_act(&mut self, index: Index, act: &WorkloadAct, operations: &mut Operations) -> bool {
        match act {
            WorkloadAct::Begin(_)
            | WorkloadAct::Approve { .. }
            | WorkloadAct::Mode(_)
            | WorkloadAct::Finish { .. } => self.apply_to_operation(index, act, operations),
            WorkloadAct::Assign { epoch, holder, .. } => {
                let assigned = self.assign(*epoch, holder);
                if let Some(running) = self.operation.filter(|_| assigned) {
                    operations.aim(running, holder);
                }
                assigned
            }
            WorkloadAct::Revoke { epoch, .. } => self.revoke(*epoch),
            WorkloadAct::End { epoch, how } => self.end(*epoch, how),
            WorkloadAct::Open {
                epoch,
                point,
                sync,
                unprotected,
                doubtful,
            } => {
                let opened = self.open(*epoch, point, doubtful);
                if opened {
                    self.sync = SyncSet {
                        epoch: *epoch,
                        number: 1,
                        sure: sync.clone(),
                        asked: sync.clone(),
                        unprotected: *unprotected,
                    };
                }
                opened
            }
            WorkloadAct::Serve { epoch } => match &mut self.tenure {
                Tenure::Open { serving, .. } if self.epoch == *epoch => {
                    *serving = true;
                    true
                }
                _ => false,
            },
            WorkloadAct::Sync {
                epoch,
                number,
                sure,
                asked,
                unprotected,
                ..
            } => self.resync(SyncSet {
                epoch: *epoch,
                number: *number,
                sure: sure.clone(),
                asked: asked.clone(),
                unprotected: *unprotected,
            }),
            WorkloadAct::Mark {
                node,
                standing: Standing::Sound,
            } => self.standing.remove(node).is_some(),
            WorkloadAct::Mark { node, standing } => {
                self.standing.insert(node.clone(), standing.clone());
                self.let_go_of_unsound();
                true
            }
            WorkloadAct::Identify { identity } => {
                let before = self.identity.replace(identity.clone());
                before.as_ref() != Some(identity)
            }
            WorkloadAct::Restart(next) => self.restart(next.as_ref()),
            WorkloadAct::HoldBack(next) => self.hold_back(next.as_ref()),
            WorkloadAct::Place { number, holder, .. } => self.place.arrive(*number, holder),
            WorkloadAct::Withdraw { number, .. } => self.place.leave(*number),
            WorkloadAct::Vacate { number, .. } => self.place.vacate(*number),
        }
    }

    /// What is decided about what is under way.
    fn apply_to_operation(
        &mut self,
        index: Index,
        act: &WorkloadAct,
        operations: &mut Operations,
    ) -> bool {
        match act {
            WorkloadAct::Begin(what) => {
                let begins = self.operation.is_none();
                if begins {
                    self.operation = Some(operations.begin(index, what));
                }
                begins
            }
            WorkloadAct::Approve { operation, by } => {
                self.operation == Some(*operation) && operations.approve(*operation, by)
            }
            WorkloadAct::Mode(set) => {
                self.mode = set.mode;
                // Whoever lets the cluster act lets it go on with what it has prepared.
                if let Some(running) = self.operation.filter(|_| set.mode == Mode::Act) {
                    operations.approve(running, &set.by);
                }
                self.mode_set = Some(set.clone());
                true
            }
            WorkloadAct::Finish {
                operation,
                outcome,
                phases,
            } => {
                let ends = self.operation == Some(*operation);
                if ends {
                    self.operation = None;
                    operations.finish(*operation, outcome, phases);
                }
                ends
            }
            _ => false,
        }
    }

    /// One standby at a time, and never whoever holds the epoch: a primary moves away first.
    fn restart(&mut self, next: Option<&Restarting>) -> bool {
        let taken = |r: &Restarting| {
            self.restarting.is_some()
                || self.holder() == Some(&r.node)
                || self.held_back(&r.node).is_some()
        };
        let changes = match next {
            Some(next) => !taken(next),
            None => self.restarting.is_some(),
        };
        if changes {
            self.restarting = next.cloned();
        }
        changes
    }

    /// One standby at a time, and only one that no write waits for (P1).
    fn hold_back(&mut self, next: Option<&HeldBack>) -> bool {
        let free = |held: &HeldBack| {
            let node = &held.node;
            self.is_open()
                && self.holder() != Some(node)
                && !self.restarts(node)
                && !self.sync.sure.contains(node)
                && !self.sync.asked.contains(node)
                && self.unsound(node).is_none()
        };
        let changes = match (&self.held_back, next) {
            (None, Some(next)) => next.stage == Stage::Stops && free(next),
            (Some(now), Some(next)) => {
                let written = next.mark().is_none_or(|mark| mark.epoch == self.epoch);
                now.may_become(next) && written && self.is_open()
            }
            (held, None) => held.is_some(),
        };
        if changes {
            self.held_back = next.cloned();
        }
        changes
    }

    /// Data that cannot be used as they are hold nobody's point any more.
    fn let_go_of_unsound(&mut self) {
        let standing = &self.standing;
        self.held_back
            .take_if(|held| standing.contains_key(&held.node));
    }

    /// A setting counts if it is newer, or confirms more of the same one: a number is one setting (D2).
    /// A setting that waits for a standby at a safety point does not count (P1).
    fn resync(&mut self, next: SyncSet) -> bool {
        let old = &self.sync;
        let same = next.asked == old.asked && next.unprotected == old.unprotected;
        let confirms = next.number == old.number && same && next.sure.len() > old.sure.len();
        let newer = next.number > old.number || confirms;
        let held_back = next.asked.iter().any(|n| self.held_back(n).is_some());
        let changes = self.epoch == next.epoch && old.epoch == next.epoch && newer && !held_back;
        if changes {
            self.sync = next;
        }
        changes
    }

    fn assign(&mut self, epoch: Epoch, holder: &NodeId) -> bool {
        let free = matches!(self.tenure, Tenure::Vacant | Tenure::Ended { .. });
        if !free || epoch <= self.epoch {
            return false;
        }
        self.epoch = epoch;
        if self.restarts(holder) {
            self.restarting = None;
        }
        self.attempts.insert(holder.clone());
        self.tenure = Tenure::Assigned {
            holder: holder.clone(),
        };
        true
    }

    fn revoke(&mut self, epoch: Epoch) -> bool {
        match &self.tenure {
            Tenure::Assigned { holder } | Tenure::Open { holder, .. } if self.epoch == epoch => {
                self.tenure = Tenure::Revoking {
                    holder: holder.clone(),
                };
                true
            }
            _ => false,
        }
    }

    fn end(&mut self, epoch: Epoch, how: &Ended) -> bool {
        let Tenure::Revoking { holder } = &self.tenure else {
            return false;
        };
        if self.epoch != epoch {
            return false;
        }
        let last = holder.clone();
        if self.is_of_opened_epoch() {
            self.clean_end = match how {
                Ended::Surrender { clean_at, .. } => *clean_at,
                Ended::LeaseOver | Ended::PowerOff => None,
            };
        }
        self.tenure = Tenure::Ended {
            last,
            how: how.clone(),
        };
        true
    }

    fn open(&mut self, epoch: Epoch, point: &SwitchPoint, doubtful: &[NodeId]) -> bool {
        let Tenure::Assigned { holder } = &self.tenure else {
            return false;
        };
        if self.epoch != epoch {
            return false;
        }
        let holder = holder.clone();
        // After a restart of the same server a row may show that was never acknowledged (D7): its
        // endpoints wait for a replicated write. A standby that took over has nothing that its
        // clients could not have seen before, and they log in while its followers come.
        let took_over = self.opened.as_ref().is_some_and(|o| o.holder != holder);
        self.mark_others(&holder, doubtful);
        self.let_go_of_unsound();
        // Whoever is primary stays nowhere.
        self.held_back.take_if(|held| held.node == holder);
        let before = self.opened.as_ref();
        let same = before.is_some_and(|o| o.holder == holder && o.point.history == point.history);
        self.histories.open(&point.history, same);
        let after = self.opened.as_ref().map_or(Epoch(0), |o| o.epoch);
        self.opened = Some(Opened {
            epoch,
            holder: holder.clone(),
            point: point.clone(),
            after,
        });
        self.clean_end = None;
        self.tenure = Tenure::Open {
            holder,
            serving: took_over,
        };
        true
    }

    /// The present epoch is the one that was opened last, and not one that was only assigned.
    pub fn is_of_opened_epoch(&self) -> bool {
        self.opened.as_ref().is_some_and(|o| o.epoch == self.epoch)
    }

    /// A replica is of the spec from here on, and there may be data already: of a history that has the
    /// name of another they cannot be told from its own (D5).
    pub(super) fn comes_in(&mut self, node: &NodeId) {
        let writes = |o: &Opened| o.holder == *node;
        if self.histories.twins && !self.opened.as_ref().is_some_and(writes) {
            let why = "it was added, and two of the histories that were open have the same name";
            let standing = Standing::NeedsClone(why.into());
            self.standing.insert(node.clone(), standing);
        }
    }

    /// What an opening says of everybody else's data. Not before: as long as nobody opens, the last
    /// opened epoch is the one that counts, and whoever held it may go on.
    fn mark_others(&mut self, holder: &NodeId, doubtful: &[NodeId]) {
        // Its data are what counts from here on, whatever they were before.
        self.standing.remove(holder);
        let epoch = self.epoch;
        for node in std::mem::take(&mut self.attempts)
            .into_iter()
            .filter(|n| n != holder)
        {
            let why = format!("its promotion was not completed before epoch {epoch}");
            self.standing.insert(node, Standing::NeedsClone(why));
        }
        for node in doubtful {
            let why = format!(
                "its history may have the same name as that of epoch {epoch}, and be another"
            );
            self.standing
                .insert(node.clone(), Standing::NeedsClone(why));
        }
        let Some(before) = self.opened.clone().filter(|o| o.holder != *holder) else {
            return;
        };
        if self.clean_end.is_none() && !self.standing.contains_key(&before.holder) {
            let why = format!(
                "it did not stop cleanly at the end of epoch {}",
                before.epoch
            );
            self.standing.insert(before.holder, Standing::Diverged(why));
        }
    }
}

impl Place {
    fn arrive(&mut self, number: Epoch, holder: &NodeId) -> bool {
        let arrives = self.holder.is_none() && number > self.number;
        if arrives {
            *self = Self {
                number,
                holder: Some(holder.clone()),
                leaving: false,
            };
        }
        arrives
    }

    fn leave(&mut self, number: Epoch) -> bool {
        let leaves = self.number == number && self.holder.is_some() && !self.leaving;
        self.leaving |= leaves;
        leaves
    }

    fn vacate(&mut self, number: Epoch) -> bool {
        let ends = self.number == number && self.leaving;
        if ends {
            (self.holder, self.leaving) = (None, false);
        }
        ends
    }
}
