//! What the end-to-end tests share: a lab of their own, and questions that several ask.

#![allow(dead_code, reason = "each test program uses its part")]

use anyhow::{Context, Result, ensure};
use karst_api::StatusReply;
use karst_lab::fault::{self, Fault};
use karst_lab::layout::{ARCHIVE, NODES, WORKLOAD};
use karst_lab::steal::boot_nanos;
use karst_lab::{Lab, Layout, demo, find};
use std::path::PathBuf;
use std::time::Duration;

pub const LIMIT: Duration = Duration::from_secs(120);

/// A lab of this test alone; it is gone when the test ends, however it ends.
pub struct TestLab(Option<Lab>);

impl TestLab {
    pub async fn start(name: &str, port: u16) -> Result<Self> {
        let dir = PathBuf::from(format!("/var/tmp/karst-{name}"));
        if let Ok(old) = Layout::load(&dir) {
            Lab::attach(old)?.remove()?;
        }
        let lab = Self(Some(Lab::up(Layout::new(&dir, port)?, false)?));
        lab.healthy(LIMIT).await?;
        // What leases and deadmen do by themselves is seen only where no power device is quicker.
        fault::apply(&lab.layout, &Fault::ControllerStop)?;
        demo::fill(&lab.layout.gates(), &lab.layout.client_password()?).await?;
        Ok(lab)
    }
}

impl std::ops::Deref for TestLab {
    type Target = Lab;
    fn deref(&self) -> &Lab {
        self.0.as_ref().expect("it is taken at the end only")
    }
}

impl Drop for TestLab {
    fn drop(&mut self) {
        let Some(lab) = self.0.take() else { return };
        if std::thread::panicking() {
            for node in NODES {
                let log = lab.layout.host(node.name).join("log/karstd.log");
                let text = std::fs::read_to_string(log).unwrap_or_default();
                let last: Vec<&str> = text.lines().rev().take(40).collect();
                eprintln!("--- {}\n{}", node.name, last.into_iter().rev().collect::<Vec<_>>().join("\n"));
            }
        }
        lab.remove().expect("the lab ends and leaves nothing");
    }
}

/// A client on the primary's own host, on the server's socket, that nothing but the server's end can stop: it writes
/// without waiting for any standby.
pub struct InHost(tokio::task::JoinHandle<Result<u64>>);

impl InHost {
    pub async fn start(lab: &Lab, primary: &str) -> Result<Self> {
        let socket = lab.layout.runtime(primary).join(WORKLOAD);
        let mut config = tokio_postgres::Config::new();
        config.host_path(socket).user("postgres").dbname("postgres");
        let (client, session) = config.connect(tokio_postgres::NoTls).await.context("the socket on the host")?;
        tokio::spawn(session);
        let table = "set synchronous_commit = local; create table if not exists in_host (at bigint)";
        client.batch_execute(table).await?;
        let writing = tokio::spawn(async move {
            let mut last = 0;
            while client.execute("insert into in_host values ($1)", &[&(boot_nanos() as i64)]).await.is_ok() {
                last = boot_nanos();
            }
            Ok(last)
        });
        Ok(Self(writing))
    }

    /// When the last write returned; the server has ended.
    async fn finish(self) -> Result<u64> {
        tokio::time::timeout(LIMIT, self.0).await.context("the server on the host still answers")??
    }
}

/// Waits until nothing of the server on `primary` runs, which has to be before its lease ends, and before anyone else
/// gets an epoch. `stopped` is when its daemon or deadman stood still: the last renewal was before that.
pub async fn server_ends(lab: &Lab, primary: &str, stopped: u64, writing: InHost) -> Result<()> {
    const LEASE: Duration = Duration::from_secs(2);
    let begun = std::time::Instant::now();
    while !find::working_in(&lab.layout.data(primary)).is_empty() {
        ensure!(begun.elapsed() < LIMIT, "the old server never ended");
        tokio::time::sleep(Duration::from_millis(2)).await;
    }
    let ended = boot_nanos();
    let elsewhere = |r: &StatusReply| r.status.workloads[0].primary.as_ref().is_some_and(|p| p.as_str() != primary);
    let moved = lab.wait("a new primary", LIMIT, elsewhere).await?;
    let steps = &moved.status.operations.first().context("an operation")?.steps;
    let assigned = steps.iter().find(|s| s.text.contains("goes to")).context("the assignment")?;
    ensure!(assigned.at.0 > ended, "there was a new epoch before the old server had ended");
    let after = Duration::from_nanos(ended - stopped);
    ensure!(after < LEASE, "the old server ended {after:?} after the process stood still");
    let last = writing.finish().await?;
    ensure!(last > stopped, "the client on the host wrote nothing after the process stood still");
    ensure!(last < assigned.at.0, "a client on the host wrote after the new epoch began");
    Ok(())
}

/// Each node's numbers have no gaps, and the decisions are there with who voted how.
pub async fn history_is_complete(lab: &Lab) -> Result<()> {
    for (node, server) in NODES.iter().zip(lab.layout.servers()) {
        // Each node says for itself whether its events are confirmed.
        let one = karst_api::Client::new(&[server], &lab.layout.token()?, None)?;
        let begun = std::time::Instant::now();
        loop {
            let state = one.status().await.map(|r| r.history);
            if state.is_ok_and(|h| h.reachable && h.waiting == 0) {
                break;
            }
            ensure!(begun.elapsed() < LIMIT, "{} still has events waiting", node.name);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    let mut config = tokio_postgres::Config::new();
    let password = std::fs::read_to_string(lab.layout.secret("history"))?;
    config.host_path(lab.layout.host(ARCHIVE)).user("karst_history").password(password.trim()).dbname("postgres");
    let (client, session) = config.connect(tokio_postgres::NoTls).await.context("the history store")?;
    tokio::spawn(session);
    let per_node = "select node, max(number), count(*) from event group by node, store";
    let rows = client.query(per_node, &[]).await?;
    ensure!(rows.len() >= NODES.len(), "only {} nodes have a record", rows.len());
    for row in rows {
        let (node, last, count): (String, i64, i64) = (row.get(0), row.get(1), row.get(2));
        ensure!(last == count, "{node} has {count} events, numbered up to {last}");
    }
    let votes: i64 = client.query_one("select count(*) from election", &[]).await?.get(0);
    let unfinished = "select count(*) from operation where began_at is null or ended_at is null";
    let unfinished: i64 = client.query_one(unfinished, &[]).await?.get(0);
    let steps: i64 = client.query_one("select count(*) from step where kind = 'opened'", &[]).await?.get(0);
    ensure!(
        votes > 0 && steps > 0 && unfinished == 0,
        "{votes} votes, {steps} openings, {unfinished} unfinished operations"
    );
    Ok(())
}
