//! How far each primary was when it was last heard: what a standby may lack is counted from there
//! (F2).
//!
//! A server that has stopped says no position, and a host that is lost says nothing. So each node
//! remembers the last one, of its own primaries and of those that others' beats and reports name.

use crate::ids::{Epoch, WorkloadId};
use crate::time::Time;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A primary's position, under which epoch.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Head {
    pub epoch: Epoch,
    pub position: u64,
}

/// The newest head of each workload, and when this node heard of it.
#[derive(Clone, Debug, Default)]
pub struct Heads(BTreeMap<WorkloadId, (Head, Time)>);

impl Heads {
    /// Takes what was heard, from the primary's own node or from another that had heard it;
    /// nobody's position goes back within an epoch, and the same again from another is no later
    /// word of the primary's.
    pub fn note(&mut self, workload: &WorkloadId, head: Head, first_hand: bool, now: Time) {
        match self.0.get_mut(workload) {
            Some((known, at)) if head > *known || (first_hand && head == *known) => {
                (*known, *at) = (head, now)
            }
            Some(_) => {}
            None => drop(self.0.insert(workload.clone(), (head, now))),
        }
    }

    /// Of other workloads nothing is remembered.
    pub fn retain(&mut self, is_there: impl Fn(&WorkloadId) -> bool) {
        self.0.retain(|id, _| is_there(id));
    }

    /// All of them, with the moment at which each was heard.
    pub fn iter(&self) -> impl Iterator<Item = (&WorkloadId, Head, Time)> {
        self.0.iter().map(|(id, (head, at))| (id, *head, *at))
    }

    /// The last known position under this epoch, and when it was heard.
    pub fn under(&self, workload: &WorkloadId, epoch: Epoch) -> Option<(u64, Time)> {
        let (head, at) = self
            .0
            .get(workload)
            .filter(|(head, _)| head.epoch == epoch)?;
        Some((head.position, *at))
    }
}
