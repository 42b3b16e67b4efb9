//! Sets of the spec's nodes that fit a datagram at every size: a bit for each node, by its place in
//! the order of names. Whoever says one and whoever takes it have the same spec; they tell each
//! other when they connect.

use crate::ids::NodeId;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Some of the nodes. A place that it does not have is not in it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Members(Vec<u64>);

impl Members {
    /// How many bytes this is at most, as it is sent (RFC 8949, section 3).
    pub fn size(&self) -> usize {
        9 * self.0.len()
    }
}

/// All nodes in the order of their names.
#[derive(Clone, Debug, Default)]
pub struct Ordered(BTreeMap<NodeId, usize>);

impl FromIterator<NodeId> for Ordered {
    fn from_iter<I: IntoIterator<Item = NodeId>>(nodes: I) -> Self {
        let mut names: Vec<NodeId> = nodes.into_iter().collect();
        names.sort();
        Self(
            names
                .into_iter()
                .enumerate()
                .map(|(place, node)| (node, place))
                .collect(),
        )
    }
}

impl Ordered {
    pub fn iter(&self) -> impl Iterator<Item = &NodeId> {
        self.0.keys()
    }

    pub fn contains(&self, node: &NodeId) -> bool {
        self.0.contains_key(node)
    }

    /// Those of which this is so.
    pub fn pick(&self, of: impl Fn(&NodeId) -> bool) -> Members {
        let mut bits = vec![0; self.0.len().div_ceil(64)];
        for (node, place) in &self.0 {
            if of(node) {
                bits[place / 64] |= 1 << (place % 64);
            }
        }
        Members(bits)
    }

    pub fn has(&self, members: &Members, node: &NodeId) -> bool {
        let bit = |place: &usize| {
            members
                .0
                .get(place / 64)
                .is_some_and(|word| word >> (place % 64) & 1 == 1)
        };
        self.0.get(node).is_some_and(bit)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_set_has_whom_it_was_made_of_and_nobody_else() {
        let name = |i: usize| NodeId::from(format!("n{i:03}"));
        let all: Ordered = (0..130).rev().map(name).collect();
        let third = all.pick(|n| n.as_str()[1..].parse::<usize>().is_ok_and(|i| i % 3 == 0));
        for i in 0..130 {
            assert_eq!(all.has(&third, &name(i)), i % 3 == 0, "{i}");
        }
        assert!(!all.has(&third, &"stranger".into()));
        assert!(
            !all.has(&Members::default(), &name(0)),
            "what is not said is not in it"
        );
    }
}
