//! The replicated log with leader election, after the Raft paper (Ongaro and Ousterhout 2014) and dissertation:
//! pre-vote, leader stickiness, and a leadership lease. The leader is called the coordinator.
//!
//! Invariants kept here:
//! 1. At most one leader per term (S1): a vote is durable before it is sent, and a node campaigns once per term (A5).
//! 2. A committed entry is never lost, changed or reordered (S2): only entries of the leader's own term are counted,
//!    a follower's reply leaves after its entries are durable, and the leader counts itself only up to what is durable.
//! 3. After a start a node neither votes nor campaigns until its earlier promise has run out (A1).
//! 4. A leader without acknowledgements of a majority for one window falls silent (A3).
//! 5. A snapshot stands only for committed entries, and replaces nothing that it does not stand for.

mod elect;
mod log;
mod replicate;
mod snapshot;

pub use log::{Entry, Log};
pub use snapshot::Snapshot;

use crate::ids::{Index, NodeId, Term};
use crate::state::Command;
use crate::time::{Time, shortened};
use crate::votes::Votes;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

/// What consensus peers say to each other.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Talk {
    /// "Would you vote for me in `term`?" Changes nothing at either side.
    WouldYouVote {
        term: Term,
        last: (Term, Index),
    },
    Would {
        term: Term,
        yes: bool,
    },
    /// "Vote for me."
    Vote {
        term: Term,
        last: (Term, Index),
    },
    Voted {
        term: Term,
        yes: bool,
    },
    /// Entries after `prev`, or none; `sent` is the leader's clock and comes back in the answer.
    Append {
        term: Term,
        prev: (Term, Index),
        entries: Vec<Entry>,
        commit: Index,
        sent: Time,
        /// It has entries, or more of them are committed than the one before said.
        news: bool,
    },
    /// `matched` is the last index known equal to the leader's, or the refusal's hint where to look next.
    Appended {
        term: Term,
        matched: Result<Index, Index>,
        sent: Time,
        /// It answers news.
        news: bool,
    },
    /// For a follower that lacks entries which the leader has only as a snapshot; answered as `Append` is.
    Install {
        term: Term,
        snapshot: Box<Snapshot>,
        sent: Time,
    },
}

/// What has to be made durable, in order.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Durable {
    /// The term and the vote cast in it.
    Vote { term: Term, vote: Option<NodeId> },
    /// These entries at their indexes, and nothing after them.
    Entries(Vec<Entry>),
    /// In the place of the entries that it stands for; those after them stay.
    Compacted(Box<Snapshot>),
    /// In the place of the whole log.
    Installed(Box<Snapshot>),
}

impl Durable {
    /// What [`Consensus::on_stable`] is told once this is durable: up to which entry, and for which term the vote.
    pub fn reached(&self) -> ((Term, Index), Term) {
        match self {
            Durable::Vote { term, vote } => (Default::default(), if vote.is_some() { *term } else { Term(0) }),
            Durable::Entries(entries) => (entries.last().map_or(Default::default(), |e| (e.term, e.index)), Term(0)),
            Durable::Compacted(snapshot) | Durable::Installed(snapshot) => (snapshot.last, Term(0)),
        }
    }
}

/// What consensus wants done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Order {
    /// Store this; everything ordered later waits for it.
    Persist(Durable),
    Send(NodeId, Talk),
    /// A leader's snapshot took the place of this log, which was committed only up to `from`.
    Installed {
        from: Index,
        to: Index,
    },
    /// Became leader: who voted how.
    Elected {
        term: Term,
        votes: BTreeMap<NodeId, bool>,
    },
    /// Stopped being leader, and why.
    SteppedDown {
        term: Term,
        why: &'static str,
    },
    /// A follower fell below what it had acknowledged: its store regressed (A6).
    Regressed {
        node: NodeId,
        acknowledged: Index,
        found: Index,
    },
}

/// How one follower is coming along.
#[derive(Clone, Debug)]
struct Progress {
    next: Index,
    matched: Index,
    /// When the acknowledgement of `matched` arrived; a message sent later finds at least that there (A6).
    matched_at: Time,
    /// The send time (leader's clock) of the newest message it answered; zero before the first.
    heard_at: Time,
    /// How much is committed, as it was told last.
    told: Index,
    expelled: bool,
}

#[derive(Clone, Debug)]
enum Role {
    Follower,
    /// Asking whether a campaign would win.
    Sounding {
        yes: BTreeSet<NodeId>,
    },
    Candidate {
        votes: BTreeMap<NodeId, bool>,
    },
    Leader(Leader),
}

#[derive(Clone, Debug)]
struct Leader {
    elected_at: Time,
    /// The first entry of its own term; nothing is granted before it is applied (A2).
    first: Index,
    followers: BTreeMap<NodeId, Progress>,
    beat_due: Time,
}

/// The intervals that consensus uses.
#[derive(Clone, Copy, Debug)]
pub struct Pace {
    pub heartbeat: Duration,
    pub stickiness: Duration,
    pub election_spread: Duration,
}

/// What the node store held at start.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Stored {
    pub term: Term,
    pub vote: Option<NodeId>,
    pub snapshot: Option<Snapshot>,
    /// After the snapshot.
    pub entries: Vec<Entry>,
}

impl Stored {
    /// Takes what became durable, as every node store has to.
    pub fn take(&mut self, durable: Durable) {
        match durable {
            Durable::Vote { term, vote } => (self.term, self.vote) = (term, vote),
            Durable::Entries(entries) => {
                let first = entries.first().map_or(Index(u64::MAX), |e| e.index);
                self.entries.retain(|e| e.index < first);
                self.entries.extend(entries);
            }
            Durable::Compacted(snapshot) => {
                self.entries.retain(|e| e.index > snapshot.last.1);
                self.snapshot = Some(*snapshot);
            }
            Durable::Installed(snapshot) => {
                self.entries.clear();
                self.snapshot = Some(*snapshot);
            }
        }
    }
}

/// One member's part in the consensus.
#[derive(Clone, Debug)]
pub struct Consensus {
    me: NodeId,
    members: BTreeSet<NodeId>,
    votes: Votes,
    pace: Pace,
    term: Term,
    vote: Option<NodeId>,
    log: Log,
    /// What the log's base stands for.
    snapshot: Option<Snapshot>,
    commit: Index,
    role: Role,
    leader: Option<NodeId>,
    heard_leader: Option<Time>,
    /// Since this run began, everything was here that was committed at some moment of it.
    current: bool,
    /// No vote and no campaign before this (A1).
    quiet_until: Time,
    /// When to campaign next if no leader is heard.
    campaign_at: Time,
    orders: Vec<Order>,
    /// Entries up to here are durable on this node.
    stable: Index,
    /// The vote for oneself in this term is durable.
    vote_stable: Term,
}

impl Consensus {
    #[expect(clippy::too_many_arguments, reason = "each is one fact of the start")]
    pub fn new(
        me: NodeId, members: BTreeSet<NodeId>, votes: Votes, pace: Pace, stored: Stored, now: Time, quiet: Duration,
        chance: f64,
    ) -> Self {
        let log = Log::new(stored.snapshot.as_ref().map_or_else(Default::default, |s| s.last), stored.entries);
        Self {
            me,
            members,
            votes,
            pace,
            term: stored.term,
            vote: stored.vote,
            commit: log.base().1,
            snapshot: stored.snapshot,
            stable: log.last().1,
            vote_stable: stored.term,
            log,
            role: Role::Follower,
            leader: None,
            heard_leader: None,
            current: false,
            quiet_until: now + quiet,
            // Hosts that start together do not campaign together.
            campaign_at: now + quiet + pace.election_spread.mul_f64(chance),
            orders: Vec::new(),
        }
    }

    pub fn term(&self) -> Term {
        self.term
    }
    pub fn commit(&self) -> Index {
        self.commit
    }
    /// Whether what is committed here is what was committed at some moment since the start. Until then it may be as old as
    /// the host was away, and whoever acts on it acts on a cluster that is no more.
    pub fn is_current(&self) -> bool {
        self.current || self.is_established()
    }
    pub fn log(&self) -> &Log {
        &self.log
    }
    pub fn votes(&self) -> &Votes {
        &self.votes
    }
    pub fn is_leader(&self) -> bool {
        matches!(self.role, Role::Leader(_))
    }
    pub fn leader(&self) -> Option<&NodeId> {
        if self.is_leader() { Some(&self.me) } else { self.leader.as_ref() }
    }
    pub fn elected_at(&self) -> Option<Time> {
        self.as_leader().map(|l| l.elected_at)
    }
    /// Whether the first entry of the own term is committed (A2).
    pub fn is_established(&self) -> bool {
        self.as_leader().is_some_and(|l| self.commit >= l.first)
    }
    pub fn take_orders(&mut self) -> Vec<Order> {
        std::mem::take(&mut self.orders)
    }

    fn as_leader(&self) -> Option<&Leader> {
        match &self.role {
            Role::Leader(leader) => Some(leader),
            _ => None,
        }
    }

    /// Until when no other leader can have been elected: a majority promised, counted from when the acknowledged
    /// message was sent.
    pub fn leadership_until(&self, now: Time) -> Option<Time> {
        let leader = self.as_leader()?;
        let heard = |n: &NodeId| if *n == self.me { now } else { leader.followers[n].heard_at };
        Some(self.votes.reached(heard)? + shortened(self.pace.stickiness))
    }

    /// When this leader gives up for want of acknowledgements (A3); a fresh one has a window to collect them.
    fn silent_from(&self, now: Time) -> Option<Time> {
        let fresh = self.as_leader()?.elected_at + self.pace.stickiness;
        Some(self.leadership_until(now)?.max(fresh))
    }

    /// When to call [`Consensus::on_time`] next.
    pub fn next_due(&self, now: Time) -> Time {
        match &self.role {
            Role::Leader(leader) => leader.beat_due.min(self.silent_from(now).unwrap_or(Time(u64::MAX))),
            _ if self.votes.weight(&self.me) == 0 && self.leader.is_none() => Time(u64::MAX),
            _ => self.campaign_at,
        }
    }

    /// Time passed: beat, give up leadership, or campaign. `chance` is 0 up to (not including) 1.
    pub fn on_time(&mut self, now: Time, chance: f64) {
        if let Some(until) = self.silent_from(now) {
            if until <= now {
                self.follow(self.term, now, chance, Some("no acknowledgement from a majority for one window (A3)"));
            } else if self.as_leader().is_some_and(|l| l.beat_due <= now) {
                self.beat(now);
            }
        } else if now >= self.campaign_at && self.votes.weight(&self.me) == 0 {
            // It cannot campaign, but as far as it knows nobody leads any more.
            self.leader = None;
        } else if now >= self.campaign_at && now >= self.quiet_until {
            self.sound_out(now, chance);
        }
    }

    pub fn on_talk(&mut self, from: &NodeId, talk: Talk, now: Time, chance: f64) {
        if !self.members.contains(from) {
            return;
        }
        match talk {
            Talk::WouldYouVote { term, last } => self.on_would_you_vote(from, term, last, now),
            Talk::Would { term, yes } => self.on_would(from, term, yes, now, chance),
            Talk::Vote { term, last } => self.on_vote(from, term, last, now, chance),
            Talk::Voted { term, yes } => self.on_voted(from, term, yes, now, chance),
            Talk::Append { term, prev, entries, commit, sent, news } => {
                self.on_append(from, term, prev, entries, commit, sent, news, now, chance);
            }
            Talk::Appended { term, matched, sent, .. } => self.on_appended(from, term, matched, sent, now, chance),
            Talk::Install { term, snapshot, sent } => self.on_install(from, term, *snapshot, sent, now, chance),
        }
    }

    /// Entries up to `last` (its term and index) and the vote of `term` are durable now.
    pub fn on_stable(&mut self, last: (Term, Index), term: Term, now: Time) {
        if self.log.term_at(last.1) == Some(last.0) {
            self.stable = self.stable.max(last.1);
        }
        self.vote_stable = self.vote_stable.max(term);
        self.advance_commit(now);
        self.count_votes(now);
    }

    /// Appends commands if this node leads; they commit when a majority has them. Returns the last index.
    pub fn propose(&mut self, commands: Vec<Command>, now: Time) -> Option<Index> {
        if !self.is_leader() || commands.is_empty() {
            return None;
        }
        let mut entries = Vec::new();
        for command in commands {
            entries.push(self.log.append(self.term, command));
        }
        self.orders.push(Order::Persist(Durable::Entries(entries)));
        self.replicate(now);
        Some(self.log.last().1)
    }

    fn set_term(&mut self, term: Term) {
        if term > self.term {
            self.term = term;
            self.vote = None;
            self.orders.push(Order::Persist(Durable::Vote { term, vote: None }));
        }
    }

    /// Becomes a follower of `term`; a leader says why it stopped.
    fn follow(&mut self, term: Term, now: Time, chance: f64, why: Option<&'static str>) {
        if self.is_leader() {
            let why = why.unwrap_or("a newer term exists");
            self.orders.push(Order::SteppedDown { term: self.term, why });
            self.leader = None;
        }
        if term > self.term {
            self.leader = None;
        }
        self.set_term(term);
        self.role = Role::Follower;
        self.put_off_campaign(now, chance);
    }

    fn put_off_campaign(&mut self, now: Time, chance: f64) {
        self.campaign_at = now + self.pace.stickiness + self.pace.election_spread.mul_f64(chance);
    }
}
