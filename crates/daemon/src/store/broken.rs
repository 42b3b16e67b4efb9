//! A power cut at any moment of a commit leaves all of it or nothing of it; a changed bit leaves
//! what was there or a refusal.

use super::tests::start;
use super::*;
use karst_core::Term;
use karst_core::command::Command;
use karst_core::consensus::LogId;
use karst_core::event::{FactKind, Level};
use karst_core::node::Write;
use karst_core::state::ClusterState;
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use redb::StorageBackend;
use std::io;
use std::sync::Mutex;

/// A disk of this many bytes writes all of them or none.
const SECTOR: usize = 512;

#[derive(Clone, Debug)]
enum Change {
    Length(u64),
    Write(u64, Vec<u8>),
    Sync,
}

/// A file in memory that remembers every change.
#[derive(Clone, Debug, Default)]
struct Film(Arc<Mutex<(Vec<u8>, Vec<Change>)>>);

fn change(image: &mut Vec<u8>, change: &Change) {
    match change {
        Change::Length(length) => image.resize(*length as usize, 0),
        Change::Write(at, data) => {
            image[*at as usize..*at as usize + data.len()].copy_from_slice(data)
        }
        Change::Sync => {}
    }
}

impl Film {
    fn of(image: Vec<u8>) -> Self {
        Self(Arc::new(Mutex::new((image, Vec::new()))))
    }

    fn take(&self, next: Change) {
        let mut film = self.0.lock().unwrap();
        change(&mut film.0, &next);
        film.1.push(next);
    }

    fn changes(&self) -> Vec<Change> {
        self.0.lock().unwrap().1.clone()
    }

    fn image(&self) -> Vec<u8> {
        self.0.lock().unwrap().0.clone()
    }
}

impl StorageBackend for Film {
    fn len(&self) -> io::Result<u64> {
        Ok(self.0.lock().unwrap().0.len() as u64)
    }
    fn read(&self, offset: u64, out: &mut [u8]) -> io::Result<()> {
        let film = self.0.lock().unwrap();
        let part = film.0.get(offset as usize..offset as usize + out.len());
        out.copy_from_slice(part.ok_or(io::ErrorKind::UnexpectedEof)?);
        Ok(())
    }
    fn set_len(&self, len: u64) -> io::Result<()> {
        self.take(Change::Length(len));
        Ok(())
    }
    fn sync_data(&self) -> io::Result<()> {
        self.take(Change::Sync);
        Ok(())
    }
    fn write(&self, offset: u64, data: &[u8]) -> io::Result<()> {
        self.take(Change::Write(offset, data.to_vec()));
        Ok(())
    }
}

fn open(film: Film, reached: Option<Reached>) -> Result<(Database, Opened), StoreError> {
    within(Duration::from_secs(20), "film", move || {
        let before = Before {
            is_new: film.len().unwrap() == 0,
            file: (7, 7),
            reached,
        };
        let database = Database::builder()
            .create_with_backend(film)
            .map_err(|e| refused("film", e))?;
        open_whole(database, &before, "film", &start(true))
    })
}

/// All that a vote may depend on.
type Content = (Stored, BTreeMap<WorkloadId, Kept>);

fn content(opened: Opened) -> Content {
    (opened.stored, opened.kept)
}

fn entries(term: u64, indexes: std::ops::RangeInclusive<u64>) -> Write {
    let entry = |index| Entry {
        term: Term(term),
        index: Index(index),
        command: Command::Noop,
    };
    Write::Log(Durable::Entries(indexes.map(entry).collect()))
}

/// What a node writes in its life, a commit each.
fn life() -> Vec<Vec<Write>> {
    let vote = |term, node: &str| {
        Write::Log(Durable::Vote {
            term: Term(term),
            vote: Some(NodeId::from(node)),
        })
    };
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
    let kept = |name: &str| Write::Kept {
        workload: name.into(),
        kept: Kept::default(),
    };
    let compacted = |term, index| Write::Log(Durable::Compacted(snapshot(term, index)));
    let mut life = vec![
        vec![vote(1, "polje")],
        vec![entries(1, 1..=3), kept("fleet")],
    ];
    for round in 0..4 {
        let (term, first) = (2 + round, 3 + 40 * round);
        life.push(vec![
            vote(term, "doline"),
            entries(term, first..=first + 40),
        ]);
        life.push(vec![entries(term, first + 30..=first + 35), kept("wharf")]);
        life.push(vec![compacted(term, first + 20)]);
    }
    life.push(vec![Write::Log(Durable::Expelled("other".into()))]);
    life.push(vec![
        Write::Log(Durable::Installed(snapshot(9, 900))),
        vote(9, "ponor"),
    ]);
    life
}

/// A store's life on film: after how many changes each commit was reported as durable, and what a
/// start finds from then on.
fn filmed() -> (Film, Vec<(usize, Content)>, Reached) {
    let film = Film::default();
    let (database, opened) = open(film.clone(), None).unwrap();
    let database = Arc::new(database);
    let mut writer = Writer::new(
        database.clone(),
        None,
        &opened,
        Arc::new(AtomicUsize::new(100)),
    );
    let found = || {
        let found = find(&database, "film")
            .map_err(|_| "it cannot be read")
            .unwrap();
        let identity = found.identity.unwrap();
        let store = Some(identity.store.as_str().into());
        (
            Stored {
                store,
                counts: identity.counts,
                ..found.stored
            },
            found.kept,
        )
    };
    let mut reached = vec![(film.changes().len(), found())];
    for (number, writes) in life().into_iter().enumerate() {
        let event = Event::new(Level::Info, FactKind::Serving, format!("commit {number}"));
        let persist = Job::Persist {
            number: number as u64,
            writes,
        };
        assert_eq!(
            writer
                .commit(vec![Job::Record(Box::new(event)), persist])
                .unwrap(),
            Some(number as u64)
        );
        reached.push((film.changes().len(), found()));
    }
    let mark = Reached {
        store: writer.store_id.clone(),
        commits: writer.commits,
    };
    (film, reached, mark)
}

/// What is on the disk after a power cut before change `at`: all that was synced, and of the rest
/// what the disk happened to write.
fn after_cut(changes: &[Change], at: usize, mut writes: impl FnMut() -> u8) -> Vec<u8> {
    let synced = changes[..at]
        .iter()
        .rposition(|c| matches!(c, Change::Sync))
        .map_or(0, |last| last + 1);
    let mut image = Vec::new();
    changes[..synced].iter().for_each(|c| change(&mut image, c));
    for later in &changes[synced..at] {
        match later {
            // The file system has its own order; a shorter file than its pages would be no power
            // cut's doing.
            Change::Length(_) => change(&mut image, later),
            Change::Write(offset, data) => match writes() {
                0 => {}
                1 => change(&mut image, later),
                share => {
                    let part = data.len() * usize::from(share) / 255 / SECTOR * SECTOR;
                    change(&mut image, &Change::Write(*offset, data[..part].to_vec()));
                }
            },
            Change::Sync => {}
        }
    }
    image
}

#[test]
fn a_power_cut_leaves_a_commit_whole_or_undone() {
    let (film, reached, _) = filmed();
    let changes = film.changes();
    let mut random = Pcg64Mcg::seed_from_u64(1);
    let (mut cuts, mut undone) = (0, 0);
    for at in reached[0].0..=changes.len() {
        let durable = reached
            .iter()
            .rposition(|(by, _)| *by <= at)
            .expect("the first was reached");
        for way in 0..4 {
            let image = after_cut(&changes, at, || match way {
                0 | 1 => way,
                2 => random.random_range(0..=1),
                _ => random.random(),
            });
            let (_, opened) =
                open(Film::of(image), None).unwrap_or_else(|e| panic!("cut at {at}: {e}"));
            let found = content(opened);
            let next = reached.get(durable + 1).map(|(_, content)| content);
            assert!(
                found == reached[durable].1 || Some(&found) == next,
                "cut before change {at}, way {way}: neither commit {durable} nor the next, but {found:?}"
            );
            undone += usize::from(found == reached[durable].1);
            cuts += 1;
        }
    }
    assert!(
        cuts > 400 && undone > 100 && undone < cuts,
        "{cuts} cuts, {undone} of them before the commit"
    );
}

#[test]
fn a_changed_bit_is_refused_or_changes_nothing() {
    let (film, commits, reached) = filmed();
    let (whole, content_then) = (film.image(), &commits.last().unwrap().1);
    // Half of them in the first page, where the database says how it is laid out; most of the file
    // is empty.
    let used: Vec<usize> = (0..whole.len()).filter(|at| whole[*at] != 0).collect();
    let first = used.partition_point(|at| *at < 4096);
    let mut random = Pcg64Mcg::seed_from_u64(2);
    let mut outcomes: BTreeMap<&str, usize> = BTreeMap::new();
    for flip in 0..300 {
        let mut image = whole.clone();
        let at = used[random.random_range(0..if flip % 2 == 0 { first } else { used.len() })];
        image[at] ^= 1 << random.random_range(0..8);
        let outcome = match open(Film::of(image), Some(reached.clone())) {
            Ok((_, opened)) => {
                assert_eq!(&content(opened), content_then, "byte {at} was changed");
                "the same"
            }
            Err(StoreError::Broken(_) | StoreError::Damaged(..)) => "damaged",
            Err(error) => panic!("byte {at} was changed: {error}"),
        };
        *outcomes.entry(outcome).or_default() += 1;
    }
    assert!(outcomes["damaged"] > 30, "{outcomes:?}");
}

/// Opened and closed as often as a host is, with whatever it writes meanwhile: a whole store is
/// never refused.
#[test]
fn a_whole_store_is_opened_again() {
    let mut random = Pcg64Mcg::seed_from_u64(3);
    let film = Film::default();
    for round in 1..=60 {
        let (database, opened) =
            open(film.clone(), None).unwrap_or_else(|e| panic!("round {round}: {e}"));
        let mut writer = Writer::new(
            Arc::new(database),
            None,
            &opened,
            Arc::new(AtomicUsize::new(1_000)),
        );
        for _ in 0..random.random_range(0..5) {
            let (term, first) = (round, 1 + random.random_range(0..50));
            let mut jobs = vec![Job::Persist {
                number: 1,
                writes: vec![entries(term, first..=first + random.random_range(0..60))],
            }];
            for event in 0..random.random_range(0..40) {
                jobs.push(Job::Record(Box::new(Event::new(
                    Level::Info,
                    FactKind::Serving,
                    format!("event {event}"),
                ))));
            }
            jobs.push(Job::Confirmed(
                opened.next_event + random.random_range(0..40),
            ));
            writer.commit(jobs).unwrap();
        }
    }
}
