//! The record on a real server: what was written once stays as it was, a decision that every node
//! records is read once, and a store that is away loses nothing of a batch.

use karst_api::core::event::{Event, FactKind, Level};
use karst_api::core::{Index, NodeId, OperationId, WorkloadId};
use karst_history::{History, Query, Stamped};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

const PROGRAMS: &str = "/usr/lib/postgresql/15/bin";
const LIMIT: Duration = Duration::from_secs(60);

/// A server of this test alone, on a socket in a directory of its own; gone when the test ends.
struct Server {
    dir: PathBuf,
    child: Child,
}

impl Server {
    fn start(name: &str) -> Self {
        let dir = PathBuf::from(format!("/tmp/karst-history-{}-{name}", std::process::id()));
        std::fs::create_dir_all(&dir).unwrap();
        if is_root() {
            assert!(
                Command::new("chown")
                    .arg("postgres:postgres")
                    .arg(&dir)
                    .status()
                    .unwrap()
                    .success()
            );
        }
        let data = dir.join("data");
        let made = program("initdb")
            .args(["-U", "karst", "-A", "trust", "--no-sync", "-D"])
            .arg(&data)
            .output();
        assert!(made.unwrap().status.success());
        let child = Self::run(&dir);
        Self { dir, child }
    }

    fn run(dir: &Path) -> Child {
        let mut server = program("postgres");
        server
            .arg("-D")
            .arg(dir.join("data"))
            .args(["-c", "listen_addresses=", "-c", "fsync=off"]);
        server
            .arg("-c")
            .arg(format!("unix_socket_directories={}", dir.display()));
        server
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap()
    }

    fn history(&self) -> History {
        History::new(
            &format!(
                "postgres://karst@localhost/postgres?host={}",
                self.dir.display()
            ),
            None,
        )
        .unwrap()
    }

    fn sql(&self, text: &str) {
        let mut psql = program("psql");
        psql.args([
            "-qX",
            "-v",
            "ON_ERROR_STOP=1",
            "-U",
            "karst",
            "-d",
            "postgres",
            "-h",
        ]);
        let done = psql.arg(&self.dir).args(["-c", text]).status().unwrap();
        assert!(done.success());
    }

    fn stop(&mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        let _ = std::fs::remove_dir_all(&self.dir);
    }
}

fn is_root() -> bool {
    std::fs::metadata("/proc/self").is_ok_and(|m| std::os::unix::fs::MetadataExt::uid(&m) == 0)
}

/// Server programs refuse to run as root.
fn program(name: &str) -> Command {
    let path = format!("{PROGRAMS}/{name}");
    let mut command = if is_root() {
        let mut command = Command::new("setpriv");
        command
            .args(["--reuid=postgres", "--regid=postgres", "--clear-groups"])
            .arg(path);
        command
    } else {
        Command::new(path)
    };
    command.current_dir("/");
    command
}

async fn migrated(history: &History) {
    let begun = Instant::now();
    while let Err(error) = history.migrate().await {
        assert!(begun.elapsed() < LIMIT, "{error}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// Seconds after nine o'clock of a Saturday in November.
fn at(second: u64) -> i128 {
    (1_795_251_600 + i128::from(second)) * 1_000_000_000
}

fn said(number: u64, second: u64, kind: FactKind) -> Stamped {
    Stamped {
        number,
        at: at(second),
        event: Event::new(Level::Info, kind, format!("{kind} at {second}")),
    }
}

/// A committed decision of an operation.
fn decided(number: u64, second: u64, index: u64, kind: FactKind) -> Stamped {
    let mut stamped = said(number, second, kind);
    stamped.event = stamped.event.within(Some(OperationId(40)));
    stamped.event.workload = Some(WorkloadId::from("sailings"));
    stamped.event.index = Some(Index(index));
    stamped
}

fn all() -> Query {
    Query {
        limit: 100,
        ..Query::default()
    }
}

#[tokio::test]
async fn what_is_written_again_changes_nothing_and_a_decision_is_read_once() {
    let server = Server::start("twice");
    let history = server.history();
    migrated(&history).await;
    let (doline, polje) = (NodeId::from("doline"), NodeId::from("polje"));
    let batch = [
        said(1, 1, FactKind::Suspected),
        decided(2, 3, 40, FactKind::OperationBegan),
        decided(3, 4, 41, FactKind::Revoked),
    ];
    history.write(&doline, "store-1", &batch).await.unwrap();
    // The confirmation was lost: the same again, and in other words by a node that lies.
    history.write(&doline, "store-1", &batch).await.unwrap();
    let mut other = said(1, 1, FactKind::Suspected);
    other.event.text = "something else".into();
    history.write(&doline, "store-1", &[other]).await.unwrap();
    // Another node records the same decisions, a little later.
    history
        .write(
            &polje,
            "store-2",
            &[
                decided(1, 5, 40, FactKind::OperationBegan),
                decided(2, 6, 41, FactKind::Revoked),
            ],
        )
        .await
        .unwrap();

    let records = history.read(&all()).await.unwrap();
    let kinds: Vec<(&str, &str)> = records
        .iter()
        .map(|r| (r.node.as_str(), r.kind.as_str()))
        .collect();
    assert_eq!(
        kinds,
        [
            ("doline", "suspected"),
            ("doline", "operation-began"),
            ("doline", "revoked")
        ]
    );
    assert_eq!(records[0].text, "suspected at 1");
    assert_eq!(
        history.completeness().await.unwrap(),
        [("doline".into(), 3, 3), ("polje".into(), 2, 2)]
    );
}

/// PostgreSQL takes no NUL, neither in a text nor in JSON. The records around such a one are written,
/// and what stands in its place says why.
#[tokio::test]
async fn a_record_that_is_refused_keeps_no_other_one_out() {
    let server = Server::start("refused");
    let history = server.history();
    migrated(&history).await;
    let mut batch: Vec<Stamped> = (1..=60).map(|n| said(n, n, FactKind::Suspected)).collect();
    batch[6].event.text = "because\0of this".into();
    batch[41].event.data = [("output".into(), "\0".into())].into();
    let node = NodeId::from("uvala");
    let refused = history.write(&node, "store", &batch).await.unwrap();
    let numbers: Vec<u64> = refused.iter().map(|(number, _)| *number).collect();
    assert_eq!(numbers, [7, 42], "{refused:?}");
    let whole = [("uvala".into(), 60, 60)];
    assert_eq!(history.completeness().await.unwrap(), whole);
    for record in history.read(&all()).await.unwrap() {
        let is_note = record.text.contains("refused by the history store");
        assert_eq!(is_note, numbers.contains(&record.number), "{record:?}");
    }
}

#[tokio::test]
async fn what_is_asked_for_is_what_is_read() {
    let server = Server::start("ask");
    let history = server.history();
    migrated(&history).await;
    let node = NodeId::from("ponor");
    let batch = [
        said(1, 1, FactKind::Suspected),
        decided(2, 2, 7, FactKind::OperationBegan),
        said(3, 3, FactKind::HeardAgain),
    ];
    history.write(&node, "store", &batch).await.unwrap();
    let kinds = async |query: Query| -> Vec<String> {
        history
            .read(&query)
            .await
            .unwrap()
            .into_iter()
            .map(|r| r.kind)
            .collect()
    };
    assert_eq!(
        kinds(Query { limit: 2, ..all() }).await,
        ["operation-began", "heard-again"],
        "the newest two"
    );
    assert_eq!(
        kinds(Query {
            workload: Some("sailings".into()),
            ..all()
        })
        .await,
        ["operation-began"]
    );
    assert_eq!(
        kinds(Query {
            operation: Some(40),
            ..all()
        })
        .await,
        ["operation-began"]
    );
    assert_eq!(
        kinds(Query {
            workload: Some("'; drop table event; --".into()),
            ..all()
        })
        .await,
        Vec::<String>::new()
    );
    let second = Some(batch[1].time());
    assert_eq!(
        kinds(Query {
            after: second,
            ..all()
        })
        .await,
        ["heard-again"]
    );
}

/// Whoever follows the record gets what a node brings late, however long ago it happened.
#[tokio::test]
async fn what_comes_late_is_read_by_when_it_came() {
    let server = Server::start("late");
    let history = server.history();
    migrated(&history).await;
    history
        .write(
            &"ponor".into(),
            "store-1",
            &[said(1, 500, FactKind::Suspected)],
        )
        .await
        .unwrap();
    let newest = history.read(&all()).await.unwrap()[0].at.clone();
    let seen = OffsetDateTime::parse(&newest, &Rfc3339).unwrap();
    history
        .write(
            &"uvala".into(),
            "store-2",
            &[said(1, 100, FactKind::StoppedByLease)],
        )
        .await
        .unwrap();
    let after = history
        .read(&Query {
            after: Some(seen),
            ..all()
        })
        .await
        .unwrap();
    assert_eq!(after, [], "it happened before");
    let arrived = history.arrived().await.unwrap();
    let since = history
        .read(&Query {
            arrived_after: Some(arrived),
            ..all()
        })
        .await
        .unwrap();
    let kinds: Vec<&str> = since.iter().map(|r| r.kind.as_str()).collect();
    assert_eq!(
        kinds,
        ["stopped-by-lease", "suspected"],
        "what came in the last moments, some of it again"
    );
    let later = OffsetDateTime::now_utc() + Duration::from_secs(60);
    assert_eq!(
        history
            .read(&Query {
                arrived_after: Some(later),
                ..all()
            })
            .await
            .unwrap(),
        []
    );
}

/// Nodes write side by side, and migrate side by side; a store that dies in the middle has a batch
/// whole or not at all.
#[tokio::test]
async fn a_store_that_was_away_has_everything_once_it_is_back() {
    let mut server = Server::start("away");
    let history = server.history();
    let (one, two) = (server.history(), server.history());
    migrated(&history).await;
    tokio::join!(migrated(&one), migrated(&two));
    let node = NodeId::from("uvala");
    let batch: Vec<Stamped> = (1..=50).map(|n| said(n, n, FactKind::Suspected)).collect();
    history.write(&node, "store", &batch[..20]).await.unwrap();
    server.stop();
    assert!(
        history.write(&node, "store", &batch).await.is_err(),
        "nobody is there to take it"
    );
    // A server that was killed leaves its lock behind.
    let _ = std::fs::remove_file(server.dir.join("data/postmaster.pid"));
    server.child = Server::run(&server.dir);
    let begun = Instant::now();
    while let Err(error) = history.write(&node, "store", &batch).await {
        assert!(begun.elapsed() < LIMIT, "{error}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    assert_eq!(
        history.completeness().await.unwrap(),
        [("uvala".into(), 50, 50)]
    );
}

/// Another program may write any rows into the store. Each is read as a record, and no row keeps the
/// others from being read.
#[tokio::test]
async fn hostile_rows_are_read_like_others() {
    const ROWS: u32 = 10_000;
    let server = Server::start("hostile");
    let history = server.history();
    migrated(&history).await;
    server.sql(&format!(
        r#"insert into event (node, store, number, at, level, kind, text, workload, operation, log_index, data)
         select (array['ponor', '', repeat('x', 5000), e'\x1b[2J', '../x'])[1 + n % 5], 'store', n,
             (array['2026-11-21', '0001-01-01', '9999-12-31', '1970-01-01'])[1 + n / 5 % 4]::timestamptz,
             (array['info', 'INFO', '', 'warning'])[1 + n % 4],
             (array['asked', 'nothing', '', e'a\nb'])[1 + n / 3 % 4],
             repeat(chr(1 + n % 9000), n % 300), nullif((array['sailings', '', 'x'])[1 + n % 3], 'x'),
             case n % 4 when 0 then -1 when 1 then 9223372036854775807 when 2 then 0 end,
             case n % 3 when 0 then -n when 1 then n end,
             (array['{{}}', '[]', 'null', '1e300', '"x"', '{{"a":[[[[{{}}]]]]}}'])[1 + n % 6]::jsonb
         from generate_series(1, {ROWS}) n"#
    ));
    let query = Query {
        limit: ROWS + 10,
        ..Query::default()
    };
    let all = history.read(&query).await.unwrap();
    assert_eq!(all.len(), ROWS as usize);
    // PostgreSQL has moments that no calendar has.
    for moment in ["infinity", "-infinity", "4713-01-01 BC", "294276-12-31"] {
        server.sql(&format!(
            "insert into event (node, store, number, at, level, kind, text)
             values ('polje', 'store', 1, '{moment}', 'info', 'asked', '')
             on conflict (node, store, number) do update set at = excluded.at"
        ));
        let read = history.read(&query).await.unwrap();
        assert!(read.len() >= all.len(), "{moment}");
    }
}
