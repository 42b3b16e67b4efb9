//! A workload, its replicas, gates and address, as people see them.

use super::super::account::Account;
use super::super::sentence::{Said, Subject};
use crate::address::AddressReport;
use crate::authority::Claim;
use crate::ids::{NodeId, WorkloadId};
use crate::replica::{Action, Doing, Downstream, Observation, ReplicaReport, Role};
use crate::safetypoint::HeldBack;
use crate::spec::{Loss, Reads};
use crate::state::{SyncSet, Tenure};
use crate::steward::candidates;
use crate::steward::holding::{stands, written_since};
use crate::steward::outlook::{Lasting, Outlook, Writes, outlook, writes_wait};
use crate::text::size;
use crate::time::Time;
use crate::view::{
    AddressView, DoingView, GateCounts, GateView, NeedView, ReadGateView, ReaderView, ReadsView,
    ReplicaState, ReplicaView, SafetyPointView, ServerView, SettingsView, StandbyView, SyncView,
    Work, WorkloadView, WritesView,
};
use std::net::SocketAddr;
use std::time::Duration;

const NOTHING_KNOWN: Outlook = Outlook {
    writes: Writes::Unknown,
    need: None,
};

impl Account<'_> {
    pub(super) fn workload_view(&self, id: &WorkloadId) -> WorkloadView {
        let scene = &self.scene;
        let spec = &self.scene.spec.workloads[id];
        let w = self.scene.state.workload(id);
        let primary = match &w.tenure {
            Tenure::Open { holder, .. } => Some(holder.clone()),
            _ => None,
        };
        let head = primary
            .as_ref()
            .and_then(|p| scene.replica(p, id))
            .and_then(|r| r.seen.as_ref()?.number());
        let nodes = spec.replicas.keys();
        let replicas: Vec<_> = nodes
            .map(|node| self.replica_view(id, node, head))
            .collect();
        let gates = spec.gates.keys();
        let gates = gates
            .map(|node| self.gate_view(id, node, primary.as_ref()))
            .collect();
        let candidates = candidates::list(scene, id, spec);
        let lasting = self.lasting(id);
        let Said {
            condition,
            sentence,
            next,
        } = self.workload_sentence(&Subject {
            id,
            outlook: &lasting.outlook,
            replicas: &replicas,
            candidates: &candidates,
        });
        let for_ms = |since: Time| {
            let time = scene.now.since(since).as_millis() as u64;
            self.leads.then_some(time)
        };
        let needs_you = lasting.outlook.need.as_ref().map(|need| NeedView {
            kind: need.into(),
            about: id.to_string(),
            what: format!("{id}: {sentence}"),
            next: next.clone().unwrap_or_default(),
            for_ms: for_ms(lasting.need_since),
        });
        WorkloadView {
            workload: id.clone(),
            condition,
            sentence,
            writes: WritesView {
                state: lasting.outlook.writes,
                for_ms: for_ms(lasting.writes_since),
            },
            needs_you,
            next,
            epoch: w.epoch,
            mode: w.mode,
            mode_set: w.mode_set.clone(),
            settings: SettingsView {
                driver: spec.driver.clone(),
                loss: match spec.loss {
                    Loss::None => 0,
                    Loss::Bytes(bytes) => bytes,
                },
                alone: spec.alone,
                restart: spec.restart,
            },
            lease_left_ms: self.lease_left(id),
            primary,
            sync: self.sync_view(id),
            gates,
            reads: spec.reads.as_ref().map(|reads| self.reads_view(id, reads)),
            address: self.address_view(id),
            name: spec.name.as_ref().map(|of| self.names.view(id, of)),
            safety_point: self.safety_point_view(id),
            replicas,
            candidates,
            operation: w.operation,
        }
    }

    /// A setting holds for the cluster from its entry, and for writes from when the primary has
    /// taken it (docs/safety.md, "From when a word holds").
    fn sync_view(&self, id: &WorkloadId) -> SyncView {
        let scene = &self.scene;
        let w = scene.state.workload(id);
        let set = &w.sync;
        let holder = w.holder().filter(|holder| scene.reports_in(holder));
        let report = holder.and_then(|holder| scene.replica(holder, id));
        let held = report.and_then(|report| report.sync_held);
        let taken = held.filter(|(epoch, _)| *epoch == w.epoch);
        let taken = taken.map(|(_, number)| number);
        SyncView {
            number: set.number,
            sure: set.sure.clone(),
            asked: set.asked.clone(),
            unprotected: set.unprotected,
            taken,
            sentence: setting_sentence(set, w.holder(), taken),
        }
    }

    fn safety_point_view(&self, id: &WorkloadId) -> Option<SafetyPointView> {
        let scene = &self.scene;
        let (intent, point) = scene.state.charter.safety_point_of(id)?;
        let what = &scene.state.charter.intents[&intent].what;
        let held = scene.state.workload(id).held_back(&point.node);
        let mark = held.and_then(HeldBack::mark);
        Some(SafetyPointView {
            name: point.name.clone(),
            node: point.node.clone(),
            intent,
            by: what.by.clone(),
            at: what.at,
            why: what.why.clone(),
            age_ms: scene.wall.map(|now| now.saturating_sub(what.at) * 1_000),
            until: what.until,
            stands: mark.is_some_and(|mark| stands(scene, id, &point.node, mark)),
            label: mark.map(|mark| mark.label.clone()),
            position: mark.map(|mark| mark.at.clone()),
            written_since: written_since(scene, id),
        })
    }

    pub(super) fn lease_left(&self, id: &WorkloadId) -> Option<u64> {
        let claim = Claim::Primary(id.clone());
        let left = self.scene.ledger.left(&claim, self.scene.now)?;
        self.leads.then_some(left.as_millis() as u64)
    }

    /// How a workload stands, and since when.
    pub(super) fn lasting(&self, id: &WorkloadId) -> Lasting {
        let scene = &self.scene;
        let spec = scene.spec.workloads.get(id).filter(|_| self.leads);
        let now = spec.map_or(NOTHING_KNOWN, |spec| outlook(scene, id, spec));
        Lasting::next(self.outlooks.get(id), now, scene.now)
    }

    /// `head` is how far the primary is.
    pub(super) fn replica_view(
        &self,
        id: &WorkloadId,
        node: &NodeId,
        head: Option<u64>,
    ) -> ReplicaView {
        let (scene, w) = (&self.scene, self.scene.state.workload(id));
        let spec = &self.scene.spec.workloads[id];
        let replica = &spec.replicas[node];
        let report = scene.replica(node, id);
        let fresh = report.filter(|_| scene.reports_in(node));
        let (state, detail) = match self.scene.state.fenced(node) {
            Some(_) if scene.reports_in(node) => (
                ReplicaState::Stopped,
                "fenced: waits to be readmitted".into(),
            ),
            Some(fenced) if fenced.off => {
                (ReplicaState::Unknown, "fenced, its power is off".into())
            }
            _ => replica_state(fresh, w.unsound(node), writes_wait(w, spec)),
        };
        let seen = fresh.and_then(|r| r.seen.as_ref()).filter(|o| o.runs());
        let position = seen.and_then(Observation::number);
        let leaving = scene.leaving.replica(id, node).map(String::from);
        ReplicaView {
            node: node.clone(),
            state,
            detail: match &leaving {
                Some(why) => format!("{detail}; {why}"),
                None => detail,
            },
            address: replica.address,
            rank: replica.rank,
            in_sync_set: w.sync.sure.contains(node),
            lag: head.zip(position).map(|(head, at)| head.saturating_sub(at)),
            unsound: w.unsound(node).map(String::from),
            leaving,
            server: report.and_then(|r| r.seen.as_ref()).map(server_view),
            doing: report.and_then(|r| r.doing.as_ref()).map(doing_view),
            rejoined: report.and_then(|r| r.rejoined),
        }
    }

    pub(super) fn gate_view(
        &self,
        id: &WorkloadId,
        node: &NodeId,
        primary: Option<&NodeId>,
    ) -> GateView {
        let (scene, epoch) = (&self.scene, self.scene.state.workload(id).epoch);
        let heard = scene.reports.get(node).filter(|_| scene.reports_in(node));
        let report = heard.and_then(|h| h.report.parts.gates.get(id));
        let forwards = report.and_then(|r| r.forwarding).filter(|e| *e == epoch);
        GateView {
            node: node.clone(),
            address: self.scene.spec.workloads[id].gates[node],
            forwards_to: forwards.and(primary.cloned()),
            seen: report.map(|r| GateCounts {
                listening: r.listening,
                connections: r.connections,
                waiting: r.waiting,
                refused: r.refused,
                unreachable: primary
                    .filter(|_| r.unreachable)
                    .cloned()
                    .into_iter()
                    .collect(),
            }),
        }
    }

    fn reads_view(&self, id: &WorkloadId, reads: &Reads) -> ReadsView {
        let scene = &self.scene;
        let gate = |(node, address): (&NodeId, &SocketAddr)| {
            let heard = scene.reports.get(node).filter(|_| scene.reports_in(node));
            let report = heard.and_then(|h| h.report.parts.read_gates.get(id));
            ReadGateView {
                node: node.clone(),
                address: *address,
                forwards_to: report.map_or(Vec::new(), |r| r.to.iter().cloned().collect()),
                seen: report.map(|r| GateCounts {
                    listening: r.listening,
                    connections: r.connections,
                    waiting: r.waiting,
                    refused: r.refused,
                    unreachable: r.unreachable.iter().cloned().collect(),
                }),
            }
        };
        let judged = self.readers.get(id).filter(|readers| readers.is_known());
        let reader = |node: &NodeId| ReaderView {
            node: node.clone(),
            serves: judged.map(|readers| readers.fit().contains(node)),
            why: judged.and_then(|readers| Some(readers.unfit(node)?.to_string())),
        };
        ReadsView {
            age_ms: reads.age.as_millis() as u64,
            behind: reads.behind,
            gates: reads.gates.iter().map(gate).collect(),
            readers: scene.spec.workloads[id]
                .replicas
                .keys()
                .map(reader)
                .collect(),
        }
    }

    pub(super) fn address_view(&self, id: &WorkloadId) -> Option<AddressView> {
        let (scene, w) = (&self.scene, self.scene.state.workload(id));
        let spec = self.scene.spec.workloads[id].address.as_ref()?;
        let holder = w.place.holder.clone();
        let heard = holder
            .as_ref()
            .and_then(|h| scene.reports.get(h).filter(|_| scene.reports_in(h)));
        let report = heard.and_then(|h| h.report.parts.addresses.get(id));
        let conflict =
            |r: &AddressReport| Some(format!("{} answers for it too", r.conflict.as_ref()?));
        let uncounted = |r: &AddressReport| {
            Some(format!(
                "its connections are not known: {}",
                r.unlisted.as_ref()?
            ))
        };
        Some(AddressView {
            on: spec.on.iter().map(ToString::to_string).collect(),
            holder,
            held: report.is_some_and(|r| r.held) && !w.place.leaving,
            connections: report.map_or(0, |r| r.connections),
            remark: report.and_then(|r| {
                conflict(r)
                    .or_else(|| r.trouble.clone())
                    .or_else(|| uncounted(r))
            }),
        })
    }
}

fn setting_sentence(set: &SyncSet, holder: Option<&NodeId>, taken: Option<u64>) -> String {
    let number = set.number;
    let Some(holder) = holder else {
        return "no primary acknowledges writes".into();
    };
    let standbys: Vec<&str> = set.asked.iter().map(NodeId::as_str).collect();
    let wait = match (standbys.as_slice(), set.unprotected) {
        (_, true) => "writes wait for no standby".into(),
        ([], false) => "writes wait until a standby can confirm them".into(),
        (standbys, false) => format!("writes wait for {}", standbys.join(", ")),
    };
    match taken {
        Some(taken) if taken == number => format!("{wait}; {holder} has taken setting {number}"),
        Some(0) => {
            format!("{wait}; {holder} acknowledges none before it has taken setting {number}")
        }
        None => format!("{wait}; whether {holder} has taken setting {number} is not known"),
        Some(taken) => format!(
            "{wait} from setting {number} on; {holder} still acknowledges by setting {taken}"
        ),
    }
}

fn server_view(seen: &Observation) -> ServerView {
    let standby = |d: &Downstream| StandbyView {
        node: d.node.clone(),
        sent: d.sent,
        flushed: d.flushed,
        replayed: d.replayed,
        streaming: d.streaming,
        delay_ms: d.delay.map(|delay| delay.as_millis() as u64),
    };
    ServerView {
        runs: seen.runs(),
        role: seen.role,
        position: seen.position.clone(),
        place: seen.place.clone(),
        received: seen.received,
        replayed: seen.replayed,
        upstream: seen.upstream.clone(),
        streaming: seen.streaming,
        can_write: seen.can_write,
        standbys: seen.standbys.iter().map(standby).collect(),
        overruled: seen.overruled.clone(),
        trouble: seen.trouble.clone(),
        copied: seen.copied,
    }
}

fn doing_view(doing: &Doing) -> DoingView {
    DoingView {
        work: match &doing.action {
            Action::Create => Work::Create,
            Action::StartPrimary | Action::StartStandby { .. } => Work::Start,
            Action::Checkpoint => Work::Checkpoint,
            Action::StopClean { .. } | Action::StopNow => Work::Stop,
            Action::Promote { .. } => Work::Promote,
            Action::Settle { .. } => Work::Settle,
            Action::Repoint { .. } => Work::Repoint,
            Action::Rewind { .. } => Work::Rewind,
            Action::Clone { .. } | Action::Restore { .. } => Work::Clone,
            Action::SetSync(_) => Work::SetSync,
            Action::Mark { .. } => Work::Mark,
            Action::HoldBack { .. } => Work::HoldBack,
        },
        text: doing.action.describe(),
        for_ms: doing.time.as_millis() as u64,
    }
}

/// A replica's state and what to know of it. That writes wait for a standby is not to be seen in
/// the server: it takes them.
fn replica_state(
    report: Option<&ReplicaReport>,
    unsound: Option<&str>,
    writes_wait: bool,
) -> (ReplicaState, String) {
    let Some(report) = report else {
        return (ReplicaState::Unknown, "not heard".into());
    };
    let Some(seen) = &report.seen else {
        return (ReplicaState::Unknown, "not probed yet".into());
    };
    let far = |since: Duration| {
        let Some(copied) = seen.copied.filter(|c| c.total > 0) else {
            return String::new();
        };
        let rest = copied.rest(since).map_or(String::new(), |d| {
            format!(", about {} s left", d.as_secs().saturating_add(1))
        });
        format!(
            ": {} % of {} at {}/s{rest}",
            copied.percent(),
            size(copied.total),
            size(copied.pace(since))
        )
    };
    let doing = report.doing.as_ref().map(|Doing { action, time }| {
        format!(
            "{}, for {} s{}",
            action.describe(),
            time.as_secs(),
            far(*time)
        )
    });
    let rejoining = report
        .doing
        .as_ref()
        .is_some_and(|doing| doing.action.is_rejoining());
    let state = match (seen.runs(), seen.role) {
        _ if rejoining => ReplicaState::Rejoining,
        (false, _) => ReplicaState::Stopped,
        (true, None) => ReplicaState::Starting,
        (true, Some(Role::Primary)) => ReplicaState::Primary,
        (true, Some(Role::Standby)) => ReplicaState::Standby,
    };
    let detail = doing
        .or_else(|| unsound.map(|why| format!("comes back by a rewind or a clone: {why}")))
        .or_else(|| report.failed.clone())
        .or_else(|| seen.trouble.clone())
        .unwrap_or_else(|| match (state, seen.streaming) {
            (ReplicaState::Primary, _) if seen.can_write == Some(true) && writes_wait => {
                "takes writes, which wait".into()
            }
            (ReplicaState::Primary, _) if seen.can_write == Some(true) => "accepts writes".into(),
            (ReplicaState::Primary, _) => "no write was tried yet".into(),
            (ReplicaState::Standby, true) => "streaming".into(),
            (ReplicaState::Standby, false) if seen.held_at.is_some() => "stands as it is".into(),
            (ReplicaState::Standby, false) => "not streaming".into(),
            (other, _) => other.to_string(),
        });
    (state, detail)
}
