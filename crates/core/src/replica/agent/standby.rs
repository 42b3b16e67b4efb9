//! What a replica does that is nobody's primary: it follows whoever is, with the data that it has, with
//! those data brought back, or with a copy.

use super::{Action, Agent, Data, Observation, Order, Role, Running, Scene};
use crate::fact::OfReplica;
use crate::ids::{Epoch, NodeId};
use crate::operation::Stage;
use crate::planted::Planted;
use crate::safetypoint::{HeldBack, Mark};
use crate::state::{Tenure, WorkloadState};
use crate::time::Time;
use std::time::Duration;

/// How long a replica whose return can wait lets a new primary serve before it comes back: a clone
/// costs the primary a checkpoint and both hosts their disks, just when the clients reconnect.
const COURTESY: Duration = Duration::from_millis(400);

/// How long a standby of a primary that serves may neither stream nor move on before it is given up
/// for a copy: the log it needs is gone. Several times what a server waits before it looks for
/// its upstream again.
const STRANDED: Duration = Duration::from_secs(20);

impl Agent {
    /// Twin histories look the same to a rewind (D5), and one that failed has left nothing to start
    /// from.
    fn may_rewind(&self, scene: &Scene) -> bool {
        let twin = scene.workload.must_clone(&self.me) || self.is_suspect(scene.workload);
        (!twin || scene.planted == Some(Planted::ForgetAttempt)) && !self.unrewindable
    }

    /// Whether writes are protected without this replica, and the clients of a new primary come
    /// first.
    fn can_wait(&self, w: &WorkloadState, now: Time) -> bool {
        let needed = w.sync.sure.is_empty() || w.sync.asked.contains(&self.me);
        let served = |(e, at): (Epoch, Time)| e == w.epoch && now.since(at) >= COURTESY;
        !needed && !self.serving_since.is_some_and(served)
    }

    /// Whether the running standby has been cut off from what comes next for good: it does not
    /// stream from a primary that serves, and replays nothing either. That it may only not reach it
    /// does no harm: then a copy fails too, and the server runs on.
    fn is_stranded(&mut self, seen: &Observation, serves: bool, now: Time) -> bool {
        if !serves || seen.streaming || !seen.is(Role::Standby) {
            self.stuck = None;
            return false;
        }
        let since = self
            .stuck
            .filter(|(number, _)| *number == seen.number())
            .map_or(now, |(_, since)| since);
        self.stuck = Some((seen.number(), since));
        now.since(since) >= STRANDED
    }

    /// Whether this very run of a standby is to end: not while writes wait for it, where they could
    /// wait for somebody else.
    fn is_to_restart(&self, seen: &Observation, scene: &Scene) -> bool {
        let w = scene.workload;
        let asked = w.restarting.as_ref().filter(|r| r.node == self.me);
        let waited_for = w.sync.asked.contains(&self.me) && w.sync.asked.len() > 1;
        let early = scene.planted == Some(Planted::RestartInSet);
        asked.is_some_and(|r| seen.run.as_ref() == Some(&r.run))
            && seen.is(Role::Standby)
            && (!waited_for || early)
    }

    /// Whether nothing here stops the standby that runs, or is about to: what is held back, restarted
    /// or on its way to a point is none for writes to wait for (K4).
    pub(super) fn is_let_go(&self, w: &WorkloadState) -> bool {
        let plain = |o: &Observation| o.is(Role::Standby) && o.goes_up_to.is_none();
        let stops = |r: &Running| {
            let action = &r.action;
            matches!(
                action,
                Action::StopClean { .. } | Action::StopNow | Action::HoldBack { .. }
            )
        };
        self.kept.held_back.is_none()
            && w.held_back(&self.me).is_none()
            && !w.restarts(&self.me)
            && !self.running.as_ref().is_some_and(stops)
            && self.seen().is_some_and(plain)
    }

    pub(super) fn stand_by(&mut self, scene: &Scene) {
        let (now, w) = (scene.now, scene.workload);
        let primary = match &w.tenure {
            Tenure::Open { holder, .. } => Some(holder.clone()),
            _ => None,
        };
        if w.unsound(&self.me).is_none()
            && !self.is_suspect(w)
            && self.rejoined.is_some_and(|e| e < w.epoch)
        {
            self.rejoined = None;
        }
        let Some(seen) = self.seen.as_ref().map(|(_, o)| o.clone()) else {
            return;
        };
        let ended = has_ended(scene);
        self.drop_what_is_over(scene, ended, primary.is_some());
        if self.keeps_back(&seen, scene) {
            return;
        }
        self.rewound &= !seen.streaming;
        let stranded = self.is_stranded(
            &seen,
            matches!(w.tenure, Tenure::Open { serving: true, .. }),
            now,
        );
        let unusable = w.unsound(&self.me).is_some() || self.is_suspect(w) || self.unrewindable;
        let rejoins = unusable && self.rejoined != Some(w.epoch);
        if ended && !rejoins && seen.is(Role::Standby) && self.running.is_none() {
            if self.settled.as_ref().is_none_or(|(e, _)| *e != w.epoch) {
                let enough = w.clean_end;
                self.start(Action::Settle { enough }, scene);
            }
            return;
        }
        // After a restart of the daemon the log is known before what of it is committed. Nobody
        // else can have been assigned before a primary's deadline, which stops it in time (rule 1)
        // if it is not this node's turn.
        if !self.is_free(now) || seen.is(Role::Primary) {
            return;
        }
        if !seen.runs() && self.authority.armed().is_some() {
            if self.authority.disarms(now) {
                self.orders.push(Order::Disarm);
            }
            return;
        }
        // Nothing is started and nobody's data are touched until it is readmitted (S6).
        if scene.fenced || (primary.is_some() && !seen.runs() && self.can_wait(w, now)) {
            return;
        }
        if let Data::Foreign(_) = seen.data {
            return;
        }
        if let Some(why) = w.identity.as_ref().and_then(|ours| foreign(&seen, ours)) {
            self.failed = Some(why);
            return;
        }
        match primary {
            Some(primary) => self.follow(primary, &seen, rejoins, stranded, scene),
            // Without a primary a standby starts all the same, so that its position is known; data
            // that was a primary's waits, since it may be asked to go on.
            None if seen.data == (Data::Present { standby: true }) && !seen.runs() && !rejoins => {
                let upstream = w.last_holder(&self.me);
                self.start(Action::StartStandby { upstream }, scene);
            }
            None => self.forget_failure(),
        }
    }

    /// Whether nothing else is done here, since it is held back or may be.
    fn keeps_back(&mut self, seen: &Observation, scene: &Scene) -> bool {
        let held = scene.workload.held_back(&self.me);
        let forgets = scene.planted == Some(Planted::HeldGoesOn);
        match (held, self.kept.held_back) {
            (None, None) => return false,
            (None, Some(since)) if scene.applied < since => return !forgets,
            (Some(held), Some(_)) => self.stay_back(held, seen, scene),
            (held, _) => {
                self.kept.held_back = held.map(|_| scene.applied);
                self.keep();
            }
        }
        true
    }

    /// Stays at a safety point: its server stops before the point is written, then goes up to it, and
    /// is left there whoever is primary (P1).
    fn stay_back(&mut self, held: &HeldBack, seen: &Observation, scene: &Scene) {
        let untouched = matches!(seen.data, Data::Present { standby: true }) && !scene.fenced;
        if !self.is_free(scene.now) || !untouched || seen.is(Role::Primary) {
            return;
        }
        let there = |mark: &Mark| seen.held_at.as_ref() == Some(&mark.label);
        let upstream = scene.workload.last_holder(&self.me);
        // Where it was started to follow a primary that is lost, it is stopped, and goes up from the
        // next one.
        let follows = |node: &NodeId| seen.upstream.as_ref().is_none_or(|at| at == node);
        let on_its_way =
            |mark: &Mark| seen.goes_up_to.as_ref() == Some(&mark.label) && follows(&upstream);
        let action = match held.mark() {
            Some(mark) if there(mark) && !seen.streaming => return self.forget_failure(),
            Some(mark) if on_its_way(mark) || !seen.runs() => Action::HoldBack {
                upstream,
                mark: mark.clone(),
            },
            _ if seen.runs() => Action::StopClean {
                limit: scene.timings.stop_limit,
            },
            _ => return self.forget_failure(),
        };
        self.start(action, scene);
    }

    /// What it was about, and nobody wants any more.
    fn drop_what_is_over(&mut self, scene: &Scene, ended: bool, has_primary: bool) {
        let Some(running) = &self.running else { return };
        let over = match &running.action {
            Action::SetSync(_) | Action::Checkpoint => true,
            Action::Repoint { .. } => ended,
            // Whose data it brings here is no primary any more, and may never answer again (its host
            // may be off): the next one's are wanted.
            Action::Rewind { .. } | Action::Clone { .. } | Action::Restore { .. } => {
                let next = scene.workload.grantable();
                ended || (next.is_some() && next != running.primary.as_ref())
            }
            // It goes up to the point from whoever is primary; from itself it needs nobody.
            Action::HoldBack { upstream, .. } => {
                let next = scene.workload.grantable();
                let elsewhere = next.is_some_and(|holder| holder != upstream);
                scene.workload.held_back(&self.me).is_none() || (*upstream != self.me && elsewhere)
            }
            // Somebody was chosen without it, who waits for this standby now (D13).
            Action::Settle { .. } => has_primary,
            _ => false,
        };
        if over {
            self.cancel();
        }
    }

    /// A member of the sync set follows this primary and has every write: a copy of it is as good,
    /// and costs the primary nothing. One that failed is not asked again at once.
    fn copy(&self, primary: NodeId, scene: &Scene) -> Action {
        let fit = |n: &&NodeId| **n != self.me && scene.workload.sync.sure.contains(n);
        let from = scene.copy_from.filter(fit);
        let from = from.filter(|n| self.copy_failed.as_ref() != Some(*n));
        let from = from.cloned().unwrap_or(primary);
        Action::Clone { from }
    }

    /// A base backup that was not found to be of no use costs nobody else anything.
    fn first_data(&self, primary: NodeId, scene: &Scene) -> Action {
        let failed = self.restore_failed.as_deref();
        match scene.base_backup.filter(|from| Some(*from) != failed) {
            Some(from) => Action::Restore {
                from: from.into(),
                to: primary,
            },
            None => self.copy(primary, scene),
        }
    }

    /// Becomes, or stays, a standby of this primary.
    fn follow(
        &mut self,
        primary: NodeId,
        seen: &Observation,
        rejoins: bool,
        stranded: bool,
        scene: &Scene,
    ) {
        let action = match &seen.data {
            // It follows whomever somebody else told it to, or stays where nobody wants it any more.
            _ if seen.strange || seen.goes_up_to.is_some() => Action::StopClean {
                limit: scene.timings.stop_limit,
            },
            _ if rejoins && seen.runs() => Action::StopNow,
            Data::Present { .. } if rejoins && self.may_rewind(scene) => {
                Action::Rewind { to: primary }
            }
            _ if rejoins => self.copy(primary, scene),
            Data::Empty if !seen.runs() => self.first_data(primary, scene),
            Data::Unusable(_) if !seen.runs() => self.copy(primary, scene),
            Data::Present { .. } if !seen.runs() => {
                // Where it stopped as a standby is no end of anything.
                self.clean_at = None;
                Action::StartStandby { upstream: primary }
            }
            _ if self.is_to_restart(seen, scene) => Action::StopClean {
                limit: scene.timings.stop_limit,
            },
            // It serves readers and stays a candidate until the copy is complete.
            _ if stranded => {
                self.note(OfReplica::Stranded {
                    upstream: primary.clone(),
                    since: STRANDED,
                });
                self.copy(primary, scene)
            }
            _ if seen.upstream.as_ref() != Some(&primary) && seen.is(Role::Standby) => {
                Action::Repoint { upstream: primary }
            }
            _ => return self.forget_failure(),
        };
        self.start(action, scene);
    }
}

/// Why nobody touches the data here, where they are not known to be of the workload (R9): an
/// identity that cannot be read may be anybody's.
fn foreign(seen: &Observation, ours: &str) -> Option<String> {
    if !matches!(seen.data, Data::Present { .. }) {
        return None;
    }
    match seen.identity.as_deref() {
        Some(theirs) if theirs == ours => None,
        Some(theirs) => Some(format!(
            "its data are known as {theirs}, and those of the workload as {ours}: nobody touches them; move them away, and a copy is made"
        )),
        None => Some(format!(
            "whose data are here cannot be read, and those of the workload are known as {ours}: nobody touches them; mend that, or move them away, and a copy is made"
        )),
    }
}

/// Whether the final position of a standby is wanted now: whatever else it was doing can wait. Once
/// the epoch is revoked nothing more of it counts, but in a planned move everything up to the clean
/// stop is still to be received.
fn has_ended(scene: &Scene) -> bool {
    let planned = scene
        .operation
        .is_some_and(|(_, kind)| kind.takes(Stage::StopClean));
    match scene.workload.tenure {
        Tenure::Ended { .. } => true,
        Tenure::Revoking { .. } => !planned,
        _ => false,
    }
}
