//! Names at a real name server: taken where they are free, swapped against the mark that was read,
//! and never another's.

use karst_adapters::Name;
use karst_adapters::name::NameError;
use karst_core::Index;
use karst_core::name::{NameOrder, NameSeen};
use karst_core::spec::{Algorithm, Leads, NameSpec};
use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const SECRET: &str = "bm90IHVzZWQgYW55d2hlcmUgZWxzZQ==";
const ZONE: &str = "ferries.example";

struct NameServer {
    dir: tempfile::TempDir,
    at: SocketAddr,
    child: Child,
}

impl Drop for NameServer {
    fn drop(&mut self) {
        self.child.kill().expect("it runs");
        self.child.wait().expect("it ends");
    }
}

impl NameServer {
    fn start() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let free = TcpListener::bind("127.0.0.1:0").unwrap();
        let at = free.local_addr().unwrap();
        drop(free);
        let path = dir.path().display();
        let zone = "@ SOA ns harbour 1 3600 600 86400 60\n@ NS ns\nns A 127.0.0.1\ntimetable A 10.30.0.101\n\
                    old CNAME timetable\nnote TXT \"harbour\"\n";
        std::fs::write(
            dir.path().join("zone"),
            format!("$ORIGIN {ZONE}.\n$TTL 3600\n{zone}"),
        )
        .unwrap();
        std::fs::create_dir(dir.path().join("db")).unwrap();
        let conf = format!(
            "server:\n  rundir: \"{path}\"\n  listen: 127.0.0.1@{}\nlog:\n  - target: stderr\n    any: info\n\
             key:\n  - id: karst-update\n    algorithm: hmac-sha256\n    secret: {SECRET}\n\
             acl:\n  - id: keeper\n    key: karst-update\n    action: update\n\
             database:\n  storage: \"{path}/db\"\nzone:\n  - domain: {ZONE}\n    file: \"{path}/zone\"\n    acl: keeper\n",
            at.port()
        );
        std::fs::write(dir.path().join("conf"), conf).unwrap();
        std::fs::write(dir.path().join("secret"), SECRET).unwrap();
        let child = run(dir.path());
        let server = Self { dir, at, child };
        server.answers();
        server
    }

    fn answers(&self) {
        let begun = Instant::now();
        while TcpStream::connect(self.at).is_err() || self.says("ns", "A") != ["127.0.0.1"] {
            assert!(begun.elapsed() < Duration::from_secs(30), "it starts");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    fn spec(&self, record: &str) -> NameSpec {
        NameSpec {
            record: format!("{record}.{ZONE}"),
            zone: ZONE.into(),
            server: self.at,
            ttl: Duration::from_secs(5),
            leads: Leads::Primary,
            key: "karst-update".into(),
            secret: format!("file:{}", self.dir.path().join("secret").display()),
            algorithm: Algorithm::HmacSha256,
        }
    }

    fn name(&self, record: &str) -> Name {
        Name::new(&self.spec(record), "skerry", &"sailings".into()).unwrap()
    }

    /// As any client reads it.
    fn says(&self, record: &str, kind: &str) -> Vec<String> {
        let port = format!("{}", self.at.port());
        let record = format!("{record}.{ZONE}");
        let output = Command::new("kdig")
            .args(["+short", "+tcp", "@127.0.0.1", "-p", &port, &record, kind])
            .output()
            .expect("kdig");
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        text.lines()
            .filter(|line| !line.starts_with(';'))
            .map(String::from)
            .collect()
    }
}

fn run(dir: &Path) -> Child {
    Command::new("/usr/sbin/knotd")
        .arg("-c")
        .arg(dir.join("conf"))
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("knotd, of Debian's package knot")
}

fn to(list: &[&str]) -> BTreeSet<IpAddr> {
    list.iter().map(|ip| ip.parse().unwrap()).collect()
}

fn order(entry: u64, list: &[&str]) -> NameOrder {
    NameOrder {
        entry: Index(entry),
        to: Some(to(list)),
    }
}

#[tokio::test]
async fn a_name_that_is_free_is_taken_and_led_elsewhere() {
    let server = NameServer::start();
    let name = server.name("sailings");
    let look = NameOrder {
        entry: Index(7),
        to: None,
    };
    assert_eq!(
        name.carry_out(&look).await.unwrap(),
        NameSeen::default(),
        "nothing is there, and nothing is made"
    );
    for (entry, list) in [
        (10, &["10.30.0.11"][..]),
        (12, &["10.30.0.12", "fd30::12"]),
        (13, &["10.30.0.13", "10.30.0.14"]),
    ] {
        let seen = name.carry_out(&order(entry, list)).await.unwrap();
        let expected = NameSeen {
            to: to(list),
            entry: Some(Index(entry)),
        };
        assert_eq!(seen, expected);
        let both = [
            server.says("sailings", "A"),
            server.says("sailings", "AAAA"),
        ]
        .concat();
        let both: Vec<&str> = both.iter().map(String::as_str).collect();
        assert_eq!(to(&both), to(list), "as clients read it");
    }
    // What leads there already is left as it is, mark and all.
    let same = name
        .carry_out(&order(40, &["10.30.0.14", "10.30.0.13"]))
        .await;
    assert_eq!(same.unwrap().entry, Some(Index(13)));
}

#[tokio::test]
async fn what_is_late_changes_nothing() {
    let server = NameServer::start();
    let (name, deposed) = (server.name("sailings"), server.name("sailings"));
    name.carry_out(&order(20, &["10.30.0.12"])).await.unwrap();
    let late = deposed.carry_out(&order(19, &["10.30.0.11"])).await;
    assert!(matches!(late, Err(NameError::Later { .. })), "{late:?}");
    assert_eq!(server.says("sailings", "A"), ["10.30.0.12"]);
    // Both at once, again and again: whoever is later has the last word.
    for round in 0..20u64 {
        let (older, newer) = (30 + 2 * round, 31 + 2 * round);
        let (a, b) = (
            format!("10.30.1.{}", round + 1),
            format!("10.30.2.{}", round + 1),
        );
        let (first, second) = (order(older, &[&a]), order(newer, &[&b]));
        let (late, last) = tokio::join!(deposed.carry_out(&first), name.carry_out(&second));
        assert!(
            late.is_ok() || matches!(late, Err(NameError::Later { .. } | NameError::Raced)),
            "{late:?}"
        );
        if matches!(last, Err(NameError::Raced)) {
            name.carry_out(&second).await.unwrap();
        } else {
            last.unwrap();
        }
        assert_eq!(server.says("sailings", "A"), [b]);
    }
}

#[tokio::test]
async fn what_others_made_is_left_alone() {
    let server = NameServer::start();
    for (record, kind) in [("timetable", "A"), ("old", "CNAME"), ("note", "TXT")] {
        let before = server.says(record, kind);
        let refused = server
            .name(record)
            .carry_out(&order(5, &["10.30.0.12"]))
            .await;
        assert!(
            matches!(refused, Err(NameError::Foreign)),
            "{record}: {refused:?}"
        );
        assert_eq!(server.says(record, kind), before);
        assert_eq!(server.says(&format!("_karst.{record}"), "TXT").len(), 0);
    }
    server
        .name("sailings")
        .carry_out(&order(5, &["10.30.0.12"]))
        .await
        .unwrap();
    let other = Name::new(&server.spec("sailings"), "gannet", &"sailings".into()).unwrap();
    let refused = other.carry_out(&order(9, &["10.30.0.99"])).await;
    assert!(
        matches!(&refused, Err(NameError::Others(whose)) if whose.contains("cluster=skerry")),
        "{refused:?}"
    );
    assert_eq!(server.says("sailings", "A"), ["10.30.0.12"]);
}

#[tokio::test]
async fn what_cannot_be_known_is_an_error() {
    let mut server = NameServer::start();
    let order = order(5, &["10.30.0.12"]);
    let with = |change: fn(&mut NameSpec)| {
        let mut spec = server.spec("sailings");
        change(&mut spec);
        Name::new(&spec, "skerry", &"sailings".into()).unwrap()
    };
    let wrong = server.dir.path().join("wrong");
    std::fs::write(&wrong, "bm90IHRoZSByaWdodCBvbmUgYXQgYWxs").unwrap();
    let mut spec = server.spec("sailings");
    spec.secret = format!("file:{}", wrong.display());
    let forger = Name::new(&spec, "skerry", &"sailings".into()).unwrap();
    let refused = forger.carry_out(&order).await;
    assert!(
        matches!(refused, Err(NameError::Untrusted(_))),
        "{refused:?}"
    );
    let unknown = with(|s| s.key = "nobody".into()).carry_out(&order).await;
    assert!(
        matches!(unknown, Err(NameError::Untrusted(_))),
        "{unknown:?}"
    );
    let absent = with(|s| s.secret = "file:/nowhere/at/all".into());
    let absent = absent.carry_out(&order).await;
    assert!(matches!(absent, Err(NameError::Secret(_))), "{absent:?}");
    let elsewhere = with(|s| {
        s.record = "sailings.other.example".into();
        s.zone = "other.example".into();
    });
    let elsewhere = elsewhere.carry_out(&order).await;
    assert!(
        matches!(&elsewhere, Err(NameError::Untrusted(why)) if why.contains("the zone")),
        "{elsewhere:?}"
    );
    assert_eq!(server.says("sailings", "A").len(), 0, "nothing was made");
    let name = server.name("sailings");
    server.child.kill().unwrap();
    server.child.wait().unwrap();
    let silent = name.carry_out(&order).await;
    assert!(matches!(silent, Err(NameError::Silent(_))), "{silent:?}");
    server.child = run(server.dir.path());
    server.answers();
    name.carry_out(&order).await.unwrap();
}
