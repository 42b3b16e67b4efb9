//! The node store: what this node must not forget, in an embedded transactional database, synced
//! before it is used.
//!
//! One thread writes; what is waiting goes into one commit. The file carries a store id and its own
//! inode and device: a copy or a restored backup is recognised and refused, and so is one of which
//! a page was changed (A6).

mod mark;

#[cfg(test)]
mod broken;
#[cfg(test)]
mod tests;

use crate::clock;
use karst_core::command::{ClusterAct, Command};
use karst_core::consensus::{Durable, Entry, Snapshot, Stored};
use karst_core::event::{Event, FactKind, Level};
use karst_core::node::Write;
use karst_core::replica::agent::Kept;
use karst_core::{Index, NodeId, WorkloadId};
use karst_history::Stamped;
use mark::{Mark, Reached};
use redb::{Database, ReadableDatabase, ReadableTable, Table, TableDefinition, WriteTransaction};
use rustix::fs::statvfs;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::collections::BTreeMap;
use std::io::ErrorKind;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::Duration;
use tokio::sync::oneshot;

const META: TableDefinition<&str, &[u8]> = TableDefinition::new("meta");
const LOG: TableDefinition<u64, &[u8]> = TableDefinition::new("log");
const KEPT: TableDefinition<&str, &[u8]> = TableDefinition::new("kept");
const EVENTS: TableDefinition<u64, &[u8]> = TableDefinition::new("events");
/// Of the tables' contents; a store of another format is refused.
const FORMAT: u32 = 4;
/// Events that wait for the history store: some weeks of an ordinary cluster. Then the oldest go.
const MOST_EVENTS: u64 = 100_000;
/// Longer than any store takes to be read whole: its log and snapshot are short, and its events are
/// bounded.
const OPENS_WITHIN: Duration = Duration::from_secs(60);
/// Events are kept only where as much room is left: the rest is for votes and entries, without
/// which this node is of no use.
const ROOM: u64 = 32 << 20;
/// Where room is made for a new event, an old audit line is looked for among so many of the oldest:
/// what was decided is worth more.
const OLDEST: usize = 200;
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
    #[error(
        "node store {path}: when this node ran last, the votes were {known}; the spec file now says {now}. Nodes with different votes may \
         form two majorities. Put the same file on every host while karstd is stopped on all of them, then start each once with \
         --votes-changed"
    )]
    Votes {
        path: String,
        known: String,
        now: String,
    },
    #[error("node store {0} has format {1}; this version reads {FORMAT}")]
    Format(String, u32),
    #[error(
        "node store {path} could not be opened within {} s: its disk does not answer, or the file is damaged. Look whether the disk          answers; if it does, move the store away: this node then starts with an empty one, which votes once `karst node enrol` has          been called for it", .limit.as_secs()
    )]
    Stuck { path: String, limit: Duration },
}

#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
struct Identity {
    format: u32,
    store: String,
    inode: u64,
    device: u64,
    /// It votes, and what it has counts: it formed the cluster, or was enrolled since it was made
    /// (A6).
    #[serde(default = "formed_before")]
    counts: bool,
    /// Who votes, as this node's spec file said when it ran last.
    #[serde(default)]
    votes: Option<Ballots>,
    /// It formed the cluster by itself.
    #[serde(default)]
    alone: bool,
}

/// The votes of each node that has any.
pub type Ballots = BTreeMap<NodeId, u32>;

fn listed(votes: &Ballots) -> String {
    votes
        .iter()
        .map(|(node, votes)| format!("{node} {votes}"))
        .collect::<Vec<_>>()
        .join(", ")
}

/// What a start knows of its store.
#[derive(Clone, Debug)]
pub struct Start {
    /// This node forms the cluster: a store that is made now counts (F3).
    pub forms: bool,
    /// It does so by itself: the others join it later.
    pub alone: bool,
    pub votes: Ballots,
    /// They were changed on every host while all were stopped.
    pub votes_changed: bool,
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
    /// It formed the cluster by itself.
    pub alone: bool,
    next_event: u64,
    recorded: u64,
    waiting: u64,
    commits: u64,
}

enum Job {
    Persist {
        number: u64,
        writes: Vec<Write>,
    },
    Record(Box<Event>),
    /// What came before it is durable when this is answered.
    Tell(oneshot::Sender<()>),
    /// The history store has these.
    Confirmed(u64),
    Stop,
}

/// The writing side. Clones share the one thread.
#[derive(Clone)]
pub struct Store {
    jobs: Sender<Job>,
    /// Events that the thread has not taken yet: a disk that hangs must not make them grow without
    /// bound.
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
    /// Opens or makes the store, and starts its thread. `persisted` is called on that thread when a
    /// batch is durable.
    ///
    /// # Errors
    /// If the file cannot be used, is damaged, is a copy or went back, or if the votes are others
    /// than before.
    pub fn open(
        path: &Path,
        start: Start,
        persisted: impl Fn(u64) + Send + 'static,
    ) -> Result<(Self, Opened), StoreError> {
        let name = path.display().to_string();
        let file = path.to_owned();
        let (database, opened, mark) = within(OPENS_WITHIN, &name.clone(), move || {
            let length = std::fs::metadata(&file).map_or(0, |m| m.len());
            let database = Database::create(&file).map_err(|e| refused(&name, e))?;
            // No other user reads the log and its records. The umask may say otherwise.
            let own = std::fs::Permissions::from_mode(0o600);
            std::fs::set_permissions(&file, own).map_err(|e| refused(&name, e))?;
            let metadata = std::fs::metadata(&file).map_err(|e| refused(&name, e))?;
            let (mark, reached) =
                Mark::open(&file.with_extension("mark")).map_err(|e| refused(&name, e))?;
            let before = Before {
                is_new: length == 0,
                file: (metadata.ino(), metadata.dev()),
                reached,
            };
            let (database, opened) = open_whole(database, &before, &name, &start)?;
            Ok((database, opened, mark))
        })?;
        let (jobs, work) = channel();
        let database = Arc::new(database);
        let store_id = opened.store_id.clone();
        let queued = Arc::new(AtomicUsize::new(0));
        let mut writer = Writer::new(database.clone(), Some(mark), &opened, queued.clone());
        writer.path = Some(path.to_owned());
        std::thread::Builder::new()
            .name("store".into())
            .spawn(move || writer.run(&work, persisted))
            .expect("a thread can be started");
        Ok((
            Self {
                jobs,
                queued,
                database,
                store_id,
            },
            opened,
        ))
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

    /// Records, and returns when that is durable.
    pub async fn record_durably(&self, event: Event) {
        let (tell, told) = oneshot::channel();
        self.record(event);
        let _ = self.jobs.send(Job::Tell(tell));
        let _ = told.await;
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

/// Opens a store on a thread of its own: the database takes for granted what need not be true of a
/// damaged file, and then panics, also where it lets go of it, or turns round and round.
fn within<T: Send + 'static>(
    limit: Duration,
    path: &str,
    open: impl FnOnce() -> Result<T, StoreError> + Send + 'static,
) -> Result<T, StoreError> {
    let (tell, told) = channel();
    let opening = move || drop(tell.send(open()));
    std::thread::Builder::new()
        .name("store-open".into())
        .spawn(opening)
        .expect("a thread can be started");
    match told.recv_timeout(limit) {
        Ok(opened) => opened,
        Err(RecvTimeoutError::Timeout) => Err(StoreError::Stuck {
            path: path.into(),
            limit,
        }),
        Err(RecvTimeoutError::Disconnected) => Err(StoreError::Broken(path.into())),
    }
}

fn refused(name: &str, error: impl Into<redb::Error>) -> StoreError {
    match error.into() {
        // A changed bit may have the file longer than it is, or a table of a type that nobody gave
        // it.
        redb::Error::Corrupted(_)
        | redb::Error::UpgradeRequired(_)
        | redb::Error::TableTypeMismatch { .. }
        | redb::Error::TypeDefinitionChanged { .. }
        | redb::Error::TableIsMultimap(_)
        | redb::Error::TableIsNotMultimap(_) => StoreError::Broken(name.into()),
        redb::Error::Io(error)
            if matches!(
                error.kind(),
                ErrorKind::InvalidData | ErrorKind::UnexpectedEof
            ) =>
        {
            StoreError::Broken(name.into())
        }
        source => StoreError::Database {
            path: name.into(),
            source,
        },
    }
}

/// What is known of a store's file before it is read.
#[derive(Clone, Debug)]
struct Before {
    is_new: bool,
    /// Its inode and device.
    file: (u64, u64),
    reached: Option<Reached>,
}

/// The database, every page of it compared with its checksum: what was changed behind its back must
/// not become a vote.
fn open_whole(
    mut database: Database,
    file: &Before,
    name: &str,
    start: &Start,
) -> Result<(Database, Opened), StoreError> {
    let wrap = |e| match e {
        LoadError::Redb(e) => refused(name, *e),
        LoadError::Store(e) => e,
    };
    let before = find(&database, name).map_err(wrap)?;
    let whole = database.check_integrity().map_err(|e| refused(name, e))?;
    let found = find(&database, name).map_err(wrap)?;
    // It also mends what says which pages are free, and that may well be out of date: of what the
    // store says nothing may be different.
    let changed = !whole && found != before;
    let ahead = |(reached, identity): (&Reached, &Identity)| {
        reached.store == identity.store && reached.commits > found.commits
    };
    let went_back = file
        .reached
        .as_ref()
        .zip(found.identity.as_ref())
        .is_some_and(ahead);
    if changed || went_back || (found.identity.is_none() && !file.is_new) {
        return Err(StoreError::Broken(name.into()));
    }
    // Who votes is what the log says, once it does.
    let logged = found
        .stored
        .snapshot
        .as_ref()
        .is_some_and(|s| s.state.charter.voters.is_some());
    let says = |e: &Entry| matches!(&e.command, Command::Cluster(ClusterAct::Found { .. }));
    let start = &Start {
        votes_changed: start.votes_changed || logged || found.stored.entries.iter().any(says),
        ..start.clone()
    };
    let identity = identify_as(found.identity.clone(), file.file, name, start)?;
    let save = || -> Result<(), redb::Error> {
        let tx = database.begin_write()?;
        tx.open_table(META)?
            .insert("identity", encode(&identity).as_slice())?;
        // Whoever reads them may come before the first event.
        tx.open_table(EVENTS)?;
        tx.commit()?;
        Ok(())
    };
    save().map_err(|e| refused(name, e))?;
    let Found {
        mut stored,
        kept,
        next_event,
        recorded,
        waiting,
        commits,
        ..
    } = found;
    (stored.store, stored.counts) = (Some(identity.store.as_str().into()), identity.counts);
    let opened = Opened {
        stored,
        kept,
        alone: identity.alone,
        store_id: identity.store,
        next_event,
        recorded,
        waiting,
        commits,
    };
    Ok((database, opened))
}

/// Who the store is, if it may be used: it is the file that was made then, and the votes are the
/// same.
fn identify_as(
    found: Option<Identity>,
    file: (u64, u64),
    name: &str,
    start: &Start,
) -> Result<Identity, StoreError> {
    let (inode, device) = file;
    let mut identity = match found {
        Some(identity) if identity.format != FORMAT => {
            return Err(StoreError::Format(name.into(), identity.format));
        }
        Some(identity) if (identity.inode, identity.device) != file => {
            return Err(StoreError::Copied(name.into()));
        }
        Some(identity) => identity,
        None => {
            let store = format!("{:016x}", rand::random::<u64>());
            Identity {
                format: FORMAT,
                store,
                inode,
                device,
                counts: start.forms || start.alone,
                votes: None,
                alone: start.alone,
            }
        }
    };
    let known = identity.votes.replace(start.votes.clone());
    if let Some(known) = known.filter(|known| *known != start.votes && !start.votes_changed) {
        let (known, now) = (listed(&known), listed(&start.votes));
        return Err(StoreError::Votes {
            path: name.into(),
            known,
            now,
        });
    }
    Ok(identity)
}

/// What is in a store.
#[derive(Debug, PartialEq)]
struct Found {
    identity: Option<Identity>,
    /// Without what its identity says.
    stored: Stored,
    kept: BTreeMap<WorkloadId, Kept>,
    next_event: u64,
    recorded: u64,
    waiting: u64,
    commits: u64,
}

fn find(database: &Database, name: &str) -> Result<Found, LoadError> {
    // A new one has no tables yet, and a transaction that is dropped leaves none.
    let tx = database.begin_write()?;
    let meta = tx.open_table(META)?;
    let identity = meta
        .get("identity")?
        .map(|v| decode::<Identity>(name, v.value()));
    let identity = identity.transpose().map_err(LoadError::Store)?;
    let mut stored = Stored::default();
    if let Some(vote) = meta.get("vote")? {
        (stored.term, stored.vote) = decode(name, vote.value()).map_err(LoadError::Store)?;
    }
    if let Some(keeps) = meta.get("keeps")? {
        stored.keeps = decode(name, keeps.value()).map_err(LoadError::Store)?;
    }
    let snapshot = meta
        .get("snapshot")?
        .map(|v| decode::<Snapshot>(name, v.value()));
    stored.snapshot = snapshot.transpose().map_err(LoadError::Store)?;
    for row in tx.open_table(LOG)?.iter()? {
        stored
            .entries
            .push(decode(name, row?.1.value()).map_err(LoadError::Store)?);
    }
    // A vote alone names a term that no entry may exceed.
    let last = stored.entries.last().map(|e| e.term).unwrap_or_default();
    let base = stored
        .snapshot
        .as_ref()
        .map(|s| s.last.term)
        .unwrap_or_default();
    stored.term = stored.term.max(last).max(base);
    let mut kept = BTreeMap::new();
    for row in tx.open_table(KEPT)?.iter()? {
        let (workload, value) = row?;
        kept.insert(
            workload.value().into(),
            decode(name, value.value()).map_err(LoadError::Store)?,
        );
    }
    let waiting = redb::ReadableTableMetadata::len(&tx.open_table(EVENTS)?)?;
    let number = |key: &str| -> Result<u64, LoadError> {
        meta.get(key)?
            .map_or(Ok(0), |v| decode(name, v.value()).map_err(LoadError::Store))
    };
    let (next_event, recorded, commits) = (
        number("next_event")?.max(1),
        number("recorded")?,
        number("commits")?,
    );
    Ok(Found {
        identity,
        stored,
        kept,
        next_event,
        recorded,
        waiting,
        commits,
    })
}

struct Writer {
    database: Arc<Database>,
    mark: Option<Mark>,
    store_id: String,
    commits: u64,
    next_event: u64,
    /// Committed decisions up to here were recorded; after a restart they are applied, not
    /// recorded, again.
    recorded: u64,
    /// Events that the history store has not confirmed.
    waiting: u64,
    queued: Arc<AtomicUsize>,
    /// On whose volume there has to be room for events.
    path: Option<PathBuf>,
    /// Events that were left out for want of room, until that is on record.
    left_out: u64,
}

impl Writer {
    fn new(
        database: Arc<Database>,
        mark: Option<Mark>,
        opened: &Opened,
        queued: Arc<AtomicUsize>,
    ) -> Self {
        let Opened {
            next_event,
            recorded,
            waiting,
            commits,
            ..
        } = *opened;
        let store_id = opened.store_id.clone();
        Self {
            database,
            mark,
            store_id,
            commits,
            next_event,
            recorded,
            waiting,
            queued,
            path: None,
            left_out: 0,
        }
    }

    fn run(mut self, work: &Receiver<Job>, persisted: impl Fn(u64)) {
        while let Ok(first) = work.recv() {
            let jobs: Vec<Job> = std::iter::once(first).chain(work.try_iter()).collect();
            let stop = jobs.iter().any(|j| matches!(j, Job::Stop));
            match self.commit(jobs) {
                Ok(Some(number)) => persisted(number),
                Ok(None) => {}
                Err(error) => {
                    // Nothing that depends on this was sent, and nothing more may be: this node is
                    // of no use now.
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
        let (mut durable, mut waiting, mut has_room) = (None, Vec::new(), None);
        let tx = self.database.begin_write()?;
        for job in jobs {
            match job {
                Job::Persist { number, writes } => {
                    for write in writes {
                        if let Write::Log(Durable::Enrolled(store) | Durable::Expelled(store)) =
                            &write
                        {
                            self.store_id = store.as_str().into();
                        }
                        apply(&tx, write)?;
                    }
                    durable = Some(number);
                }
                Job::Record(event) => {
                    self.queued.fetch_sub(1, Ordering::Relaxed);
                    if !*has_room.get_or_insert_with(|| self.has_room()) {
                        self.left_out += 1;
                        continue;
                    }
                    let left_out = std::mem::take(&mut self.left_out);
                    if left_out > 0 {
                        let text = format!(
                            "{left_out} events were left out: the node store's volume had no room for them"
                        );
                        self.record(&tx, Event::new(Level::Warning, FactKind::LeftOut, text))?;
                    }
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
                Job::Tell(tell) => waiting.push(tell),
                Job::Stop => {}
            }
        }
        self.commits += 1;
        tx.open_table(META)?
            .insert("commits", encode(&self.commits).as_slice())?;
        tx.commit()?;
        if let Some(mark) = &self.mark {
            mark.write(&self.store_id, self.commits)
                .map_err(redb::Error::Io)?;
        }
        for tell in waiting {
            // Whoever asked may have stopped waiting.
            let _: Result<(), ()> = tell.send(());
        }
        Ok(durable)
    }

    /// Not known is not full: the write itself says so.
    fn has_room(&self) -> bool {
        let free = |path: &PathBuf| statvfs(path).map(|v| v.f_bavail.saturating_mul(v.f_frsize));
        self.path
            .as_ref()
            .is_none_or(|path| free(path).map_or(true, |free| free >= ROOM))
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
        let stamped = Stamped {
            number: self.next_event,
            at: clock::wall(),
            event,
        };
        let mut events = tx.open_table(EVENTS)?;
        events.insert(self.next_event, encode(&stamped).as_slice())?;
        self.waiting += 1;
        if self.waiting > MOST_EVENTS {
            // The history store has been away for long: the oldest go, audit lines first.
            match oldest_audit_line(&events)? {
                Some(number) => drop(events.remove(number)?),
                None => drop(events.pop_first()?),
            }
            self.waiting -= 1;
        }
        self.next_event += 1;
        meta.insert("next_event", encode(&self.next_event).as_slice())?;
        Ok(())
    }
}

fn oldest_audit_line(events: &Table<'_, u64, &[u8]>) -> Result<Option<u64>, redb::Error> {
    for row in events.iter()?.take(OLDEST) {
        let (number, stamped) = row?;
        let kind = ciborium::from_reader::<Stamped, _>(stamped.value()).map(|s| s.event.kind);
        if kind.is_ok_and(|kind| matches!(kind, FactKind::Asked | FactKind::Answered)) {
            return Ok(Some(number.value()));
        }
    }
    Ok(None)
}

/// From here on the store has this name, and counts or does not (A6).
fn identify(tx: &WriteTransaction, store: &str, counts: bool) -> Result<(), redb::Error> {
    let mut meta = tx.open_table(META)?;
    let found = meta
        .get("identity")?
        .map(|v| decode::<Identity>("", v.value()));
    let Some(Ok(identity)) = found else {
        return Err(redb::Error::Corrupted(
            "the store's identity cannot be read".into(),
        ));
    };
    let identity = Identity {
        store: store.into(),
        counts,
        ..identity
    };
    meta.insert("identity", encode(&identity).as_slice())?;
    Ok(())
}

fn apply(tx: &WriteTransaction, write: Write) -> Result<(), redb::Error> {
    match write {
        Write::Log(Durable::Vote { term, vote }) => {
            tx.open_table(META)?
                .insert("vote", encode(&(term, vote)).as_slice())?;
        }
        Write::Log(Durable::Entries(entries)) => {
            let mut log = tx.open_table(LOG)?;
            if let Some(Entry {
                index: Index(first),
                ..
            }) = entries.first()
            {
                log.retain_in(*first.., |_, _| false)?;
            }
            for entry in entries {
                log.insert(entry.index.0, encode(&entry).as_slice())?;
            }
        }
        Write::Log(Durable::Keeps(keeps)) => {
            tx.open_table(META)?
                .insert("keeps", encode(&keeps).as_slice())?;
        }
        Write::Log(Durable::Enrolled(store)) => identify(tx, store.as_str(), true)?,
        Write::Log(Durable::Expelled(store)) => identify(tx, store.as_str(), false)?,
        Write::Log(Durable::Compacted(snapshot)) => {
            tx.open_table(LOG)?
                .retain(|index, _| index > snapshot.last.index.0)?;
            tx.open_table(META)?
                .insert("snapshot", encode(&snapshot).as_slice())?;
        }
        Write::Log(Durable::Installed(snapshot)) => {
            tx.open_table(LOG)?.retain(|_, _| false)?;
            tx.open_table(META)?
                .insert("snapshot", encode(&snapshot).as_slice())?;
        }
        Write::Forgotten { workload } => {
            drop(tx.open_table(KEPT)?.remove(workload.as_str())?);
        }
        Write::Kept { workload, kept } => {
            tx.open_table(KEPT)?
                .insert(workload.as_str(), encode(&kept).as_slice())?;
        }
    }
    Ok(())
}
