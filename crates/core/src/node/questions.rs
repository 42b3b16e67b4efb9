//! Questions of people that were passed on to the coordinator.

use crate::author::Author;
use crate::ids::NodeId;
use std::collections::BTreeMap;

/// So many may be under way to the coordinator; the oldest are forgotten, and their askers hear
/// nothing more.
const MOST: usize = 1_000;

/// Who waits for an answer.
#[derive(Clone, Debug)]
pub(super) enum Asker {
    Here(u64),
    Node(NodeId, u64),
}

impl Asker {
    pub fn author(&self, name: String) -> Author {
        let through = match self {
            Asker::Here(_) => None,
            Asker::Node(node, _) => Some(node.clone()),
        };
        Author::Person { name, through }
    }
}

#[derive(Default)]
pub(super) struct Questions {
    /// By number: who was asked, and the ticket of who waits here.
    passed_on: BTreeMap<u64, (NodeId, u64)>,
    last: u64,
}

impl Questions {
    /// Passes one on, under the number that this returns.
    pub fn pass_on(&mut self, to: NodeId, ticket: u64) -> u64 {
        self.last += 1;
        self.passed_on.insert(self.last, (to, ticket));
        while self.passed_on.len() > MOST {
            self.passed_on.pop_first();
        }
        self.last
    }

    /// Whether this node was asked that.
    pub fn was_asked(&self, node: &NodeId, number: u64) -> bool {
        self.passed_on
            .get(&number)
            .is_some_and(|(whom, _)| whom == node)
    }

    /// It was answered: the ticket of who waits for that.
    pub fn answered(&mut self, number: u64) -> Option<u64> {
        self.passed_on.remove(&number).map(|(_, ticket)| ticket)
    }
}
