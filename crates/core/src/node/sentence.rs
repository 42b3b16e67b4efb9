//! One sentence for each workload: how it is, and what a person can safely do next.

use super::account::Account;
use crate::authority::Claim;
use crate::ids::{NodeId, WorkloadId};
use crate::operation::Mode;
use crate::spec::{Alone, Loss, WorkloadSpec};
use crate::state::{Tenure, WorkloadState};
use crate::steward::candidates::Candidate;
use crate::view::{Condition, ReplicaState, ReplicaView};

pub(super) struct Said {
    pub condition: Condition,
    pub sentence: String,
    pub next: Option<String>,
}

impl Said {
    fn new(condition: Condition, sentence: String) -> Self {
        Self {
            condition,
            sentence,
            next: None,
        }
    }

    fn settling(sentence: String) -> Self {
        Self::new(Condition::Settling, sentence)
    }

    fn down(sentence: String, next: impl Into<Option<String>>) -> Self {
        Self {
            next: next.into(),
            ..Self::new(Condition::Down, sentence)
        }
    }
}

/// Whether no write is acknowledged, since there is no standby to confirm it (D3).
pub(super) fn writes_wait(w: &WorkloadState, spec: &WorkloadSpec) -> bool {
    spec.loss == Loss::None && spec.alone == Alone::Block && w.sync.sure.is_empty()
}

impl Account<'_> {
    pub(super) fn workload_sentence(
        &self,
        id: &WorkloadId,
        replicas: &[ReplicaView],
        candidates: &[Candidate],
    ) -> Said {
        let w = self.scene.state.workload(id);
        if !self.leads {
            let holder = w.holder().map_or("nobody".into(), ToString::to_string);
            let epoch = w.epoch;
            let text = format!(
                "{id}: the log gives epoch {epoch} to {holder}; only the coordinator knows how it is now"
            );
            return Said::down(text, None);
        }
        match &w.tenure {
            Tenure::Vacant => Said::settling(format!(
                "{id}: waiting for every replica's report before the first primary is chosen"
            )),
            Tenure::Open { holder, serving } => {
                let is_primary =
                    |r: &&ReplicaView| r.node == *holder && r.state == ReplicaState::Primary;
                let answers = replicas.iter().find(is_primary).is_some();
                if let Some(said) = self.under_way(id) {
                    said
                } else if !answers {
                    self.without_answer(id, holder, replicas, candidates)
                } else if !serving {
                    Said::settling(format!("{id}: waiting for {holder} to serve"))
                } else {
                    self.served(id, holder, replicas)
                }
            }
            Tenure::Assigned { .. } | Tenure::Revoking { .. } => {
                let nobody = || format!("{id}: no primary right now: handing over");
                Said::settling(self.doing(id).unwrap_or_else(nobody))
            }
            Tenure::Ended { last, .. } => ended(id, last, candidates),
        }
    }

    /// The last step of what is under way.
    fn doing(&self, id: &WorkloadId) -> Option<String> {
        let (operation, logged) = self.scene.state.running(id)?;
        let last = self
            .node
            .journal
            .steps_of(operation)
            .pop()
            .map(|s| s.text)
            .unwrap_or_default();
        Some(format!(
            "{id}: {} ({operation}) is under way: {last}",
            logged.what.kind
        ))
    }

    fn under_way(&self, id: &WorkloadId) -> Option<Said> {
        let (operation, logged) = self.scene.state.running(id)?;
        if logged.waits() {
            let what = &logged.what;
            let text = format!(
                "{id}: {} ({operation}) waits for approval: {}",
                what.kind, what.why
            );
            return Some(Said::down(
                text,
                format!("karst operation approve {operation}"),
            ));
        }
        self.doing(id).map(Said::settling)
    }

    /// Its primary does not answer, and nothing is done about it yet.
    fn without_answer(
        &self,
        id: &WorkloadId,
        holder: &NodeId,
        replicas: &[ReplicaView],
        candidates: &[Candidate],
    ) -> Said {
        if self.scene.state.workload(id).mode == Mode::Watch {
            let detail = replicas
                .iter()
                .find(|r| r.node == *holder)
                .map_or("", |r| r.detail.as_str());
            let text = format!(
                "{id}: {holder} does not serve ({detail}); mode is watch, so nothing is done"
            );
            let to = candidates.iter().find(|c| c.excluded.is_none());
            return Said::down(
                text,
                to.map(|c| {
                    format!(
                        "karst failover {id} --to {}, or karst mode act {id}",
                        c.node
                    )
                }),
            );
        }
        let scene = &self.scene;
        if holder != scene.me && scene.health.is_suspected(holder, scene.now) {
            let over = scene
                .lease_over_at(&Claim::Primary(id.clone()))
                .since(scene.now)
                .as_millis();
            return Said::settling(format!(
                "{id}: {holder} is not heard; in {over} ms at most its lease is over, and another may take over"
            ));
        }
        Said::settling(format!("{id}: waiting for {holder} to serve"))
    }

    /// Its primary serves: with how many standbys.
    fn served(&self, id: &WorkloadId, holder: &NodeId, replicas: &[ReplicaView]) -> Said {
        let (w, spec) = (
            self.scene.state.workload(id),
            &self.scene.spec.workloads[id],
        );
        let (asked, streaming) = (replicas.len() - 1, w.sync.sure.len());
        let have = format!("{streaming} of {asked} standbys have every write");
        if streaming >= asked || spec.loss != Loss::None {
            return Said::new(
                Condition::Healthy,
                format!("{id}: {holder} is primary; {have}"),
            );
        }
        let away = replicas
            .iter()
            .filter(|r| r.node != *holder && !r.in_sync_set);
        let wait = writes_wait(w, spec);
        let what = match streaming {
            _ if wait => "writes wait, as no standby can confirm them (alone = \"block\")".into(),
            0 => "writes are unprotected (alone = \"continue\")".into(),
            _ => have,
        };
        let missing: Vec<String> = away.map(|r| format!("{} ({})", r.node, r.detail)).collect();
        let text = format!(
            "{id}: {holder} is primary; {what}; missing: {}",
            missing.join(", ")
        );
        let coming = replicas.iter().any(|r| !r.in_sync_set && is_coming(r));
        match (coming, wait) {
            (true, _) => Said::settling(text),
            (false, true) => Said::down(text, "bring one of the standbys back".to_string()),
            (false, false) => Said::new(Condition::Weakened, text),
        }
    }
}

/// Whether a replica is on its way into the sync set. What was reported by somebody who is not
/// heard any more is coming no nearer.
fn is_coming(replica: &ReplicaView) -> bool {
    let streams = replica.server.as_ref().is_some_and(|s| s.streaming);
    replica.state != ReplicaState::Unknown && (replica.doing.is_some() || streams)
}

fn ended(id: &WorkloadId, last: &NodeId, candidates: &[Candidate]) -> Said {
    let reasons: Vec<String> = candidates
        .iter()
        .filter_map(|c| Some(format!("{}: {}", c.node, c.excluded.as_ref()?)))
        .collect();
    let text = format!(
        "{id}: no primary since {last}'s epoch ended; {}",
        reasons.join("; ")
    );
    if candidates.iter().any(|c| c.pending || c.excluded.is_none()) {
        return Said::settling(text);
    }
    let lossy = candidates.iter().find(|c| c.may_lack.is_some());
    let or = lossy.map_or(String::new(), |c| {
        format!(
            "; or accept a loss: karst failover {id} --to {} --plan shows how much",
            c.node
        )
    });
    Said::down(
        text,
        format!("bring {last} back, or one of the standbys that has every write{or}"),
    )
}
