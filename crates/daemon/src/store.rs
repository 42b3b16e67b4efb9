//! The node store: what this node must not forget, in an embedded transactional database, synced before it is used.
//!
//! One thread writes; what is waiting goes into one commit. The file carries a store id and its own inode and device: a
//! copy or a restored backup is recognised and refused, and so is one of which a page was changed (A6).

use crate::clock;
use karst_core::consensus::{Durable, Entry, Snapshot, Stored};
use karst_core::event::Event;
use karst_core::node::Write;
use karst_core::replica::agent::Kept;
use karst_core::{Index, WorkloadId};
use karst_history::Stamped;
use redb::{Database, ReadableDatabase, ReadableTable, TableDefinition, WriteTransaction};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;
use std::panic::AssertUnwindSafe;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};

const META: TableDefinition<&str, &[u8]> = TableDefinition::new("meta");
const LOG: TableDefinition<u64, &[u8]> = TableDefinition::new("log");
const KEPT: TableDefinition<&str, &[u8]> = TableDefinition::new("kept");
const EVENTS: TableDefinition<u64, &[u8]> = TableDefinition::new("events");
/// Of the tables' contents; a store of another format is refused.
const FORMAT: u32 = 1;
/// Events that wait for the history store: some weeks of an ordinary cluster. Then the oldest go.
const MOST_EVENTS: u64 = 100_000;
/// Events that wait for a disk that hangs.
const MOST_QUEUED: usize = 10_000;

#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    #[error("node store {path}: {source}")]
    Database { path: String, source: redb::Error },
    #[error(
        "node store {0}: an entry cannot be read: {1}. Move it away; this node then starts with an empty one, which votes once \
         `karst node enrol` has been called for it"
    )]
    Damaged(String, String),
    #[error(
        "node store {0} is a copy: it was made as another file. A copied or restored store must not vote. Move it away; this \
         node then starts with an empty one, which votes once `karst node enrol` has been called for it"
    )]
    Copied(String),
    #[error(
        "node store {0} is damaged: it was copied while it was written, or its disk lost or changed a part of it. Move it away; \
         this node then starts with an empty one, which votes once `karst node enrol` has been called for it"
    )]
    Broken(String),
    #[error("node store {0} has format {1}; this version reads {FORMAT}")]
    Format(String, u32),
}

#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
struct Identity {
    format: u32,
    store: String,
    inode: u64,
    device: u64,
    /// It votes, and what it has counts: it formed the cluster, or was enrolled since it was made (A6).
    #[serde(default = "formed_before")]
    counts: bool,
}

/// Stores that were made before this was written down formed their cluster.
fn formed_before() -> bool {
    true
}

/// What was in the store at start.
#[derive(Debug)]
pub struct Opened {
    pub stored: Stored,
    pub kept: BTreeMap<WorkloadId, Kept>,
    pub store_id: String,
    next_event: u64,
    recorded: u64,
    waiting: u64,
}

enum Job {
    Persist {
        number: u64,
        writes: Vec<Write>,
    },
    Record(Box<Event>),
    /// The history store has these.
    Confirmed(u64),
    Stop,
}

/// The writing side. Clones share the one thread.
#[derive(Clone)]
pub struct Store {
    jobs: Sender<Job>,
    /// Events that the thread has not taken yet: a disk that hangs must not make them grow without bound.
    queued: Arc<AtomicUsize>,
    database: Arc<Database>,
    pub store_id: String,
}

fn encode<T: Serialize>(value: &T) -> Vec<u8> {
    let mut bytes = Vec::new();
    ciborium::into_writer(value, &mut bytes).expect("values of the core serialise into memory");
    bytes
}

fn decode<T: DeserializeOwned>(path: &str, bytes: &[u8]) -> Result<T, StoreError> {
    ciborium::from_reader(bytes).map_err(|e| StoreError::Damaged(path.into(), e.to_string()))
}

impl Store {
    /// Opens or makes the store, and starts its thread. `persisted` is called on that thread when a batch is durable. One that is
    /// made now counts only if this node `forms` the cluster (F3).
    ///
    /// # Errors
    /// If the file cannot be used, is damaged, or is a copy.
    pub fn open(
        path: &Path, forms: bool, persisted: impl Fn(u64) + Send + 'static,
    ) -> Result<(Self, Opened), StoreError> {
        let name = path.display().to_string();
        // The database asserts things of its file that need not be true of a damaged one, at its end too.
        let opened = std::panic::catch_unwind(AssertUnwindSafe(|| open_whole(path, &name, forms)));
        let (database, opened) = opened.unwrap_or_else(|_| Err(StoreError::Broken(name.clone())))?;
        let (jobs, work) = channel();
        let database = Arc::new(database);
        let store_id = opened.store_id.clone();
        let queued = Arc::new(AtomicUsize::new(0));
        let writer = Writer {
            database: database.clone(),
            next_event: opened.next_event,
            recorded: opened.recorded,
            waiting: opened.waiting,
            queued: queued.clone(),
        };
        std::thread::Builder::new()
            .name("store".into())
            .spawn(move || writer.run(&work, persisted))
            .expect("a thread can be started");
        Ok((Self { jobs, queued, database, store_id }, opened))
    }

    pub fn persist(&self, number: u64, writes: Vec<Write>) {
        let _ = self.jobs.send(Job::Persist { number, writes });
    }

    pub fn record(&self, event: Event) {
        if self.queued.fetch_add(1, Ordering::Relaxed) < MOST_QUEUED {
            let _ = self.jobs.send(Job::Record(Box::new(event)));
        } else {
            self.queued.fetch_sub(1, Ordering::Relaxed);
            tracing::error!(event = %event.text, "the node store takes nothing more: this event is not recorded");
        }
    }

    /// Everything up to this number is in the history store and may be forgotten here.
    pub fn confirmed(&self, number: u64) {
        let _ = self.jobs.send(Job::Confirmed(number));
    }

    /// Lets the thread finish what is queued.
    pub fn stop(&self) {
        let _ = self.jobs.send(Job::Stop);
    }

    /// The oldest events that the history store has not confirmed, and how many there are.
    pub fn waiting(&self, most: usize) -> (Vec<Stamped>, u64) {
        let read = || -> Result<(Vec<Stamped>, u64), redb::Error> {
            let tx = self.database.begin_read()?;
            let events = tx.open_table(EVENTS)?;
            let mut batch = Vec::new();
            for row in events.iter()?.take(most) {
                if let Ok(stamped) = ciborium::from_reader(row?.1.value()) {
                    batch.push(stamped);
                }
            }
            let count = redb::ReadableTableMetadata::len(&events)?;
            Ok((batch, count))
        };
        read().unwrap_or_else(|error| {
            tracing::error!(%error, "the node store cannot be read");
            (Vec::new(), 0)
        })
    }
}

enum LoadError {
    Redb(Box<redb::Error>),
    Store(StoreError),
}

impl<E: Into<redb::Error>> From<E> for LoadError {
    fn from(error: E) -> Self {
        Self::Redb(Box::new(error.into()))
    }
}

/// The database, every page of it compared with its checksum: what was changed behind its back must not become a vote.
fn open_whole(path: &Path, name: &str, forms: bool) -> Result<(Database, Opened), StoreError> {
    let wrap = |source: redb::Error| match source {
        redb::Error::Corrupted(_) => StoreError::Broken(name.into()),
        source => StoreError::Database { path: name.into(), source },
    };
    let mut database = Database::create(path).map_err(|e| wrap(e.into()))?;
    if !database.check_integrity().map_err(|e| wrap(e.into()))? {
        return Err(StoreError::Broken(name.into()));
    }
    let opened = load(&database, path, name, forms).map_err(|e| match e {
        LoadError::Redb(e) => wrap(*e),
        LoadError::Store(e) => e,
    })?;
    Ok((database, opened))
}

fn load(database: &Database, path: &Path, name: &str, forms: bool) -> Result<Opened, LoadError> {
    let file = std::fs::metadata(path).map_err(redb::Error::Io)?;
    let tx = database.begin_write()?;
    let mut opened;
    {
        let mut meta = tx.open_table(META)?;
        let found = meta.get("identity")?.map(|v| decode::<Identity>(name, v.value()));
        let identity = match found.transpose().map_err(LoadError::Store)? {
            Some(identity) if identity.format != FORMAT => {
                return Err(LoadError::Store(StoreError::Format(name.into(), identity.format)));
            }
            Some(identity) if (identity.inode, identity.device) != (file.ino(), file.dev()) => {
                return Err(LoadError::Store(StoreError::Copied(name.into())));
            }
            Some(identity) => identity,
            None => {
                let store = format!("{:016x}", rand::random::<u64>());
                let (inode, device) = (file.ino(), file.dev());
                let identity = Identity { format: FORMAT, store, inode, device, counts: forms };
                meta.insert("identity", encode(&identity).as_slice())?;
                identity
            }
        };
        let store = Some(identity.store.as_str().into());
        let mut stored = Stored { store, counts: identity.counts, ..Stored::default() };
        if let Some(vote) = meta.get("vote")? {
            (stored.term, stored.vote) = decode(name, vote.value()).map_err(LoadError::Store)?;
        }
        let snapshot = meta.get("snapshot")?.map(|v| decode::<Snapshot>(name, v.value()));
        stored.snapshot = snapshot.transpose().map_err(LoadError::Store)?;
        for row in tx.open_table(LOG)?.iter()? {
            stored.entries.push(decode(name, row?.1.value()).map_err(LoadError::Store)?);
        }
        let mut kept = BTreeMap::new();
        for row in tx.open_table(KEPT)?.iter()? {
            let (workload, value) = row?;
            kept.insert(workload.value().into(), decode(name, value.value()).map_err(LoadError::Store)?);
        }
        let waiting = redb::ReadableTableMetadata::len(&tx.open_table(EVENTS)?)?;
        let number = |key: &str| -> Result<u64, LoadError> {
            meta.get(key)?.map_or(Ok(0), |v| decode(name, v.value()).map_err(LoadError::Store))
        };
        let (next_event, recorded) = (number("next_event")?.max(1), number("recorded")?);
        opened = Opened { stored, kept, store_id: identity.store, next_event, recorded, waiting };
        // A vote alone names a term that no entry may exceed.
        let last = opened.stored.entries.last().map(|e| e.term).unwrap_or_default();
        let base = opened.stored.snapshot.as_ref().map(|s| s.last.0).unwrap_or_default();
        opened.stored.term = opened.stored.term.max(last).max(base);
    }
    tx.commit()?;
    Ok(opened)
}

struct Writer {
    database: Arc<Database>,
    next_event: u64,
    /// Committed decisions up to here were recorded; after a restart they are applied, not recorded, again.
    recorded: u64,
    /// Events that the history store has not confirmed.
    waiting: u64,
    queued: Arc<AtomicUsize>,
}

impl Writer {
    fn run(mut self, work: &Receiver<Job>, persisted: impl Fn(u64)) {
        while let Ok(first) = work.recv() {
            let jobs: Vec<Job> = std::iter::once(first).chain(work.try_iter()).collect();
            let stop = jobs.iter().any(|j| matches!(j, Job::Stop));
            match self.commit(jobs) {
                Ok(Some(number)) => persisted(number),
                Ok(None) => {}
                Err(error) => {
                    // Nothing that depends on this was sent, and nothing more may be: this node is of no use now.
                    tracing::error!(%error, "the node store cannot be written: stopping");
                    std::process::exit(74);
                }
            }
            if stop {
                return;
            }
        }
    }

    fn commit(&mut self, jobs: Vec<Job>) -> Result<Option<u64>, redb::Error> {
        let mut durable = None;
        let tx = self.database.begin_write()?;
        for job in jobs {
            match job {
                Job::Persist { number, writes } => {
                    for write in writes {
                        apply(&tx, write)?;
                    }
                    durable = Some(number);
                }
                Job::Record(event) => {
                    self.queued.fetch_sub(1, Ordering::Relaxed);
                    self.record(&tx, *event)?;
                }
                Job::Confirmed(number) => {
                    let mut gone = 0;
                    tx.open_table(EVENTS)?.retain_in(..=number, |_, _| {
                        gone += 1;
                        false
                    })?;
                    self.waiting = self.waiting.saturating_sub(gone);
                }
                Job::Stop => {}
            }
        }
        tx.commit()?;
        Ok(durable)
    }

    fn record(&mut self, tx: &WriteTransaction, event: Event) -> Result<(), redb::Error> {
        let mut meta = tx.open_table(META)?;
        if let Some(Index(index)) = event.index {
            if index <= self.recorded {
                return Ok(());
            }
            self.recorded = index;
            meta.insert("recorded", encode(&index).as_slice())?;
        }
        let stamped = Stamped { number: self.next_event, at: clock::wall(), event };
        let mut events = tx.open_table(EVENTS)?;
        events.insert(self.next_event, encode(&stamped).as_slice())?;
        self.waiting += 1;
        if self.waiting > MOST_EVENTS {
            // The history store has been away for long: the oldest go.
            events.pop_first()?;
            self.waiting -= 1;
        }
        self.next_event += 1;
        meta.insert("next_event", encode(&self.next_event).as_slice())?;
        Ok(())
    }
}

/// From here on the store has this name, and counts or does not (A6).
fn identify(tx: &WriteTransaction, store: &str, counts: bool) -> Result<(), redb::Error> {
    let mut meta = tx.open_table(META)?;
    let found = meta.get("identity")?.map(|v| decode::<Identity>("", v.value()));
    let Some(Ok(identity)) = found else {
        return Err(redb::Error::Corrupted("the store's identity cannot be read".into()));
    };
    let identity = Identity { store: store.into(), counts, ..identity };
    meta.insert("identity", encode(&identity).as_slice())?;
    Ok(())
}

fn apply(tx: &WriteTransaction, write: Write) -> Result<(), redb::Error> {
    match write {
        Write::Log(Durable::Vote { term, vote }) => {
            tx.open_table(META)?.insert("vote", encode(&(term, vote)).as_slice())?;
        }
        Write::Log(Durable::Entries(entries)) => {
            let mut log = tx.open_table(LOG)?;
            if let Some(Entry { index: Index(first), .. }) = entries.first() {
                log.retain_in(*first.., |_, _| false)?;
            }
            for entry in entries {
                log.insert(entry.index.0, encode(&entry).as_slice())?;
            }
        }
        Write::Log(Durable::Enrolled(store)) => identify(tx, store.as_str(), true)?,
        Write::Log(Durable::Expelled(store)) => identify(tx, store.as_str(), false)?,
        Write::Log(Durable::Compacted(snapshot)) => {
            tx.open_table(LOG)?.retain(|index, _| index > snapshot.last.1.0)?;
            tx.open_table(META)?.insert("snapshot", encode(&snapshot).as_slice())?;
        }
        Write::Log(Durable::Installed(snapshot)) => {
            tx.open_table(LOG)?.retain(|_, _| false)?;
            tx.open_table(META)?.insert("snapshot", encode(&snapshot).as_slice())?;
        }
        Write::Kept { workload, kept } => {
            tx.open_table(KEPT)?.insert(workload.as_str(), encode(&kept).as_slice())?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_core::state::{ClusterState, Command};
    use karst_core::{NodeId, Term};
    use std::sync::mpsc;

    fn entry(term: u64, index: u64) -> Entry {
        Entry { term: Term(term), index: Index(index), command: Command::Noop }
    }

    fn open(path: &Path) -> (Store, Opened, mpsc::Receiver<u64>) {
        loop {
            let (tell, told) = channel();
            match Store::open(path, true, move |n| tell.send(n).unwrap()) {
                Ok((store, opened)) => return (store, opened, told),
                // The thread of the store before is still letting go of it.
                Err(StoreError::Database { source: redb::Error::DatabaseAlreadyOpen, .. }) => std::thread::yield_now(),
                Err(error) => panic!("{error}"),
            }
        }
    }

    #[test]
    fn a_snapshot_is_there_again_with_the_entries_after_it() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("node.store");
        let snapshot = |term, index| {
            let state = ClusterState { applied: Index(index), ..ClusterState::default() };
            Box::new(Snapshot { last: (Term(term), Index(index)), state })
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
        assert_eq!((stored.snapshot, stored.entries), (Some(*snapshot(2, 2)), vec![entry(2, 3)]));
        let stored = again(vec![Durable::Installed(snapshot(5, 9))]);
        assert_eq!((stored.term, stored.snapshot, stored.entries), (Term(5), Some(*snapshot(5, 9)), vec![]));
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
                Write::Log(Durable::Vote { term: Term(3), vote: vote.clone() }),
                Write::Log(Durable::Entries(vec![entry(2, 1), entry(2, 2), entry(2, 3)])),
            ],
        );
        // A new leader's entry replaces what conflicts with it and everything after.
        store.persist(2, vec![Write::Log(Durable::Entries(vec![entry(3, 2)]))]);
        let mut event = Event::new(karst_core::event::Level::Info, "test", "twice applied, once recorded");
        event.index = Some(Index(2));
        store.record(event.clone());
        while told.recv().unwrap() < 2 {}
        store.stop();
        drop(store);

        let (store, opened, _told) = open(&path);
        assert_eq!((opened.stored.term, opened.stored.vote), (Term(3), vote));
        assert_eq!(opened.stored.entries, [entry(2, 1), entry(3, 2)]);
        store.record(event);
        store.record(Event::new(karst_core::event::Level::Info, "test", "second"));
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
        assert!(matches!(Store::open(&copy, true, |_| {}), Err(StoreError::Copied(_))));
        let whole = std::fs::File::options().write(true).open(&copy).unwrap();
        whole.set_len(whole.metadata().unwrap().len() / 2).unwrap();
        assert!(matches!(Store::open(&copy, true, |_| {}), Err(StoreError::Broken(_))));
    }

    /// A store that is made without being told that it forms the cluster does not count, until it is enrolled; one that went back
    /// has another name.
    #[test]
    fn a_new_store_counts_once_it_is_enrolled() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("node.store");
        let again = |write: Durable| {
            let (tell, told) = channel();
            let (store, opened) = loop {
                let tell = tell.clone();
                match Store::open(&path, false, move |n| tell.send(n).unwrap()) {
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
        assert_eq!(again(Durable::Expelled("y".into())), (Some("x".into()), true));
        assert_eq!(again(Durable::Enrolled("y".into())), (Some("y".into()), false));
    }
}
