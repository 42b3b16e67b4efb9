//! Elections: sounding out (pre-vote), votes, and who may have one.

use super::{Consensus, Durable, Leader, LogId, Order, Progress, Role, Talk};
use crate::command::Command;
use crate::ids::{NodeId, Term};
use crate::planted::Planted;
use crate::time::Time;
use std::collections::{BTreeMap, BTreeSet};

impl Consensus {
    /// Asks whether a campaign would win, so that a node that was cut off does not depose a healthy
    /// leader.
    pub(super) fn sound_out(&mut self, now: Time, chance: f64) {
        self.leader = None;
        self.kept = self.pace.election_timeout;
        self.put_off_campaign(now, chance);
        self.role = Role::Sounding {
            yes: BTreeSet::from([self.me.clone()]),
        };
        self.send_voters(Talk::PreVote {
            term: self.term.next(),
            last: self.log.last(),
        });
        self.campaign_if_backed(now, chance);
    }

    fn send_voters(&mut self, talk: Talk) {
        for voter in self.voters.all().into_iter().filter(|v| **v != self.me) {
            self.orders.push(Order::Send(voter.clone(), talk.clone()));
        }
    }

    /// Whether this node still keeps faith with a leader, or with a promise that it may have
    /// forgotten (A1).
    fn is_faithful(&self, now: Time) -> bool {
        let promised = self.promised.is_some_and(|(_, until)| now < until);
        now < self.quiet_until || promised || self.is_leader()
    }

    /// Whether the leader of the term before `term` has freed this node of what it promised: it
    /// promised that leader, or one whose promises were over when that one was elected. What it
    /// promised before its start it promised in a term that it knows (V5).
    fn is_freed(&self, term: Term) -> bool {
        let later = |(to, _): (Term, Time)| to.next() > term;
        self.term <= term && !self.is_leader() && !self.promised.is_some_and(later)
    }

    pub(super) fn on_would_you_vote(&mut self, from: &NodeId, term: Term, last: LogId, now: Time) {
        let yes =
            self.counts && term > self.term && last >= self.log.last() && !self.is_faithful(now);
        let own = if self.planted == Some(Planted::RefuseWithoutTerm) {
            Term(0)
        } else {
            self.term
        };
        self.orders.push(Order::Send(
            from.clone(),
            Talk::PreVoteReply { term, yes, own },
        ));
    }

    pub(super) fn on_would(
        &mut self,
        from: &NodeId,
        term: Term,
        agreed: bool,
        own: Term,
        now: Time,
        chance: f64,
    ) {
        if own > self.term {
            // It may have the newer log of the two, and the other one would refuse its lower term
            // for ever (F4).
            self.follow(own, now, chance, None);
        } else if let Role::Sounding { yes } = &mut self.role
            && agreed
            && term == self.term.next()
        {
            yes.insert(from.clone());
            self.campaign_if_backed(now, chance);
        }
    }

    fn campaign_if_backed(&mut self, now: Time, chance: f64) {
        if let Role::Sounding { yes } = &self.role
            && self.voters.is_majority(yes)
        {
            self.campaign(false, now, chance);
        }
    }

    pub(super) fn campaign(&mut self, handed: bool, now: Time, chance: f64) {
        let term = self.term.next();
        self.put_off_campaign(now, chance);
        self.term = term;
        self.vote = Some(self.me.clone());
        self.role = Role::Candidate {
            votes: BTreeMap::new(),
        };
        // A5: the vote for oneself is durable before any request leaves.
        self.orders.push(Order::Persist(Durable::Vote {
            term,
            vote: self.vote.clone(),
        }));
        self.send_voters(Talk::RequestVote {
            term,
            last: self.log.last(),
            handed,
        });
    }

    pub(super) fn on_vote(
        &mut self,
        from: &NodeId,
        term: Term,
        last: LogId,
        handed: bool,
        now: Time,
        chance: f64,
    ) {
        let faithful = self.is_faithful(now) && !(handed && self.is_freed(term));
        if !self.counts || faithful || term < self.term {
            let silent = self.planted == Some(Planted::RefuseWithoutTerm);
            let term = if silent { term } else { term.max(self.term) };
            self.orders.push(Order::Send(
                from.clone(),
                Talk::RequestVoteReply { term, yes: false },
            ));
            return;
        }
        if term > self.term {
            self.follow(term, now, chance, None);
        }
        let free = self.vote.as_ref().is_none_or(|v| v == from);
        let yes = free && last >= self.log.last();
        if yes && self.vote.is_none() {
            self.vote = Some(from.clone());
            self.orders.push(Order::Persist(Durable::Vote {
                term,
                vote: self.vote.clone(),
            }));
            self.put_off_campaign(now, chance);
        }
        self.orders.push(Order::Send(
            from.clone(),
            Talk::RequestVoteReply { term, yes },
        ));
    }

    pub(super) fn on_voted(
        &mut self,
        from: &NodeId,
        term: Term,
        yes: bool,
        now: Time,
        chance: f64,
    ) {
        if term > self.term {
            self.follow(term, now, chance, None);
        } else if let Role::Candidate { votes } = &mut self.role
            && term == self.term
        {
            votes.insert(from.clone(), yes);
            self.count_votes(now);
        }
    }

    /// Takes the lead if a majority said yes, the own durable vote included.
    pub(super) fn count_votes(&mut self, now: Time) {
        let Role::Candidate { votes } = &self.role else {
            return;
        };
        let mut votes = votes.clone();
        if self.vote_stable == self.term {
            votes.insert(self.me.clone(), true);
        }
        if !self
            .voters
            .is_majority(votes.iter().filter(|(_, yes)| **yes).map(|(n, _)| n))
        {
            return;
        }
        let next = self.log.last().index.next();
        let others = self.others();
        let followers = others
            .into_iter()
            .map(|m| (m, Progress::new(next, now)))
            .collect();
        self.role = Role::Leader(Leader {
            elected_at: now,
            first: next,
            followers,
            beat_due: now,
            paces: Vec::new(),
            hands_over: None,
        });
        self.leader = Some(self.me.clone());
        self.orders.push(Order::Elected {
            term: self.term,
            votes,
        });
        self.propose(vec![Command::Noop], now);
    }
}
