//! What the end-to-end tests share: a lab of their own, and questions that several ask.

pub mod browser;
pub mod changes;
pub mod clients;
pub mod command;
pub mod own;

use anyhow::{Context, Result, ensure};
use karst_api::StatusReply;
use karst_lab::fault::{self, Fault};
use karst_lab::layout::{ARCHIVE, NODES};
use karst_lab::shape::Shape;
use karst_lab::{Lab, Layout, demo, find};
use std::path::PathBuf;
use std::time::Duration;

pub const LIMIT: Duration = Duration::from_secs(120);

/// A lab of this test alone; it is gone when the test ends, however it ends.
pub struct TestLab(Option<Lab>);

impl TestLab {
    pub async fn start(name: &str, port: u16) -> Result<Self> {
        Self::shaped(name, port, Shape::default()).await
    }

    /// Hosts on which nothing of Karst is yet.
    pub async fn empty(name: &str, port: u16) -> Result<Self> {
        let shape = Shape {
            empty: true,
            ..Shape::default()
        };
        let lab = Self::made(name, port, shape)?;
        let begun = std::time::Instant::now();
        while lab
            .layout
            .nodes()
            .iter()
            .any(|n| find::daemon(&lab.layout, n.name, "deadman").is_err())
        {
            ensure!(begun.elapsed() < LIMIT, "its hosts have power");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        Ok(lab)
    }

    fn made(name: &str, port: u16, shape: Shape) -> Result<Self> {
        let dir = PathBuf::from(format!("/var/tmp/karst-{name}"));
        if let Ok(old) = Layout::load(&dir) {
            Lab::attach(old)?.remove()?;
        }
        Ok(Self(Some(Lab::up(Layout::new(&dir, port, shape)?)?)))
    }

    pub async fn shaped(name: &str, port: u16, shape: Shape) -> Result<Self> {
        let lab = Self::made(name, port, shape)?;
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
            for (node, program) in NODES.iter().flat_map(|n| [(n, "karstd"), (n, "deadman")]) {
                let log = lab
                    .layout
                    .host(node.name)
                    .join(format!("log/{program}.log"));
                let text = std::fs::read_to_string(log).unwrap_or_default();
                let last: Vec<&str> = text.lines().rev().take(40).collect();
                eprintln!(
                    "--- {program} on {}\n{}",
                    node.name,
                    last.into_iter().rev().collect::<Vec<_>>().join("\n")
                );
            }
        }
        lab.remove().expect("the lab ends and leaves nothing");
    }
}

/// What uvala says by itself, on its own socket, once that is so.
pub async fn own_status(
    lab: &Lab,
    what: &str,
    is_so: impl Fn(&StatusReply) -> bool,
) -> Result<StatusReply> {
    let client = karst_api::Client::local(&lab.layout.runtime("uvala").join("api.sock"))?;
    let begun = std::time::Instant::now();
    loop {
        let reply = client.status().await;
        match reply {
            Ok(reply) if is_so(&reply) => return Ok(reply),
            other => ensure!(begun.elapsed() < LIMIT, "{what}: {other:?}"),
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
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
            ensure!(
                begun.elapsed() < LIMIT,
                "{} still has events waiting",
                node.name
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    let mut config = tokio_postgres::Config::new();
    let password = std::fs::read_to_string(lab.layout.secret("history"))?;
    config
        .host_path(lab.layout.host(ARCHIVE))
        .user("karst_history")
        .password(password.trim())
        .dbname("postgres");
    let (client, session) = config
        .connect(tokio_postgres::NoTls)
        .await
        .context("the history store")?;
    tokio::spawn(session);
    let per_node = "select node, max(number), count(*) from event group by node, store";
    let rows = client.query(per_node, &[]).await?;
    ensure!(
        rows.len() >= NODES.len(),
        "only {} nodes have a record",
        rows.len()
    );
    for row in rows {
        let (node, last, count): (String, i64, i64) = (row.get(0), row.get(1), row.get(2));
        ensure!(
            last == count,
            "{node} has {count} events, numbered up to {last}"
        );
    }
    let votes: i64 = client
        .query_one("select count(*) from election", &[])
        .await?
        .get(0);
    let unfinished = "select count(*) from operation where began_at is null or ended_at is null";
    let unfinished: i64 = client.query_one(unfinished, &[]).await?.get(0);
    let steps: i64 = client
        .query_one("select count(*) from step where kind = 'opened'", &[])
        .await?
        .get(0);
    ensure!(
        votes > 0 && steps > 0 && unfinished == 0,
        "{votes} votes, {steps} openings, {unfinished} unfinished operations"
    );
    Ok(())
}
