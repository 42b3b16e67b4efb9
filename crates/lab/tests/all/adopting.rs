//! A database that somebody keeps already, with its standby and its clients, becomes a workload: what
//! is in the way is said first, each server stops once, a third copy is made, and no acknowledged row
//! is missing.

use crate::rig::own::{
    EVERY_KIND, FARES, GATE_PORT, Load, MATES, PASSWORD, PORT, data, fares, moves,
    nothing_is_missing, sockets, somebodys_own, sql,
};
use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::core::OperationId;
use karst_api::core::view::Condition;
use karst_api::{SpecBody, StatusReply};
use karst_lab::Lab;
use karst_lab::find;
use karst_lab::layout::{CLIENT, GATES, RunAs, host, program};

/// What clients may wait for, in milliseconds, on a machine that others share: a stop, a start and a
/// new connection each.
const ADOPTED: u64 = 6_000;
const MOVED: u64 = 3_000;
#[tokio::test(flavor = "multi_thread")]
async fn a_database_that_runs_is_taken_over_with_its_standby() {
    let lab = TestLab::start("test-adopt", 9700).await.unwrap();
    somebodys_own(&lab, EVERY_KIND).unwrap();
    let before = who_is_let_in(&lab).unwrap();
    let load = Load::start(&lab).unwrap();
    load.goes_on(&lab).await.unwrap();
    what_is_in_the_way_is_said(&lab).await.unwrap();
    adopt(&lab).await.unwrap();
    let whole = |r: &StatusReply| fares(r).is_some_and(|w| w.condition == Condition::Healthy);
    let reply = lab.wait("all follow", LIMIT, whole).await.unwrap();
    let w = fares(&reply).unwrap();
    assert_eq!(w.primary.as_ref().map(|p| p.as_str()), Some("doline"));
    assert_eq!((w.replicas.len(), w.sync.sure.len()), (3, 2), "{w:?}");
    let aside = data(&lab, "doline").join("postgresql.conf.before-karst");
    assert!(aside.exists(), "what was written there is kept");
    assert_eq!(who_is_let_in(&lab).unwrap(), before, "the same as before");
    load.goes_on(&lab).await.unwrap();
    let adopted = load.longest_pause(0);
    let since = load.lines().len();
    for to in ["polje", "doline"] {
        moves(&lab, to).await.unwrap();
        load.goes_on(&lab).await.unwrap();
    }
    assert_eq!(who_is_let_in(&lab).unwrap(), before, "after two moves");
    let moved = load.longest_pause(since);
    eprintln!("longest pause: {adopted} ms by the adoption, {moved} ms by a move");
    assert!(
        adopted < ADOPTED && moved < MOVED,
        "clients waited for too long"
    );
    let lines = load.finish().unwrap();
    nothing_is_missing(&lab, &lines).await.unwrap();
}

/// The answers of the server on doline to each of these, by the network and by its socket.
fn who_is_let_in(lab: &Lab) -> Result<Vec<String>> {
    let to = host("doline").context("a host")?.client();
    let mut all = Vec::new();
    for (user, database) in [
        ("clerk", "postgres"),
        ("skua", "postgres"),
        ("gull", "postgres"),
        ("auk", "postgres"),
        ("skua", "nets"),
        ("copier", "nets"),
    ] {
        let output = find::enter(&lab.layout, CLIENT)?
            .arg(program("psql"))
            .args(["-XAtw", "-c", "select current_user", "-d"])
            .arg(format!(
                "host={to} port={PORT} user={user} dbname={database} sslmode=require"
            ))
            .env("PGPASSWORD", PASSWORD)
            .output()?;
        let said = match output.status.success() {
            true => String::from_utf8_lossy(&output.stdout).into_owned(),
            false => String::from_utf8_lossy(&output.stderr).into_owned(),
        };
        all.push(format!("{user} to {database}: {}", said.trim()));
    }
    all.push(sql(lab, "doline", "select 'by its socket'")?);
    ensure!(all[0].ends_with(": clerk"), "{all:?}");
    ensure!(all[2].contains("rejects"), "{all:?}");
    ensure!(all[3].contains("certificate"), "{all:?}");
    Ok(all)
}

/// The spec in force with the workload in it; each host has its data elsewhere in a lab.
fn text(lab: &Lab, now: &str, adopt: &str, settings: &str) -> String {
    let secret = lab.layout.secret("replication").display().to_string();
    let mut text = format!(
        "{now}\n[workload.{FARES}]\ndriver = \"postgres\"\nloss = \"none\"\n{adopt}\
         [workload.{FARES}.settings]\nsecret = \"file:{secret}\"\n{}{settings}",
        RunAs::now().spec_line()
    );
    for node in ["doline", "polje", "uvala"].into_iter().filter_map(host) {
        text += &format!(
            "[workload.{FARES}.replica.{}]\naddress = \"{}:{PORT}\"\ndata = \"{}\"\n",
            node.name,
            node.client(),
            data(lab, node.name).display()
        );
    }
    text += &format!("[workload.{FARES}.gate]\n");
    for node in GATES.into_iter().filter_map(host) {
        text += &format!("{} = \"{}:{GATE_PORT}\"\n", node.name, node.client());
    }
    text
}

async fn submitted(lab: &Lab, adopt: &str, settings: &str) -> Result<OperationId> {
    let now = lab.client.spec().await?;
    let body = SpecBody {
        text: text(lab, &now.text, adopt, settings),
        ..SpecBody::default()
    };
    Ok(lab.client.submit(&body, now.revision).await?.operation)
}

/// Nothing is stopped by Karst before a person says so and all of it is put right.
async fn what_is_in_the_way_is_said(lab: &Lab) -> Result<()> {
    let says = async |adopt: &str, settings: &str, parts: &[&str]| -> Result<()> {
        let id = submitted(lab, adopt, settings).await?;
        let waits = |r: &StatusReply| {
            let mut steps = r.status.intents.iter().flat_map(|i| &i.steps);
            steps.any(|s| {
                let why = s.waits.as_deref().unwrap_or_default();
                parts.iter().all(|part| why.contains(part))
            })
        };
        if let Err(error) = lab.wait(&format!("{parts:?} is said"), LIMIT, waits).await {
            let intents = lab.status().await?.status.intents;
            return Err(error.context(format!("{intents:?}")));
        }
        lab.client.end(id).await?;
        let ended = |r: &StatusReply| r.status.intents.is_empty();
        lab.wait("it is ended", LIMIT, ended).await.map(drop)
    };
    let strange = "a server that Karst did not start runs on";
    says("", "", &["doline: ", "polje: ", strange, "`adopt = true`"]).await?;
    sql(
        lab,
        "doline",
        "select pg_create_physical_replication_slot('buoy')",
    )?;
    sql(
        lab,
        "doline",
        "set password_encryption = 'md5'; create role old login password 'x'",
    )?;
    let lost = [
        "set.max_connections = \"210\"",
        "set.work_mem = \"6MB\"",
        "buoy",
        "old could not log in",
    ];
    says("adopt = true\n", "", &lost).await?;
    let clients = [
        "it lacks `hostssl all auk all cert`",
        "clients log in by its socket",
        "clients log in by certificate",
    ];
    says("adopt = true\n", "", &clients).await?;
    sql(lab, "doline", "select pg_drop_replication_slot('buoy')")?;
    sql(lab, "doline", "drop role old")?;
    Ok(())
}

/// The one stop of each server, and who is primary stays it.
async fn adopt(lab: &Lab) -> Result<()> {
    let names = MATES.trim().replace('\n', ",");
    let clients = EVERY_KIND.replace("@mates", &names);
    let ca = lab.layout.host("doline").join("tls/ca.pem");
    let settings = format!(
        "set.max_connections = \"210\"\nset.work_mem = \"6MB\"\nset.max_wal_size = \"1GB\"\nclients = '''\n{clients}'''\n\
         sockets = \"{}\"\nclients-ca = \"{}\"\n",
        sockets(lab).display(),
        ca.display()
    );
    let id = submitted(lab, "adopt = true\n", &settings).await?;
    let over = |r: &StatusReply| r.status.intents_over.iter().any(|over| over.id == id);
    if let Err(error) = lab.wait("it is adopted", LIMIT, over).await {
        let intents = lab.status().await?.status.intents;
        return Err(error.context(format!("{intents:?}")));
    }
    Ok(())
}
