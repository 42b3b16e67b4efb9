//! Snapshots: what the log said up to some entry, kept in the place of those entries (Raft paper,
//! section 7), and how a member that was away for too long catches up by one, a piece at a time.

use super::piece::{Piece, Snapshot};
use super::{Consensus, Durable, Log, LogId, Order, Role, Store, Talk};
use crate::ids::{Index, NodeId, Term};
use crate::state::ClusterState;
use crate::time::Time;
use std::time::Duration;

impl Consensus {
    /// What the log's base stands for.
    pub fn snapshot(&self) -> Option<&Snapshot> {
        self.snapshot.as_ref()
    }

    /// Keeps `state`, which committed entries built, in the place of the entries that it says it
    /// has applied.
    pub fn compact(&mut self, state: &ClusterState) {
        let Some(term) = self
            .log
            .term_at(state.applied)
            .filter(|_| state.applied <= self.commit)
        else {
            return;
        };
        let snapshot = Snapshot {
            last: LogId::new(term, state.applied),
            state: state.clone(),
        };
        self.log.forget_up_to(snapshot.last);
        self.snapshot = Some(snapshot.clone());
        self.read_voters();
        self.orders
            .push(Order::Persist(Durable::Compacted(Box::new(snapshot))));
    }

    /// Sends the next piece to a follower that lacks what the snapshot stands for; again only when
    /// the last one was not answered for a window. Whether it did.
    pub(super) fn send_piece(&mut self, node: &NodeId, now: Time) -> bool {
        let window = self.pace.election_timeout;
        let (Role::Leader(leader), Some(snapshot)) = (&mut self.role, &self.snapshot) else {
            return false;
        };
        let Some(progress) = leader.followers.get_mut(node) else {
            return false;
        };
        let last = snapshot.last.index;
        let here = match progress.installing {
            // A newer snapshot took its place meanwhile: from the beginning.
            Some((of, here, sent)) if of == last => {
                if now.since(sent) < window && sent > Time::ZERO {
                    return false;
                }
                here
            }
            _ => 0,
        };
        progress.installing = Some((last, here, now));
        let piece = Box::new(snapshot.piece(here));
        self.orders.push(Order::Send(
            node.clone(),
            Talk::InstallSnapshot {
                term: self.term,
                piece,
                sent: now,
                keep: window,
            },
        ));
        true
    }

    /// How far a follower is with the snapshot; the next piece follows at once.
    #[expect(clippy::too_many_arguments, reason = "the message's own fields")]
    pub(super) fn on_installing(
        &mut self,
        from: &NodeId,
        term: Term,
        (last, pieces): (Index, u32),
        sent: Time,
        counts: bool,
        now: Time,
        chance: f64,
    ) {
        if term > self.term {
            return self.follow(term, now, chance, None);
        }
        let Role::Leader(leader) = &mut self.role else {
            return;
        };
        let keep = leader.asked_at(sent, self.pace.election_timeout);
        let Some(progress) = leader.followers.get_mut(from).filter(|_| term == self.term) else {
            return;
        };
        if !counts {
            progress.matched = Index(0);
            if progress.store == Store::Counts {
                progress.store = Store::IsNew;
            }
        }
        progress.hear(sent, keep);
        if let Some((of, here, _)) = progress.installing
            && of == last
            && pieces != here
            && self.snapshot.as_ref().is_some_and(|s| pieces < s.pieces())
        {
            progress.installing = Some((of, pieces, Time::ZERO));
            self.send_piece(from, now);
        }
    }

    /// A piece of a leader's snapshot, for a member that lacks entries which the leader does not
    /// have any more. Those before its last are committed: whoever has that entry has all of them,
    /// and whoever does not replaces its whole log once all pieces are here.
    pub(super) fn on_install(
        &mut self,
        from: &NodeId,
        term: Term,
        piece: Piece,
        (sent, keep): (Time, Duration),
        now: Time,
        chance: f64,
    ) {
        if !self.heed(from, term, (sent, keep), now, chance) {
            return;
        }
        let last = piece.last;
        let counts = self.counts;
        let done = Talk::AppendEntriesReply {
            term,
            matched: Ok(last.index),
            sent,
            news: true,
            counts,
        };
        if self.log.term_at(last.index) == Some(last.term) {
            self.commit = self.commit.max(last.index);
            self.orders.push(Order::Send(from.clone(), done));
            return;
        }
        if last.index <= self.commit {
            self.orders.push(Order::Send(from.clone(), done));
            return;
        }
        if self.pieces.as_ref().is_none_or(|s| s.last != last) {
            self.pieces = Some(Snapshot {
                last,
                state: ClusterState {
                    applied: last.index,
                    ..ClusterState::default()
                },
            });
            self.pieces_here = 0;
        }
        if piece.number == self.pieces_here
            && let Some(snapshot) = &mut self.pieces
        {
            snapshot.state.workloads.extend(piece.part.workloads);
            snapshot.state.operations.extend(piece.part.operations);
            snapshot.state.nodes.extend(piece.part.nodes);
            snapshot.state.acknowledged.extend(piece.part.acknowledged);
            // It travels whole, with the first.
            if self.pieces_here == 0 {
                snapshot.state.charter = piece.part.charter;
            }
            self.pieces_here += 1;
        }
        if self.pieces_here < piece.of {
            let pieces = self.pieces_here;
            let installing = Talk::InstallSnapshotReply {
                term,
                last: last.index,
                pieces,
                sent,
                counts,
            };
            self.orders.push(Order::Send(from.clone(), installing));
            return;
        }
        let Some(snapshot) = self.pieces.take() else {
            return;
        };
        self.log = Log::new(last, Vec::new());
        self.stable = self.stable.min(last.index);
        self.orders.push(Order::Installed {
            from: self.commit,
            to: last.index,
        });
        self.commit = last.index;
        self.snapshot = Some(snapshot.clone());
        self.read_voters();
        self.orders
            .push(Order::Persist(Durable::Installed(Box::new(snapshot))));
        self.orders.push(Order::Send(from.clone(), done));
    }
}
