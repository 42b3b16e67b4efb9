//! Whatever arrives from other nodes, a node goes on: messages of every kind with numbers and
//! lengths of time that cannot be, names that nobody has, from every kind of peer, into a node that
//! leads, one that follows and one that is alone; then it says how it is.

use karst_core::author::Level;
use karst_core::consensus::{LogId, Stored, Talk};
use karst_core::health::Hears;
use karst_core::message::Message;
use karst_core::spec::Spec;
use karst_core::{Effect, Index, Input, Node, NodeConfig, StoreId, Term, Time};
use karst_sim::dice::{Dice, KINDS, kind_of};
use karst_sim::{Shape, powered_spec};
use proptest::prelude::*;
use std::collections::VecDeque;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// A node in the middle of its life, and the clock that it lives by.
struct Subject {
    node: Node,
    now: Time,
    led: bool,
}

impl Subject {
    fn new(spec: Spec, me: &str, seed: u64, leads: bool) -> Self {
        let config = NodeConfig {
            me: me.into(),
            given: std::sync::Arc::new(karst_core::spec::Revision::first(spec, "")),
            alone: false,
            boot: "boot-1".into(),
            system: None,
            seed,
            stored: Stored::forming(StoreId::from(me)),
            kept: [].into(),
            snapshot_after: 12,
            planted: None,
        };
        let now = Time::from_millis(5_000);
        let mut subject = Self {
            node: Node::new(config, now),
            now,
            led: leads,
        };
        for _ in 0..60 {
            subject.pass(Duration::from_millis(100));
        }
        subject
    }

    fn pass(&mut self, time: Duration) {
        self.now += time;
        self.take(Input::Woke);
    }

    fn take(&mut self, input: Input) {
        let mut inputs = VecDeque::from([input]);
        // A node that answers its own answers for ever would be found here as well.
        for _ in 0..200 {
            let Some(input) = inputs.pop_front() else {
                return;
            };
            self.node.handle(self.now, input);
            while let Some(effect) = self.node.poll_effect() {
                match effect {
                    Effect::Persist { number, .. } => inputs.push_back(Input::Persisted { number }),
                    Effect::Send {
                        to,
                        message: Message::Talk(talk),
                    } if self.led => {
                        let answer = agreed(talk).map(Message::Talk);
                        inputs.extend(answer.map(|message| Input::Received { from: to, message }));
                    }
                    _ => {}
                }
            }
        }
    }
}

/// V7: what members without a vote say of who votes counts only where no majority of those who vote
/// here is heard any more; and nobody's word counts for itself.
#[test]
fn who_votes_is_not_said_by_those_who_do_not() {
    // Everybody is heard for two seconds.
    let heard = || {
        let mut subject = Subject::new(Shape::Hostile.spec(false), "polje", 1, false);
        for number in 1..20 {
            for from in ["doline", "ponor", "uvala", "weir"] {
                let message = Message::Beat {
                    number,
                    hears: Hears::default(),
                    heads: Vec::new(),
                    votes: Index(0),
                };
                let from = from.into();
                subject.take(Input::Received { from, message });
            }
            subject.pass(Duration::from_millis(100));
        }
        subject
    };
    let leads = |subject: &mut Subject, vouches: &str| {
        let (from, at) = (vouches.into(), Index(1 << 40));
        let voters = vec![("weir".into(), ([192, 0, 2, 1], 7).into())];
        let message = Message::Vouch { at, voters };
        subject.take(Input::Received { from, message });
        let talk = Talk::AppendEntries {
            term: subject.node.term().next(),
            prev: LogId::default(),
            entries: Vec::new(),
            commit: Index(0),
            sent: subject.now,
            news: false,
            keep: Duration::from_millis(600),
        };
        let (from, message) = ("weir".into(), Message::Talk(talk));
        subject.take(Input::Received { from, message });
        subject.node.coordinator() == Some(&"weir".into())
    };
    let mut subject = heard();
    assert!(!leads(&mut subject, "weir"), "for itself");
    assert!(!leads(&mut subject, "uvala"), "by one without a vote");
    let mut subject = heard();
    subject.pass(Duration::from_secs(3));
    assert!(
        !leads(&mut subject, "weir"),
        "for itself, with nobody heard"
    );
    assert!(leads(&mut subject, "uvala"), "the voters are gone");
    assert!(leads(&mut heard(), "doline"), "by one that votes");
}

/// What a voter says who agrees with everything.
fn agreed(talk: Talk) -> Option<Talk> {
    Some(match talk {
        Talk::PreVote { term, .. } => Talk::PreVoteReply {
            term,
            yes: true,
            own: Term(0),
        },
        Talk::RequestVote { term, .. } => Talk::RequestVoteReply { term, yes: true },
        Talk::AppendEntries {
            term,
            prev,
            entries,
            sent,
            news,
            ..
        } => {
            let matched = Ok(Index(prev.index.0 + entries.len() as u64));
            Talk::AppendEntriesReply {
                term,
                matched,
                sent,
                news,
                counts: true,
            }
        }
        _ => return None,
    })
}

/// The same for every way that a node can be in.
fn goes_on(seed: u64) {
    let (spec, me, leads) = match seed % 4 {
        0 => (powered_spec(), "doline", true),
        1 => (powered_spec(), "polje", false),
        2 => (Shape::TwoWorkloads.spec(false), "uvala", false),
        _ => (Shape::OneNode.spec(true), "doline", true),
    };
    let mut subject = Subject::new(spec.clone(), me, seed, leads);
    assert_eq!(subject.node.is_coordinator(), leads);
    subject.led &= seed % 8 < 4;
    let mut dice = Dice::new(seed, spec);
    for _ in 0..24 {
        (dice.term, dice.last) = (subject.node.term(), subject.node.log().last().index);
        let (from, message) = (dice.node(), dice.message());
        DRAWN.fetch_or(1 << kind_of(&message), Ordering::Relaxed);
        // As it comes from a node alone, and as it comes from a person who may ask for everything.
        let input = match message {
            Message::Ask {
                number, request, ..
            } if dice.of(2) == 0 => Input::Introduced {
                from,
                number,
                request,
                level: Level::Administer,
            },
            message => Input::Received { from, message },
        };
        subject.take(input);
        subject.pass(Duration::from_millis([0, 1, 50, 700][dice.of(4)]));
        assert!(!subject.node.status().sentence.is_empty());
    }
}

/// The kinds of messages that were drawn, a bit each.
static DRAWN: AtomicU64 = AtomicU64::new(0);

#[test]
fn whatever_arrives_a_node_goes_on() {
    let config = ProptestConfig {
        cases: 10_000,
        failure_persistence: None,
        ..ProptestConfig::default()
    };
    proptest!(config, |(seed in any::<u64>())| goes_on(seed));
    let drawn = DRAWN.load(Ordering::Relaxed);
    let missing: Vec<u32> = (0..KINDS).filter(|kind| drawn >> kind & 1 == 0).collect();
    assert!(missing.is_empty(), "kinds that were not drawn: {missing:?}");
}
