//! What the cluster has agreed to be: the spec in force, who votes, what people want of it, and
//! what was so lately and may still be relied on somewhere.

use crate::author::Author;
use crate::ids::{Index, NodeId, OperationId, WorkloadId};
use crate::intent::{Enrolment, Intended, Intent, Invitation, Maintenance, Restart, Want};
use crate::operation::Outcome;
use crate::safetypoint::{GoingBack, SafetyPoint};
use crate::spec::{Change, Revision, Spec, Timings};
use crate::votes::{Voters, Votes};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;

/// Earlier texts that are kept, so that people can go back to one: so many, of so many bytes.
const PAST: usize = 50;
const PAST_BYTES: usize = 1 << 20;
/// Intents that are over and still remembered; the history has all of them.
const REMEMBERED: usize = 20;
/// The oldest go.
const INVITATIONS: usize = 200;
/// Keys of nodes that have left; the oldest go, by then their certificates have ended.
const GONE: usize = 1_000;

#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Charter {
    /// The spec in force; none before the first coordinator has put it into the log.
    pub revision: Option<Arc<Revision>>,
    pub voters: Option<Voters>,
    /// The entry that says so.
    #[serde(default)]
    pub voters_at: Index,
    /// Timings that were in force before, and that somebody may still rely on; by the entry that
    /// ended them.
    pub live: BTreeMap<Index, Timings>,
    pub intents: BTreeMap<OperationId, Intended>,
    /// The last ones that are over.
    pub over: BTreeMap<OperationId, Over>,
    /// Earlier revisions, the oldest first.
    pub past: Vec<Past>,
    /// Ways in, by the entry that made them.
    #[serde(default)]
    pub invitations: BTreeMap<OperationId, Invitation>,
    #[serde(default)]
    pub gone: Departed,
}

/// Keys that speak for nobody any more (M1), by their SHA-256; and the entry that says so last.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Departed {
    pub keys: BTreeMap<String, Gone>,
    pub at: Index,
}

/// Whose key it was.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Gone {
    pub node: NodeId,
    /// The entry by which the node left, or by which another host has taken its name.
    pub since: Index,
    /// Where it was: whoever has it may still knock there, and is told.
    pub peer: SocketAddr,
}

impl Departed {
    fn add(&mut self, keys: impl IntoIterator<Item = String>, gone: &Gone) {
        let keys = keys.into_iter().map(|key| (key, gone.clone()));
        self.keys.extend(keys);
        self.at = gone.since;
        while self.keys.len() > GONE {
            let oldest = self.keys.iter().min_by_key(|(_, gone)| gone.since);
            let oldest = oldest.map(|(key, _)| key.clone());
            oldest.and_then(|key| self.keys.remove(&key));
        }
    }
}

/// An earlier revision, as it was written.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Past {
    pub number: u64,
    pub text: Arc<str>,
    pub by: Author,
    pub at: u64,
    pub why: Option<String>,
}

/// An intent that is over.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Over {
    /// What it wanted, in a few words.
    pub title: String,
    pub by: Author,
    pub at: u64,
    pub why: Option<String>,
    pub outcome: Outcome,
}

impl Charter {
    /// The revision that waits to be in force, and its intent.
    pub fn pending(&self) -> Option<(OperationId, &Arc<Revision>)> {
        let mut all = self.intents.iter();
        all.find_map(|(id, intended)| Some((*id, intended.pending()?)))
    }

    pub fn maintenances(&self) -> impl Iterator<Item = (OperationId, &Maintenance)> {
        let all = self.intents.iter();
        all.filter_map(|(id, intended)| Some((*id, intended.maintenance()?)))
    }

    /// What restarts the servers of a workload.
    pub fn restart_of(&self, id: &WorkloadId) -> Option<(OperationId, &Restart)> {
        let mut all = self.intents.iter();
        all.find_map(|(intent, intended)| match &intended.what.want {
            Want::Restart(restart) if restart.workload == *id => Some((*intent, restart)),
            _ => None,
        })
    }

    /// The safety point of a workload that nobody has dropped yet.
    pub fn safety_point_of(&self, id: &WorkloadId) -> Option<(OperationId, &SafetyPoint)> {
        let mut all = self.safety_points();
        all.find(|(_, point)| point.workload == *id)
    }

    pub fn safety_points(&self) -> impl Iterator<Item = (OperationId, &SafetyPoint)> {
        let all = self.intents.iter();
        all.filter_map(|(id, intended)| Some((*id, intended.safety_point()?)))
    }

    /// What takes a workload back to its safety point.
    pub fn going_back(&self, id: &WorkloadId) -> Option<(OperationId, &GoingBack)> {
        self.all_going_back().find(|(_, back)| back.workload == *id)
    }

    /// What takes a workload back to the point of that intent.
    pub fn goes_back_to(&self, point: OperationId) -> Option<(OperationId, &GoingBack)> {
        self.all_going_back().find(|(_, back)| back.point == point)
    }

    fn all_going_back(&self) -> impl Iterator<Item = (OperationId, &GoingBack)> {
        let all = self.intents.iter();
        all.filter_map(|(intent, intended)| match &intended.what.want {
            Want::GoingBack(back) => Some((*intent, back)),
            _ => None,
        })
    }

    /// The longest of what these timings say and what may still be relied on.
    pub fn longest<T: Ord>(&self, now: &Timings, of: impl Fn(&Timings) -> T) -> T {
        let past = self.live.values().map(&of);
        past.fold(of(now), |longest, one| longest.max(one))
    }

    /// Stores that are to count, of nodes that have lost theirs.
    pub fn enrolments(&self) -> impl Iterator<Item = (OperationId, &Enrolment)> {
        let all = self.intents.iter();
        all.filter_map(|(id, intended)| match &intended.what.want {
            Want::Enrolment(enrolment) => Some((*id, enrolment)),
            _ => None,
        })
    }

    pub(super) fn found(&mut self, revision: &Arc<Revision>, founders: &Votes) -> bool {
        let founds = self.revision.is_none();
        if founds {
            self.voters = Some(founders.clone().into());
            self.revision = Some(revision.clone());
        }
        founds
    }

    /// One revision at a time, for the spec that is in force; nobody is in maintenance twice or
    /// taken in twice, no workload is restarted twice, has two safety points, or goes back twice.
    pub(super) fn intend(&mut self, index: Index, intent: &Intent) -> bool {
        let change = match &intent.want {
            Want::Revision(revision) => {
                let Some(now) = &self.revision else {
                    return false;
                };
                if self.pending().is_some() || revision.number != now.number + 1 {
                    return false;
                }
                // A daemon has to start with every entry that the log has (G11).
                if !revision.spec.timings.out_of_bounds().is_empty() {
                    return false;
                }
                Change::between(&now.spec, &revision.spec)
            }
            Want::Maintenance(new) => {
                let mut others = self.maintenances();
                if others.any(|(_, other)| !other.nodes.is_disjoint(&new.nodes)) {
                    return false;
                }
                Change::default()
            }
            Want::Restart(new) => {
                if self.restart_of(&new.workload).is_some() {
                    return false;
                }
                Change::default()
            }
            Want::SafetyPoint(new) => {
                let of_it = |i: &Intended| match &i.what.want {
                    Want::SafetyPoint(other) => other.workload == new.workload,
                    _ => false,
                };
                if self.intents.values().any(of_it) {
                    return false;
                }
                Change::default()
            }
            Want::GoingBack(new) => {
                let point = self.safety_point_of(&new.workload);
                let is_there = point.is_some_and(|(id, _)| id == new.point);
                if !is_there || self.going_back(&new.workload).is_some() {
                    return false;
                }
                Change::default()
            }
            Want::Enrolment(new) => {
                if self.enrolments().any(|(_, other)| other.node == new.node) {
                    return false;
                }
                Change::default()
            }
        };
        let intended = Intended {
            what: intent.clone(),
            change,
            turned: None,
        };
        self.intents.insert(OperationId(index.0), intended);
        true
    }

    /// The pending revision is in force from here on.
    pub(super) fn adopt(&mut self, index: Index, intent: OperationId) -> Option<Arc<Revision>> {
        let intended = self.intents.get_mut(&intent)?;
        let new = intended.pending()?.clone();
        intended.turned = Some(intended.what.by.clone());
        let old = self.revision.replace(new.clone())?;
        if old.spec.timings != new.spec.timings {
            self.live.insert(index, old.spec.timings.clone());
        }
        self.past.push(Past {
            number: old.number,
            text: old.text.clone(),
            by: old.by.clone(),
            at: old.at,
            why: old.why.clone(),
        });
        let bytes = |past: &[Past]| past.iter().map(|p| p.text.len()).sum::<usize>();
        while self.past.len() > PAST || bytes(&self.past) > PAST_BYTES {
            self.past.remove(0);
        }
        Some(new)
    }

    /// What lasts ends; what is left of it is to bring back what left. A safety point that a
    /// workload goes back to is kept until it has.
    pub(super) fn end(&mut self, intent: OperationId, by: &Author) -> bool {
        if self.goes_back_to(intent).is_some() {
            return false;
        }
        let ends = |i: &&mut Intended| i.lasts();
        let Some(intended) = self.intents.get_mut(&intent).filter(ends) else {
            return false;
        };
        intended.turned = Some(by.clone());
        true
    }

    /// Another invitation of the same node takes the place of the one before.
    pub(super) fn invite(&mut self, index: Index, invitation: &Invitation) -> bool {
        self.invitations
            .retain(|_, other| other.node != invitation.node);
        while self.invitations.len() >= INVITATIONS {
            self.invitations.pop_first();
        }
        let invitation = invitation.clone();
        self.invitations.insert(OperationId(index.0), invitation);
        true
    }

    /// A node that leaves is invited no more: its line would get another host what all nodes have (M1).
    pub(super) fn uninvite(&mut self, node: &NodeId) {
        self.invitations.retain(|_, other| other.node != *node);
    }

    /// Once, and by one key, which was nobody's that has left (M1). Whose name it takes.
    pub(super) fn join(&mut self, invitation: OperationId, key: &str) -> Option<NodeId> {
        if self.gone.keys.contains_key(key) {
            return None;
        }
        let unused = |i: &&mut Invitation| i.used.is_none();
        let found = self.invitations.get_mut(&invitation).filter(unused)?;
        found.used = Some(key.into());
        Some(found.node.clone())
    }

    /// These keys of a node speak for nobody from that entry on.
    pub(super) fn part(&mut self, since: Index, node: &NodeId, keys: Vec<String>) {
        if keys.is_empty() {
            return;
        }
        let spec = self.revision.as_ref().map(|revision| &revision.spec);
        let Some(spec) = spec.and_then(|spec| spec.nodes.get(node)) else {
            return;
        };
        let (node, peer) = (node.clone(), spec.peer);
        self.gone.add(keys, &Gone { node, since, peer });
    }

    /// The name is in the spec once more: whoever has its keys speaks for it again.
    pub(super) fn come_back(&mut self, at: Index, node: &NodeId) -> Vec<String> {
        let back = self.gone.keys.extract_if(.., |_, gone| gone.node == *node);
        let back: Vec<String> = back.map(|(key, _)| key).collect();
        if !back.is_empty() {
            self.gone.at = at;
        }
        back
    }

    pub(super) fn close(&mut self, intent: OperationId, outcome: &Outcome) -> bool {
        let Some(intended) = self.intents.remove(&intent) else {
            return false;
        };
        let over = Over {
            title: intended.what.want.title(),
            by: intended.what.by,
            at: intended.what.at,
            why: intended.what.why,
            outcome: outcome.clone(),
        };
        self.over.insert(intent, over);
        while self.over.len() > REMEMBERED {
            self.over.pop_first();
        }
        true
    }

    /// Whether the spec in force has this replica, or whatever `has` asks it for; yes where none is
    /// in the log yet.
    pub(super) fn names(&self, has: impl FnOnce(&Spec) -> bool) -> bool {
        self.revision.as_ref().is_none_or(|r| has(&r.spec))
    }
}
