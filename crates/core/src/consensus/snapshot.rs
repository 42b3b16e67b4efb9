//! Snapshots: what the log said up to some entry, kept in the place of those entries (Raft paper, section 7), and how a
//! member that was away for too long catches up by one.

use super::{Consensus, Durable, Log, Order, Talk};
use crate::ids::{Index, NodeId, Term};
use crate::state::ClusterState;
use crate::time::Time;
use serde::{Deserialize, Serialize};

/// Everything that the log said up to and including `last`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Snapshot {
    pub last: (Term, Index),
    pub state: ClusterState,
}

impl Consensus {
    /// What the log's base stands for.
    pub fn snapshot(&self) -> Option<&Snapshot> {
        self.snapshot.as_ref()
    }

    /// Keeps `state`, which committed entries built, in the place of the entries that it says it has applied.
    pub fn compact(&mut self, state: &ClusterState) {
        let Some(term) = self.log.term_at(state.applied).filter(|_| state.applied <= self.commit) else { return };
        let snapshot = Snapshot { last: (term, state.applied), state: state.clone() };
        self.log.forget_up_to(snapshot.last);
        self.snapshot = Some(snapshot.clone());
        self.orders.push(Order::Persist(Durable::Compacted(Box::new(snapshot))));
    }

    /// A leader's snapshot, for a member that lacks entries which the leader does not have any more. Those before its
    /// last are committed: whoever has that entry has all of them, and whoever does not replaces its whole log.
    pub(super) fn on_install(
        &mut self, from: &NodeId, term: Term, snapshot: Snapshot, sent: Time, now: Time, chance: f64,
    ) {
        if !self.heed(from, term, sent, now, chance) {
            return;
        }
        let last = snapshot.last;
        if self.log.term_at(last.1) == Some(last.0) {
            self.commit = self.commit.max(last.1);
        } else if last.1 > self.commit {
            self.log = Log::new(last, Vec::new());
            self.stable = self.stable.min(last.1);
            self.orders.push(Order::Installed { from: self.commit, to: last.1 });
            self.commit = last.1;
            self.snapshot = Some(snapshot.clone());
            self.orders.push(Order::Persist(Durable::Installed(Box::new(snapshot))));
        }
        self.orders.push(Order::Send(from.clone(), Talk::Appended { term, matched: Ok(last.1), sent, news: true }));
    }
}
