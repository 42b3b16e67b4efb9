//! Who votes follows what is wanted: over both halves (V2), when whoever gains a vote is ready for it
//! (V3), and by a coordinator that has a vote afterwards.

use super::{Scene, enrolling};
use crate::author::Author;
use crate::command::{ClusterAct, Command, NodeAct};
use crate::ids::NodeId;
use crate::planted::Planted;
use crate::votes::{Voters, Votes};
use std::collections::BTreeSet;

/// What brings the voters nearer to those that are wanted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// They are who they are wanted to be.
    Done,
    Propose(Box<Command>),
    /// Somebody else has to coordinate first.
    HandOver(NodeId),
    Waits(String),
}

impl Scene<'_> {
    fn voters(&self) -> Voters {
        let logged = self.state.charter.voters.clone();
        logged.unwrap_or_else(|| self.spec.votes().into())
    }

    /// Who is to vote: whom the spec names, without those that are to leave it, and as a maintenance
    /// says while it lasts.
    pub(crate) fn wanted_votes(&self) -> Votes {
        let charter = &self.state.charter;
        let mut wanted = self.spec.votes();
        // The newest was computed over all that rested by then (G5).
        for (_, maintenance) in charter.maintenances() {
            if let Some(votes) = &maintenance.votes {
                wanted = votes.clone();
            }
        }
        if let Some((id, _)) = charter.pending() {
            let out = &charter.intents[&id].change.nodes_out;
            let stay = wanted.iter().filter(|(n, _)| !out.contains(*n));
            wanted = Votes::new(stay.map(|(n, w)| (n.clone(), w)));
        }
        // Whose store is to be replaced has none until it is (V6).
        let waits = |n: &NodeId| {
            let mut all = charter.enrolments();
            all.any(|(_, e)| e.node == *n && !enrolling::is_taken_in(self, e))
        };
        if wanted.voters().any(waits) {
            let others = wanted.iter().filter(|(n, _)| !waits(n));
            wanted = Votes::new(others.map(|(n, w)| (n.clone(), w)));
        }
        // Inside nobody gains a vote (K1).
        let now = self.voters().now;
        let allowed = |n: &NodeId, weight: u32| {
            if self.leaving.node(n) {
                weight.min(now.weight(n))
            } else {
                weight
            }
        };
        Votes::new(wanted.iter().map(|(n, w)| (n.clone(), allowed(n, w))))
    }

    /// Why nodes that rest cannot all be switched off, `also` among them: with these votes no majority
    /// outside would be heard (G5).
    pub(crate) fn lacks_majority_without(
        &self,
        also: &BTreeSet<NodeId>,
        votes: &Votes,
    ) -> Option<String> {
        let alone = self.breaks(Planted::RestsAlone);
        let rests = |n: &NodeId| also.contains(n) || (self.leaving.node(n) && !alone);
        let counts = |n: &NodeId| {
            let said = self.reports.get(n).is_some_and(|h| h.report.counts);
            if n == self.me {
                self.consensus.counts()
            } else {
                said && self.is_up(n)
            }
        };
        let outside = || votes.voters().filter(|n| !rests(n));
        let heard: Vec<&NodeId> = outside().filter(|n| counts(n) || alone).collect();
        if votes.is_majority(heard.iter().copied()) {
            return None;
        }
        let votes_heard: u32 = heard.iter().map(|n| votes.weight(n)).sum();
        let silent = outside().filter(|n| !heard.contains(n));
        let silent: Vec<&str> = silent.map(NodeId::as_str).collect();
        let silent = match silent.as_slice() {
            [] => String::new(),
            names => format!(" (not heard: {})", names.join(", ")),
        };
        Some(format!(
            "{votes_heard} of {} votes are heard outside{silent}, and {} are needed",
            votes.total(),
            votes.needed()
        ))
    }

    /// The same for all that rests now, by the votes of now.
    pub(crate) fn obstacle_to_switching_off(&self, nodes: &BTreeSet<NodeId>) -> Option<String> {
        let voters = self.voters();
        let halves = [Some(&voters.now), voters.next.as_ref()];
        let mut halves = halves.into_iter().flatten();
        halves.find_map(|votes| self.lacks_majority_without(nodes, votes))
    }

    pub(crate) fn next_of_votes(&self) -> Step {
        let (voters, wanted) = (self.voters(), self.wanted_votes());
        let propose = |voters| {
            let voters = Command::Cluster(ClusterAct::Voters(voters));
            Step::Propose(Box::new(voters))
        };
        let final_votes = voters.next.as_ref().unwrap_or(&wanted);
        if voters.next.is_none() && voters.now == wanted {
            return Step::Done;
        }
        if wanted.total() == 0 {
            return Step::Waits("nobody would have a vote".into());
        }
        if final_votes.weight(self.me) == 0 {
            return self.hand_over_to(final_votes);
        }
        if let Some(next) = voters.next {
            return propose(next.into());
        }
        let gains = |n: &&NodeId| voters.now.weight(n) < wanted.weight(n);
        let careless = self.breaks(Planted::VoteUnready);
        for node in wanted.voters().filter(gains).filter(|_| !careless) {
            if let Some(step) = self.readied(node) {
                return step;
            }
        }
        let counts = |n: &NodeId| self.reports.get(n).is_some_and(|h| h.report.counts);
        let well = |n: &&NodeId| *n == self.me || (self.is_up(n) && counts(n));
        if !wanted.is_majority(wanted.voters().filter(well)) && !careless {
            return Step::Waits("no majority of those who would vote is heard".into());
        }
        propose(Voters {
            now: voters.now,
            next: Some(wanted),
        })
    }

    /// What has to be done first where a node gains a vote, if anything: it is heard, its store
    /// counts, and it has everything (V3).
    fn readied(&self, node: &NodeId) -> Option<Step> {
        if !self.is_up(node) {
            return Some(Step::Waits(format!("{node} is not heard")));
        }
        let report = &self.reports.get(node)?.report;
        if !report.counts {
            let Some(store) = report.store.clone() else {
                return Some(Step::Waits(format!(
                    "{node} has not said which store it has"
                )));
            };
            // It has had no vote, and so nothing that it said ever counted (V6).
            let known = self.state.nodes.get(node).and_then(|n| n.enrolled.as_ref());
            if self.voters().weight(node) == 0 && known != Some(&store) {
                let by = Author::Cluster;
                let act = NodeAct::Enrol { store, by };
                return Some(Step::Propose(Box::new(Command::Node(node.clone(), act))));
            }
            return Some(Step::Waits(format!("{node}'s store does not count yet")));
        }
        let ready = self.consensus.has_all(node);
        (!ready).then(|| Step::Waits(format!("{node} has not all of the log yet")))
    }

    fn hand_over_to(&self, voters: &Votes) -> Step {
        let fits = |n: &&NodeId| {
            *n != self.me && self.is_up(n) && self.consensus.has_all(n) && !self.leaving.node(n)
        };
        let now = self.voters();
        let all = voters.voters().filter(fits);
        // Whoever takes over needs a vote in what counts now.
        match all
            .filter(|n| now.weight(n) > 0)
            .max_by_key(|n| voters.weight(n))
        {
            Some(to) => Step::HandOver(to.clone()),
            None => Step::Waits(format!(
                "nobody else can coordinate in place of {}",
                self.me
            )),
        }
    }

    /// Somebody outside is to coordinate where this node is in maintenance.
    pub(crate) fn leaves_lead(&self) -> Option<Step> {
        let inside = self.leaving.node(self.me);
        inside.then(|| self.hand_over_to(&self.voters().now))
    }
}
