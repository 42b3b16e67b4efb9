//! Clients that have asked over the floating address and wait for an answer that takes longer than
//! the address stays where it is: they send nothing, and learn that their connection is gone only
//! from whoever has the address next.

use crate::cluster::{LOOK, Lab};
use crate::find;
use crate::layout::{CLIENT, CLIENT_ROLE, DATABASE, FLOATING, FLOATING6, program};
use crate::steal::wall_nanos;
use anyhow::{Context, Result, ensure};
use karst_api::StatusReply;
use std::process::Stdio;
use std::time::Duration;
use tokio::process::Command;
use tokio::task::JoinSet;

const LIMIT: Duration = Duration::from_secs(60);
/// Longer than any test: whoever ends it earlier was told.
const QUESTION: &str = "select pg_sleep(600)";

/// One such client over IPv4, and one over IPv6; each gives the time when it was told, in
/// nanoseconds since 1970.
pub struct Waiting(JoinSet<Result<u128>>);

impl Waiting {
    /// Returns when both wait, and the cluster knows of them. Nobody else's connections over the
    /// address come or go meanwhile.
    ///
    /// # Errors
    /// If they cannot ask.
    pub async fn start(lab: &Lab, port: u16) -> Result<Self> {
        let counted = |r: &StatusReply| {
            r.status.workloads[0]
                .address
                .as_ref()
                .map_or(0, |a| a.connections)
        };
        let before = counted(&lab.status().await?);
        let mut clients = Self(JoinSet::new());
        for ip in [FLOATING, FLOATING6] {
            let mut command = find::enter(&lab.layout, CLIENT)?;
            let to = format!("host={ip} port={port} dbname={DATABASE} user={CLIENT_ROLE}");
            command
                .arg(program("psql"))
                .arg(to)
                .args(["-c", QUESTION])
                .env("PGPASSFILE", lab.layout.dir.join("passfile"));
            command
                .stdin(Stdio::null())
                .stdout(Stdio::null())
                .stderr(Stdio::null());
            let mut client = Command::from(command)
                .kill_on_drop(true)
                .spawn()
                .context("psql")?;
            clients.0.spawn(async move {
                let ended = client.wait().await?;
                ensure!(!ended.success(), "it was answered");
                Ok(wall_nanos())
            });
        }
        let primary = lab.administrator(&lab.primary().await?).await?;
        let asking = "select count(*) from pg_stat_activity where query = $1 and state = 'active'";
        while primary
            .query_one(asking, &[&QUESTION])
            .await?
            .get::<_, i64>(0)
            < 2
        {
            tokio::time::sleep(LOOK).await;
        }
        let known = |r: &StatusReply| counted(r) >= before + 2;
        lab.wait("the connections over the address are counted", LIMIT, known)
            .await?;
        Ok(clients)
    }

    /// Waits until both were told, and says when the last of them was.
    ///
    /// # Errors
    /// If one still waits after a minute.
    pub async fn told(mut self) -> Result<u128> {
        let mut last = 0;
        while let Some(told) = tokio::time::timeout(LIMIT, self.0.join_next())
            .await
            .context("a client still waits")?
        {
            last = last.max(told??);
        }
        Ok(last)
    }
}
