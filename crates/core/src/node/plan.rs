//! What a move would do and what stands in its way, before anything is changed.

use super::Node;
use crate::ids::{NodeId, WorkloadId};
use crate::operation::{Kind, Outcome, Stage};
use crate::outage::PROMOTE_ALLOWANCE;
use crate::ownstep::Point;
use crate::replica::{ReplicaReport, Role};
use crate::request::{Pause, Plan, Precondition};
use crate::spec::{Loss, WorkloadSpec};
use crate::state::{LoggedOperation, Tenure, WorkloadState};
use crate::steward::Scene;
use crate::steward::candidates::{self, Candidate, MayLack};
use std::time::Duration;

/// A move that is looked at.
struct Move<'a> {
    kind: Kind,
    id: &'a WorkloadId,
    spec: &'a WorkloadSpec,
    w: &'a WorkloadState,
    scene: Scene<'a>,
    from: Option<NodeId>,
    target: Option<NodeId>,
    accept_loss: u64,
    candidates: Vec<Candidate>,
}

impl Node {
    pub(super) fn plan(
        &self,
        scene: Scene<'_>,
        kind: Kind,
        id: &WorkloadId,
        to: Option<NodeId>,
        accept_loss: u64,
    ) -> Result<Plan, String> {
        let spec = self.known_workload(id)?;
        if let Some(to) = to.as_ref().filter(|to| !spec.replicas.contains_key(*to)) {
            let known: Vec<&str> = spec.replicas.keys().map(|n| n.as_str()).collect();
            return Err(format!(
                "`{to}` has no replica of {id}; replicas: {}",
                known.join(", ")
            ));
        }
        let w = self.state.workload(id);
        let candidates = candidates::list(&scene, id, spec);
        let from = match &w.tenure {
            Tenure::Ended { last, .. } => Some(last.clone()),
            _ => w.holder().cloned(),
        };
        if let Some(to) = to
            .as_ref()
            .filter(|to| w.is_open() && from.as_ref() == Some(*to))
        {
            return Err(format!("{to} is the primary of {id} already"));
        }
        let settled = matches!(w.tenure, Tenure::Ended { .. });
        let best = candidates::best(&candidates, settled);
        let target = to.or_else(|| best.map(|c| c.node.clone()));
        let planned = Move {
            kind,
            id,
            spec,
            w,
            scene,
            from,
            target,
            accept_loss,
            candidates,
        };
        let bound = if kind.takes(Stage::StopClean) {
            self.spec.timings.stop_limit
        } else {
            self.spec.timings.lease_is_over_after()
        };
        let own = planned.target.as_ref().map(|target| {
            let at = Point::BeforePromotion;
            self.spec.time_of_steps(at, Some(id), target)
        });
        let bound = bound + own.unwrap_or_default();
        Ok(Plan {
            kind,
            workload: id.clone(),
            preconditions: planned.preconditions(),
            steps: self.with_own_steps(&planned),
            pause: Pause {
                usual_ms: planned.usual_pause().as_millis() as u64,
                longest_ms: (bound + PROMOTE_ALLOWANCE).as_millis() as u64,
            },
            data_at_risk: planned.risk(),
            from: planned.from,
            to: planned.target,
            candidates: planned.candidates,
        })
    }
}

impl Node {
    /// What it takes, the site's own steps among it.
    fn with_own_steps(&self, planned: &Move) -> Vec<String> {
        let own = |at, node: &Option<NodeId>| self.steps_text(at, Some(planned.id), node.as_ref()?);
        let (old, new) = (&planned.from, &planned.target);
        let mut all = Vec::new();
        for (stage, text) in planned.kind.stages().iter().zip(planned.steps()) {
            match stage {
                Stage::Checkpoint => all.extend(own(Point::BeforeSwitchover, old)),
                Stage::Promote => all.extend(own(Point::BeforePromotion, new)),
                _ => {}
            }
            all.push(text);
            if *stage == Stage::Release {
                let planned = planned.kind == Kind::Switchover;
                let after = planned.then(|| own(Point::AfterSwitchover, new));
                all.extend(after.flatten());
                all.extend(own(Point::AfterPromotion, new));
            }
        }
        all
    }
}

impl Move<'_> {
    fn is_forced(&self) -> bool {
        self.kind == Kind::ForcedFailover
    }

    fn judged(&self) -> Option<&Candidate> {
        let target = self.target.as_ref()?;
        self.candidates.iter().find(|c| c.node == *target)
    }

    /// What the node that holds the workload says of its replica.
    fn old(&self) -> Option<&ReplicaReport> {
        self.scene.replica(self.from.as_ref()?, self.id)
    }

    fn preconditions(&self) -> Vec<Precondition> {
        let (forced, open) = (self.is_forced(), self.w.is_open());
        // Forced: also where nobody is primary (yet), in place of a failover that found nobody, or
        // somebody who does not open.
        let waits = || {
            self.scene
                .state
                .running(self.id)
                .is_some_and(|(_, o)| o.waits())
        };
        let replaceable = forced && (!open || waits());
        let runs = self
            .w
            .operation
            .filter(|_| !replaceable)
            .map(|o| format!("{o} is running"));
        let state = if forced {
            "no other move is half done"
        } else {
            "the workload has an open primary"
        };
        let may = |node: &NodeId| format!("{node} may take over");
        let mut all = vec![
            Precondition {
                text: "no other operation of this workload runs".into(),
                unmet: runs,
            },
            Precondition {
                text: state.into(),
                unmet: (!open && !forced).then(|| "nobody is open as primary".into()),
            },
            Precondition {
                text: self
                    .target
                    .as_ref()
                    .map_or("a standby may take over".into(), may),
                unmet: self.obstacle_to_target(),
            },
        ];
        if self.kind.takes(Stage::Checkpoint) {
            let answers = self
                .old()
                .and_then(|r| r.seen.as_ref())
                .is_some_and(|o| o.is(Role::Primary));
            all.push(Precondition {
                text: "the primary answers".into(),
                unmet: (!answers)
                    .then(|| "it does not; a forced failover would not wait for it".into()),
            });
        }
        all
    }

    fn obstacle_to_target(&self) -> Option<String> {
        let Some(judged) = self.judged() else {
            return Some("no replica is eligible".into());
        };
        // A workload that was never opened has no acknowledged writes: a person says whose data are
        // right.
        if self.is_forced() && (judged.may_with_loss(self.accept_loss) || self.w.opened.is_none()) {
            return None;
        }
        let why = judged.excluded.clone()?;
        Some(match judged.may_lack.filter(|_| self.is_forced()) {
            Some(lack) => format!("{why}; {}", how_to_accept(lack)),
            None => why,
        })
    }

    fn steps(&self) -> Vec<String> {
        let name = |n: &Option<NodeId>| n.as_ref().map_or("?".to_string(), ToString::to_string);
        let (old, new) = (name(&self.from), name(&self.target));
        let stages = self.kind.stages().iter();
        stages.map(|stage| stage_text(*stage, &old, &new)).collect()
    }

    /// What the last such move took that went well; else what a promotion is given.
    fn usual_pause(&self) -> Duration {
        let like = |o: &LoggedOperation| {
            o.what.kind == self.kind
                && o.what.workload == *self.id
                && o.outcome == Some(Outcome::Done)
                && !o.phases.is_empty()
        };
        let mut all = self.scene.state.operations.iter().rev();
        let last = all.find(|(_, o)| like(o));
        last.map_or(PROMOTE_ALLOWANCE, |(_, o)| {
            o.phases.iter().map(|(_, took)| *took).sum()
        })
    }

    /// Bytes of acknowledged writes that could be lost. What is not known is not zero (F2).
    fn risk(&self) -> u64 {
        if let Some(lack) = self
            .judged()
            .and_then(|c| c.may_lack)
            .filter(|_| self.is_forced())
        {
            return lack.bytes();
        }
        if self.kind.takes(Stage::StopClean) || self.spec.loss == Loss::None {
            return 0;
        }
        let new = self
            .target
            .as_ref()
            .and_then(|target| self.scene.replica(target, self.id));
        let (old, new) = (self.old().and_then(position), new.and_then(position));
        old.zip(new)
            .map_or(u64::MAX, |(old, new)| old.saturating_sub(new))
    }
}

fn position(report: &ReplicaReport) -> Option<u64> {
    report.seen.as_ref()?.number()
}

/// What a person has to accept for it, in words.
fn how_to_accept(lack: MayLack) -> String {
    match lack {
        MayLack::Bytes(0) => {
            "it has everything that was acknowledged; choose it all the same with --accept-loss 0B".into()
        }
        MayLack::Bytes(bytes) => {
            format!("it lacks up to {bytes} bytes of acknowledged writes; accept that with --accept-loss {bytes}B")
        }
        MayLack::AtLeast { bytes, age } => format!(
            "it lacks {bytes} bytes of what the primary had when it was last heard, {} ms ago, and whatever was written \
             since; accept that with --accept-loss {}B",
            age.as_millis(),
            bytes.max(1)
        ),
        MayLack::Unknown => {
            "how much of the acknowledged writes it lacks is not known; accept any loss with --accept-loss all".into()
        }
    }
}

fn stage_text(stage: Stage, old: &str, new: &str) -> String {
    match stage {
        Stage::Checkpoint => format!("checkpoint on {old}, clients still writing"),
        Stage::Revoke => {
            format!("revoke {old}'s authority; gates hold new connections and close the old ones")
        }
        Stage::StopClean => format!("stop {old} cleanly; its standbys receive everything"),
        Stage::StopNow => format!("stop {old} at once, or wait out its lease"),
        Stage::Promote => format!("promote {new} under a new epoch"),
        Stage::Release => "gates release clients to it".into(),
        Stage::Follow => format!("{old} follows as a standby"),
        Stage::ComeBack => format!("{old} comes back by a rewind, or a clone"),
    }
}
