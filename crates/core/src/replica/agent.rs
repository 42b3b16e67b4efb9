//! What one replica has to do next, from the committed state, its lease and what its driver
//! observes.
//!
//! Rules kept here:
//! 1. A primary runs only while its confirmed deadline is further off than the kill bound (S3, C2);
//!    the stop comes before anything else and interrupts whatever is under way.
//! 2. The attempt to promote is durable before the driver is called (D5).
//! 3. A surrender is made when nothing of the workload runs, is durable before it is reported, and
//!    is final (C5).
//! 4. Nothing starts here while the deadman still counts down for an earlier primary.

mod standby;

pub use super::inout::{Kept, Order, Scene};

use super::{Action, Data, Doing, Done, Observation, Promotion, ReplicaReport, Role, SyncSetting};
use crate::authority::Authority;
use crate::fact::OfReplica;
use crate::ids::{Epoch, NodeId, OperationId};
use crate::operation::Stage;
use crate::ownstep::bounded;
use crate::planted::Planted;
use crate::position::Position;
use crate::safetypoint::{HeldBack, Mark, Stage as PointStage};
use crate::state::{Tenure, WorkloadState};
use crate::time::Time;
use std::time::Duration;

#[derive(Clone, Debug)]
struct Running {
    id: u64,
    action: Action,
    /// Of the workload when it was begun: what comes of it is about that epoch, however long it
    /// takes.
    epoch: Epoch,
    since: Time,
    /// When it is given up (F6).
    limit: Duration,
    /// The intent of the standby that was held back then.
    intent: Option<OperationId>,
    /// Who was primary, or to be.
    primary: Option<NodeId>,
    /// The longest pause before another try of what writes wait for (G6).
    soon: Duration,
}

/// The replica's keeper.
#[derive(Clone, Debug)]
pub struct Agent {
    me: NodeId,
    pub authority: Authority,
    /// Why no packet guard is in force here, as the deadman says (C3).
    pub unguarded: Option<String>,
    seen: Option<(Time, Observation)>,
    /// How often its server was looked at.
    looks: u64,
    down_since: Option<Time>,
    running: Option<Running>,
    next_id: u64,
    kept: Kept,
    /// How many writes of `kept` are not durable yet.
    keeping: u32,
    tried: Option<Epoch>,
    opened: Option<(Epoch, Promotion)>,
    settled: Option<(Epoch, Position)>,
    clean_at: Option<u64>,
    sync_held: Option<(Epoch, u64)>,
    prepared: Option<OperationId>,
    refused: Option<(OperationId, String)>,
    marked: Option<(OperationId, Mark)>,
    /// The last promotion of this run that was told to be open.
    told_open: Option<Epoch>,
    rejoined: Option<Epoch>,
    /// The data were rewound and their server was not seen streaming since.
    rewound: bool,
    /// Whose data could not be copied last.
    copy_failed: Option<NodeId>,
    /// The base backup that data could not be made from.
    restore_failed: Option<String>,
    /// A rewind did not work, or left data that do not start: a clone is next.
    unrewindable: bool,
    /// A standby that does not stream: how far it is, and since when it has been no further.
    stuck: Option<(Option<u64>, Time)>,
    /// When the present epoch was first seen serving.
    serving_since: Option<(Epoch, Time)>,
    failed: Option<String>,
    /// Why the last try failed.
    failed_because: Option<String>,
    /// The setting of the sync set that could not be made last.
    sync_failed: Option<(Epoch, u64)>,
    failures: u32,
    retry_at: Time,
    /// When it last decided what to do.
    stepped_at: Time,
    orders: Vec<Order>,
}

impl Agent {
    pub fn new(me: NodeId, kept: Kept) -> Self {
        Self {
            me,
            authority: Authority::default(),
            unguarded: None,
            seen: None,
            looks: 0,
            down_since: None,
            running: None,
            next_id: 1,
            kept,
            keeping: 0,
            tried: None,
            opened: None,
            settled: None,
            clean_at: None,
            sync_held: None,
            prepared: None,
            refused: None,
            marked: None,
            told_open: None,
            rejoined: None,
            rewound: false,
            copy_failed: None,
            restore_failed: None,
            unrewindable: false,
            stuck: None,
            serving_since: None,
            failed: None,
            failed_because: None,
            sync_failed: None,
            failures: 0,
            retry_at: Time::ZERO,
            stepped_at: Time::ZERO,
            orders: Vec::new(),
        }
    }

    pub fn take_orders(&mut self) -> Vec<Order> {
        std::mem::take(&mut self.orders)
    }

    pub fn seen(&self) -> Option<&Observation> {
        self.seen.as_ref().map(|(_, o)| o)
    }

    /// Nothing is under way here, and the server is as it should be.
    pub fn is_calm(&self) -> bool {
        let well = |o: &Observation| {
            o.runs()
                && !o.has_exited()
                && o.role.is_some()
                && o.trouble.is_none()
                && o.can_write != Some(false)
        };
        self.running.is_none() && self.failures == 0 && self.seen().is_some_and(well)
    }

    pub fn on_observed(&mut self, observation: Observation, now: Time) {
        self.looks += 1;
        if observation.is_unprotected() {
            // The setting has to be made and proved again (F11).
            self.sync_held = None;
        }
        let ends = observation.has_exited() || !observation.runs();
        let was_up = self.seen().is_some_and(|o| o.runs() && !o.has_exited());
        if !ends {
            self.down_since = None;
        } else if self.down_since.is_none() {
            self.down_since = Some(now);
            if was_up && self.running.is_none() {
                self.note(OfReplica::ServerExited);
            }
        }
        self.seen = Some((now, observation));
    }

    /// What was ordered with [`Order::Keep`] is durable.
    pub fn on_kept(&mut self) {
        self.keeping = self.keeping.saturating_sub(1);
    }

    /// The epoch that this node tried to promote under was opened: the attempt is history (D5).
    pub fn on_opened(&mut self, epoch: Epoch, holder: &NodeId) {
        if *holder == self.me && self.kept.attempted.is_some_and(|a| a <= epoch) {
            self.kept.attempted = None;
        }
    }

    pub fn on_done(&mut self, id: u64, result: Result<Done, String>, now: Time) {
        let Some(running) = self.running.take_if(|r| r.id == id) else {
            return;
        };
        self.conclude(running, result, now);
    }

    fn conclude(&mut self, running: Running, result: Result<Done, String>, now: Time) {
        let took = now.since(running.since);
        match result {
            Ok(Done::MustClone { why }) => {
                (self.failures, self.failed) = (0, None);
                match &running.action {
                    Action::Restore { from, .. } => self.restore_failed = Some(from.clone()),
                    _ => self.unrewindable = true,
                }
                self.note(OfReplica::ActionFailed {
                    action: running.action,
                    took,
                    why,
                });
            }
            Ok(Done::Refused { why }) if running.action == Action::Checkpoint => {
                self.refused = self.prepared.zip(Some(bounded(&why)));
                self.note(OfReplica::ActionFailed {
                    action: running.action,
                    took,
                    why,
                });
            }
            Ok(Done::Refused { why }) => self.on_failure(running, took, why, now),
            Ok(done) => {
                self.failures = 0;
                self.failed = None;
                self.note(OfReplica::ActionDone {
                    action: running.action.clone(),
                    took,
                });
                self.on_success(running, done);
            }
            Err(why) => self.on_failure(running, took, why, now),
        }
    }

    fn on_failure(&mut self, running: Running, took: Duration, why: String, now: Time) {
        self.failures += 1;
        match &running.action {
            Action::Rewind { .. } => self.unrewindable = true,
            Action::Clone { from } => self.copy_failed = Some(from.clone()),
            Action::StartStandby { .. } if self.rewound => {
                (self.unrewindable, self.rejoined) = (true, None)
            }
            _ => {}
        }
        let pause = Duration::from_millis(250) * 2u32.pow(self.failures.min(7));
        self.sync_failed = None;
        self.retry_at = now + pause;
        // Writes wait for it: the trouble may be over in a moment (G6).
        if let Action::SetSync(setting) = &running.action {
            self.sync_failed = Some((setting.epoch, setting.number));
            self.retry_at = now + pause.min(running.soon);
        }
        let again = self.failed_because.replace(why.clone()).as_ref() == Some(&why);
        let failed = OfReplica::ActionFailed {
            action: running.action,
            took,
            why,
        };
        self.failed = Some(failed.to_string());
        // What goes on failing in the same way is said less and less often.
        if !again || self.failures.is_power_of_two() {
            self.note(failed);
        }
    }

    fn on_success(&mut self, running: Running, done: Done) {
        let (action, of) = (running.action, running.epoch);
        match (&action, done) {
            (Action::Promote { .. }, Done::Promoted(promotion)) => {
                // It says so itself: rule 1 counts from here on, and not from the next look.
                if let Some((_, seen)) = &mut self.seen {
                    seen.role = Some(Role::Primary);
                    if let Some(at) = &mut seen.position {
                        at.history = promotion.point.history.clone();
                    }
                    (seen.upstream, seen.streaming) = (None, false);
                }
                if let Some(epoch) = self.tried {
                    self.opened = Some((epoch, promotion));
                }
            }
            (Action::Settle { .. }, Done::Settled { at }) => self.settled = Some((of, at)),
            (Action::StopClean { .. } | Action::StopNow, Done::Stopped { clean_at }) => {
                self.clean_at = clean_at
            }
            (Action::SetSync(held), _) => self.sync_held = Some((held.epoch, held.number)),
            (Action::Mark { label }, Done::Marked { at }) => {
                let (label, epoch) = (label.clone(), of);
                self.marked = running.intent.zip(Some(Mark { label, epoch, at }));
            }
            (Action::Rewind { .. } | Action::Clone { .. } | Action::Restore { .. }, _) => {
                self.rewound = !matches!(action, Action::Clone { .. });
                (self.unrewindable, self.copy_failed) = (false, None);
                self.stuck = None;
                self.rejoined = Some(of);
                self.kept.attempted = None;
                self.keep();
            }
            _ => {}
        }
    }

    fn note(&mut self, what: OfReplica) {
        self.orders.push(Order::Note(what));
    }

    fn keep(&mut self) {
        self.keeping += 1;
        self.orders.push(Order::Keep(self.kept.clone()));
    }

    fn start(&mut self, action: Action, scene: &Scene) {
        self.orders.push(Order::Start {
            id: self.next_id,
            action: action.clone(),
        });
        let (epoch, since) = (scene.workload.epoch, scene.now);
        let own = match &action {
            Action::Checkpoint => scene.own_steps.switchover,
            Action::Promote { .. } => scene.own_steps.promotion,
            Action::Clone { .. } | Action::Restore { .. } => scene.own_steps.clone,
            _ => Duration::ZERO,
        };
        let limit = action.limit() + own;
        self.running = Some(Running {
            id: self.next_id,
            action,
            epoch,
            since,
            limit,
            intent: scene.workload.held_back.as_ref().map(|held| held.intent),
            primary: scene.workload.grantable().cloned(),
            soon: match scene.planted {
                Some(Planted::SettingWaits) => Duration::MAX,
                _ => scene.timings.heartbeat * 2,
            },
        });
        self.next_id += 1;
    }

    fn cancel(&mut self) {
        if let Some(running) = self.running.take() {
            self.orders.push(Order::Cancel { id: running.id });
        }
    }

    /// Whether something here is a primary, or is about to become one.
    fn is_primary(&self) -> bool {
        let starting = |r: &Running| {
            matches!(
                r.action,
                Action::Create | Action::StartPrimary | Action::Promote { .. }
            )
        };
        self.seen().is_some_and(|o| o.is(Role::Primary))
            || self.running.as_ref().is_some_and(starting)
    }

    /// A promotion was tried here whose epoch has passed without being opened (D5). Before anything
    /// was opened there is no second history that it could be taken for.
    fn is_suspect(&self, workload: &WorkloadState) -> bool {
        workload.opened.is_some() && self.kept.attempted.is_some_and(|a| workload.epoch > a)
    }

    /// When this has to be looked at again.
    pub fn next_due(&self) -> Time {
        let stop = self.is_primary().then(|| self.authority.stop_by());
        let given_up = self.running.as_ref().map(|r| r.since + r.limit);
        // What has passed was there to be acted on in the last step.
        let ahead = |at: &Time| *at > self.stepped_at;
        let again = (self.failures > 0 && self.running.is_none())
            .then_some(self.retry_at)
            .filter(ahead);
        [stop.filter(ahead), given_up.filter(ahead), again]
            .into_iter()
            .flatten()
            .min()
            .unwrap_or(Time(u64::MAX))
    }

    fn is_stopping(&self) -> bool {
        self.running
            .as_ref()
            .is_some_and(|r| r.action == Action::StopNow)
    }

    /// An action that is not over within its limit has failed: another is tried, here or elsewhere
    /// (F6).
    fn give_up_late(&mut self, scene: &Scene) {
        let late = |r: &mut Running| r.since + r.limit <= scene.now;
        if scene.planted != Some(Planted::NoDeadlines)
            && let Some(running) = self.running.take_if(late)
        {
            self.orders.push(Order::Cancel { id: running.id });
            let limit = running.limit.as_secs();
            self.conclude(
                running,
                Err(format!("it was not over within {limit} s")),
                scene.now,
            );
        }
    }

    /// Decides what to do next.
    pub fn step(&mut self, scene: &Scene) {
        self.stepped_at = scene.now;
        self.give_up_late(scene);
        let stop_by = self.authority.stop_by();
        let stopping = self.is_stopping();
        let past = stop_by <= scene.now && scene.planted != Some(Planted::OutliveLease);
        if self.is_primary() && past && !stopping {
            self.note(OfReplica::StoppedByLease);
            self.cancel();
            self.start(Action::StopNow, scene);
            return;
        }
        let w = scene.workload;
        if matches!(w.tenure, Tenure::Open { serving: true, .. })
            && self.serving_since.is_none_or(|(e, _)| e != w.epoch)
        {
            self.serving_since = Some((w.epoch, scene.now));
        }
        if stopping || self.seen.is_none() {
            return;
        }
        // What takes authority away waits for no disk (F5).
        if self.keeping > 0
            && !matches!(&w.tenure, Tenure::Revoking { holder } if *holder == self.me)
        {
            return;
        }
        match &w.tenure {
            Tenure::Assigned { holder } if *holder == self.me => self.take_office(scene),
            Tenure::Open { holder, .. } if *holder == self.me => self.hold_office(scene),
            Tenure::Revoking { holder } if *holder == self.me => self.leave_office(scene),
            _ => self.stand_by(scene),
        }
    }

    /// The spec has no replica here any more: whatever runs is stopped, and the deadman gets nothing
    /// left to watch. Returns whether nothing is left.
    pub fn leave(&mut self, scene: &Scene) -> bool {
        self.stepped_at = scene.now;
        self.give_up_late(scene);
        if self.is_stopping() {
            return false;
        }
        self.cancel();
        let Some(runs) = self.seen().map(|seen| seen.runs()) else {
            return false;
        };
        if runs {
            if self.is_free(scene.now) {
                self.start(Action::StopNow, scene);
            }
            return false;
        }
        if self.authority.armed().is_some() {
            if self.authority.disarms(scene.now) {
                self.orders.push(Order::Disarm);
            }
            return false;
        }
        true
    }

    fn has_surrendered(&self, epoch: Epoch) -> bool {
        self.kept.surrendered.is_some_and(|(e, _)| e == epoch)
    }

    fn surrender(&mut self, epoch: Epoch) {
        if !self.has_surrendered(epoch) {
            self.kept.surrendered = Some((epoch, self.clean_at.take()));
            self.keep();
        }
    }

    /// Idle, and not waiting before another try.
    fn is_free(&self, now: Time) -> bool {
        self.running.is_none() && (self.failures == 0 || now >= self.retry_at)
    }

    fn take_office(&mut self, scene: &Scene) {
        let (now, epoch) = (scene.now, scene.workload.epoch);
        let may = self.authority.may_act(epoch, now);
        if self.has_surrendered(epoch) || !may {
            return;
        }
        if self.opened.as_ref().is_some_and(|(e, _)| *e == epoch) {
            // Its commits return to nobody before the epoch is open (D4).
            if scene.planted == Some(Planted::OpenEarly)
                && self.is_free(now)
                && self.sync_held != Some((epoch, 0))
            {
                let early = SyncSetting {
                    epoch,
                    number: 0,
                    standbys: Vec::new(),
                    unprotected: true,
                };
                self.start(Action::SetSync(early), scene);
            }
            return;
        }
        if self.kept.attempted != Some(epoch) {
            self.clean_at = None;
            // Whatever it was about as a standby is over.
            self.cancel();
            self.kept.attempted = Some(epoch);
            self.keep();
            return;
        }
        let Some(seen) = self.seen.as_ref().map(|(_, o)| o.clone()) else {
            return;
        };
        if self.running.is_some() {
            return;
        }
        if self.tried == Some(epoch) && self.failures > 0 {
            // One try only: another replica may do better, and this one's data are suspect now
            // (D5).
            if seen.runs() {
                self.start(Action::StopNow, scene)
            } else {
                self.surrender(epoch)
            }
            return;
        }
        let after = scene
            .workload
            .opened
            .as_ref()
            .map(|o| o.point.history.clone());
        let formation = scene.workload.opened.is_none() && self.tried != Some(epoch);
        if let Some(mark) = scene.workload.held_back(&self.me).and_then(HeldBack::mark)
            && self.tried != Some(epoch)
            && seen.held_at.as_ref() != Some(&mark.label)
        {
            return self.go_to_point(mark.clone(), &seen, scene);
        }
        let action = match (&seen.data, seen.runs()) {
            (Data::Empty | Data::Present { standby: false }, _) if formation => Action::Create,
            (_, true) => Action::Promote { after },
            (Data::Present { standby: false }, false) if self.tried != Some(epoch) => {
                Action::StartPrimary
            }
            // It follows nobody: it is promoted as soon as it runs.
            (Data::Present { standby: true }, false) if self.tried != Some(epoch) => {
                Action::StartStandby {
                    upstream: self.me.clone(),
                }
            }
            _ => {
                self.failed = Some("the server stopped before it could be promoted".into());
                self.surrender(epoch);
                return;
            }
        };
        self.tried = Some(epoch);
        self.failures = 0;
        self.start(action, scene);
    }

    /// It goes on from its point, and not from what it may have beside (P1).
    fn go_to_point(&mut self, mark: Mark, seen: &Observation, scene: &Scene) {
        if seen.runs() {
            return self.start(Action::StopNow, scene);
        }
        self.tried = Some(scene.workload.epoch);
        self.failures = 0;
        let upstream = self.me.clone();
        self.start(Action::HoldBack { upstream, mark }, scene);
    }

    fn hold_office(&mut self, scene: &Scene) {
        let (now, w) = (scene.now, scene.workload);
        let Some(seen) = self.seen() else { return };
        let gone = seen.has_exited() && scene.planted == Some(Planted::FirstProcessOnly);
        if !seen.runs() || gone {
            self.cancel();
            self.surrender(w.epoch);
            return;
        }
        if seen.has_exited() {
            self.cancel();
            return;
        }
        let asked = (w.sync.epoch, w.sync.number);
        if let Some(Running {
            action: Action::SetSync(setting),
            ..
        }) = &self.running
            && (setting.epoch, setting.number) < asked
        {
            self.cancel();
        }
        // It was promoted in this run, and is told so once.
        if self.opened.as_ref().is_some_and(|(e, _)| *e == w.epoch)
            && self.told_open != Some(w.epoch)
        {
            self.told_open = Some(w.epoch);
            self.orders.push(Order::Opened { epoch: w.epoch });
        }
        let behind = self.sync_held != Some(asked);
        let waits = scene.planted == Some(Planted::SettingWaits);
        if behind && !waits && self.delays_setting() {
            // The move is prepared anew, once writes wait for no standby that is gone (G6).
            self.cancel();
            self.prepared = None;
        }
        let another = !waits && self.sync_failed != Some(asked) && self.running.is_none();
        if !(self.is_free(now) || behind && another) {
            return;
        }
        if behind {
            let mut standbys = w.sync.asked.clone();
            if scene.planted == Some(Planted::WaitForOne) {
                standbys.truncate(1);
            }
            let unprotected = w.sync.unprotected;
            let setting = SyncSetting {
                epoch: asked.0,
                number: asked.1,
                standbys,
                unprotected,
            };
            self.start(Action::SetSync(setting), scene);
        } else if let Some(held) = &w.held_back
            && held.stage == PointStage::Marks
            && !self.has_marked(held, w.epoch)
        {
            let label = held.label(w.epoch);
            self.start(Action::Mark { label }, scene);
        } else if let Some((id, kind)) = scene.operation
            && kind.takes(Stage::Checkpoint)
            && self.prepared != Some(id)
        {
            self.prepared = Some(id);
            self.start(Action::Checkpoint, scene);
        }
    }

    /// What runs here may take minutes, and can be begun again.
    fn delays_setting(&self) -> bool {
        let long = |r: &Running| matches!(r.action, Action::Checkpoint | Action::Mark { .. });
        self.running.as_ref().is_some_and(long)
    }

    fn has_marked(&self, held: &HeldBack, epoch: Epoch) -> bool {
        let marked = self.marked.as_ref();
        marked.is_some_and(|(intent, mark)| (*intent, mark.epoch) == (held.intent, epoch))
    }

    fn leave_office(&mut self, scene: &Scene) {
        let epoch = scene.workload.epoch;
        if self.has_surrendered(epoch) {
            return;
        }
        // It was never begun here, and never will be: a standby goes on as one.
        let idle = |o: &Observation| o.is(Role::Standby);
        if self.kept.attempted != Some(epoch) && self.seen().is_some_and(idle) {
            self.surrender(epoch);
            return;
        }
        let stopping = |a: &Action| matches!(a, Action::StopClean { .. } | Action::StopNow);
        if self.running.as_ref().is_some_and(|r| stopping(&r.action)) {
            return;
        }
        self.cancel();
        if self.seen().is_some_and(|o| !o.runs()) || scene.planted == Some(Planted::SurrenderEarly)
        {
            self.surrender(epoch);
        } else if scene
            .operation
            .is_some_and(|(_, kind)| kind.takes(Stage::StopClean))
            && self.failures == 0
        {
            self.start(
                Action::StopClean {
                    limit: scene.timings.stop_limit,
                },
                scene,
            );
        } else {
            self.start(Action::StopNow, scene);
        }
    }

    /// What failed is not wanted any more.
    fn forget_failure(&mut self) {
        (self.failures, self.failed) = (0, None);
    }

    fn refusal_of(&self, id: OperationId) -> Option<&str> {
        let (of, why) = self.refused.as_ref()?;
        (*of == id).then_some(why)
    }

    pub fn report(&self, workload: &WorkloadState, now: Time) -> ReplicaReport {
        ReplicaReport {
            seen: self.seen().cloned(),
            looks: self.looks,
            age: self
                .seen
                .as_ref()
                .map_or(Duration::ZERO, |(at, _)| now.since(*at)),
            down_for: self.down_since.map(|at| now.since(at)),
            opened: self.opened.clone(),
            settled: self.settled.clone(),
            surrendered: self.kept.surrendered.filter(|_| self.keeping == 0),
            sync_held: self.sync_held,
            prepared: self
                .prepared
                .filter(|id| self.running.is_none() && self.refusal_of(*id).is_none()),
            refused: self.refused.clone(),
            marked: self.marked.clone(),
            rejoined: self.rejoined,
            let_go: self.is_let_go(workload).then_some(workload.let_go),
            suspect: self.is_suspect(workload),
            unguarded: self.unguarded.clone(),
            doing: self.running.as_ref().map(|r| Doing {
                action: r.action.clone(),
                time: now.since(r.since),
            }),
            failed: self.failed.clone(),
        }
    }
}
