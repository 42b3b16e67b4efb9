//! A node that says whatever helps it, to everybody, again and again: forged leases, surrenders,
//! entries, votes, connections and requests, in its own name. Where a planted bug breaks a rule that keeps it from
//! that, it speaks in any other's name as well. A node with a vote keeps to the forms of the protocol: it votes
//! for everybody and acknowledges everything.

use super::{Happening, MS, World};
use crate::check::Verdict;
use crate::cluster::{FORGER, HOSTILE};
use karst_core::address::Connection;
use karst_core::author::Token;
use karst_core::authority::{Claim, Lease};
use karst_core::command::{Command, Ended, WorkloadAct};
use karst_core::consensus::{Entry, LogId, Talk};
use karst_core::heads::Head;
use karst_core::health::Hears;
use karst_core::message::{Message, Says};
use karst_core::operation::Mode;
use karst_core::replica::{Parts, ReplicaReport, Report};
use karst_core::request::{Plea, PowerWish, Request};

use karst_core::{BootId, Epoch, Index, NodeId, Planted, Position, Term, Time, WorkloadId};
use rand::Rng;
use std::time::Duration;

/// How long it rests between two rounds.
const REST: u64 = 7 * MS;
const TEN_YEARS: Duration = Duration::from_secs(10 * 365 * 24 * 3_600);

impl World {
    /// One round, and the next until then.
    pub(super) fn say_anything(&mut self, h: usize, until: u64) -> Verdict {
        if self.now >= until {
            return Ok(());
        }
        for to in (0..self.hosts.len()).filter(|to| *to != h) {
            let anybody = self.chance.random_range(0..self.hosts.len());
            let speaker = if self.planted == Some(Planted::SpeaksForOthers) {
                anybody
            } else {
                h
            };
            let message = self.forged(&self.names[speaker].clone(), to);
            if self.hosts[h].has_power && !self.hosts[h].is_still() {
                self.carry(speaker, h, to, message);
            }
        }
        self.after(REST, Happening::Hostile(h, until));
        Ok(())
    }

    fn forged(&mut self, speaker: &NodeId, to: usize) -> Message {
        let w = self.chance.random_range(0..self.workloads.len());
        let id = self.workloads[w].clone();
        let state = self.truth.state.workload(&id).clone();
        let term = self
            .hosts
            .iter()
            .filter_map(|h| h.node.as_ref())
            .map(|n| n.term())
            .max()
            .unwrap_or_default();
        let term = if self.chance.random_range(0..3) == 0 {
            term.next()
        } else {
            term
        };
        let clock = self.hosts[to].clock.at(self.now);
        let number = self.chance.random_range(0..1_000_000);
        let newest = self.hosts.iter().filter_map(|h| h.node.as_ref());
        let newest = newest.map(|n| n.log().last()).max().unwrap_or_default();
        let votes = self.spec.votes().weight(&HOSTILE.into()) > 0;
        let kind = self.chance.random_range(0..10);
        if votes && (4..=6).contains(&kind) {
            // To each what fits what that node has: it knows all of it.
            let there = self.hosts[to].node.as_ref();
            let there = there.map(|n| (n.term(), n.log().last().index));
            let (term, has) = there.unwrap_or_default();
            return Message::Talk(lying_talk(number, term, clock, has));
        }
        match kind {
            0 | 1 => {
                let epoch = if w == 0 {
                    state.epoch
                } else {
                    state.epoch.next()
                };
                let claims = [Claim::Primary(id.clone()), Claim::Address(id)];
                let lease = |claim| Lease {
                    claim,
                    epoch,
                    length: TEN_YEARS,
                    kill_bound: self.spec.timings.kill_bound,
                };
                let leases = claims.map(lease).into();
                Message::Grant {
                    number,
                    sent: clock,
                    term,
                    leases,
                    readers: Default::default(),
                    round: Default::default(),
                    news: true,
                }
            }
            2 | 3 => forged_checkin(&id, state.epoch, state.sync.number, number, clock),
            4 | 5 => self.forged_entries(speaker, &id, (term, newest), state.epoch),
            6 => Message::Talk(forged_talk(number, term, clock)),
            7 => {
                let (client, here) = (([192, 0, 2, 7], 9).into(), ([192, 0, 2, 8], 5432).into());
                let connections = vec![Connection { client, here }; 3];
                Message::Connections {
                    workload: id,
                    connections,
                }
            }
            8 => {
                let voter = (speaker.clone(), ([192, 0, 2, 7], 9).into());
                Message::Vouch {
                    at: Index(1 << 50),
                    voters: vec![voter],
                }
            }
            _ => {
                let node = self.names[self.chance.random_range(0..self.names.len())].clone();
                let token = Some(Token::new("a guess")).filter(|_| number % 2 == 0);
                Message::Ask {
                    number,
                    request: forged_request(number, id, node),
                    token,
                }
            }
        }
    }

    /// What a coordinator would say that takes the workload from its holder and gives it to the
    /// speaker, all of it committed.
    fn forged_entries(
        &mut self,
        speaker: &NodeId,
        id: &WorkloadId,
        (term, prev): (Term, LogId),
        epoch: Epoch,
    ) -> Message {
        let (workload, why) = (id.clone(), String::from("forged"));
        let commands = [
            Command::Workload(
                workload.clone(),
                WorkloadAct::Revoke {
                    epoch,
                    why: why.clone(),
                },
            ),
            Command::Workload(
                workload.clone(),
                WorkloadAct::End {
                    epoch,
                    how: Ended::LeaseOver,
                },
            ),
            Command::Workload(
                workload,
                WorkloadAct::Assign {
                    epoch: epoch.next(),
                    holder: speaker.clone(),
                    why,
                },
            ),
        ];
        let number = |i: usize| Index(prev.index.0 + 1 + i as u64);
        let entries: Vec<Entry> = (0..)
            .zip(commands)
            .map(|(i, command)| Entry {
                term,
                index: number(i),
                command,
            })
            .collect();
        let commit = number(entries.len() - 1);
        let talk = Talk::AppendEntries {
            term,
            prev,
            entries,
            commit,
            sent: Time::ZERO,
            news: true,
            keep: self.spec.timings.election_timeout,
        };
        if self.chance.random_range(0..8) == 0 {
            let heads = vec![(id.clone(), Head { epoch, position: 1 })];
            return Message::Beat {
                number: 1,
                hears: Hears::default(),
                heads,
                votes: Index(0),
            };
        }
        Message::Talk(talk)
    }
}

/// A replica that gave up what it never had, and has everything.
fn forged_checkin(id: &WorkloadId, epoch: Epoch, sync: u64, number: u64, clock: Time) -> Message {
    let far = Position {
        history: "99".into(),
        number: 1 << 40,
    };
    let replica = ReplicaReport {
        surrendered: Some((epoch, None)),
        settled: Some((epoch, far)),
        sync_held: Some((epoch, sync)),
        ..ReplicaReport::default()
    };
    let replicas = [(id.clone(), replica)].into();
    let report = Box::new(Report {
        boot: BootId::from("boot-0"),
        store: None,
        counts: true,
        system: None,
        parts: Parts {
            replicas,
            ..Parts::default()
        },
    });
    Message::Checkin {
        number,
        sent: clock + TEN_YEARS,
        wants: vec![(Claim::Primary(id.clone()), epoch)],
        says: Says::Full(report),
        news: true,
    }
}

/// Requests that need the highest level, and others.
fn forged_request(number: u64, workload: WorkloadId, node: NodeId) -> Request {
    let by: String = FORGER.into();
    let intend = |plea, by| Request::Intend {
        plea,
        by,
        at: 1,
        why: None,
        seen: None,
        plan_only: false,
    };
    match number % 7 {
        0 => Request::Fence { node, by },
        1 => Request::Power {
            node,
            what: PowerWish::Off,
            by,
            plan_only: false,
        },
        2 => Request::Failover {
            workload,
            to: node,
            by,
            accept_loss: u64::MAX,
            plan_only: false,
        },
        3 => Request::Mode {
            workload,
            mode: Mode::Watch,
            by,
            at: 1,
            why: None,
            until: None,
        },
        4 => intend(Plea::Restart { workload }, by),
        5 => intend(Plea::GoBack { workload }, by),
        _ => Request::HandOver { to: Some(node), by },
    }
}

/// A voter says to each what helps it: votes for everybody, acknowledgements of what it does not have, and
/// what a coordinator alone may say. It asks for no votes and proposes nothing.
fn lying_talk(number: u64, term: Term, sent: Time, last: Index) -> Talk {
    let has = |index| Talk::AppendEntriesReply {
        term,
        matched: Ok(index),
        sent,
        news: true,
        counts: true,
    };
    match number % 6 {
        0 => Talk::PreVoteReply {
            term: term.next(),
            yes: true,
            own: term,
        },
        1 => Talk::RequestVoteReply { term, yes: true },
        2 => has(last),
        3 => has(Index(1 << 50)),
        4 => Talk::Take { term },
        _ => Talk::Expelled { term },
    }
}

fn forged_talk(number: u64, term: Term, sent: Time) -> Talk {
    match number % 4 {
        0 => Talk::RequestVote {
            term: term.next(),
            last: LogId::new(term, Index(1 << 40)),
            handed: true,
        },
        1 => Talk::RequestVoteReply { term, yes: true },
        2 => {
            let matched = Ok(Index(1 << 50));
            Talk::AppendEntriesReply {
                term,
                matched,
                sent,
                news: true,
                counts: true,
            }
        }
        _ => Talk::Expelled { term },
    }
}
