//! What the log says of one node besides its workloads: its hardware, whether it is fenced, its
//! store, its power.

use crate::author::Author;
use crate::command::NodeAct;
use crate::ids::{BootId, Index, StoreId};
use crate::spec::After;
use serde::{Deserialize, Serialize};

/// A node that may hold nothing until it is readmitted (S6).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fenced {
    /// The entry that fenced it: what permits the power device's use (C7).
    pub id: Index,
    /// The start of the host that was fenced, where it was known.
    pub boot: Option<BootId>,
    pub why: String,
    pub by: Author,
    /// Its power was read as off after the entry was committed.
    pub off: bool,
    /// What becomes of it then.
    pub after: After,
}

/// What the log says of a node besides its workloads.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodeState {
    /// The hardware's UUID as the host reported it: a power device must name the same one (C7).
    pub system: Option<String>,
    pub fenced: Option<Fenced>,
    /// The node store that the others took in last (A6); none for one that formed the cluster.
    pub enrolled: Option<StoreId>,
    /// The entry that asks for its power to be turned on, until that was read.
    pub turn_on: Option<Index>,
    /// The keys that it has shown, the newest last.
    #[serde(default)]
    pub keys: Vec<String>,
}

/// The oldest of a node's keys go: their certificates have long ended.
const KEYS: usize = 16;

impl NodeState {
    /// Applies what was decided by the entry of that index; returns whether it changed anything.
    pub(super) fn apply(&mut self, index: Index, act: &NodeAct) -> bool {
        match act {
            NodeAct::Fence {
                boot,
                why,
                by,
                after,
            } => {
                let fences = self.fenced.is_none();
                if fences {
                    let (boot, why, by, after) = (boot.clone(), why.clone(), by.clone(), *after);
                    self.fenced = Some(Fenced {
                        id: index,
                        boot,
                        why,
                        by,
                        off: false,
                        after,
                    });
                    self.turn_on = None;
                }
                fences
            }
            NodeAct::PowerOff { fence } => {
                let Some(fenced) = self.fenced.as_mut().filter(|f| f.id == *fence) else {
                    return false;
                };
                fenced.off = true;
                if fenced.after == After::On {
                    self.turn_on = Some(index);
                }
                true
            }
            NodeAct::TurnOn { .. } => {
                self.turn_on = Some(index);
                true
            }
            NodeAct::TurnedOn { asked } => self.turn_on.take_if(|at| at == asked).is_some(),
            NodeAct::Readmit { fence, .. } => {
                self.fenced.take_if(|fenced| fenced.id == *fence).is_some()
            }
            NodeAct::Enrol { store, .. } => {
                self.enrolled = Some(store.clone());
                true
            }
            NodeAct::System { system } => {
                self.system = Some(system.clone());
                true
            }
            NodeAct::Key { key } => self.shows(key),
        }
    }

    /// From here on that key is the node's newest.
    pub(super) fn shows(&mut self, key: &str) -> bool {
        if self.keys.last().is_some_and(|newest| newest == key) {
            return false;
        }
        self.keys.retain(|known| known != key);
        self.keys.push(key.into());
        let late = self.keys.len().saturating_sub(KEYS);
        self.keys.drain(..late);
        true
    }
}
