//! What the coordinator decides for each workload, from the committed state and what the nodes
//! report.
//!
//! Deciding is a function of what is known now: it proposes the next commands, and everything it
//! does is derived again by the next coordinator. Rules kept here:
//! 1. *Revoking* is proposed before anything ends the old authority, and the next epoch only after
//!    that end (C7, S3).
//! 2. A node is assigned only if it is a candidate (see [`candidates`]): for `loss = "none"` a
//!    member of the sync set (S5).
//! 3. A sync set shrinks in the log before its primary hears of it, and grows after the newcomer
//!    has everything (D2).
//! 4. What is not known decides nothing: a position that nobody named is no position (F2).
//! 5. While one sound copy exists there is a way to a primary: who held the last opened epoch may
//!    go on, and who failed to open one may try again, each after everybody who did not (F6).

mod addresses;
mod batch;
pub mod candidates;
mod choice;
pub(crate) mod enrolling;
pub mod fencing;
pub(crate) mod holding;
mod leaving;
pub(crate) mod names;
pub mod outlook;
pub(crate) mod readers;
mod readiness;
mod rolling;
mod scene;
pub mod steps;
mod sync;
mod verdict;
pub mod voting;

pub use batch::batch;
pub use leaving::Leaving;
pub(crate) use scene::Desk;
pub use scene::{Heard, Notes, Scene, Stamps};

use crate::author::Author;
use crate::authority::Claim;
use crate::command::{Command, Ended, Standing, WorkloadAct};
use crate::ids::{Epoch, NodeId, OperationId, WorkloadId};
use crate::operation::{Cause, Kind, Mode, ModeSet, Operation, Outcome, Phase, Stage};
use crate::planted::Planted;
use crate::position::{Position, SwitchPoint};
use crate::replica::{Data, Observation, Promotion, ReplicaReport, Role};
use crate::spec::{Clock, Loss, NodeSpec, WorkloadSpec};

use crate::state::Tenure;
use crate::time::Time;
use verdict::Lost;

/// The commands to propose now for one workload; empty if nothing is to be done.
pub fn decide(
    scene: &Scene,
    id: &WorkloadId,
    spec: &WorkloadSpec,
    notes: &mut Notes,
    stamps: &mut Stamps,
) -> Vec<Command> {
    let desk = Desk {
        scene,
        id,
        spec,
        w: scene.state.workload(id),
    };
    let tenure = &desk.w.tenure;
    if notes.tenure_since.as_ref().is_none_or(|(t, _)| t != tenure) {
        notes.tenure_found = notes.tenure_since.is_none();
        notes.tenure_since = Some((tenure.clone(), scene.now));
        // Nobody streamed from a primary that was not there.
        notes.quiet_standbys.clear();
        notes.owed.clear();
        notes.flushed.clear();
        (notes.no_write_since, notes.unanswered_since) = (None, None);
    }
    let address = desk.address(notes);
    let tenure = match tenure.clone() {
        _ if scene.leaving.workload(id) => desk.remove(stamps),
        Tenure::Vacant => desk.form(),
        Tenure::Assigned { holder } => desk.while_assigned(&holder, notes),
        Tenure::Open { holder, .. } => desk.while_open(&holder, notes, stamps),
        Tenure::Revoking { holder } => desk.while_revoking(&holder),
        Tenure::Ended { last, .. } => desk.choose(&last, notes),
    };
    // The primary first: an address is moved in the same commit or a later one.
    let rest = address.into_iter().chain(desk.mode_is_over());
    tenure.into_iter().chain(rest).collect()
}

/// When a decision may fall by the mere passing of time; at every heartbeat besides.
pub fn next_look(scene: &Scene, id: &WorkloadId, notes: &Notes) -> Time {
    let timings = &scene.spec.timings;
    let w = scene.state.workload(id);
    let lease = w
        .holder()
        .map(|_| scene.lease_over_at(&Claim::Primary(id.clone())));
    let address = w
        .place
        .holder
        .as_ref()
        .map(|_| scene.lease_over_at(&Claim::Address(id.clone())));
    let limits = match &notes.tenure_since {
        Some((Tenure::Ended { .. }, since)) => {
            vec![
                *since + timings.settle_limit,
                *since + timings.patience_alone(),
                *since + timings.lease,
            ]
        }
        _ => Vec::new(),
    };
    // What has passed already was there to be decided on just now.
    let ahead = lease
        .into_iter()
        .chain(address)
        .chain(limits)
        .filter(|at| *at > scene.now);
    ahead.min().unwrap_or(Time(u64::MAX))
}

impl Desk<'_> {
    /// A decision about this workload.
    fn about(&self, act: WorkloadAct) -> Command {
        Command::Workload(self.id.clone(), act)
    }

    fn report(&self, node: &NodeId) -> Option<&ReplicaReport> {
        self.scene.replica(node, self.id)
    }

    fn begin(&self, kind: Kind, from: Option<&NodeId>, lost: &Lost) -> Option<Command> {
        let operation = Operation {
            kind,
            workload: self.id.clone(),
            from: from.cloned(),
            to: None,
            by: Author::Cluster,
            cause: lost.cause,
            why: lost.why.clone(),
            asks: kind == Kind::Failover && self.w.mode == Mode::Ask,
            accept_loss: 0,
            intent: None,
        };
        self.w
            .operation
            .is_none()
            .then_some(Command::begin(operation))
    }

    fn revoke(&self, why: impl Into<String>) -> Command {
        self.about(WorkloadAct::Revoke {
            epoch: self.w.epoch,
            why: why.into(),
        })
    }

    fn assign(&self, holder: &NodeId, why: impl Into<String>) -> Command {
        let epoch = self.w.epoch.next();
        self.about(WorkloadAct::Assign {
            epoch,
            holder: holder.clone(),
            why: why.into(),
        })
    }

    /// A mode that was set for a time is `act` again after it.
    fn mode_is_over(&self) -> Option<Command> {
        let set = self
            .w
            .mode_set
            .as_ref()
            .filter(|set| set.mode != Mode::Act)?;
        let now = self.scene.wall?;
        (set.until? <= now).then(|| {
            self.about(WorkloadAct::Mode(ModeSet {
                mode: Mode::Act,
                by: Author::Cluster,
                at: now,
                why: Some(format!("the time that {} set it for is over", set.by)),
                until: None,
            }))
        })
    }

    /// The node that a person asked for, in an operation that is not a planned move.
    fn forced(&self) -> Option<NodeId> {
        let (_, operation) = self.scene.state.running(self.id)?;
        let forced = operation.what.kind == Kind::ForcedFailover && operation.target.is_none();
        operation.what.to.clone().filter(|_| forced)
    }

    /// The first epoch to open: the one replica that has data, or the first in rank where none has.
    /// An earlier try may have made data and lost its authority before it was opened; no client can
    /// have written to it.
    fn form(&self) -> Vec<Command> {
        if let Some(to) = self.forced() {
            return vec![self.assign(&to, "a person said that its data are the right ones")];
        }
        let seen = |n: &NodeId| {
            let heard = self.report(n).filter(|_| self.scene.is_up(n));
            heard.and_then(|r| r.seen.as_ref())
        };
        let since = self.scene.now.since(self.scene.elected_at);
        if since < choice::NEEDED_FOR && self.waits_for_another() {
            return Vec::new();
        }
        let replicas = self.spec.replicas.keys();
        let known: Vec<(&NodeId, &Observation)> =
            replicas.filter_map(|n| Some((n, seen(n)?))).collect();
        let strange = known.iter().any(|(_, o)| o.strange);
        if known.len() < self.spec.replicas.len()
            || self.spec.replicas.is_empty()
            || (strange && !self.spec.adopt)
        {
            return Vec::new();
        }
        let full: Vec<_> = known
            .into_iter()
            .filter(|(_, o)| o.data != Data::Empty)
            .collect();
        let (first, why) = match full.as_slice() {
            [] => {
                let all = self.spec.replicas.iter();
                let never = &self.spec.rules.never;
                let first = all.min_by_key(|(n, r)| (never.contains(*n), r.rank));
                let first = first.map(|(n, _)| n);
                (first, "first in rank; no replica has data")
            }
            [(one, _)] => (Some(*one), "the only replica that has data"),
            more => (
                original(more),
                "the others have copies of its data, set up as its standbys",
            ),
        };
        let Some(first) = first else {
            return Vec::new();
        };
        let cause = Lost::to(Cause::NoPrimaryYet, why.into());
        self.begin(Kind::FirstStart, None, &cause)
            .into_iter()
            .chain([self.assign(first, why)])
            .collect()
    }

    /// The workload is to be gone: nobody holds it any more, and nothing is under way.
    fn remove(&self, stamps: &Stamps) -> Vec<Command> {
        if let Some(running) = self.w.operation {
            let outcome = Outcome::Undone("the workload is being removed".into());
            return vec![self.finish(running, outcome, stamps)];
        }
        match &self.w.tenure {
            Tenure::Vacant | Tenure::Ended { .. } => Vec::new(),
            Tenure::Assigned { holder } | Tenure::Open { holder, .. } => {
                let revoke = self.revoke("the workload is being removed");
                [revoke].into_iter().chain(self.end(holder)).collect()
            }
            Tenure::Revoking { holder } => self.end(holder).into_iter().collect(),
        }
    }

    fn lease_over_at(&self) -> Time {
        self.scene.lease_over_at(&Claim::Primary(self.id.clone()))
    }

    /// The end of the old authority, if it is confirmed (S3): surrender or the lease's end,
    /// whichever comes first.
    fn end(&self, holder: &NodeId) -> Option<Command> {
        let epoch = self.w.epoch;
        let surrendered = self
            .report(holder)
            .and_then(|r| r.surrendered)
            .filter(|(e, _)| *e == epoch);
        let over = self.lease_over_at();
        let boot = self
            .scene
            .reports
            .get(holder)
            .map(|h| h.report.boot.clone());
        let how = match (surrendered, boot) {
            (Some((_, clean_at)), Some(boot)) => Ended::Surrender { boot, clean_at },
            _ if self.is_off(holder) => Ended::PowerOff,
            _ if over <= self.scene.now && self.lease_proves(holder) => Ended::LeaseOver,
            _ => return None,
        };
        Some(self.about(WorkloadAct::End { epoch, how }))
    }

    /// Whether the end of its lease proves that nothing acts there: not where its clock may have
    /// stood still meanwhile (C4).
    fn lease_proves(&self, holder: &NodeId) -> bool {
        let stops = |n: &NodeSpec| n.clock == Clock::MayStop;
        !self.scene.spec.nodes.get(holder).is_some_and(stops)
            || self.scene.breaks(Planted::TrustStoppedClock)
    }

    /// Its power was read as off after the entry that fenced it, and so after the revocation that
    /// came with it.
    fn is_off(&self, holder: &NodeId) -> bool {
        let fenced = self.scene.state.fenced(holder);
        fenced.is_some_and(|f| f.off || self.scene.off.get(holder) == Some(&f.id))
    }

    /// Ends a tenure because its holder is lost, or prepares that, as the workload's mode says.
    fn fail_over(&self, holder: &NodeId, lost: &Lost) -> Vec<Command> {
        let why = lost.why.as_str();
        let begin = self.begin(Kind::Failover, Some(holder), lost);
        let running = self.scene.state.running(self.id);
        match self.w.mode {
            Mode::Watch if running.is_none() => return Vec::new(),
            Mode::Ask if running.is_none() => return begin.into_iter().collect(),
            _ if running.is_some_and(|(_, o)| o.waits()) => return Vec::new(),
            _ => {}
        }
        let now = [self.revoke(why)]
            .into_iter()
            .chain(self.fence(holder, why));
        begin
            .into_iter()
            .chain(now)
            .chain(self.end(holder))
            .collect()
    }

    /// While it is revoked: the old authority's end, or what brings it about.
    fn while_revoking(&self, holder: &NodeId) -> Vec<Command> {
        let fence = || {
            self.fence(
                holder,
                "it was not heard while its authority was being ended",
            )
        };
        self.end(holder).or_else(fence).into_iter().collect()
    }

    fn while_assigned(&self, holder: &NodeId, notes: &mut Notes) -> Vec<Command> {
        if let Some((epoch, promotion)) = self.report(holder).and_then(|r| r.opened.as_ref())
            && *epoch == self.w.epoch
        {
            return self.open(holder, *epoch, promotion);
        }
        if self.forced().is_some() {
            let why = format!("{holder} has not opened it, and a person asked for another");
            return [self.revoke(why)]
                .into_iter()
                .chain(self.end(holder))
                .collect();
        }
        let lost = self
            .lost(holder, notes)
            .or_else(|| self.idle(holder, notes));
        lost.map(|lost| self.fail_over(holder, &lost))
            .unwrap_or_default()
    }

    /// Why it will not open what it was assigned, if so: it has had its time, does nothing, and
    /// somebody else may (F6).
    fn idle(&self, holder: &NodeId, notes: &Notes) -> Option<Lost> {
        let since = notes
            .tenure_since
            .as_ref()
            .map_or(self.scene.now, |(_, at)| *at);
        let time = self.scene.now.since(since);
        let acts = self.report(holder).is_some_and(|r| r.doing.is_some());
        let waits = time < self.scene.spec.timings.lease_is_over_after()
            || self.scene.breaks(Planted::NoDeadlines);
        if acts || waits || !self.somebody_else(holder) {
            return None;
        }
        let why = format!("{holder} has begun nothing for {} ms", time.as_millis());
        Some(Lost::to(Cause::NeverOpened, why))
    }

    /// Opens the epoch: records where it began and which standbys count from here: those that were
    /// confirmed before, and so have everything that was ever acknowledged (F1), are heard (D13),
    /// and have nothing past the switch point. Everybody else grows in (D2).
    fn open(&self, holder: &NodeId, epoch: Epoch, promotion: &Promotion) -> Vec<Command> {
        let Promotion { point, unique } = promotion;
        let before = self.w.opened.as_ref();
        let others = || self.spec.replicas.keys().filter(|n| *n != holder);
        // A history of that name may have been open before, and whoever followed it cannot be told
        // from one that follows this one (D5).
        let twins = before
            .is_some_and(|o| o.holder != *holder && (!unique || o.point.history == point.history));
        let follows = |n: &NodeId| {
            let seen = self.report(n).and_then(|r| r.seen.as_ref());
            let at = seen.and_then(|o| o.position.as_ref());
            at.is_some_and(|at| point.parent.as_ref() == Some(&at.history))
        };
        let counts = |n: &&NodeId| {
            let confirmed =
                self.w.sync.sure.contains(n) || self.scene.breaks(Planted::OpenCountsLaggards);
            let within = before.is_none_or(|o| self.went_past(n, o.epoch, point).is_none());
            confirmed
                && self.can_follow(n)
                && within
                && (!twins || follows(n))
                && self.spec.loss == Loss::None
        };
        let mut sync: Vec<NodeId> = others().filter(counts).cloned().collect();
        sync.sort_by_key(|n| self.spec.replicas[n].rank);
        // Of one that goes on in place nobody can be ahead: where its disk lost what it had sent,
        // the others have another end of the same history.
        let in_place =
            before.is_some_and(|o| o.holder == *holder && o.point.history == point.history);
        let ahead = |n: &NodeId| {
            let past =
                |has: &Position| has.history == point.history && has.number > point.writes_from;
            in_place && self.last_position(n).is_some_and(past)
        };
        sync.retain(|n| !ahead(n));
        let doubtful = others()
            .filter(|n| (twins && !sync.contains(n)) || ahead(n))
            .cloned()
            .collect();
        vec![self.about(WorkloadAct::Open {
            epoch,
            point: point.clone(),
            unprotected: self.unprotected(&sync),
            sync,
            doubtful,
        })]
    }

    /// How far a standby is, by the last that it said for good or else by its last look.
    fn last_position(&self, node: &NodeId) -> Option<&Position> {
        let report = self.report(node)?;
        let settled = report.settled.as_ref();
        if let Some((_, at)) = settled.filter(|(epoch, _)| epoch.next() == self.w.epoch) {
            return Some(at);
        }
        let seen = report.seen.as_ref().filter(|o| o.is(Role::Standby))?;
        seen.position.as_ref()
    }

    /// A standby that is up, sound and heard.
    fn can_follow(&self, node: &NodeId) -> bool {
        let sound = self.w.unsound(node).is_none();
        let good =
            |r: &ReplicaReport| !r.suspect && r.seen.as_ref().is_some_and(|o| o.is(Role::Standby));
        sound && self.scene.is_up(node) && self.report(node).is_some_and(good)
    }

    /// By how much a replica has more than what the history of an epoch began with, on another one.
    /// `former` is the epoch that was open before.
    fn went_past(&self, node: &NodeId, former: Epoch, point: &SwitchPoint) -> Option<u64> {
        if self.w.unsound(node).is_some() {
            return None;
        }
        let report = self.report(node)?;
        let clean_end = match report.surrendered {
            Some((epoch, clean_at)) if epoch == former => clean_at,
            _ => None,
        };
        let seen = report.seen.as_ref()?;
        // The beginning of a record that its primary did not live to send is received, and is not
        // data.
        let lately = |epoch: Epoch| epoch >= former && epoch < self.w.epoch;
        let settled = report.settled.as_ref();
        let settled = settled
            .filter(|(epoch, _)| lately(*epoch))
            .map(|(_, at)| at);
        let has = settled.or(seen.position.as_ref());
        let past = has.filter(|at| point.is_passed_by(at)).map(|at| at.number);
        let stopped_past = clean_end.filter(|end| point.parent.is_some() && *end > point.began);
        let furthest = past.max(stopped_past)?;
        (!seen.is(Role::Primary)).then_some(furthest - point.began)
    }

    fn while_open(&self, holder: &NodeId, notes: &mut Notes, stamps: &mut Stamps) -> Vec<Command> {
        let waiting = self
            .scene
            .state
            .running(self.id)
            .filter(|(_, o)| o.waits())
            .map(|(id, _)| id);
        if let Some(lost) = self.lost(holder, notes) {
            return self.fail_over(holder, &lost);
        }
        if let Some(id) = waiting {
            let serves = |r: &ReplicaReport| {
                r.seen
                    .as_ref()
                    .is_some_and(|o| o.is(Role::Primary) && !o.has_exited())
            };
            if !self.scene.is_up(holder) || !self.report(holder).is_some_and(serves) {
                return Vec::new();
            }
            return vec![self.finish(
                id,
                Outcome::Undone(format!("{holder} is back; nobody had approved the move")),
                stamps,
            )];
        }
        if let Some((id, operation)) = self.scene.state.running(self.id) {
            let what = &operation.what;
            let assigned_here = operation.target.is_some();
            let prepared = self.report(holder).is_some_and(|r| r.prepared == Some(id));
            let refused = self.report(holder).and_then(|r| r.refused.as_ref());
            if let Some((_, why)) = refused.filter(|(of, _)| *of == id && !assigned_here) {
                return vec![self.finish(id, Outcome::Undone(why.clone()), stamps)];
            }
            if let Some(why) = self.is_over(what).filter(|_| !assigned_here) {
                return vec![self.finish(id, Outcome::Undone(why), stamps)];
            }
            match what.kind {
                kind if kind.takes(Stage::Checkpoint) && !assigned_here && prepared => {
                    if let Some(why) = self.obstacle_to_move(what.to.as_ref()) {
                        return vec![self.finish(id, Outcome::Undone(why), stamps)];
                    }
                    return vec![self.revoke(format!("switchover asked for by {}", what.by))];
                }
                kind if kind.takes(Stage::Checkpoint) && !assigned_here => {
                    let own = self.scene.spec.step_times(self.id, holder).switchover;
                    let limit = self.scene.spec.timings.stop_limit * 3 + own;
                    let since = stamps.began.unwrap_or(self.scene.now);
                    if self.scene.now.since(since) > limit {
                        let why = format!("the primary was not ready to stop within {limit:?}");
                        return vec![self.finish(id, Outcome::Undone(why), stamps)];
                    }
                }
                Kind::ForcedFailover if !assigned_here => {
                    return vec![self.revoke(format!("failover asked for by {}", what.by))];
                }
                _ => {
                    let finish = self.finish_if_done(id, holder, what.to.as_ref(), stamps);
                    if finish.is_some() {
                        return finish.into_iter().collect();
                    }
                }
            }
        }
        let mut commands = self.serve(holder);
        commands.extend(self.identify(holder));
        commands.extend(self.standings(holder, notes));
        commands.extend(self.sync_changes(holder, notes));
        commands
    }

    /// What became of the intent that a move is a step of, where that is over: the move gives nothing
    /// up any more (G4).
    fn is_over(&self, what: &Operation) -> Option<String> {
        let intent = what.intent?;
        let charter = &self.scene.state.charter;
        let ended = !charter.intents.contains_key(&intent);
        if !ended || self.scene.breaks(Planted::EndedGoesOn) {
            return None;
        }
        let outcome = charter.over.get(&intent).map(|over| &over.outcome);
        Some(match outcome {
            Some(Outcome::Undone(why) | Outcome::Diverted(why)) => format!("{intent}: {why}"),
            Some(Outcome::Done) | None => format!("{intent} is over"),
        })
    }

    /// Whose copies the data are: what a primary has is what its standbys have to have.
    fn identify(&self, holder: &NodeId) -> Option<Command> {
        let seen = self.report(holder)?.seen.as_ref()?;
        let identity = seen.is(Role::Primary).then_some(seen.identity.clone())??;
        let known = self.w.identity.as_ref() == Some(&identity);
        (!known).then(|| self.about(WorkloadAct::Identify { identity }))
    }

    fn obstacle_to_move(&self, to: Option<&NodeId>) -> Option<String> {
        let ready = candidates::list(self.scene, self.id, self.spec);
        match to {
            Some(to) => ready.into_iter().find(|c| c.node == *to)?.excluded,
            None if ready.iter().any(|c| c.excluded.is_none()) => None,
            None => Some("no standby may take over".into()),
        }
    }

    /// Endpoints open once a write of the new primary is replicated to the whole set: after a local
    /// restart nothing else may be seen (D7), and after a promotion no client's write could return
    /// earlier anyway (D13).
    fn serve(&self, holder: &NodeId) -> Vec<Command> {
        let held = self.report(holder).and_then(|r| r.sync_held)
            == Some((self.w.epoch, self.w.sync.number));
        match self.w.tenure {
            Tenure::Open { serving: false, .. }
                if held || self.scene.breaks(Planted::ServeAtOnce) =>
            {
                vec![self.about(WorkloadAct::Serve {
                    epoch: self.w.epoch,
                })]
            }
            _ => Vec::new(),
        }
    }

    /// A rewind or clone that is complete makes its replica sound again; a replica with data past
    /// the switch point is not.
    ///
    /// The latter only when it has not streamed for a while: a server that was restarted may name
    /// an older history than the one it is on until it streams, and one that has truly diverged
    /// never does.
    fn standings(&self, holder: &NodeId, notes: &mut Notes) -> Vec<Command> {
        let mut marks = Vec::new();
        let Some(opened) = &self.w.opened else {
            return marks;
        };
        let mut mark = |node: &NodeId, standing| {
            marks.push(self.about(WorkloadAct::Mark {
                node: node.clone(),
                standing,
            }));
        };
        for node in self.spec.replicas.keys().filter(|n| *n != holder) {
            let Some(report) = self.report(node) else {
                continue;
            };
            if self.w.unsound(node).is_some() {
                if report.rejoined == Some(opened.epoch) {
                    mark(node, Standing::Sound);
                }
            } else if let Some(past) = self.went_past(node, opened.after, &opened.point)
                && report.rejoined != Some(opened.epoch)
                && report.seen.as_ref().is_none_or(|o| !o.streaming)
                && !self.stays_at_its_point(node, report)
            {
                let since = *notes.astray.entry(node.clone()).or_insert(self.scene.now);
                if self.scene.now.since(since) >= self.scene.spec.timings.lease {
                    let why = format!(
                        "it has {past} bytes past the point where the history of epoch {} began",
                        opened.epoch
                    );
                    mark(node, Standing::Diverged(why));
                }
                continue;
            } else if report.suspect && report.rejoined != Some(opened.epoch) {
                mark(
                    node,
                    Standing::NeedsClone("a promotion of it was never completed".into()),
                );
            }
            notes.astray.remove(node);
        }
        marks
    }

    /// What is held back at a point may have more than the history of today began with: it was there
    /// when that was written. On its way to one that never comes it is not.
    fn stays_at_its_point(&self, node: &NodeId, report: &ReplicaReport) -> bool {
        let there = |o: &Observation| o.held_at.is_some();
        self.w.held_back(node).is_some() && report.seen.as_ref().is_some_and(there)
    }

    fn finish(&self, operation: OperationId, outcome: Outcome, stamps: &Stamps) -> Command {
        let phases = if stamps.operation == Some(operation) {
            stamps.durations()
        } else {
            Vec::new()
        };
        self.about(WorkloadAct::Finish {
            operation,
            outcome,
            phases,
        })
    }

    fn finish_if_done(
        &self,
        id: OperationId,
        holder: &NodeId,
        to: Option<&NodeId>,
        stamps: &mut Stamps,
    ) -> Option<Command> {
        let forwards = |n: &NodeId| {
            let gate = self
                .scene
                .reports
                .get(n)
                .and_then(|h| h.report.parts.gates.get(self.id));
            gate.is_some_and(|g| g.forwarding == Some(self.w.epoch))
        };
        // A fenced host lets no client through, nor does a gate whose way to the primary is broken.
        let cut_off = |n: &NodeId| {
            let heard = self.scene.reports.get(n);
            let gate = heard.and_then(|h| h.report.parts.gates.get(self.id));
            gate.is_some_and(|gate| gate.unreachable)
        };
        let lets = |n: &&NodeId| {
            self.scene.is_up(n) && self.scene.state.fenced(n).is_none() && !cut_off(n)
        };
        let mut gates = self.spec.gates.keys().filter(lets).peekable();
        let routed = gates.peek().is_none() || gates.all(forwards);
        let any_routed = self.spec.gates.keys().any(forwards) || self.spec.gates.is_empty();
        let held = self
            .report(holder)
            .and_then(|r| r.sync_held)
            .is_some_and(|(e, _)| e == self.w.epoch);
        let now = self.scene.now;
        if any_routed {
            stamps.reach(Phase::Route, now);
        }
        if held {
            stamps.reach(Phase::FirstWrite, now);
        }
        if !(routed && held) {
            return None;
        }
        let outcome = match to {
            Some(to) if to != holder => {
                Outcome::Diverted(format!("{holder} became primary in place of {to}"))
            }
            _ => Outcome::Done,
        };
        Some(self.finish(id, outcome, stamps))
    }
}

/// Of several that have data and no log that knows them, the one that is no standby, where all
/// others are, of the same data. Else only a person can tell which one is right.
fn original<'a>(full: &[(&'a NodeId, &Observation)]) -> Option<&'a NodeId> {
    let is_original = |o: &Observation| o.data == (Data::Present { standby: false });
    let mut originals = full.iter().filter(|(_, o)| is_original(o));
    let ((node, first), None) = (originals.next()?, originals.next()) else {
        return None;
    };
    let copies = |o: &Observation| {
        o.identity.is_some()
            && o.identity == first.identity
            && matches!(o.data, Data::Present { .. })
    };
    full.iter().all(|(_, o)| copies(o)).then_some(*node)
}
