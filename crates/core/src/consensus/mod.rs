//! The replicated log with leader election, after the Raft paper (Ongaro and Ousterhout 2014) and
//! dissertation: pre-vote, promises to a leader, and a leadership lease. The leader is called the
//! coordinator.
//!
//! Invariants kept here:
//! 1. At most one leader per term (S1): a vote is durable before it is sent, and a node campaigns
//!    once per term (A5).
//! 2. A committed entry is never lost, changed or reordered (S2): only entries of the leader's own
//!    term are counted, a follower's reply leaves after its entries are durable, and the leader
//!    counts itself only up to what is durable.
//! 3. After a start a node neither votes nor campaigns until its earlier promise has run out (A1).
//! 4. A leader without acknowledgements of a majority for one window falls silent (A3).
//! 5. A snapshot stands only for committed entries, and replaces nothing that it does not stand
//!    for.
//! 6. A store that is new, or went back in time, neither votes nor campaigns, and what it
//!    acknowledges counts neither as a match nor as a promise, until an entry that the others
//!    committed takes it in (A6, F3).
//! 7. A refusal carries the refuser's term, and the asker takes it: of two voters the one with the
//!    newer log is never kept out by the other's higher term (F4).

mod elect;
mod log;
mod piece;
mod replicate;
mod snapshot;

#[cfg(test)]
mod exhaustive;

pub use log::{Entry, Log, LogId};
pub use piece::{Piece, Snapshot};

use crate::command::Command;
use crate::ids::{Index, NodeId, StoreId, Term};
use crate::planted::Planted;
use crate::time::{Time, shortened};
use crate::votes::Votes;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::ops::RangeInclusive;
use std::time::Duration;

/// What consensus peers say to each other.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Talk {
    /// "Would you vote for me in `term`?" Changes nothing at either side.
    PreVote { term: Term, last: LogId },
    PreVoteReply {
        term: Term,
        yes: bool,
        /// The term that the answering node is in.
        own: Term,
    },
    /// "Vote for me."
    RequestVote { term: Term, last: LogId },
    /// With a refusal, `term` is the refuser's if that is higher.
    RequestVoteReply { term: Term, yes: bool },
    /// Entries after `prev`, or none; `sent` is the leader's clock and comes back in the answer.
    AppendEntries {
        term: Term,
        prev: LogId,
        entries: Vec<Entry>,
        commit: Index,
        sent: Time,
        /// It has entries, or more of them are committed than the one before said.
        news: bool,
    },
    /// `matched` is the last index known equal to the leader's, or the refusal's hint where to look
    /// next.
    AppendEntriesReply {
        term: Term,
        matched: Result<Index, Index>,
        sent: Time,
        /// It answers news.
        news: bool,
        /// The store behind it counts (A6).
        counts: bool,
    },
    /// A piece of the leader's snapshot, for a follower that lacks entries which the leader has no
    /// more.
    InstallSnapshot {
        term: Term,
        piece: Box<Piece>,
        sent: Time,
    },
    /// So many pieces of the snapshot up to `last` are here.
    InstallSnapshotReply {
        term: Term,
        last: Index,
        pieces: u32,
        sent: Time,
        counts: bool,
    },
    /// "What you had acknowledged is not there any more: nothing that you say counts" (A6).
    Expelled { term: Term },
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
    /// From here on this store counts, under this name (A6).
    Enrolled(StoreId),
    /// From here on it does not, and has another name: it is not the one that was enrolled (A6).
    Expelled(StoreId),
}

impl Durable {
    /// What [`Consensus::on_stable`] is told once this is durable: up to which entry, and for which
    /// term the vote.
    pub fn reached(&self) -> (LogId, Term) {
        match self {
            Durable::Vote { term, vote } => (
                Default::default(),
                if vote.is_some() { *term } else { Term(0) },
            ),
            Durable::Entries(entries) => (
                entries.last().map_or(Default::default(), |e| e.id()),
                Term(0),
            ),
            Durable::Compacted(snapshot) | Durable::Installed(snapshot) => (snapshot.last, Term(0)),
            Durable::Enrolled(_) | Durable::Expelled(_) => Default::default(),
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

/// What a follower's store is worth (A6).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Store {
    /// What it acknowledges counts: it says so itself, and it never fell below that.
    Counts,
    /// It says that it does not count.
    IsNew,
    /// It fell below what it had acknowledged, and has not taken another name yet.
    Expelled,
}

/// How one follower is coming along.
#[derive(Clone, Debug)]
struct Progress {
    next: Index,
    matched: Index,
    /// When the acknowledgement of `matched` arrived; a message sent later finds at least that
    /// there (A6).
    matched_at: Time,
    /// The send time (leader's clock) of the newest message it answered; zero before the first.
    heard_at: Time,
    /// How much is committed, as it was told last.
    told: Index,
    store: Store,
    /// The snapshot that it is being given: up to which entry, how many pieces it has, when the
    /// next one was sent.
    installing: Option<(Index, u32, Time)>,
}

impl Progress {
    /// Of a follower of which nothing is known but that it is one.
    fn new(next: Index, now: Time) -> Self {
        Self {
            next,
            matched: Index(0),
            matched_at: now,
            heard_at: Time::ZERO,
            told: Index(0),
            store: Store::Counts,
            installing: None,
        }
    }

    fn match_index(&self) -> Index {
        if self.store == Store::Counts {
            self.matched
        } else {
            Index(0)
        }
    }

    fn promised_at(&self) -> Time {
        if self.store == Store::Counts {
            self.heard_at
        } else {
            Time::ZERO
        }
    }
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
    pub election_timeout: Duration,
    pub election_jitter: Duration,
}

/// What the node store held at start.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stored {
    /// This store's name; a new one has a new name.
    pub store: Option<StoreId>,
    /// It formed the cluster, or was enrolled since it was made: it votes, and what it has counts
    /// (A6).
    pub counts: bool,
    pub term: Term,
    pub vote: Option<NodeId>,
    pub snapshot: Option<Snapshot>,
    /// After the snapshot.
    pub entries: Vec<Entry>,
}

impl Stored {
    /// Of a node that is told that it forms the cluster.
    pub fn forming(store: StoreId) -> Self {
        Self {
            store: Some(store),
            counts: true,
            ..Self::default()
        }
    }

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
                self.entries.retain(|e| e.index > snapshot.last.index);
                self.snapshot = Some(*snapshot);
            }
            Durable::Installed(snapshot) => {
                self.entries.clear();
                self.snapshot = Some(*snapshot);
            }
            Durable::Enrolled(store) => (self.store, self.counts) = (Some(store), true),
            Durable::Expelled(store) => (self.store, self.counts) = (Some(store), false),
        }
    }
}

/// Who takes part, and how.
#[derive(Clone, Debug)]
pub struct Setup {
    pub me: NodeId,
    pub members: BTreeSet<NodeId>,
    pub votes: Votes,
    pub pace: Pace,
    /// No vote and no campaign for so long after a start (A1).
    pub quiet: Duration,
    pub planted: Option<Planted>,
}

/// One member's part in the consensus.
#[derive(Clone, Debug)]
pub struct Consensus {
    me: NodeId,
    members: BTreeSet<NodeId>,
    votes: Votes,
    pace: Pace,
    quiet: Duration,
    planted: Option<Planted>,
    store: Option<StoreId>,
    counts: bool,
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
    /// Pieces of a snapshot that have come so far.
    pieces: Option<Snapshot>,
    pieces_here: u32,
}

impl Consensus {
    pub fn new(setup: Setup, stored: Stored, now: Time, chance: f64) -> Self {
        let Setup {
            me,
            members,
            votes,
            pace,
            quiet,
            planted,
        } = setup;
        let counts = stored.counts || planted == Some(Planted::EmptyStoreVotes);
        let silence = if planted == Some(Planted::ForgetPromise) {
            Duration::ZERO
        } else {
            quiet
        };
        let log = Log::new(
            stored
                .snapshot
                .as_ref()
                .map_or_else(Default::default, |s| s.last),
            stored.entries,
        );
        Self {
            me,
            members,
            votes,
            pace,
            quiet,
            planted,
            store: stored.store,
            counts,
            term: stored.term,
            vote: stored.vote,
            commit: log.base().index,
            snapshot: stored.snapshot,
            stable: log.last().index,
            vote_stable: stored.term,
            log,
            role: Role::Follower,
            leader: None,
            heard_leader: None,
            current: false,
            quiet_until: now + silence,
            // Hosts that start together do not campaign together.
            campaign_at: now + silence + pace.election_jitter.mul_f64(chance),
            orders: Vec::new(),
            pieces: None,
            pieces_here: 0,
        }
    }

    /// Other members, at another pace. Who votes stays as it is (V1).
    pub fn reshape(&mut self, members: BTreeSet<NodeId>, pace: Pace, now: Time) {
        let next = self.log.last().index.next();
        if let Role::Leader(leader) = &mut self.role {
            leader.followers.retain(|node, _| members.contains(node));
            for member in members.iter().filter(|m| **m != self.me) {
                let progress = leader.followers.entry(member.clone());
                progress.or_insert_with(|| Progress::new(next, now));
            }
        }
        (self.members, self.pace) = (members, pace);
    }

    pub fn term(&self) -> Term {
        self.term
    }
    pub fn commit(&self) -> Index {
        self.commit
    }
    /// Whether what is committed here is what was committed at some moment since the start. Until
    /// then it may be as old as the host was away, and whoever acts on it acts on a cluster that is
    /// no more.
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
        if self.is_leader() {
            Some(&self.me)
        } else {
            self.leader.as_ref()
        }
    }
    pub fn elected_at(&self) -> Option<Time> {
        self.as_leader().map(|l| l.elected_at)
    }
    /// Whether the first entry of the own term is committed (A2).
    pub fn is_established(&self) -> bool {
        self.as_leader().is_some_and(|l| self.commit >= l.first)
    }
    /// Whether what this node's store holds counts, and it may vote (A6).
    pub fn counts(&self) -> bool {
        self.counts
    }
    pub fn store(&self) -> Option<&StoreId> {
        self.store.as_ref()
    }
    /// Members whose store does not count, as this leader was told.
    pub fn uncounted(&self) -> impl Iterator<Item = &NodeId> {
        let followers = self.as_leader().map(|l| &l.followers).into_iter().flatten();
        followers
            .filter(|(_, p)| p.store != Store::Counts)
            .map(|(n, _)| n)
    }

    /// The others committed that this store counts from here on. What its predecessor promised has
    /// run out first (A1).
    pub fn enrol(&mut self, now: Time) {
        let Some(store) = self.store.clone().filter(|_| !self.counts) else {
            return;
        };
        self.counts = true;
        self.quiet_until = self.quiet_until.max(now + self.quiet);
        self.orders.push(Order::Persist(Durable::Enrolled(store)));
    }

    /// The leader found that this store went back in time: it is another one from here on, under
    /// the name `anew` (A6).
    fn on_expelled(&mut self, from: &NodeId, term: Term, anew: StoreId) {
        if term == self.term && self.leader.as_ref() == Some(from) && self.counts {
            (self.counts, self.store) = (false, Some(anew.clone()));
            self.orders.push(Order::Persist(Durable::Expelled(anew)));
        }
    }

    /// Votes, and may lead.
    fn may_campaign(&self) -> bool {
        self.counts && self.votes.weight(&self.me) > 0
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

    /// Until when no other leader can have been elected: a majority promised, counted from when the
    /// acknowledged message was sent.
    pub fn leadership_until(&self, now: Time) -> Option<Time> {
        let acknowledged = self.acknowledged_at(now)?;
        if self.planted == Some(Planted::NeverSilent) {
            return Some(now + self.pace.election_timeout);
        }
        Some(acknowledged + shortened(self.pace.election_timeout))
    }

    /// The newest of this leader's messages that a majority has answered was sent then: nobody else
    /// had been elected by them.
    pub fn acknowledged_at(&self, now: Time) -> Option<Time> {
        let leader = self.as_leader()?;
        let heard = |n: &NodeId| {
            if *n == self.me {
                now
            } else {
                leader
                    .followers
                    .get(n)
                    .map_or(Time::ZERO, Progress::promised_at)
            }
        };
        self.votes.reached(heard)
    }

    /// When this leader gives up for want of acknowledgements (A3); a fresh one has a window to
    /// collect them.
    fn silent_from(&self, now: Time) -> Option<Time> {
        let fresh = self.as_leader()?.elected_at + self.pace.election_timeout;
        Some(self.leadership_until(now)?.max(fresh))
    }

    /// When to call [`Consensus::on_time`] next.
    pub fn next_due(&self, now: Time) -> Time {
        match &self.role {
            Role::Leader(leader) => leader
                .beat_due
                .min(self.silent_from(now).unwrap_or(Time(u64::MAX))),
            _ if !self.may_campaign() && self.leader.is_none() => Time(u64::MAX),
            // Nobody campaigns before the quiet time is over, however long ago it would have been
            // its turn.
            _ => self.campaign_at.max(self.quiet_until),
        }
    }

    /// Time passed: beat, give up leadership, or campaign. `chance` is 0 up to (not including) 1.
    pub fn on_time(&mut self, now: Time, chance: f64) {
        if let Some(until) = self.silent_from(now) {
            if until <= now {
                self.follow(
                    self.term,
                    now,
                    chance,
                    Some("no acknowledgement from a majority for one window"),
                );
            } else if self.as_leader().is_some_and(|l| l.beat_due <= now) {
                self.beat(now);
            }
        } else if now >= self.campaign_at && !self.may_campaign() {
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
            Talk::PreVote { term, last } => self.on_would_you_vote(from, term, last, now),
            Talk::PreVoteReply { term, yes, own } => {
                self.on_would(from, term, yes, own, now, chance)
            }
            Talk::RequestVote { term, last } => self.on_vote(from, term, last, now, chance),
            Talk::RequestVoteReply { term, yes } => self.on_voted(from, term, yes, now, chance),
            Talk::AppendEntries {
                term,
                prev,
                entries,
                commit,
                sent,
                news,
            } => {
                self.on_append(from, term, prev, entries, commit, sent, news, now, chance);
            }
            Talk::AppendEntriesReply {
                term,
                matched,
                sent,
                counts,
                ..
            } => {
                self.on_appended(from, term, matched, sent, counts, now, chance);
            }
            Talk::InstallSnapshot { term, piece, sent } => {
                self.on_install(from, term, *piece, sent, now, chance)
            }
            Talk::InstallSnapshotReply {
                term,
                last,
                pieces,
                sent,
                counts,
            } => {
                self.on_installing(from, term, (last, pieces), sent, counts, now, chance);
            }
            Talk::Expelled { term } => self.on_expelled(
                from,
                term,
                StoreId::from(format!("{:016x}", chance.to_bits())),
            ),
        }
    }

    /// Entries up to `last` (its term and index) and the vote of `term` are durable now.
    pub fn on_stable(&mut self, last: LogId, term: Term, now: Time) {
        if self.log.term_at(last.index) == Some(last.term) {
            self.stable = self.stable.max(last.index);
        }
        self.vote_stable = self.vote_stable.max(term);
        self.advance_commit(now);
        self.count_votes(now);
    }

    /// Appends commands if this node leads; they commit when a majority has them. Returns the
    /// indexes that they have.
    pub fn propose(&mut self, commands: Vec<Command>, now: Time) -> Option<RangeInclusive<Index>> {
        if !self.is_leader() || commands.is_empty() {
            return None;
        }
        let mut entries = Vec::new();
        let first = self.log.last().index.next();
        for command in commands {
            entries.push(self.log.append(self.term, command));
        }
        self.orders.push(Order::Persist(Durable::Entries(entries)));
        self.replicate(now);
        Some(first..=self.log.last().index)
    }

    fn set_term(&mut self, term: Term) {
        if term > self.term {
            self.term = term;
            self.vote = None;
            self.orders
                .push(Order::Persist(Durable::Vote { term, vote: None }));
        }
    }

    /// Becomes a follower of `term`; a leader says why it stopped.
    fn follow(&mut self, term: Term, now: Time, chance: f64, why: Option<&'static str>) {
        if self.is_leader() {
            let why = why.unwrap_or("a newer term exists");
            self.orders.push(Order::SteppedDown {
                term: self.term,
                why,
            });
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
        self.campaign_at =
            now + self.pace.election_timeout + self.pace.election_jitter.mul_f64(chance);
    }
}
