//! Consensus alone, with a network in the test's hand: elections, replication, and each rule that
//! keeps S1 and S2.

use crate::net::{Net, PACE, QUIET, broken_member, founder, id, member};
use karst_core::command::Command;
use karst_core::consensus::{
    Consensus, Durable, Entry, LogId, Order, Pace, Piece, Snapshot, Stored, Talk,
};
use karst_core::state::ClusterState;
use karst_core::{Index, NodeId, Planted, Term, Time};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

#[test]
fn the_first_to_campaign_leads_and_everyone_commits() {
    let mut net = Net::new();
    net.run(600);
    assert_eq!(
        net.leaders(),
        [""; 0],
        "nobody campaigns before the promise after a start has run out (A1)"
    );
    net.run(200);
    assert_eq!(net.leaders(), ["a"]);
    let index = net.propose("a").unwrap();
    assert!(
        net.nodes.values().all(|n| n.commit() >= index),
        "the member without a vote replicates too"
    );
    assert_eq!(net.propose("b"), None, "only the leader proposes");
}

#[test]
fn a_node_that_was_cut_off_does_not_depose_a_healthy_leader() {
    let mut net = Net::new();
    net.run(800);
    let term = net.nodes[&id("a")].term();
    net.cut.insert(id("c"));
    net.run(5_000);
    assert_eq!(
        net.nodes[&id("c")].term(),
        term,
        "sounding out costs no term"
    );
    net.cut.clear();
    net.run(1_000);
    assert_eq!(
        (net.leaders(), net.nodes[&id("a")].term()),
        (vec!["a"], term)
    );
}

#[test]
fn a_leader_without_a_majority_falls_silent_before_there_is_another() {
    let mut net = Net::new();
    net.run(800);
    net.cut.insert(id("a"));
    for _ in 0..300 {
        net.run(10);
        let valid: Vec<&NodeId> = net
            .nodes
            .iter()
            .filter(|(_, n)| n.leadership_until(net.now).is_some_and(|u| u > net.now))
            .map(|(n, _)| n)
            .collect();
        assert!(valid.len() <= 1, "two leadership leases at once: {valid:?}");
    }
    assert_eq!(
        net.leaders(),
        ["b"],
        "the old one stepped down (A3), the majority has a new one"
    );
    assert!(
        net.events
            .iter()
            .any(|e| matches!(e, Order::SteppedDown { .. }))
    );
}

#[test]
fn a_restarted_voter_keeps_its_promise_and_its_vote() {
    let mut net = Net::new();
    net.run(800);
    net.restart("b");
    net.restart("c");
    let ask = Talk::PreVote {
        term: Term(9),
        last: LogId::new(Term(9), Index(99)),
    };
    net.nodes
        .get_mut(&id("c"))
        .unwrap()
        .on_talk(&id("b"), ask, net.now, 0.5);
    let orders = net.nodes.get_mut(&id("c")).unwrap().take_orders();
    assert!(
        matches!(
            orders.as_slice(),
            [Order::Send(_, Talk::PreVoteReply { yes: false, .. })]
        ),
        "{orders:?}"
    );
    assert_eq!(
        net.nodes[&id("c")].term(),
        Term(1),
        "its term came back from the disk"
    );
}

#[test]
fn nothing_commits_on_disks_that_have_not_synced() {
    let mut net = Net::new();
    net.run(800);
    let before = net.nodes[&id("a")].commit();
    net.slow = BTreeSet::from([id("b"), id("c"), id("d")]);
    let index = net.propose("a").unwrap();
    net.run(300);
    assert_eq!(
        net.nodes[&id("a")].commit(),
        before,
        "{index} is on the leader's disk only"
    );
}

#[test]
fn a_follower_whose_store_went_back_is_expelled() {
    let mut net = Net::new();
    net.run(800);
    for _ in 0..3 {
        net.propose("a");
    }
    let old = Stored {
        entries: net.disks[&id("b")].entries[..1].to_vec(),
        ..net.disks[&id("b")].clone()
    };
    net.run(100);
    net.disks.insert(id("b"), old);
    net.restart("b");
    net.run(300);
    let regressed = |e: &Order| matches!(e, Order::Regressed { node, .. } if *node == id("b"));
    assert!(
        net.events.iter().any(regressed),
        "found below what it had acknowledged (A6)"
    );
    net.cut.insert(id("c"));
    let index = net.propose("a").unwrap();
    net.run(100);
    assert!(
        net.nodes[&id("a")].commit() < index,
        "its acknowledgements do not count any more"
    );
}

/// Who lacks entries that nobody has any more gets what they said, starts again from it, and goes
/// on with the entries after it.
#[test]
fn a_member_that_was_away_catches_up_by_a_snapshot() {
    let mut net = Net::new();
    net.run(800);
    net.cut.insert(id("b"));
    for _ in 0..5 {
        net.propose("a");
    }
    net.run(100);
    for name in ["a", "c"] {
        net.compact(name);
        assert_eq!(net.disks[&id(name)].entries, [], "of {name}");
    }
    let after = net.propose("a").unwrap();
    net.cut.clear();
    net.run(300);
    let restored = net.events.iter().find_map(|e| match e {
        Order::Installed { to, .. } => Some(*to),
        _ => None,
    });
    assert_eq!(restored, Some(Index(after.0 - 1)));
    let has = |name: &str| net.nodes[&id(name)].snapshot().map(|s| &s.state);
    assert!(has("b").is_some_and(|state| state.acknowledged.len() == 150));
    assert_eq!(has("b"), has("a"), "all pieces of it are there");
    assert_eq!(net.nodes[&id("b")].commit(), after);
    net.restart("b");
    assert_eq!(
        net.nodes[&id("b")].log().last().index,
        after,
        "it has the snapshot and what came after it on its disk"
    );
    net.restart("a");
    net.restart("c");
    net.run(2_000);
    let leader = net.leaders()[0].to_string();
    let last = net.propose(&leader).unwrap();
    assert!(
        net.nodes.values().all(|n| n.commit() >= last),
        "they go on from their snapshots"
    );
}

/// What a member knew when it went away may be long over, and so may what a leader knows that has
/// committed nothing yet.
#[test]
fn a_restarted_member_is_current_once_its_leader_has_committed_in_its_own_term() {
    let entry = |term, index| Entry {
        term: Term(term),
        index: Index(index),
        command: Command::Noop,
    };
    let state = ClusterState {
        applied: Index(2),
        ..ClusterState::default()
    };
    let snapshot = Some(Snapshot {
        last: LogId::new(Term(1), Index(2)),
        state,
    });
    let mut node = member(
        &id("c"),
        Stored {
            term: Term(1),
            snapshot,
            ..founder(&id("c"))
        },
        Time::ZERO,
    );
    let mut hears = |prev, entries, commit| {
        let append = Talk::AppendEntries {
            term: Term(2),
            prev,
            entries,
            commit: Index(commit),
            sent: Time::ZERO,
            news: true,
            keep: Duration::from_millis(600),
        };
        node.on_talk(&id("a"), append, Time::from_millis(700), 0.5);
        (node.commit(), node.is_current())
    };
    let old = LogId::new(Term(1), Index(2));
    assert_eq!(
        hears(old, vec![], 2),
        (Index(2), false),
        "a new leader's own word is old too"
    );
    assert_eq!(
        hears(old, vec![entry(1, 3)], 4),
        (Index(3), false),
        "more is committed than is here"
    );
    assert_eq!(
        hears(LogId::new(Term(1), Index(3)), vec![entry(2, 4)], 3),
        (Index(3), false),
        "not committed yet"
    );
    assert_eq!(
        hears(LogId::new(Term(2), Index(4)), vec![], 4),
        (Index(4), true)
    );
}

/// A snapshot of less than what a member has committed changes nothing there; of a log that it does
/// not have, everything.
#[test]
fn a_snapshot_replaces_only_what_it_stands_for() {
    let entry = |term, index| Entry {
        term: Term(term),
        index: Index(index),
        command: Command::Noop,
    };
    let entries = vec![entry(1, 1), entry(1, 2), entry(2, 3), entry(2, 4)];
    let stored = Stored {
        term: Term(2),
        entries,
        ..founder(&id("c"))
    };
    let install = |last: (u64, u64)| {
        let part = ClusterState {
            applied: Index(last.1),
            ..ClusterState::default()
        };
        let piece = Box::new(Piece {
            last: LogId::new(Term(last.0), Index(last.1)),
            number: 0,
            of: 1,
            part,
        });
        Talk::InstallSnapshot {
            term: Term(3),
            piece,
            sent: Time::ZERO,
            keep: Duration::from_millis(600),
        }
    };
    let after = |last| {
        let mut node = member(&id("c"), stored.clone(), Time::ZERO);
        node.on_talk(&id("a"), install(last), Time::from_millis(700), 0.5);
        let replaced = node
            .take_orders()
            .iter()
            .any(|o| matches!(o, Order::Persist(Durable::Installed(_))));
        (node.log().last(), node.commit(), replaced)
    };
    assert_eq!(
        after((2, 3)),
        (LogId::new(Term(2), Index(4)), Index(3), false),
        "it has that entry: its tail stays"
    );
    assert_eq!(
        after((3, 3)),
        (LogId::new(Term(3), Index(3)), Index(3), true),
        "another history: all of it goes"
    );
    assert_eq!(
        after((3, 9)),
        (LogId::new(Term(3), Index(9)), Index(9), true),
        "past its end"
    );
}

/// What a conflicting leader sends replaces the tail and nothing else.
#[test]
fn a_conflicting_tail_is_replaced() {
    let entry = |term, index| Entry {
        term: Term(term),
        index: Index(index),
        command: Command::Noop,
    };
    let stored = Stored {
        term: Term(2),
        entries: vec![entry(1, 1), entry(1, 2), entry(2, 3), entry(2, 4)],
        ..founder(&id("c"))
    };
    let mut node = member(&id("c"), stored, Time::ZERO);
    let append = Talk::AppendEntries {
        term: Term(3),
        prev: LogId::new(Term(1), Index(2)),
        entries: vec![entry(3, 3)],
        commit: Index(2),
        sent: Time::ZERO,
        news: true,
        keep: Duration::from_millis(600),
    };
    node.on_talk(&id("a"), append, Time::from_millis(700), 0.5);
    assert_eq!(node.log().last(), LogId::new(Term(3), Index(3)));
    let orders = node.take_orders();
    let written = orders.iter().find_map(|o| match o {
        Order::Persist(Durable::Entries(entries)) => Some(entries.clone()),
        _ => None,
    });
    assert_eq!(written, Some(vec![entry(3, 3)]));
    assert_eq!(node.commit(), Index(2));
}

proptest! {
    /// Cuts, restarts, proposals and snapshots in any order: never two leaders of one term, never
    /// two different committed entries.
    #[test]
    fn any_schedule_is_safe(steps in prop::collection::vec((0u8..7, 0usize..4, 10u64..900), 1..40)) {
        let mut net = Net::new();
        let mut led: BTreeMap<Term, String> = BTreeMap::new();
        let mut committed: Vec<Entry> = Vec::new();
        let names = ["a", "b", "c", "d"];
        for (what, who, ms) in steps {
            match what {
                0 => { net.cut.insert(id(names[who])); }
                1 => { net.cut.remove(&id(names[who])); }
                2 => net.restart(names[who]),
                3 => { net.propose(names[who]); }
                4 => net.compact(names[who]),
                _ => {}
            }
            net.run(ms);
            for (name, node) in &net.nodes {
                if node.is_leader() {
                    let first = led.entry(node.term()).or_insert_with(|| name.to_string());
                    prop_assert_eq!(first.as_str(), name.as_str(), "S1: two leaders of {}", node.term());
                }
                let LogId { term, index: base } = node.log().base();
                if base.0 > 0 {
                    let known = committed.get(base.0 as usize - 1).map(|e| e.term);
                    prop_assert_eq!(known, Some(term), "S2: a snapshot of what nobody committed");
                }
                for index in base.0 + 1..=node.commit().0 {
                    let entry = node.log().get(Index(index)).expect("committed entries are in the log");
                    match committed.get(index as usize - 1) {
                        Some(first) => prop_assert_eq!(first, entry, "S2"),
                        None => committed.push(entry.clone()),
                    }
                }
            }
        }
    }
}

/// A1: a voter that has just acknowledged its leader, and restarts, still keeps its word; without
/// that there are two leaders at once whose leases are valid.
#[test]
fn a_promise_outlives_a_restart() {
    for (planted, leases) in [(None, 1), (Some(Planted::ForgetPromise), 2)] {
        let mut net = Net::new();
        net.run(1_000);
        assert_eq!(net.leaders(), ["a"]);
        // c was away for long enough to campaign; b has answered a just now.
        net.cut.insert(id("c"));
        net.run(2_000);
        net.restart_broken("b", planted);
        net.cut.remove(&id("c"));
        net.cut.insert(id("a"));
        for _ in 0..30 {
            net.run(10);
            let leads = |n: &&Consensus| {
                n.leadership_until(net.now)
                    .is_some_and(|until| until > net.now)
            };
            if net.nodes.values().filter(leads).count() > 1 {
                assert_eq!(leases, 2, "two leases of leadership");
                return;
            }
        }
        assert_eq!(leases, 1, "{planted:?} is not found");
    }
}

/// F4: a has the newer log, b the higher term. Each would refuse the other for ever if refusals
/// said nothing of the term.
/// V4: how long a promise lasts is known after a restart, also where the spec that said so had not
/// come yet. A leader counts on it as soon as it is acknowledged.
#[test]
fn a_long_promise_outlives_a_restart() {
    let long = QUIET * 4;
    let votes_early = |planted: Option<Planted>| {
        let (name, ms) = (id("b"), Duration::from_millis(1));
        let mut disk = founder(&name);
        let mut voter = broken_member(&name, disk.clone(), Time::ZERO, planted);
        let start = Time::ZERO + QUIET * 2;
        // It lacks what comes before: it takes nothing, and promises all the same.
        let append = Talk::AppendEntries {
            term: Term(3),
            prev: LogId::new(Term(2), Index(9)),
            entries: Vec::new(),
            commit: Index(0),
            sent: start,
            news: false,
            keep: long,
        };
        voter.on_talk(&id("a"), append, start, 0.5);
        for order in voter.take_orders() {
            if let Order::Persist(durable) = order {
                disk.take(durable);
            }
        }
        let mut voter = broken_member(&name, disk, start + ms, planted);
        let asked = start + QUIET + QUIET;
        let request = Talk::RequestVote {
            term: Term(4),
            last: LogId::new(Term(3), Index(12)),
            handed: false,
        };
        voter.on_talk(&id("c"), request, asked, 0.5);
        let orders = voter.take_orders();
        let yes = |o: &Order| matches!(o, Order::Send(_, Talk::RequestVoteReply { yes: true, .. }));
        orders.iter().any(yes)
    };
    assert!(!votes_early(None));
    assert!(
        votes_early(Some(Planted::OwnWindow)),
        "the plant is not seen"
    );
}

#[test]
fn two_voters_of_three_always_find_a_leader() {
    assert_eq!(leaders_of_two(None), ["a"]);
    assert_eq!(
        leaders_of_two(Some(Planted::RefuseWithoutTerm)),
        Vec::<String>::new()
    );
}

/// Who leads when a has the newer log and b the higher term, and c is lost.
fn leaders_of_two(planted: Option<Planted>) -> Vec<String> {
    let mut net = Net::new();
    for name in ["a", "b", "c"] {
        net.restart_broken(name, planted);
    }
    net.run(800);
    assert_eq!(net.leaders(), ["a"]);
    // An entry that reaches nobody, then b campaigns with c's word; its vote is durable, and c is
    // lost before it is asked.
    net.cut.insert(id("a"));
    net.propose("a");
    net.dies_when_asked = Some(id("c"));
    net.run(1_500);
    assert!(net.cut.contains(&id("c")));
    net.cut.remove(&id("a"));
    let (a, b) = (&net.nodes[&id("a")], &net.nodes[&id("b")]);
    assert!(a.log().last() > b.log().last() && a.term() < b.term());
    net.run(3_000);
    net.leaders().into_iter().map(String::from).collect()
}

/// A6: what an expelled follower had acknowledged commits nothing any more.
#[test]
fn an_expelled_follower_commits_nothing() {
    let mut net = Net::new();
    net.run(1_000);
    let (a, b) = (id("a"), id("b"));
    net.cut.insert(id("c"));
    net.slow.insert(a.clone());
    let index = *net
        .nodes
        .get_mut(&a)
        .unwrap()
        .propose(vec![Command::Noop], net.now)
        .unwrap()
        .end();
    let now = net.now;
    let leader = net.nodes.get_mut(&a).unwrap();
    let term = leader.term();
    let appended = |matched, sent| Talk::AppendEntriesReply {
        term,
        matched,
        sent,
        news: true,
        counts: true,
    };
    leader.on_talk(&b, appended(Ok(index), now), now, 0.0);
    assert!(leader.commit() < index, "its own disk has not got it");
    let later = now + Duration::from_millis(50);
    leader.on_talk(&b, appended(Err(Index(0)), later), later, 0.0);
    let said = leader.take_orders();
    assert!(
        said.iter().any(|o| matches!(o, Order::Regressed { .. })),
        "{said:?}"
    );
    assert!(
        said.iter()
            .any(|o| matches!(o, Order::Send(to, Talk::Expelled { .. }) if *to == b)),
        "it is told"
    );
    leader.on_stable(LogId::new(term, index), Term(0), later);
    assert!(leader.commit() < index, "only one disk has it");
    // What it said before it heard of it changes nothing, nor does it hold up the leader's silence
    // (A3).
    leader.on_talk(
        &b,
        appended(Ok(index), later + Duration::from_millis(1)),
        later + Duration::from_millis(2),
        0.0,
    );
    assert!(leader.commit() < index && leader.uncounted().any(|n| *n == b));
}

/// A6, F3: a store that is new neither votes nor commits, until the others have taken it in; a
/// leader's word to the one that went back in time makes it such a store, under another name. A
/// store that was just taken in waits for its predecessor's promises, and is woken when they are
/// over: not again and again before.
#[test]
fn an_enrolled_store_sleeps_through_its_quiet_time() {
    let (at, b) = (Time::from_millis, id("b"));
    let mut node = member(
        &id("a"),
        Stored {
            store: Some("new".into()),
            ..Stored::default()
        },
        Time::ZERO,
    );
    let nothing = LogId::default();
    let append = Talk::AppendEntries {
        term: Term(1),
        prev: nothing,
        entries: vec![],
        commit: nothing.index,
        sent: at(1_000),
        news: false,
        keep: Duration::from_millis(600),
    };
    node.on_talk(&b, append, at(1_000), 0.0);
    node.enrol(at(1_300));
    // Its leader has been silent for longer than it is followed.
    let now = at(1_000) + PACE.election_timeout + Duration::from_millis(50);
    assert_eq!(node.next_due(now), at(1_300) + QUIET);
}

#[test]
fn a_new_store_neither_votes_nor_commits() {
    let mut net = Net::new();
    net.run(1_000);
    let b = id("b");
    net.disks.insert(
        b.clone(),
        Stored {
            store: Some("new".into()),
            ..Stored::default()
        },
    );
    net.restart("b");
    net.run(1_000);
    assert_eq!(
        net.nodes[&b].log().last(),
        net.nodes[&id("a")].log().last(),
        "it is given everything"
    );
    net.cut.insert(id("c"));
    let index = *net
        .nodes
        .get_mut(&id("a"))
        .unwrap()
        .propose(vec![Command::Noop], net.now)
        .unwrap()
        .end();
    net.run(200);
    assert!(net.nodes[&id("a")].commit() < index, "a is one of three");
    net.run(3_000);
    assert_eq!(
        net.leaders(),
        Vec::<&str>::new(),
        "nor does it elect anybody"
    );
    net.cut.clear();
    net.run(3_000);
    assert!(net.nodes.values().all(|n| n.commit() >= index));
    let now = net.now;
    net.nodes.get_mut(&b).unwrap().enrol(now);
    net.run(1_000);
    assert!(net.disks[&b].counts, "durably");
    net.cut.insert(id("c"));
    let leader = net.leaders().first().map(|n| id(n)).unwrap();
    net.propose(leader.as_str());
    net.run(1_000);
    assert!(net.nodes[&b].commit() > index, "it counts");
}

/// What a store had that never counted, the next one under that name does not have: it is given everything
/// again. (Its leader and it once told each other for ever that it has nothing.)
#[test]
fn a_new_store_that_is_lost_once_more_is_filled_again() {
    let mut net = Net::new();
    net.run(1_000);
    let (a, b) = (id("a"), id("b"));
    for store in ["new", "newer"] {
        net.disks.insert(
            b.clone(),
            Stored {
                store: Some(store.into()),
                ..Stored::default()
            },
        );
        net.restart("b");
        net.run(1_000);
        let (has, all) = (net.nodes[&b].log().last(), net.nodes[&a].log().last());
        assert_eq!(has, all, "the {store} store");
    }
}

/// A leader has longer timings in force, and is cut off before it says so: it counts on promises for
/// as long as they were asked for.
#[test]
fn a_promise_is_as_long_as_it_was_asked_for() {
    for planted in [None, Some(Planted::LongerThanAsked)] {
        let mut net = Net::with(planted);
        net.run(1_000);
        assert_eq!(net.leaders(), ["a"]);
        net.cut.insert(id("a"));
        let members = ["a", "b", "c", "d"].map(id).into();
        let longer = Pace {
            election_timeout: Duration::from_millis(2_000),
            ..PACE
        };
        let now = net.now;
        let leader = net.nodes.get_mut(&id("a")).expect("it is there");
        leader.reshape(members, longer, now);
        let mut most = 0;
        for _ in 0..200 {
            net.run(10);
            let now = net.now;
            let leads = |n: &&Consensus| n.leadership_until(now).is_some_and(|until| until > now);
            most = most.max(net.nodes.values().filter(leads).count());
        }
        assert_eq!(most, if planted.is_some() { 2 } else { 1 });
    }
}
