//! Clients that have asked over the floating address and wait for an answer that takes longer than the address stays where it
//! is: they send nothing, and learn that their connection is gone only from whoever has the address next.

use crate::cluster::Lab;
use crate::find;
use crate::layout::{CLIENT, CLIENT_ROLE, DATABASE, FLOATING, FLOATING6, program};
use crate::steal::wall_nanos;
use anyhow::{Context, Result, ensure};
use std::process::{Child, Stdio};
use std::time::Duration;

const LIMIT: Duration = Duration::from_secs(60);
/// Longer than any test: whoever ends it earlier was told.
const QUESTION: &str = "select pg_sleep(600)";

/// One such client over IPv4, and one over IPv6.
pub struct Waiting(Vec<Child>);

impl Waiting {
    /// Returns when both wait, and the cluster knows of them.
    ///
    /// # Errors
    /// If they cannot ask.
    pub async fn start(lab: &Lab, port: u16) -> Result<Self> {
        let passfile = lab.layout.dir.join("passfile");
        let ask = |ip: &&str| {
            let mut command = find::enter(&lab.layout, CLIENT)?;
            let to = format!("host={ip} port={port} dbname={DATABASE} user={CLIENT_ROLE}");
            command.arg(program("psql")).arg(to).args(["-c", QUESTION]).env("PGPASSFILE", &passfile);
            let silent = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
            silent.spawn().context("psql")
        };
        let clients = Self([FLOATING, FLOATING6].iter().map(ask).collect::<Result<_>>()?);
        let primary = lab.administrator(&lab.primary().await?).await?;
        let asking = "select count(*) from pg_stat_activity where query = $1 and state = 'active'";
        let mut ask = true;
        while ask {
            ask = primary.query_one(asking, &[&QUESTION]).await?.get::<_, i64>(0) < 2;
            tokio::time::sleep(crate::cluster::LOOK).await;
        }
        let known = |r: &karst_api::StatusReply| r.status.workloads[0].address.as_ref().is_some_and(|a| a.flows >= 2);
        lab.wait("the connections over the address are counted", LIMIT, known).await?;
        Ok(clients)
    }

    /// Waits until both were told, and says when the last of them was, in nanoseconds since 1970.
    ///
    /// # Errors
    /// If one still waits after a minute.
    pub async fn told(mut self) -> Result<u128> {
        let mut last = 0;
        for client in &mut self.0 {
            let ended = tokio::time::timeout(LIMIT, async {
                while client.try_wait()?.is_none() {
                    tokio::time::sleep(Duration::from_millis(5)).await;
                }
                anyhow::Ok(wall_nanos())
            });
            last = last.max(ended.await.context("a client over the address still waits")??);
            ensure!(!client.wait()?.success(), "it was answered");
        }
        Ok(last)
    }
}

impl Drop for Waiting {
    fn drop(&mut self) {
        for client in &mut self.0 {
            let _ = client.kill();
            let _ = client.wait();
        }
    }
}
