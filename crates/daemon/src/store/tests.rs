//! What is written is there again, and nothing else is.

use super::*;
use karst_core::Term;
use karst_core::command::Command;
use karst_core::consensus::LogId;
use karst_core::state::ClusterState;
use std::sync::mpsc;

fn entry(term: u64, index: u64) -> Entry {
    Entry {
        term: Term(term),
        index: Index(index),
        command: Command::Noop,
    }
}

pub fn start(forms: bool) -> Start {
    let votes = ["doline", "polje", "ponor"]
        .map(|n| (NodeId::from(n), 1))
        .into();
    Start {
        forms,
        alone: false,
        votes,
        votes_changed: false,
    }
}

fn open(path: &Path) -> (Store, Opened, mpsc::Receiver<u64>) {
    loop {
        let (tell, told) = channel();
        match Store::open(path, start(true), move |n| tell.send(n).unwrap()) {
            Ok((store, opened)) => return (store, opened, told),
            // The thread of the store before is still letting go of it.
            Err(StoreError::Database {
                source: redb::Error::DatabaseAlreadyOpen,
                ..
            }) => std::thread::yield_now(),
            Err(error) => panic!("{error}"),
        }
    }
}

#[test]
fn a_snapshot_is_there_again_with_the_entries_after_it() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("node.store");
    let snapshot = |term, index| {
        let state = ClusterState {
            applied: Index(index),
            ..ClusterState::default()
        };
        Box::new(Snapshot {
            last: LogId::new(Term(term), Index(index)),
            state,
        })
    };
    let again = |durable: Vec<Durable>| {
        let (store, _, told) = open(&path);
        store.persist(1, durable.into_iter().map(Write::Log).collect());
        told.recv().unwrap();
        store.stop();
        drop(store);
        let (store, opened, _told) = open(&path);
        store.stop();
        opened.stored
    };
    let entries = Durable::Entries(vec![entry(2, 1), entry(2, 2), entry(2, 3)]);
    let stored = again(vec![entries, Durable::Compacted(snapshot(2, 2))]);
    assert_eq!(
        (stored.snapshot, stored.entries),
        (Some(*snapshot(2, 2)), vec![entry(2, 3)])
    );
    let stored = again(vec![Durable::Installed(snapshot(5, 9))]);
    assert_eq!(
        (stored.term, stored.snapshot, stored.entries),
        (Term(5), Some(*snapshot(5, 9)), vec![])
    );
}

#[test]
fn what_was_persisted_is_there_again_and_a_copy_is_refused() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("node.store");
    let (store, opened, told) = open(&path);
    assert_eq!(opened.stored.entries, []);
    let vote = Some(NodeId::from("polje"));
    store.persist(
        1,
        vec![
            Write::Log(Durable::Vote {
                term: Term(3),
                vote: vote.clone(),
            }),
            Write::Log(Durable::Entries(vec![
                entry(2, 1),
                entry(2, 2),
                entry(2, 3),
            ])),
        ],
    );
    // A new leader's entry replaces what conflicts with it and everything after.
    store.persist(2, vec![Write::Log(Durable::Entries(vec![entry(3, 2)]))]);
    let mut event = Event::new(
        Level::Info,
        FactKind::Serving,
        "twice applied, once recorded",
    );
    event.index = Some(Index(2));
    store.record(event.clone());
    while told.recv().unwrap() < 2 {}
    store.stop();
    drop(store);

    let (store, opened, _told) = open(&path);
    assert_eq!((opened.stored.term, opened.stored.vote), (Term(3), vote));
    assert_eq!(opened.stored.entries, [entry(2, 1), entry(3, 2)]);
    store.record(event);
    store.record(Event::new(Level::Info, FactKind::Serving, "second"));
    while store.waiting(10).1 < 2 {
        std::thread::yield_now();
    }
    let numbers: Vec<u64> = store.waiting(10).0.iter().map(|s| s.number).collect();
    assert_eq!(numbers, [1, 2]);
    store.stop();
    drop(store);

    // Whole only when the thread has let go of it.
    let closed = loop {
        match Database::open(&path) {
            Err(redb::DatabaseError::DatabaseAlreadyOpen) => std::thread::yield_now(),
            opened => break opened.unwrap(),
        }
    };
    drop(closed);
    let copy = dir.path().join("copy.store");
    std::fs::copy(&path, &copy).unwrap();
    assert!(matches!(
        Store::open(&copy, start(true), |_| {}),
        Err(StoreError::Copied(_))
    ));
    let whole = std::fs::File::options().write(true).open(&copy).unwrap();
    whole.set_len(whole.metadata().unwrap().len() / 2).unwrap();
    assert!(matches!(
        Store::open(&copy, start(true), |_| {}),
        Err(StoreError::Broken(_))
    ));
}

/// A store that is made without being told that it forms the cluster does not count, until it is
/// enrolled; one that went back has another name.
#[test]
fn a_new_store_counts_once_it_is_enrolled() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("node.store");
    let again = |write: Durable| {
        let (tell, told) = channel();
        let (store, opened) = loop {
            let tell = tell.clone();
            match Store::open(&path, start(false), move |n| tell.send(n).unwrap()) {
                Ok(opened) => break opened,
                Err(StoreError::Database { .. }) => std::thread::yield_now(),
                Err(error) => panic!("{error}"),
            }
        };
        store.persist(1, vec![Write::Log(write)]);
        told.recv().unwrap();
        store.stop();
        (opened.stored.store, opened.stored.counts)
    };
    let (first, counts) = again(Durable::Enrolled("x".into()));
    assert!(first.is_some() && !counts);
    assert_eq!(
        again(Durable::Expelled("y".into())),
        (Some("x".into()), true)
    );
    assert_eq!(
        again(Durable::Enrolled("y".into())),
        (Some("y".into()), false)
    );
}

/// With other votes two groups of nodes could both be a majority: nobody votes under them before
/// all are told.
#[test]
fn other_votes_are_refused_until_they_are_confirmed() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("node.store");
    let again = |start: Start| loop {
        match Store::open(&path, start.clone(), |_| {}) {
            Err(StoreError::Database {
                source: redb::Error::DatabaseAlreadyOpen,
                ..
            }) => std::thread::yield_now(),
            Ok((store, _)) => {
                store.stop();
                return Ok(());
            }
            Err(error) => return Err(error.to_string()),
        }
    };
    let mut other = start(true);
    other.votes.insert("doline".into(), 3);
    again(start(true)).unwrap();
    let refused = again(other.clone()).unwrap_err();
    assert!(
        refused.contains(
            "doline 1, polje 1, ponor 1; the spec file now says doline 3, polje 1, ponor 1"
        ),
        "{refused}"
    );
    again(start(true)).unwrap();
    again(Start {
        votes_changed: true,
        ..other.clone()
    })
    .unwrap();
    again(other).unwrap();
    assert!(again(start(true)).is_err());
}
