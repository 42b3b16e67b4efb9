//! The driver against real servers on loopback: what it says of the end of a log, and of who has
//! it.

use karst_adapters::postgres::Lsn;
use karst_adapters::process::Processes;
use karst_adapters::trouble::Trouble;
use karst_core::replica::{Action, Data, Done, SyncSetting};
use karst_core::spec::{Alone, Loss, ReplicaSpec, WorkloadSpec};
use karst_core::{Epoch, History, NodeId, Position};
use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair};
use sqlx::Connection as _;
use sqlx::postgres::{PgConnectOptions, PgConnection};
use std::io::{Read as _, Write as _};
use std::net::{SocketAddr, TcpListener};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::Path;
use std::time::{Duration, Instant};

const LIMIT: Duration = Duration::from_secs(20);
const SECRET: &str = "gangway-gangway-gangway-gangway-gangway";
/// Names that would be statements of their own, were they not quoted.
const DATABASE: &str = "sailings; drop role booking";
const CLIENT: &str = "booking $karst$ desk";
/// Of a server's log (manual, section 30.6).
const PAGE: u64 = 8192;

struct Server {
    address: SocketAddr,
    driver: karst_adapters::Server,
    /// A driver that remembers nothing, as after a restart of the daemon.
    another: karst_adapters::Server,
    processes: Processes,
    socket: PgConnectOptions,
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.processes.end_all(LIMIT);
    }
}

impl Server {
    fn new(dir: &Path, me: &NodeId, spec: &WorkloadSpec) -> Self {
        let (workload, replica) = ("sailings".into(), &spec.replicas[me]);
        let processes = Processes::new(Path::new(&replica.data), None);
        let runtime = dir.join(format!("{me}.run"));
        let tls = dir.join(format!("{me}.tls"));
        let place = || karst_adapters::Placed {
            workload: &workload,
            spec,
            me,
            runtime: &runtime,
            tls: &tls,
            processes: processes.clone(),
        };
        let [driver, another] = [place(), place()].map(karst_adapters::Server::of);
        let socket = PgConnectOptions::new_without_pgpass()
            .socket(runtime.join("sailings/socket"))
            .port(replica.address.port());
        Self {
            address: replica.address,
            driver: driver.expect("a whole spec"),
            another: another.expect("a whole spec"),
            processes,
            socket: socket.username("postgres").database("postgres"),
        }
    }

    async fn act(&self, action: Action) -> Result<Done, Trouble> {
        self.driver.act(action).await
    }

    async fn settle(&self, enough: Option<u64>) -> Position {
        match self.act(Action::Settle { enough }).await {
            Ok(Done::Settled { at }) => at,
            other => panic!("{other:?}"),
        }
    }

    /// Of the file that the server itself writes (manual, section 73.1).
    fn first_process(&self) -> i32 {
        let file = std::fs::read_to_string(self.driver.data_dir().join("postmaster.pid"))
            .expect("it runs");
        file.lines()
            .next()
            .and_then(|l| l.parse().ok())
            .expect("a process")
    }

    async fn connect(&self) -> PgConnection {
        PgConnection::connect_with(&self.socket)
            .await
            .expect("it answers")
    }

    async fn sql(&self, statement: &'static str) {
        sqlx::raw_sql(statement)
            .execute(&mut self.connect().await)
            .await
            .expect(statement);
    }

    /// One of the server's own processes.
    async fn process(&self, kind: &str) -> i32 {
        let query = "select pid from pg_stat_activity where backend_type = $1";
        let mut connection = self.connect().await;
        let pid = sqlx::query_scalar(query).bind(kind);
        pid.fetch_one(&mut connection).await.expect("it runs")
    }

    async fn streams(&self) {
        let begun = Instant::now();
        while !self.driver.observe().await.streaming {
            assert!(begun.elapsed() < LIMIT, "{:?}", self.driver.observe().await);
        }
    }
}

fn pair(dir: &Path) -> [Server; 2] {
    // The servers run as another user than root.
    std::fs::set_permissions(dir, std::fs::Permissions::from_mode(0o755))
        .expect("the directory is ours");
    let secret = dir.join("secret");
    std::fs::write(&secret, SECRET).expect("a secret");
    let nodes = ["doline", "polje"].map(NodeId::from);
    let free = || {
        TcpListener::bind("127.0.0.1:0")
            .and_then(|l| l.local_addr())
            .expect("a free port")
    };
    let replica = |(rank, node): (usize, &NodeId)| {
        let address: SocketAddr = free();
        let data = dir.join(node.as_str()).display().to_string();
        (
            node.clone(),
            ReplicaSpec {
                rank: rank as u32,
                address,
                data,
                log: None,
                copy_from: None,
                base_backup: None,
            },
        )
    };
    let spec = WorkloadSpec {
        driver: "postgres".into(),
        loss: Loss::None,
        alone: Alone::Block,
        adopt: false,
        rules: Default::default(),
        restart: false,
        replicas: nodes.iter().enumerate().map(replica).collect(),
        gates: Default::default(),
        reads: None,
        name: None,
        address: None,
        settings: [
            ("secret".into(), format!("file:{}", secret.display())),
            ("set.shared_buffers".into(), "16MB".into()),
            ("database".into(), DATABASE.into()),
            ("client".into(), CLIENT.into()),
            ("client-secret".into(), format!("file:{}", secret.display())),
        ]
        .into(),
    };
    certify(dir, &nodes);
    nodes.map(|me| Server::new(dir, &me, &spec))
}

/// A CA, and a certificate of each server.
fn certify(dir: &Path, nodes: &[NodeId]) {
    let mut ca = CertificateParams::default();
    ca.distinguished_name
        .push(DnType::CommonName, "the test's CA");
    ca.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let key = KeyPair::generate().expect("a key");
    let pem = ca.self_signed(&key).expect("a CA").pem();
    let issuer = Issuer::new(ca, key);
    for node in nodes {
        let tls = dir.join(format!("{node}.tls"));
        std::fs::create_dir(&tls).expect("a directory");
        let key = KeyPair::generate().expect("a key");
        let mut params = CertificateParams::new(vec![node.to_string()]).expect("a name");
        params
            .distinguished_name
            .push(DnType::CommonName, node.as_str());
        let files = [
            ("ca.pem", pem.clone()),
            (
                "server.pem",
                params
                    .signed_by(&key, &issuer)
                    .expect("a certificate")
                    .pem(),
            ),
            ("server.key", key.serialize_pem()),
        ];
        files
            .iter()
            .for_each(|(name, text)| std::fs::write(tls.join(name), text).expect("a file"));
    }
}

fn sync(epoch: u64, number: u64, standby: &str) -> Action {
    Action::SetSync(SyncSetting {
        epoch: Epoch(epoch),
        number,
        standbys: vec![standby.into()],
        unprotected: false,
    })
}

/// D6, D9, D12: a clean stop says where the log ends, whoever has that needs no reload to be
/// settled, and the server that stopped follows the next one as it is. A log that was received and
/// not replayed yet is not settled; the beginning of a record never is replayed.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_end_of_a_log_is_known_and_who_has_it() {
    let dir = tempfile::tempdir_in("/var/tmp").expect("a directory");
    let [doline, polje] = pair(dir.path());
    doline.act(Action::Create).await.expect("first data");
    polje
        .act(Action::Clone {
            from: "doline".into(),
        })
        .await
        .expect("a copy");
    polje
        .act(Action::StartStandby {
            upstream: "doline".into(),
        })
        .await
        .expect("a standby");
    doline.act(sync(1, 1, "polje")).await.expect("a sync set");
    doline
        .sql("create table sailing (quay text); insert into sailing values ('northquay')")
        .await;

    let stopped = doline
        .act(Action::StopClean { limit: LIMIT })
        .await
        .expect("a clean stop");
    let Done::Stopped {
        clean_at: Some(end),
    } = stopped
    else {
        panic!("{stopped:?}")
    };
    let first = History::from("1");
    let has = polje.settle(Some(end)).await;
    assert!(
        has.history == first && has.number >= end,
        "{has:?} of {end}"
    );
    assert_eq!(
        polje.settle(Some(u64::MAX)).await,
        has,
        "who lacks something settles as anybody else"
    );

    let after = Some(first.clone());
    let promoted = polje.act(Action::Promote { after }).await;
    let Ok(Done::Promoted(promoted)) = promoted else {
        panic!("{promoted:?}")
    };
    let point = &promoted.point;
    assert!(
        point.history.as_str() == "2"
            && point.parent == Some(first)
            && point.began >= end
            && point.writes_from >= point.began
            && promoted.unique,
        "{promoted:?}"
    );
    doline
        .act(Action::StartStandby {
            upstream: "polje".into(),
        })
        .await
        .expect("it follows as it is");
    polje.act(sync(2, 1, "doline")).await.expect("a sync set");
    let late = polje.act(sync(1, 9, "doline")).await.expect_err("older");
    assert!(late.to_string().contains("is older than"), "{late}");

    doline.streams().await;
    doline.sql("select pg_wal_replay_pause()").await;
    let mut client = polje.connect().await;
    let insert =
        "insert into sailing values ('southquay') returning pg_current_wal_insert_lsn()::text";
    let written: String = sqlx::query_scalar(insert)
        .fetch_one(&mut client)
        .await
        .expect("a write");
    let written = Lsn::parse(&written).expect("a position");
    // The server writes its log by the page: what nobody waits for is sent up to the middle of a
    // record, and of long records few end just where a page does.
    let more =
        "begin; insert into sailing select repeat(md5(n::text), 30) from generate_series(1, 500) n";
    sqlx::raw_sql(more)
        .execute(&mut client)
        .await
        .expect("a write that is not committed");
    let received = || async { doline.driver.observe().await.received.unwrap_or_default() };
    let (sent, begun) = (written.0.next_multiple_of(PAGE), Instant::now());
    while received().await < sent || !received().await.is_multiple_of(PAGE) {
        assert!(
            begun.elapsed() < LIMIT,
            "{written} was written, {} received",
            received().await
        );
    }
    polje.act(Action::StopNow).await.expect("its end");
    for enough in [None, Some(written.0)] {
        let early = tokio::time::timeout(Duration::from_millis(300), doline.settle(enough)).await;
        assert!(early.is_err(), "settled before it was replayed: {early:?}");
    }
    doline.sql("select pg_wal_replay_resume()").await;
    let has = doline.settle(None).await;
    assert!(
        has.history.as_str() == "2" && has.number >= written.0,
        "{has:?} of {written}"
    );
    assert!(
        has.number < received().await,
        "the last record was whole, which shows nothing"
    );
}

/// F11: what outranks Karst's own setting is put right and said, and settings that a promise rests
/// on are named. F7: a server whose first process takes no new connection serves nobody, though
/// whoever is connected is answered.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn settings_are_verified_and_a_new_connection_is_tried() {
    let dir = tempfile::tempdir_in("/var/tmp").expect("a directory");
    let [doline, polje] = pair(dir.path());
    doline.act(Action::Create).await.expect("first data");
    polje
        .act(Action::Clone {
            from: "doline".into(),
        })
        .await
        .expect("a copy");
    polje
        .act(Action::StartStandby {
            upstream: "doline".into(),
        })
        .await
        .expect("a standby");
    doline.act(sync(1, 1, "polje")).await.expect("a sync set");
    let begun = Instant::now();
    let until =
        |what: &'static str, begun: Instant| assert!(begun.elapsed() < LIMIT, "never: {what}");
    doline
        .sql("alter system set synchronous_standby_names = ''")
        .await;
    doline
        .sql("alter role postgres set synchronous_commit = local")
        .await;
    doline.sql("select pg_reload_conf()").await;
    let mut seen = doline.driver.observe().await;
    while !seen.is_unprotected() {
        until("it is seen", begun);
        seen = doline.driver.observe().await;
    }
    let named = |name: &str| {
        seen.overruled
            .iter()
            .any(|s| s.name == name && s.value != "on")
    };
    assert!(
        named("synchronous_standby_names") && named("synchronous_commit"),
        "{:?}",
        seen.overruled
    );
    while doline.driver.observe().await.is_unprotected() {
        until("it is put right", begun);
    }
    let first = doline.first_process();
    stop(first, rustix::process::Signal::STOP);
    let begun = Instant::now();
    while doline.driver.observe().await.role.is_some() {
        until("nobody gets in", begun);
    }
    stop(first, rustix::process::Signal::CONT);
    while doline.driver.observe().await.role.is_none() {
        until("they do again", begun);
    }
    // What is not a server's is nobody's to replace.
    let other = tempfile::tempdir_in("/var/tmp").expect("a directory");
    let [foreign, _] = pair(other.path());
    std::fs::create_dir(foreign.driver.data_dir()).expect("a directory");
    std::fs::write(foreign.driver.data_dir().join("letters.txt"), "dear").expect("a file");
    assert!(matches!(
        foreign.driver.observe().await.data,
        Data::Foreign(_)
    ));
}

/// A database and a role have the names that the spec gives them, also where SQL would read more into
/// these.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn names_are_names_and_no_statements() {
    let dir = tempfile::tempdir_in("/var/tmp").expect("a directory");
    let [doline, _] = pair(dir.path());
    doline.act(Action::Create).await.expect("first data");
    let owner = "select pg_get_userbyid(datdba) from pg_database where datname = $1";
    let owner: String = sqlx::query_scalar(owner)
        .bind(DATABASE)
        .fetch_one(&mut doline.connect().await)
        .await
        .expect("it is there");
    assert_eq!(owner, CLIENT);
}

/// D8: after a boot the runtime directory is empty, and nothing but Karst starts the server.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_else_starts_a_server_after_a_boot() {
    let dir = tempfile::tempdir_in("/var/tmp").expect("a directory");
    let [doline, _] = pair(dir.path());
    doline.act(Action::Create).await.expect("first data");
    doline.act(Action::StopNow).await.expect("it ends");
    std::fs::remove_dir_all(dir.path().join("doline.run")).expect("as after a boot");
    // As its own user, and as its own service would.
    let data = doline.driver.data_dir();
    let owner = std::fs::metadata(data).expect("it has data").uid();
    let program = "/usr/lib/postgresql/15/bin/postgres";
    let started = std::process::Command::new("setpriv")
        .args([format!("--reuid={owner}"), "--clear-groups".into()])
        .args([program.as_ref(), "-D".as_ref(), data.as_os_str()])
        .args(["-c", "listen_addresses=", "-c", "unix_socket_directories="])
        .stdin(std::process::Stdio::null())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .expect("the program is there");
    let ended = tokio::time::timeout(
        LIMIT,
        tokio::task::spawn_blocking(move || started.wait_with_output()),
    );
    let Ok(ended) = ended.await else {
        panic!("it runs");
    };
    let output = ended.expect("the thread ends").expect("it has ended");
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(
        !output.status.success() && said.contains("could not open configuration file"),
        "{said}"
    );
    doline.act(Action::StartPrimary).await.expect("Karst does");
}

/// D9, D11: a former primary has a row that nobody else has, and the new one has made no checkpoint
/// since its promotion. The row goes, and the server follows. Data of a rewind that was cut short
/// start nothing.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_former_primary_gives_up_what_nobody_else_has() {
    let dir = tempfile::tempdir_in("/var/tmp").expect("a directory");
    let [doline, polje] = pair(dir.path());
    let node = |name: &str| NodeId::from(name);
    doline.act(Action::Create).await.expect("first data");
    let from = node("doline");
    polje.act(Action::Clone { from }).await.expect("a copy");
    let follow = |name: &str| Action::StartStandby {
        upstream: node(name),
    };
    polje.act(follow("doline")).await.expect("a standby");
    doline.act(sync(1, 1, "polje")).await.expect("a sync set");
    doline.sql("create table tickets (id int)").await;
    polje.settle(None).await;
    let alone = "set synchronous_commit = local; insert into tickets values (1)";
    doline.sql(alone).await;
    doline.act(Action::StopNow).await.expect("it ends");
    let promote = Action::Promote { after: None };
    polje.act(promote).await.expect("a new primary");

    let mark = doline.driver.data_dir().join("karst.rewinding");
    std::fs::write(&mark, "").expect("a file");
    let seen = doline.driver.observe().await;
    assert!(matches!(seen.data, Data::Unusable(_)), "{seen:?}");
    doline.act(follow("polje")).await.expect_err("half rewound");
    std::fs::remove_file(&mark).expect("it is there");

    let to = node("polje");
    doline.act(Action::Rewind { to }).await.expect("a rewind");
    doline.act(follow("polje")).await.expect("a standby");
    doline.streams().await;
    let count = sqlx::query_scalar("select count(*) from tickets");
    let rows: i64 = count
        .fetch_one(&mut doline.connect().await)
        .await
        .expect("it reads");
    assert_eq!(rows, 0);
}

/// D2, D3: whether commits wait is decided by the server's checkpointer, when it gets to it. While that
/// stands still no set is confirmed, however often it is tried and by whichever driver; and no primary
/// is said to block. Once it goes on the next try holds, and a commit waits.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_set_counts_once_a_commit_was_seen_to_wait() {
    use rustix::process::Signal;
    let dir = tempfile::tempdir_in("/var/tmp").expect("a directory");
    let [doline, polje] = pair(dir.path());
    doline.act(Action::Create).await.expect("first data");
    let from = "doline".into();
    polje.act(Action::Clone { from }).await.expect("a copy");
    let upstream = "doline".into();
    let follow = Action::StartStandby { upstream };
    polje.act(follow).await.expect("a standby");
    let nobody = |number, unprotected| {
        Action::SetSync(SyncSetting {
            epoch: Epoch(1),
            number,
            standbys: Vec::new(),
            unprotected,
        })
    };
    doline
        .act(nobody(1, true))
        .await
        .expect("nobody is waited for");
    doline.sql("create table sailing (quay text)").await;
    let checkpointer = doline.process("checkpointer").await;
    stop(checkpointer, Signal::STOP);
    for driver in [&doline.driver, &doline.driver, &doline.another] {
        let refused = driver.act(sync(1, 2, "polje")).await.expect_err("unproven");
        assert!(refused.to_string().contains("commits return"), "{refused}");
        doline.sql("insert into sailing values ('northquay')").await;
    }
    let blocks = doline.another.act(nobody(3, false)).await;
    assert!(blocks.is_err(), "{blocks:?}");
    stop(checkpointer, Signal::CONT);
    doline.act(nobody(4, false)).await.expect("it blocks");
    doline.act(sync(1, 5, "polje")).await.expect("a sync set");
    let sender = doline.process("walsender").await;
    stop(sender, Signal::STOP);
    let commit = doline.sql("insert into sailing values ('southquay')");
    let alone = tokio::time::timeout(Duration::from_millis(500), commit).await;
    stop(sender, Signal::CONT);
    assert!(alone.is_err(), "a commit returned without its standby");
}

fn stop(pid: i32, signal: rustix::process::Signal) {
    let pid = rustix::process::Pid::from_raw(pid).expect("a process");
    rustix::process::kill_process(pid, signal).expect("it is ours");
}

/// Whoever answers in the place of a primary, without the certificate of one, learns nothing:
/// neither the password nor that there is one, and whoever asked says what is wrong.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_that_is_none_learns_no_password() {
    let dir = tempfile::tempdir_in("/var/tmp").expect("a directory");
    let [doline, polje] = pair(dir.path());
    let listener = TcpListener::bind(polje.address).expect("the place of a primary");
    let (tell, heard) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        for (number, stream) in listener.incoming().enumerate() {
            let Ok(mut stream) = stream else { return };
            let mut said = vec![0; 4096];
            let count = stream.read(&mut said).unwrap_or(0);
            said.truncate(count);
            // No TLS here: would it go on without? Then it is asked for its password in the clear
            // (manual, section 55.7).
            let answer: &[u8] = if number % 2 == 0 {
                b"N"
            } else {
                b"R\0\0\0\x08\0\0\0\x03"
            };
            let _ = stream.write_all(answer);
            let mut rest = vec![0; 4096];
            let count = stream.read(&mut rest).unwrap_or(0);
            said.extend(&rest[..count]);
            let _ = tell.send(said);
        }
    });
    let node = NodeId::from("polje");
    for _ in 0..2 {
        let trouble = doline
            .act(Action::Clone { from: node.clone() })
            .await
            .expect_err("it is no server")
            .to_string();
        assert!(trouble.contains("SSL"), "{trouble}");
        assert!(!trouble.contains(SECRET), "{trouble}");
    }
    let said: Vec<u8> = heard.try_iter().flatten().collect();
    assert!(!said.is_empty(), "nobody asked");
    let text = String::from_utf8_lossy(&said);
    assert!(!text.contains(SECRET) && !text.contains("karst"), "{text}");
}

/// As the server's user, by its socket.
fn base_backup(of: &Server, name: &str) -> String {
    let home = of.driver.data_dir().parent().expect("a directory");
    let into = home.join(name);
    std::fs::create_dir(&into).expect("a directory");
    let data = std::fs::metadata(of.driver.data_dir()).expect("it is there");
    std::os::unix::fs::chown(&into, Some(data.uid()), Some(data.gid())).expect("it is ours");
    let mut command = std::process::Command::new("setpriv");
    command
        .args([
            format!("--reuid={}", data.uid()),
            format!("--regid={}", data.gid()),
        ])
        .args(["--clear-groups", "pg_basebackup", "--checkpoint=fast"])
        .args([
            "--username=postgres",
            "--port",
            &of.address.port().to_string(),
        ])
        .arg("--host")
        .arg(of.socket.get_socket().expect("by its socket"))
        .arg("--pgdata")
        .arg(&into)
        .current_dir("/");
    let made = command.output().expect("it is installed");
    assert!(made.status.success(), "{made:?}");
    into.display().to_string()
}

/// D5, D9: data are made from a base backup and go on from there; one that has what the primary never
/// had, that is another's, or that is damaged is of no use, and what is there stays.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn data_are_made_from_a_base_backup_of_the_primarys_history() {
    let dir = tempfile::tempdir_in("/var/tmp").expect("a directory");
    let [doline, polje] = pair(dir.path());
    doline.act(Action::Create).await.expect("first data");
    doline
        .sql("set synchronous_commit = local; create table fares as select generate_series(1, 100) as fare")
        .await;
    let early = base_backup(&doline, "early");
    doline
        .sql("set synchronous_commit = local; insert into fares select generate_series(101, 200)")
        .await;

    let restore = async |from: &str| {
        let (from, to) = (from.to_string(), "doline".into());
        polje.act(Action::Restore { from, to }).await
    };
    let refused = async |from: &str, why: &str| match restore(from).await {
        Ok(Done::MustClone { why: said }) => assert!(said.contains(why), "{said}"),
        other => panic!("{other:?}"),
    };
    refused("/nowhere", "no base backup").await;
    let stranger = tempfile::tempdir_in("/var/tmp").expect("a directory");
    let [other, _] = pair(stranger.path());
    other.act(Action::Create).await.expect("first data");
    refused(&base_backup(&other, "theirs"), "known as").await;
    let damaged = base_backup(&doline, "damaged");
    let control = Path::new(&damaged).join("global/pg_filenode.map");
    let mut bytes = std::fs::read(&control).expect("it is there");
    bytes[16] ^= 1;
    std::fs::write(&control, bytes).expect("it is ours");
    refused(&damaged, "checksum mismatch").await;
    assert_eq!(polje.driver.observe().await.data, Data::Empty);

    assert_eq!(restore(&early).await.expect("it fits"), Done::Ok);
    let upstream = || Action::StartStandby {
        upstream: "doline".into(),
    };
    polje.act(upstream()).await.expect("a standby");
    polje.streams().await;
    doline.act(sync(1, 1, "polje")).await.expect("a sync set");
    let mut standby = polje.connect().await;
    let count = sqlx::query_scalar::<_, i64>("select count(*) from fares");
    let count = count.fetch_one(&mut standby).await.expect("it answers");
    assert_eq!(count, 200);
    drop(standby);

    // The standby takes over; what its old primary has beyond that is nobody's history any more.
    polje.settle(None).await;
    doline.act(Action::StopNow).await.expect("stopped");
    let after = None;
    polje
        .act(Action::Promote { after })
        .await
        .expect("promoted");
    doline.act(Action::StartPrimary).await.expect("it runs on");
    doline
        .sql("set synchronous_commit = local; insert into fares values (0)")
        .await;
    let abandoned = base_backup(&doline, "abandoned");
    doline.act(Action::StopNow).await.expect("stopped");
    std::fs::remove_dir_all(doline.driver.data_dir()).expect("it is ours");
    let restore = async |from: &str| {
        let (from, to) = (from.to_string(), "polje".into());
        doline
            .act(Action::Restore { from, to })
            .await
            .expect("it was looked at")
    };
    match restore(&abandoned).await {
        Done::MustClone { why } => assert!(why.contains("of timeline 1"), "{why}"),
        other => panic!("{other:?}"),
    }
    assert_eq!(restore(&early).await, Done::Ok, "that one came before");
    let upstream = "polje".into();
    doline
        .act(Action::StartStandby { upstream })
        .await
        .expect("a standby");
    doline.streams().await;
}
