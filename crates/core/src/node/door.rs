//! The door: what arrives from other nodes is looked at before anything is made of it. A node's key
//! speaks for that node and for nobody else, and not for everything: what no honest node says there
//! and then changes nothing here.
//!
//! It looks at who says it, and at numbers and lengths of time that a sum could not bear. What is
//! decided on the word of a message, and on whose, is looked at where it is decided.

use super::Node;
use super::readers::reads_at;
use super::vouch::Vouched;
use crate::address::Connection;
use crate::authority::{Claim, Lease};
use crate::consensus::{Entry, LogId, Talk};
use crate::ids::{Epoch, History, Index, NodeId, RunId, Term, WorkloadId, is_name};
use crate::message::{Message, Says};
use crate::ownstep::Prepared;
use crate::planted::Planted;
use crate::replica::{Examined, Parts, ReplicaReport};
use crate::request::{LONGEST_NOTE, Request};
use crate::text::is_one_line;
use crate::time::Time;
use std::collections::BTreeSet;
use std::time::Duration;

/// Terms by which a message may be ahead. A cluster that elects a coordinator each second needs
/// eleven days for them, and whoever could raise the term at will would have used up all numbers
/// with one message.
const TERMS_AHEAD: u64 = 1_000_000;
/// No honest counter comes near it, and sums of two such numbers still fit.
const LARGEST: u64 = 1 << 60;
/// No age in a report is more; a host may well have been away for months.
const LONGEST: Duration = Duration::from_secs(100 * 365 * 24 * 3_600);
/// No spec grants a longer one.
const LONGEST_LEASE: Duration = Duration::from_secs(3_600);
/// Replicas of one workload that serve readers.
const MOST_READERS: usize = 1_000;
/// Connections over one address that its holder tells of.
const CONNECTIONS: usize = 20_000;

/// Why nothing is made of a message.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Refusal {
    /// An honest node may have sent it, before it knew better.
    Stale,
    /// No honest node sends it.
    Forged(&'static str),
}

type Verdict = Result<(), Refusal>;

fn ensure(so: bool, why: &'static str) -> Verdict {
    if so {
        Ok(())
    } else {
        Err(Refusal::Forged(why))
    }
}

/// What the spec does not have there may be of another revision: of one that is not here yet, or
/// not there yet.
fn is_placed(so: bool) -> Verdict {
    so.then_some(()).ok_or(Refusal::Stale)
}

fn look_at_question(number: u64, request: &Request) -> Verdict {
    ensure(number < LARGEST, "a number that cannot be")?;
    let short = |note: &str| note.chars().count() <= LONGEST_NOTE;
    ensure(request.note().is_none_or(short), "a note that is a book")?;
    ensure(
        request.note().is_none_or(is_one_line),
        "a note with control characters",
    )?;
    ensure(request.strange_name().is_none(), "a name that is none")?;
    let timings = request.revised().map(|spec| spec.timings.out_of_bounds());
    ensure(
        timings.is_none_or(|found| found.is_empty()),
        "timings that cannot be",
    )
}

impl Node {
    /// Whether something is made of this message. Of one that no honest node sends the record says
    /// so.
    pub(super) fn admits(&mut self, from: &NodeId, message: &Message) -> bool {
        let verdict = self.look_at(from, message);
        self.is_let_in(from, verdict)
    }

    /// The same for the question of a person whom this node knows.
    pub(super) fn admits_question(
        &mut self,
        from: &NodeId,
        number: u64,
        request: &Request,
    ) -> bool {
        self.is_let_in(from, look_at_question(number, request))
    }

    fn is_let_in(&mut self, from: &NodeId, verdict: Verdict) -> bool {
        match verdict {
            Ok(()) => true,
            Err(Refusal::Stale) => false,
            Err(Refusal::Forged(why)) => {
                self.note_refused(from, why);
                false
            }
        }
    }

    /// Why nothing is made of this message, if so.
    fn look_at(&self, from: &NodeId, message: &Message) -> Verdict {
        match message {
            Message::Beat {
                number,
                hears,
                heads,
                votes,
            } => {
                ensure(
                    *number < LARGEST
                        && votes.0 < LARGEST
                        && hears.you.is_none_or(|age| age <= LONGEST),
                    "a number that cannot be",
                )?;
                heads.iter().try_for_each(|(_, head)| {
                    ensure(
                        head.epoch.0 < LARGEST && head.position < LARGEST,
                        "a number that cannot be",
                    )
                })
            }
            Message::Vouch { at, voters } => {
                ensure(at.0 < LARGEST, "a number that cannot be")?;
                let fits = voters.len() <= Vouched::MOST
                    && voters.iter().all(|(node, _)| is_name(node.as_str()));
                ensure(fits, "voters that cannot be")
            }
            Message::Talk(talk) => self.look_at_talk(from, talk),
            Message::Checkin {
                number,
                sent,
                wants,
                says,
                ..
            } => {
                ensure(
                    *number < LARGEST && sent.0 < LARGEST,
                    "a number that cannot be",
                )?;
                wants
                    .iter()
                    .try_for_each(|(claim, epoch)| self.look_at_claim(claim, *epoch))?;
                match says {
                    Says::Full(report) => self.look_at_parts(from, &report.parts),
                    Says::Delta(_, parts) => self.look_at_parts(from, parts),
                }
            }
            Message::Grant { .. } if self.planted == Some(Planted::GrantsFromAnybody) => Ok(()),
            Message::Grant {
                number,
                sent,
                term,
                leases,
                readers,
                round,
                ..
            } => {
                ensure(
                    round.len() <= MOST_READERS,
                    "more ways round than there are",
                )?;
                let fits = |by: &BTreeSet<NodeId>| by.len() <= MOST_READERS;
                ensure(readers.values().all(fits), "more readers than there are")?;
                self.look_at_grant(from, (*number, *sent), *term, leases)
            }
            Message::Connections {
                workload,
                connections,
            } => self.look_at_connections(from, workload, connections),
            Message::Ask {
                number, request, ..
            } => look_at_question(*number, request),
            Message::Answer { number, .. } => self
                .questions
                .was_asked(from, *number)
                .then_some(())
                .ok_or(Refusal::Stale),
        }
    }

    fn look_at_grant(
        &self,
        from: &NodeId,
        (number, sent): (u64, Time),
        term: Term,
        leases: &[Lease],
    ) -> Verdict {
        let leads = term == self.term() && self.coordinator() == Some(from);
        leads.then_some(()).ok_or(Refusal::Stale)?;
        // A lease counts from when it was asked for, and nobody can have asked later than
        // now.
        ensure(
            number < LARGEST && sent <= self.now,
            "a lease for what was not asked yet",
        )?;
        leases.iter().try_for_each(|lease| {
            self.look_at_claim(&lease.claim, lease.epoch)?;
            ensure(lease.length <= LONGEST_LEASE, "a lease that is for ever")?;
            ensure(
                lease.kill_bound < lease.length,
                "a lease that ends before it begins",
            )
        })
    }

    fn look_at_connections(
        &self,
        from: &NodeId,
        workload: &WorkloadId,
        connections: &[Connection],
    ) -> Verdict {
        self.knows(workload)?;
        let holds = self.state.workload(workload).place.holder.as_ref() == Some(from);
        holds.then_some(()).ok_or(Refusal::Stale)?;
        ensure(
            connections.len() <= CONNECTIONS,
            "more connections than are told",
        )?;
        let address = self
            .spec
            .workloads
            .get(workload)
            .and_then(|w| w.address.as_ref());
        let ours = |ip| address.is_some_and(|a| a.on.iter().any(|subnet| subnet.ip == ip));
        ensure(
            connections
                .iter()
                .all(|connection| ours(connection.here.ip().to_canonical())),
            "connections over another address",
        )
    }

    fn knows(&self, workload: &WorkloadId) -> Verdict {
        is_placed(self.spec.workloads.contains_key(workload))
    }

    fn look_at_claim(&self, claim: &Claim, epoch: Epoch) -> Verdict {
        self.knows(claim.workload())?;
        ensure(epoch.0 < LARGEST, "a number that cannot be")
    }

    /// Votes and requests for them, entries and what stands for them come from those who vote.
    /// Acknowledgements come from everybody.
    fn look_at_talk(&self, from: &NodeId, talk: &Talk) -> Verdict {
        let votes = || {
            let so = self.is_heeded(from) || self.planted == Some(Planted::LeadsWithoutVote);
            ensure(so, "consensus from a node without a vote")
        };
        let near = |term: Term| {
            ensure(
                term.0 <= self.term().0.saturating_add(TERMS_AHEAD),
                "a term that is far ahead",
            )
        };
        // A term ends by the word of those who vote; whoever does not may have heard of a newer
        // one, and so will they.
        let newer_from_voters = |term: Term| {
            let may = term <= self.term() || votes().is_ok();
            may.then_some(()).ok_or(Refusal::Stale)
        };
        let real = |index: Index| ensure(index.0 < LARGEST, "a number that cannot be");
        match talk {
            Talk::PreVote { term, last } | Talk::RequestVote { term, last, .. } => {
                votes()?;
                near(*term)?;
                near(last.term)?;
                real(last.index)
            }
            Talk::PreVoteReply { term, own, .. } => votes().and(near(*term)).and(near(*own)),
            Talk::RequestVoteReply { term, .. } | Talk::Expelled { term } | Talk::Take { term } => {
                votes().and(near(*term))
            }
            Talk::AppendEntries {
                term,
                prev,
                entries,
                commit,
                sent,
                keep,
                ..
            } => {
                votes()?;
                near(*term)?;
                ensure(*keep <= LONGEST_LEASE, "a promise that is for ever")?;
                real(prev.index)?;
                real(*commit)?;
                ensure(sent.0 < LARGEST, "a number that cannot be")?;
                follows(*term, *prev, entries)
            }
            Talk::AppendEntriesReply {
                term,
                matched: Ok(index) | Err(index),
                sent,
                ..
            } => {
                newer_from_voters(*term)?;
                near(*term)?;
                ensure(sent.0 < LARGEST, "a number that cannot be")?;
                real(*index)
            }
            Talk::InstallSnapshot {
                term,
                piece,
                sent,
                keep,
            } => {
                votes()?;
                ensure(*keep <= LONGEST_LEASE, "a promise that is for ever")?;
                near(*term)?;
                near(piece.last.term)?;
                real(piece.last.index)?;
                ensure(
                    sent.0 < LARGEST && piece.number < piece.of,
                    "a piece that cannot be",
                )
            }
            Talk::InstallSnapshotReply {
                term, last, sent, ..
            } => {
                newer_from_voters(*term)?;
                near(*term)?;
                ensure(sent.0 < LARGEST, "a number that cannot be")?;
                real(*last)
            }
        }
    }

    /// What a node says of what it has: only of what the spec places there.
    fn look_at_parts(&self, from: &NodeId, parts: &Parts) -> Verdict {
        let spec = |id: &WorkloadId| self.spec.workloads.get(id).ok_or(Refusal::Stale);
        if let Some(about) = &parts.about {
            ensure(about.fits(), "more of its host than it can have")?;
        }
        if let Some(examined) = &parts.examined {
            let fits = |text: &String| {
                text.len() <= Examined::LONGEST && !text.chars().any(char::is_control)
            };
            ensure(
                examined.lacks.len() <= Examined::MOST && examined.lacks.iter().all(fits),
                "more than a host can lack",
            )?;
        }
        if let Some(prepared) = &parts.prepared {
            let fits = |text: &String| {
                text.len() <= Prepared::LONGEST && !text.chars().any(char::is_control)
            };
            ensure(
                prepared.failed.len() <= Prepared::MOST && prepared.failed.iter().all(fits),
                "more steps than can have failed",
            )?;
        }
        for (id, replica) in &parts.replicas {
            let refused = replica.refused.as_ref().map_or(0, |(_, why)| why.len());
            ensure(
                refused <= Prepared::LONGEST,
                "a longer reason than there is",
            )?;
            is_placed(spec(id)?.replicas.contains_key(from))?;
            let times = [
                Some(replica.age),
                replica.down_for,
                replica.doing.as_ref().map(|doing| doing.time),
            ];
            ensure(
                times.into_iter().flatten().all(|time| time <= LONGEST),
                "an age that cannot be",
            )?;
            let epochs = [
                replica.opened.as_ref().map(|(epoch, _)| *epoch),
                replica.settled.as_ref().map(|(epoch, _)| *epoch),
                replica.surrendered.map(|(epoch, _)| epoch),
                replica.sync_held.map(|(epoch, _)| epoch),
                replica.marked.as_ref().map(|(_, mark)| mark.epoch),
                replica.rejoined,
            ];
            let let_go = replica.let_go.map(|upto| Epoch(upto.0));
            let epochs = epochs.into_iter().flatten().chain(let_go);
            ensure(
                epochs.into_iter().all(|epoch| epoch.0 < LARGEST),
                "a number that cannot be",
            )?;
            let seen = replica.seen.as_ref();
            let run = seen.and_then(|o| o.run.as_ref()).map(RunId::as_str);
            let identity = seen.and_then(|o| o.identity.as_deref());
            let points = seen.map(|o| [o.goes_up_to.as_deref(), o.held_at.as_deref()]);
            let label = replica.marked.as_ref().map(|(_, mark)| mark.label.as_str());
            let mut names = histories(replica)
                .map(History::as_str)
                .chain(run)
                .chain(identity)
                .chain(points.into_iter().flatten().flatten())
                .chain(label);
            ensure(names.all(is_name), "a name that is none")?;
        }
        for id in parts.read_gates.keys() {
            is_placed(reads_at(spec(id)?.reads.as_ref(), from))?;
        }
        for id in parts.gates.keys() {
            is_placed(spec(id)?.gates.contains_key(from))?;
        }
        for id in parts.addresses.keys() {
            is_placed(spec(id)?.may_hold_address(from))?;
        }
        let mut heard = parts.hears_ill.iter().flatten();
        heard.try_for_each(|(node, hearing)| {
            is_placed(self.spec.nodes.contains_key(node))?;
            ensure(hearing.age <= LONGEST, "an age that cannot be")
        })
    }
}

/// All that a replica names: they may come into the log.
fn histories(replica: &ReplicaReport) -> impl Iterator<Item = &History> {
    let opened = replica
        .opened
        .as_ref()
        .map(|(_, promotion)| &promotion.point);
    let settled = replica.settled.as_ref().map(|(_, at)| at);
    let marked = replica.marked.as_ref().map(|(_, mark)| &mark.at);
    let seen = replica.seen.as_ref().and_then(|o| o.position.as_ref());
    let points = opened
        .into_iter()
        .flat_map(|point| [Some(&point.history), point.parent.as_ref()]);
    points.flatten().chain(
        settled
            .into_iter()
            .chain(marked)
            .chain(seen)
            .map(|at| &at.history),
    )
}

/// Entries come one after the other, and none of a later term than their leader's.
fn follows(term: Term, prev: LogId, entries: &[Entry]) -> Verdict {
    ensure(
        (prev.index.0 > 0 || prev.term.0 == 0) && prev.term <= term,
        "entries after what cannot be",
    )?;
    let mut before = prev;
    for entry in entries {
        ensure(
            entry.index == before.index.next() && entry.term >= before.term && entry.term <= term,
            "entries that do not follow each other",
        )?;
        before = entry.id();
    }
    Ok(())
}
