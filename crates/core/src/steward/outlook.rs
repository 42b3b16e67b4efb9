//! How a workload stands for those outside: whether clients' writes are taken, and whether a person
//! is needed. Both are facts of their own: writes may go on while a person is needed, and may stand
//! still while nobody is.

use super::scene::{Desk, Scene};
use crate::authority::Claim;
use crate::ids::{NodeId, OperationId, WorkloadId};
use crate::operation::Mode;
use crate::replica::{Data, Role};
use crate::spec::{Alone, Follows, Loss, WorkloadSpec};
use crate::state::{Tenure, WorkloadState};
use crate::steward::candidates::{self, Candidate};
use crate::time::Time;
use serde::{Deserialize, Serialize};
use std::fmt;

/// Whether clients' writes are taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Writes {
    Accepted,
    /// Whoever knew is not heard: they may be taken or not.
    Unknown,
    /// Not now; they will be again without anybody's doing.
    Paused,
    /// Not until a person acts.
    Stopped,
}

impl fmt::Display for Writes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Accepted => "accepted",
            Self::Unknown => "unknown",
            Self::Paused => "paused",
            Self::Stopped => "stopped",
        })
    }
}

/// What only a person can do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Need {
    /// A move is prepared and waits to be approved.
    Approve(OperationId),
    /// The primary is lost, and the mode says that nothing is done about it.
    TakeOver { lost: NodeId },
    /// Several replicas have data, and no log says whose are right.
    ChooseData(Vec<NodeId>),
    /// Nobody has every write and may take over.
    BringBack { last: NodeId },
    /// No standby can confirm writes, and none is on its way.
    BringStandby,
}

/// Both.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Outlook {
    pub writes: Writes,
    pub need: Option<Need>,
}

/// An outlook, and since when each of its parts has been so, as far as this coordinator saw.
#[derive(Clone, Debug)]
pub struct Lasting {
    pub outlook: Outlook,
    pub writes_since: Time,
    pub need_since: Time,
}

impl Lasting {
    /// The same with what is so now.
    pub fn next(before: Option<&Self>, outlook: Outlook, now: Time) -> Self {
        let same_writes = before.filter(|b| b.outlook.writes == outlook.writes);
        let same_need = before.filter(|b| b.outlook.need == outlook.need);
        Self {
            writes_since: same_writes.map_or(now, |b| b.writes_since),
            need_since: same_need.map_or(now, |b| b.need_since),
            outlook,
        }
    }
}

/// Whether no write is acknowledged, since there is no standby to confirm it (D3).
pub fn writes_wait(w: &WorkloadState, spec: &WorkloadSpec) -> bool {
    spec.loss == Loss::None && spec.alone == Alone::Block && w.sync.sure.is_empty()
}

/// As the coordinator sees it.
pub fn outlook(scene: &Scene, id: &WorkloadId, spec: &WorkloadSpec) -> Outlook {
    let w = scene.state.workload(id);
    Desk { scene, id, spec, w }.outlook()
}

impl Desk<'_> {
    fn outlook(&self) -> Outlook {
        match &self.w.tenure {
            Tenure::Vacant => self.before_the_first(),
            Tenure::Open { holder, serving } => self.while_held(holder, *serving),
            Tenure::Assigned { .. } | Tenure::Revoking { .. } => recovers(),
            Tenure::Ended { last, .. } => self.between(last),
        }
    }

    fn before_the_first(&self) -> Outlook {
        let has_data = |node: &&NodeId| {
            let seen = self.scene.replica(node, self.id);
            let seen = seen.and_then(|report| report.seen.as_ref());
            seen.is_some_and(|seen| seen.data != Data::Empty)
        };
        let full: Vec<NodeId> = self
            .spec
            .replicas
            .keys()
            .filter(has_data)
            .cloned()
            .collect();
        if full.len() > 1 && self.w.operation.is_none() {
            return stopped(Need::ChooseData(full));
        }
        recovers()
    }

    fn while_held(&self, holder: &NodeId, serving: bool) -> Outlook {
        let seen = self.scene.replica(holder, self.id);
        let seen = seen.and_then(|report| report.seen.as_ref());
        let own = match seen.filter(|_| self.scene.reports_in(holder)) {
            None => self.over_or_unknown(&Claim::Primary(self.id.clone())),
            Some(seen) if !serving || !seen.is(Role::Primary) || seen.has_exited() => {
                Writes::Paused
            }
            Some(seen) if seen.can_write == Some(false) => Writes::Paused,
            Some(_) => Writes::Accepted,
        };
        let writes = match own {
            Writes::Accepted => self.through_gates().max(self.through_address()),
            other => other,
        };
        if writes == Writes::Accepted && writes_wait(self.w, self.spec) {
            return match self.is_a_standby_coming() {
                true => recovers(),
                false => stopped(Need::BringStandby),
            };
        }
        let need = self.need_of_a_loss(holder, own);
        Outlook {
            writes: match (&need, writes) {
                (Some(_), Writes::Paused) => Writes::Stopped,
                _ => writes,
            },
            need,
        }
    }

    /// A lease may still be valid where nobody hears its holder, and clients be there.
    fn over_or_unknown(&self, claim: &Claim) -> Writes {
        let over = self.scene.lease_over_at(claim);
        if over <= self.scene.now {
            Writes::Paused
        } else {
            Writes::Unknown
        }
    }

    /// Whether some gate lets clients through, if there are any.
    fn through_gates(&self) -> Writes {
        let best = self
            .spec
            .gates
            .keys()
            .map(|node| self.through_gate(node))
            .min();
        best.unwrap_or(Writes::Accepted)
    }

    /// One that is not heard may, or not.
    fn through_gate(&self, node: &NodeId) -> Writes {
        if !self.scene.reports_in(node) {
            return Writes::Unknown;
        }
        let heard = self.scene.reports.get(node);
        let gate = heard.and_then(|h| h.report.parts.gates.get(self.id));
        match gate.and_then(|gate| gate.forwarding) {
            Some(epoch) if epoch == self.w.epoch => Writes::Accepted,
            _ => Writes::Paused,
        }
    }

    /// Whether clients of the floating address come through, if there is one.
    fn through_address(&self) -> Writes {
        let place = &self.w.place;
        let (Some(spec), Some(holder)) = (&self.spec.address, &place.holder) else {
            return match self.spec.address {
                Some(_) => Writes::Paused,
                None => Writes::Accepted,
            };
        };
        if !self.scene.reports_in(holder) {
            return self.over_or_unknown(&Claim::Address(self.id.clone()));
        }
        let heard = self.scene.reports.get(holder);
        let report = heard.and_then(|h| h.report.parts.addresses.get(self.id));
        if place.leaving || !report.is_some_and(|report| report.held) {
            return Writes::Paused;
        }
        match spec.follows {
            Follows::Gate => self.through_gate(holder),
            Follows::Primary => Writes::Accepted,
        }
    }

    /// A primary that is lost and that the mode leaves to a person.
    fn need_of_a_loss(&self, holder: &NodeId, writes: Writes) -> Option<Need> {
        let running = self.scene.state.running(self.id);
        if let Some((operation, logged)) = running {
            return logged.waits().then_some(Need::Approve(operation));
        }
        let lost = writes == Writes::Paused;
        (lost && self.w.mode == Mode::Watch).then(|| Need::TakeOver {
            lost: holder.clone(),
        })
    }

    fn is_a_standby_coming(&self) -> bool {
        let coming = |node: &NodeId| {
            let report = self.scene.replica(node, self.id);
            let report = report.filter(|_| self.scene.reports_in(node));
            report.is_some_and(|report| {
                let streams = report.seen.as_ref().is_some_and(|seen| seen.streaming);
                report.doing.is_some() || streams
            })
        };
        let holder = self.w.holder();
        let mut others = self.spec.replicas.keys().filter(|n| holder != Some(*n));
        others.any(coming)
    }

    fn between(&self, last: &NodeId) -> Outlook {
        let list = candidates::list(self.scene, self.id, self.spec);
        let may = |c: &Candidate| c.pending || c.excluded.is_none();
        if list.iter().any(may) {
            return recovers();
        }
        stopped(Need::BringBack { last: last.clone() })
    }
}

fn recovers() -> Outlook {
    Outlook {
        writes: Writes::Paused,
        need: None,
    }
}

fn stopped(need: Need) -> Outlook {
    Outlook {
        writes: Writes::Stopped,
        need: Some(need),
    }
}
