//! Whom else to heed (V7). Who votes changes while a node is away, and the entries that say so come
//! from somebody who has a vote only since then, or whom its spec does not even name. Consensus from
//! a node without a vote is heeded where another member says, of a later entry than is here, that it
//! votes. Nobody speaks for itself.

use super::{Effect, Node};
use crate::ids::{Index, NodeId};
use crate::message::Message;
use crate::planted::Planted;
use std::collections::BTreeMap;
use std::net::SocketAddr;

/// What each member says who votes, and by which entry.
#[derive(Debug, Default)]
pub(super) struct Vouched {
    by: BTreeMap<NodeId, (Index, Vec<(NodeId, SocketAddr)>)>,
    /// Those of them that the spec here does not name.
    reached: BTreeMap<NodeId, SocketAddr>,
}

impl Vouched {
    /// No cluster has as many voters, even while they change.
    pub(super) const MOST: usize = 64;
    /// Beats of a member from one word to the next.
    const EVERY: u64 = 10;
}

impl Node {
    /// Tells a member that has an older entry about the votes who votes now: with its first beat, and
    /// now and then, as everybody does and it may be told by a thousand.
    pub(super) fn vouch_to(&mut self, member: &NodeId, beat: u64, has: Index) {
        let charter = &self.state.charter;
        let due = beat % Vouched::EVERY == 1 && has < charter.voters_at;
        let Some(voters) = charter.voters.as_ref().filter(|_| due) else {
            return;
        };
        let address = |n: &NodeId| Some((n.clone(), self.spec.nodes.get(n)?.peer));
        let vouch = Message::Vouch {
            at: charter.voters_at,
            voters: voters
                .all()
                .into_iter()
                .filter_map(address)
                .take(Vouched::MOST)
                .collect(),
        };
        self.send(member.clone(), vouch);
    }

    pub(super) fn note_vouched(
        &mut self,
        by: &NodeId,
        at: Index,
        voters: Vec<(NodeId, SocketAddr)>,
    ) {
        self.vouched.by.insert(by.clone(), (at, voters));
        self.reach_vouched();
    }

    /// What the log here says by now counts for more than anybody's word; where somebody is that the
    /// spec here does not name yet, it does not say.
    pub(super) fn reach_vouched(&mut self) {
        let own = self.consensus.voters_at();
        let (spec, voters) = (&self.spec, self.consensus.voters());
        let is_new = |node: &NodeId| !spec.nodes.contains_key(node) && voters.weight(node) > 0;
        self.vouched.by.retain(|by, (at, named)| {
            let says_more = *at > own || named.iter().any(|(node, _)| is_new(node));
            spec.nodes.contains_key(by) && says_more
        });
        let named = self.vouched.by.values().flat_map(|(_, named)| named);
        let strangers: BTreeMap<NodeId, SocketAddr> = named
            .filter(|(node, _)| !spec.nodes.contains_key(node) && self.is_heeded(node))
            .cloned()
            .collect();
        if self.vouched.reached != strangers {
            self.vouched.reached = strangers.clone();
            self.outbox.emit_now(Effect::Reach { strangers });
        }
    }

    /// Whether consensus is taken from a node: it votes, as the log here says, or as another member
    /// says of a later entry. While a majority of those who vote here is heard only their word counts
    /// for that: keys without a vote make nobody a coordinator, however many they are.
    pub(super) fn is_heeded(&self, node: &NodeId) -> bool {
        let (own, voters) = (self.consensus.voters_at(), self.voters());
        if voters.weight(node) > 0 {
            return true;
        }
        let alone = self.planted == Some(Planted::VouchesForItself);
        let is_heard = |n: &&NodeId| **n == self.me || !self.health.is_suspected(n, self.now);
        let all = voters.all();
        let lost = !voters.is_majority(all.into_iter().filter(is_heard));
        self.vouched.by.iter().any(|(by, (at, named))| {
            let counts = alone || (by != node && (lost || voters.weight(by) > 0));
            *at > own && counts && named.iter().any(|(named, _)| named == node)
        })
    }
}
