//! Replication: the leader's appends, the followers' answers, and what is committed.

use super::{Consensus, Durable, Entry, LogId, Order, Progress, Role, Store, Talk};
use crate::ids::{Index, NodeId, Term};
use crate::planted::Planted;
use crate::time::{Time, stretched};
use std::time::Duration;

/// Entries in one message at most, so that one slow follower's catch-up does not hold up a
/// heartbeat; a revision of the spec counts as many.
const BATCH: usize = 256;

/// What a leader sends.
pub(super) struct Appended {
    pub term: Term,
    pub prev: LogId,
    pub entries: Vec<Entry>,
    pub commit: Index,
    pub sent: Time,
    pub news: bool,
    pub keep: Duration,
}

impl Progress {
    /// One that says of itself that it does not count may be new, and have nothing of what its
    /// predecessor had (A6).
    fn note_whether_it_counts(&mut self, counts: bool, sent: Time, now: Time) {
        if !counts {
            if self.store != Store::IsNew {
                (self.matched, self.matched_at) = (Index(0), now);
            }
            self.store = Store::IsNew;
        } else if self.store == Store::IsNew && sent > self.matched_at {
            (self.store, self.matched) = (Store::Counts, Index(0));
        }
    }
}

impl Consensus {
    pub(super) fn beat(&mut self, now: Time) {
        if let Role::Leader(leader) = &mut self.role {
            leader.beat_due = now + self.pace.heartbeat;
        }
        self.replicate(now);
    }

    /// Sends every follower what it lacks (or an empty message, which is a heartbeat).
    pub(super) fn replicate(&mut self, now: Time) {
        let followers: Vec<NodeId> = self
            .as_leader()
            .map(|l| l.followers.keys().cloned().collect())
            .unwrap_or_default();
        for node in followers {
            self.send_append(&node, now);
        }
    }

    fn send_append(&mut self, node: &NodeId, now: Time) {
        let (term, commit, keep) = (self.term, self.commit, self.pace.election_timeout);
        let Role::Leader(leader) = &mut self.role else {
            return;
        };
        let Some(progress) = leader.followers.get_mut(node) else {
            return;
        };
        let base = self.log.base();
        if progress.next <= base.index {
            if !self.send_piece(node, now) {
                // A heartbeat: the pieces under way say the rest.
                let append = Talk::AppendEntries {
                    term,
                    prev: base,
                    entries: Vec::new(),
                    commit,
                    sent: now,
                    news: false,
                    keep: self.pace.election_timeout,
                };
                self.orders.push(Order::Send(node.clone(), append));
            }
            return;
        }
        let before = Index(progress.next.0 - 1);
        let Some(term_before) = self.log.term_at(before) else {
            return;
        };
        let prev = LogId::new(term_before, before);
        let mut room = BATCH;
        let fits = |e: &&Entry| {
            let takes = e.command.weight().min(room.max(1));
            let fits = room >= takes;
            room = room.saturating_sub(takes);
            fits
        };
        let waiting = self.log.after(before).iter();
        let entries: Vec<Entry> = waiting.take_while(fits).cloned().collect();
        progress.next = Index(progress.next.0 + entries.len() as u64);
        let news = !entries.is_empty() || commit > progress.told;
        progress.told = commit;
        self.orders.push(Order::Send(
            node.clone(),
            Talk::AppendEntries {
                term,
                prev,
                entries,
                commit,
                sent: now,
                news,
                keep,
            },
        ));
    }

    /// Whether this comes from the leader of a term that is not over, who is followed then; else it
    /// is told so.
    pub(super) fn heed(
        &mut self,
        from: &NodeId,
        term: Term,
        (sent, keep): (Time, Duration),
        now: Time,
        chance: f64,
    ) -> bool {
        if term < self.term {
            let matched = Err(self.log.last().index);
            let (term, counts) = (self.term, self.counts);
            self.orders.push(Order::Send(
                from.clone(),
                Talk::AppendEntriesReply {
                    term,
                    matched,
                    sent,
                    news: true,
                    counts,
                },
            ));
            return false;
        }
        if term > self.term || !matches!(self.role, Role::Follower) {
            self.follow(term, now, chance, None);
        }
        self.leader = Some(from.clone());
        self.promise(term, keep, now);
        self.put_off_campaign(now, chance);
        true
    }

    /// Votes for nobody else for so long. The answer waits for what is written here: a promise that
    /// a restart would forget is acknowledged to nobody (V4).
    fn promise(&mut self, term: Term, keep: Duration, now: Time) {
        self.kept = keep;
        let shorter = keep < self.keeps;
        let since = *self.shorter_since.get_or_insert(now);
        if !shorter {
            self.shorter_since = None;
        }
        // The long ones have run out by then.
        let long_over = shorter && now.since(since) > stretched(self.keeps);
        let durable = self.planted != Some(Planted::OwnWindow);
        if durable && (keep > self.keeps || long_over) {
            (self.keeps, self.shorter_since) = (keep, None);
            self.orders.push(Order::Persist(Durable::Keeps(keep)));
        }
        let until = now + keep;
        let before = self.promised.map_or(until, |(_, before)| before);
        self.promised = Some((term, until.max(before)));
    }

    pub(super) fn on_append(&mut self, from: &NodeId, appended: Appended, now: Time, chance: f64) {
        let Appended {
            term,
            prev,
            entries,
            commit,
            sent,
            news,
            keep,
        } = appended;
        if !self.heed(from, term, (sent, keep), now, chance) {
            return;
        }
        // What is committed is the same everywhere (S2): entries that would change it come from no
        // leader.
        let matched = if self.log.holds(prev) && self.log.keeps(&entries, self.commit) {
            let last = Index(prev.index.0 + entries.len() as u64);
            let fresh = self.log.merge(entries);
            if let Some(first) = fresh.first() {
                let first = first.index;
                self.stable = self.stable.min(Index(first.0 - 1));
                self.orders.push(Order::Persist(Durable::Entries(fresh)));
                self.note_voters(first);
            }
            self.commit = self.commit.max(commit.min(last));
            // A leader commits nothing before an entry of its own term: until then its word may be
            // old too.
            self.current |= commit <= self.commit && self.log.term_at(commit) == Some(term);
            Ok(last)
        } else {
            // The hint skips the conflicting tail in one step where this log is simply shorter.
            Err(self
                .log
                .last()
                .index
                .min(Index(prev.index.0.saturating_sub(1))))
        };
        let counts = self.counts;
        self.orders.push(Order::Send(
            from.clone(),
            Talk::AppendEntriesReply {
                term,
                matched,
                sent,
                news,
                counts,
            },
        ));
    }

    #[expect(clippy::too_many_arguments, reason = "the message's own fields")]
    pub(super) fn on_appended(
        &mut self,
        from: &NodeId,
        term: Term,
        matched: Result<Index, Index>,
        sent: Time,
        counts: bool,
        now: Time,
        chance: f64,
    ) {
        if term > self.term {
            self.follow(term, now, chance, None);
            return;
        }
        let last = self.log.last().index;
        let Role::Leader(leader) = &mut self.role else {
            return;
        };
        let keep = leader.asked_at(sent, self.pace.election_timeout);
        let Some(progress) = leader.followers.get_mut(from) else {
            return;
        };
        // Nobody has of this log what is not in it.
        let matched = matched
            .map(|index| index.min(last))
            .map_err(|hint| hint.min(last));
        if term != self.term {
            return;
        }
        progress.note_whether_it_counts(counts, sent, now);
        match matched {
            Err(hint)
                if progress.store == Store::Counts
                    && sent > progress.matched_at
                    && hint < progress.matched =>
            {
                let acknowledged = progress.matched;
                (progress.matched, progress.matched_at) = (Index(0), now);
                progress.store = Store::Expelled;
                if self.planted == Some(Planted::CountExpelled) {
                    (progress.store, progress.matched) = (Store::Counts, acknowledged);
                }
                self.orders.push(Order::Regressed {
                    node: from.clone(),
                    acknowledged,
                    found: hint,
                });
                if progress.store == Store::Expelled {
                    self.orders
                        .push(Order::Send(from.clone(), Talk::Expelled { term }));
                }
                return;
            }
            Err(hint) => {
                progress.hear(sent, keep);
                if progress.store != Store::Counts {
                    // It promises nothing, and may have lost what it had once more.
                    progress.matched = progress.matched.min(hint);
                }
                let next = hint.next().max(progress.matched.next());
                // What it lacks is on its way in pieces. Nothing that was sent before is sent again
                // at once: two who say the same to each other would go on at the network's speed.
                let lacks = progress.installing.is_none_or(|(last, ..)| hint >= last);
                if lacks && next < progress.next {
                    progress.next = next;
                    self.send_append(from, now);
                }
            }
            Ok(index) => {
                progress.hear(sent, keep);
                progress.installing = progress.installing.filter(|(last, ..)| *last > index);
                if index > progress.matched {
                    progress.matched = index;
                    progress.matched_at = now;
                }
                progress.next = progress.next.max(progress.matched.next());
                if progress.next <= last {
                    self.send_append(from, now);
                }
            }
        }
        self.advance_commit(now);
        self.pass_on_if_ready(now, chance);
    }

    /// Commits what a majority has, counting only entries of the own term (Raft paper, section
    /// 5.4.2).
    pub(super) fn advance_commit(&mut self, now: Time) {
        let Role::Leader(leader) = &self.role else {
            return;
        };
        let stable = self.stable;
        let matched = |n: &NodeId| {
            if *n == self.me {
                stable
            } else {
                leader
                    .followers
                    .get(n)
                    .map_or(Index(0), Progress::match_index)
            }
        };
        if let Some(index) = self.voters.reached(matched)
            && index > self.commit
            && self.log.term_at(index) == Some(self.term)
        {
            self.commit = index;
            // Followers act on commits: they are told at once and not at the next heartbeat.
            self.replicate(now);
        }
    }
}
