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
//! 8. Who votes is what the newest entry about it says, committed or not (V1); the way from one set
//!    of voters to the next leads over both at once (V2).
//! 9. A promise lasts as long as the leader's message says, and what may be promised is durable
//!    before it is (V4).
//! 10. A leader that hands over has no lease from then on, and is a follower when its successor may
//!     begin (V5).

mod elect;
mod hand_over;
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
use crate::time::{Time, shortened, stretched};
use crate::votes::Voters;
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
    /// "Vote for me." Where the leader of the term before handed over, a promise to it or to an
    /// earlier one is no reason to refuse (V5).
    RequestVote {
        term: Term,
        last: LogId,
        handed: bool,
    },
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
        /// For so long whoever takes this votes for nobody else (V4).
        keep: Duration,
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
        keep: Duration,
    },
    /// So many pieces of the snapshot up to `last` are here.
    InstallSnapshotReply {
        term: Term,
        last: Index,
        pieces: u32,
        sent: Time,
        counts: bool,
    },
    /// "Lead in my place": said by a leader that is a follower by then (V5).
    Take { term: Term },
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
    /// Promises to a leader may last so long from here on (V4).
    Keeps(Duration),
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
            Durable::Enrolled(_) | Durable::Expelled(_) | Durable::Keeps(_) => Default::default(),
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
    /// Leads no more, and said so to whoever takes its place.
    HandedOver {
        term: Term,
        to: NodeId,
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
    /// The follower keeps its promise until then, by the messages that it answered (V4).
    promises_until: Time,
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
            promises_until: Time::ZERO,
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

    fn promised_until(&self) -> Time {
        if self.store == Store::Counts {
            self.promises_until
        } else {
            Time::ZERO
        }
    }

    /// It answered the message of that time, which asked for a promise of that length.
    fn hear(&mut self, sent: Time, keep: Duration) {
        self.heard_at = self.heard_at.max(sent);
        self.promises_until = self.promises_until.max(sent + shortened(keep));
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
    /// The timings of before, and when its messages began to ask for other promises: an answer
    /// counts for as long as its own message asked for (G2).
    paces: Vec<(Duration, Time)>,
    /// To whom it hands over, and until when that is tried (V5).
    hands_over: Option<(NodeId, Time)>,
}

impl Leader {
    /// For how long the message of that time asked to be kept to; the least of it, where timings
    /// changed at that moment.
    fn asked_at(&self, sent: Time, now: Duration) -> Duration {
        let mut from = Time::ZERO;
        let mut least = Duration::MAX;
        let present = (now, Time(u64::MAX));
        for (keep, until) in self.paces.iter().copied().chain([present]) {
            if (from..=until).contains(&sent) {
                least = least.min(keep);
            }
            from = until;
        }
        least
    }
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
    /// The longest promise that it may have made (V4).
    #[serde(default)]
    pub keeps: Duration,
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
            Durable::Keeps(keeps) => self.keeps = keeps,
        }
    }
}

/// Who takes part, and how.
#[derive(Clone, Debug)]
pub struct Setup {
    pub me: NodeId,
    pub members: BTreeSet<NodeId>,
    /// As long as no entry and no snapshot says who votes: whoever formed the cluster.
    pub founders: Voters,
    pub pace: Pace,
    /// No vote and no campaign for so long after a start (A1), or for as long as a promise may have
    /// been made.
    pub quiet: Duration,
    pub planted: Option<Planted>,
}

/// One member's part in the consensus.
#[derive(Clone, Debug)]
pub struct Consensus {
    me: NodeId,
    members: BTreeSet<NodeId>,
    founders: Voters,
    voters: Voters,
    /// The entry that says so; 0 where that is in no entry.
    voters_at: Index,
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
    /// Until when it is promised to the leader of which term to vote for nobody else.
    promised: Option<(Term, Time)>,
    /// The longest promise that the store knows of, or will before it is acknowledged (V4).
    keeps: Duration,
    /// Since when shorter ones would do.
    shorter_since: Option<Time>,
    /// The last promise's length: for so long a leader may be silent.
    kept: Duration,
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
            founders,
            pace,
            quiet,
            planted,
        } = setup;
        let quiet = quiet.max(stretched(stored.keeps));
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
        let mut consensus = Self {
            me,
            members,
            voters: founders.clone(),
            founders,
            voters_at: Index(0),
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
            promised: None,
            keeps: stored.keeps,
            shorter_since: None,
            kept: pace.election_timeout,
            current: false,
            quiet_until: now + silence,
            // Hosts that start together do not campaign together.
            campaign_at: now + silence + pace.election_jitter.mul_f64(chance),
            orders: Vec::new(),
            pieces: None,
            pieces_here: 0,
        };
        consensus.read_voters();
        consensus
    }

    /// Takes who votes from the newest entry that says so, or from what the log's base stands for
    /// (V1).
    fn read_voters(&mut self) {
        if let Some((at, voters)) = self.log.newest_voters() {
            (self.voters, self.voters_at) = (voters.clone(), at);
            return;
        }
        let kept = self.snapshot.as_ref().map(|s| &s.state.charter);
        let (voters, at) = kept.map_or((None, Index(0)), |c| (c.voters.clone(), c.voters_at));
        self.voters = voters.unwrap_or_else(|| self.founders.clone());
        self.voters_at = at;
    }

    /// Entries from `first` on are others than before.
    fn note_voters(&mut self, first: Index) {
        let new = self.log.after(Index(first.0.saturating_sub(1)));
        if first <= self.voters_at || new.iter().any(|e| e.command.voters().is_some()) {
            self.read_voters();
        }
    }

    /// Other members, at another pace. Who votes stays as it is (V1).
    pub fn reshape(&mut self, members: BTreeSet<NodeId>, pace: Pace, now: Time) {
        let next = self.log.last().index.next();
        let before = std::mem::replace(&mut self.pace, pace).election_timeout;
        self.members = members;
        let others = self.others();
        if let Role::Leader(leader) = &mut self.role {
            if before != pace.election_timeout {
                leader.paces.push((before, now));
            }
            leader.followers.retain(|node, _| others.contains(node));
            for member in others {
                let progress = leader.followers.entry(member);
                progress.or_insert_with(|| Progress::new(next, now));
            }
        }
    }

    /// All but this node: members, and whoever votes without being one here yet (V1).
    fn others(&self) -> BTreeSet<NodeId> {
        let voters = self.voters.all().into_iter();
        let all = self.members.iter().chain(voters);
        all.filter(|n| **n != self.me).cloned().collect()
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
    pub fn voters(&self) -> &Voters {
        &self.voters
    }
    /// The entry that says who votes; none is there before votes have changed for the first time.
    pub fn voters_at(&self) -> Index {
        self.voters_at
    }
    /// Whether that member has everything that this leader has, and its store counts.
    pub fn has_all(&self, member: &NodeId) -> bool {
        let last = self.log.last().index;
        let progress = self.as_leader().and_then(|l| l.followers.get(member));
        *member == self.me || progress.is_some_and(|p| p.match_index() == last)
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
        self.counts && self.voters.weight(&self.me) > 0
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

    /// Until when no other leader can have been elected: a majority promised, each voter for as long
    /// as the message asked for that it answered, counted from when that was sent (A1, G2).
    pub fn leadership_until(&self, now: Time) -> Option<Time> {
        let leader = self.as_leader()?;
        if leader.hands_over.is_some() && self.planted != Some(Planted::HandOverWithLease) {
            return None;
        }
        if self.planted == Some(Planted::NeverSilent) {
            return Some(now + self.pace.election_timeout);
        }
        if self.planted == Some(Planted::LongerThanAsked) {
            return Some(self.acknowledged_at(now)? + shortened(self.pace.election_timeout));
        }
        self.promised_until(now)
    }

    fn promised_until(&self, now: Time) -> Option<Time> {
        let leader = self.as_leader()?;
        let own = now + shortened(self.pace.election_timeout);
        let until = |n: &NodeId| {
            let progress = leader.followers.get(n);
            let promised = progress.map_or(Time::ZERO, Progress::promised_until);
            if *n == self.me { own } else { promised }
        };
        self.voters.reached(until)
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
        self.voters.reached(heard)
    }

    /// When this leader gives up for want of acknowledgements (A3); a fresh one has a window to
    /// collect them.
    fn silent_from(&self, now: Time) -> Option<Time> {
        let leader = self.as_leader()?;
        let fresh = leader.elected_at + self.pace.election_timeout;
        // One that hands over resumes before it gives up.
        let tries = leader.hands_over.as_ref().map(|(_, until)| *until);
        let until = self
            .leadership_until(now)
            .or_else(|| self.promised_until(now))?;
        Some(until.max(fresh).max(tries.unwrap_or(fresh)))
    }

    /// When to call [`Consensus::on_time`] next.
    pub fn next_due(&self, now: Time) -> Time {
        match &self.role {
            Role::Leader(leader) => leader
                .beat_due
                .min(self.silent_from(now).unwrap_or(Time(u64::MAX)))
                .min(
                    leader
                        .hands_over
                        .as_ref()
                        .map_or(Time(u64::MAX), |(_, until)| *until),
                ),
            _ if !self.may_campaign() && self.leader.is_none() => Time(u64::MAX),
            // Nobody campaigns before the quiet time is over, however long ago it would have been
            // its turn.
            _ => self.campaign_at.max(self.quiet_until),
        }
    }

    /// Time passed: beat, give up leadership, or campaign. `chance` is 0 up to (not including) 1.
    pub fn on_time(&mut self, now: Time, chance: f64) {
        self.resume_late(now);
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
        match talk {
            Talk::PreVote { term, last } => self.on_would_you_vote(from, term, last, now),
            Talk::PreVoteReply { term, yes, own } => {
                self.on_would(from, term, yes, own, now, chance)
            }
            Talk::RequestVote { term, last, handed } => {
                self.on_vote(from, term, last, handed, now, chance);
            }
            Talk::RequestVoteReply { term, yes } => self.on_voted(from, term, yes, now, chance),
            Talk::AppendEntries {
                term,
                prev,
                entries,
                commit,
                sent,
                news,
                keep,
            } => {
                let appended = replicate::Appended {
                    term,
                    prev,
                    entries,
                    commit,
                    sent,
                    news,
                    keep,
                };
                self.on_append(from, appended, now, chance);
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
            Talk::InstallSnapshot {
                term,
                piece,
                sent,
                keep,
            } => self.on_install(from, term, *piece, (sent, keep), now, chance),
            Talk::InstallSnapshotReply {
                term,
                last,
                pieces,
                sent,
                counts,
            } => {
                self.on_installing(from, term, (last, pieces), sent, counts, now, chance);
            }
            Talk::Take { term } => self.on_take(from, term, now, chance),
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
        let free = self.as_leader().is_some_and(|l| l.hands_over.is_none());
        if !free || commands.is_empty() {
            return None;
        }
        let mut entries = Vec::new();
        let first = self.log.last().index.next();
        for command in commands {
            entries.push(self.log.append(self.term, command));
        }
        self.orders.push(Order::Persist(Durable::Entries(entries)));
        self.note_voters(first);
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
        self.campaign_at = now + self.kept + self.pace.election_jitter.mul_f64(chance);
    }
}
