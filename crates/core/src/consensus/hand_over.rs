//! Hand-over: a leader has another one lead without anybody's waiting for a promise to run out (Raft
//! dissertation, section 3.10, with leases).
//!
//! From its beginning the leader has no lease, and proposes nothing (V5). Once the successor has
//! everything the leader is a follower, and says *take* in the same step; the successor campaigns
//! once, in exactly the next term, and whoever promised the leader of the term before or an earlier
//! one is free for that. A *take* that comes late finds another term, and nothing follows.

use super::{Consensus, Order, Role, Talk};
use crate::ids::{NodeId, Term};
use crate::planted::Planted;
use crate::time::Time;

impl Consensus {
    /// Begins to hand over; if the successor does not get there within half a window, this leader
    /// goes on. Whether it began.
    pub fn hand_over(&mut self, to: &NodeId, now: Time, chance: f64) -> bool {
        let votes = self.voters.weight(to) > 0;
        let until = now + self.pace.election_timeout / 2;
        match &mut self.role {
            Role::Leader(leader) if votes && *to != self.me && leader.hands_over.is_none() => {
                leader.hands_over = Some((to.clone(), until));
            }
            _ => return false,
        }
        self.pass_on_if_ready(now, chance);
        true
    }

    pub(super) fn pass_on_if_ready(&mut self, now: Time, chance: f64) {
        let hands_over = self.as_leader().and_then(|l| l.hands_over.clone());
        let Some((to, _)) = hands_over.filter(|(to, _)| self.has_all(to)) else {
            return;
        };
        let term = self.term;
        if self.planted != Some(Planted::HandOverWithLease) {
            self.follow(term, now, chance, Some("it handed over"));
        }
        self.orders
            .push(Order::Send(to.clone(), Talk::Take { term }));
        self.orders.push(Order::HandedOver { term, to });
    }

    pub(super) fn resume_late(&mut self, now: Time) {
        if let Role::Leader(leader) = &mut self.role {
            leader.hands_over.take_if(|(_, until)| *until <= now);
        }
    }

    /// The leader of this very term has this node lead the next one.
    pub(super) fn on_take(&mut self, from: &NodeId, term: Term, now: Time, chance: f64) {
        let anybody = self.planted == Some(Planted::TakesFromAnybody);
        let from_leader = self.leader.as_ref() == Some(from) || anybody;
        let follows = matches!(self.role, Role::Follower) && from_leader;
        if follows && term == self.term && self.may_campaign() {
            self.campaign(true, now, chance);
        }
    }
}
