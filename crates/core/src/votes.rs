//! Weighted votes: a majority is `2 * granted > total`.

use crate::ids::NodeId;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Who votes, and with what weight. Members with weight zero replicate the log and have no say.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Votes {
    weights: BTreeMap<NodeId, u32>,
}

impl Votes {
    pub fn new(weights: impl IntoIterator<Item = (NodeId, u32)>) -> Self {
        Self {
            weights: weights.into_iter().filter(|(_, w)| *w > 0).collect(),
        }
    }

    pub fn total(&self) -> u32 {
        self.weights.values().sum()
    }

    /// The smallest number of votes that is a majority.
    pub fn needed(&self) -> u32 {
        self.total() / 2 + 1
    }

    pub fn weight(&self, node: &NodeId) -> u32 {
        self.weights.get(node).copied().unwrap_or(0)
    }

    pub fn iter(&self) -> impl Iterator<Item = (&NodeId, u32)> {
        self.weights.iter().map(|(node, weight)| (node, *weight))
    }

    pub fn voters(&self) -> impl Iterator<Item = &NodeId> {
        self.weights.keys()
    }

    pub fn granted<'a>(&self, by: impl IntoIterator<Item = &'a NodeId>) -> u32 {
        by.into_iter().map(|n| self.weight(n)).sum()
    }

    pub fn is_majority<'a>(&self, by: impl IntoIterator<Item = &'a NodeId>) -> bool {
        2 * self.granted(by) > self.total()
    }

    /// The largest value that a majority of votes has reached: the commit index of match indexes,
    /// or the moment up to which a majority has acknowledged a leader.
    pub fn reached<T: Ord + Copy>(&self, mut value_of: impl FnMut(&NodeId) -> T) -> Option<T> {
        let mut values: Vec<(T, u32)> = self
            .weights
            .iter()
            .map(|(n, w)| (value_of(n), *w))
            .collect();
        values.sort_unstable_by_key(|(value, _)| std::cmp::Reverse(*value));
        let total: u32 = values.iter().map(|(_, weight)| weight).sum();
        let mut sum = 0;
        for (value, weight) in values {
            sum += weight;
            if 2 * sum > total {
                return Some(value);
            }
        }
        None
    }
}

/// Who votes now, and while that changes who will: then both have to agree, each by a majority of
/// its own (Raft dissertation, section 4.3).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Voters {
    pub now: Votes,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<Votes>,
}

impl From<Votes> for Voters {
    fn from(now: Votes) -> Self {
        Self { now, next: None }
    }
}

impl Voters {
    /// The two halves of a change, or the one that counts.
    pub fn halves(&self) -> impl Iterator<Item = &Votes> {
        std::iter::once(&self.now).chain(&self.next)
    }

    pub fn is_joint(&self) -> bool {
        self.next.is_some()
    }

    /// In the half where it has more.
    pub fn weight(&self, node: &NodeId) -> u32 {
        self.halves().map(|v| v.weight(node)).max().unwrap_or(0)
    }

    /// Whoever has a say in either half.
    pub fn all(&self) -> BTreeSet<&NodeId> {
        self.halves().flat_map(Votes::voters).collect()
    }

    pub fn is_majority<'a>(&self, by: impl IntoIterator<Item = &'a NodeId>) -> bool {
        let by: Vec<&NodeId> = by.into_iter().collect();
        self.halves().all(|v| v.is_majority(by.iter().copied()))
    }

    /// The largest value that a majority of each half has reached.
    pub fn reached<T: Ord + Copy>(&self, value_of: impl Fn(&NodeId) -> T) -> Option<T> {
        let mut least = None;
        for half in self.halves() {
            let reached = half.reached(&value_of)?;
            least = Some(least.map_or(reached, |l: T| l.min(reached)));
        }
        least
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Two majorities always share a voter (the ground under S1 and S2), whatever the weights.
        #[test]
        fn majorities_intersect(weights in prop::collection::vec(0u32..4, 1..7), a in any::<u8>(), b in any::<u8>()) {
            let names: Vec<NodeId> = (0..weights.len()).map(|i| NodeId::from(format!("n{i}"))).collect();
            let votes = Votes::new(names.iter().cloned().zip(weights));
            let pick = |mask: u8| names.iter().enumerate().filter(move |(i, _)| mask >> i & 1 == 1).map(|(_, n)| n);
            if votes.is_majority(pick(a)) && votes.is_majority(pick(b)) {
                prop_assert!(pick(a & b).any(|n| votes.weight(n) > 0));
            }
        }

        /// `reached` is what counting by hand gives.
        #[test]
        fn reached_is_a_majority_value(marks in prop::collection::vec((1u32..4, 0u64..9), 1..7)) {
            let names: Vec<NodeId> = (0..marks.len()).map(|i| NodeId::from(format!("n{i}"))).collect();
            let votes = Votes::new(names.iter().cloned().zip(marks.iter().map(|m| m.0)));
            let mark = |n: &NodeId| marks[names.iter().position(|m| m == n).unwrap()].1;
            let at = votes.reached(mark).unwrap();
            let holders = |v: u64| names.iter().filter(move |n| mark(n) >= v);
            prop_assert!(votes.is_majority(holders(at)));
            prop_assert!(!votes.is_majority(holders(at + 1)));
        }
    }
}
