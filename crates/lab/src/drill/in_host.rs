//! A client on the primary's own host, and the end of the server that it writes to.

use crate::cluster::Lab;
use crate::find;
use crate::steal::boot_nanos;
use anyhow::{Context, Result, ensure};
use karst_api::StatusReply;
use karst_api::core::event::FactKind;
use std::time::Duration;

pub const LIMIT: Duration = Duration::from_secs(120);

/// A client on the primary's own host, on the server's socket, that nothing but the server's end
/// can stop: it writes without waiting for any standby.
pub struct InHost(tokio::task::JoinHandle<Result<u64>>);

impl InHost {
    pub async fn start(lab: &Lab, primary: &str) -> Result<Self> {
        let socket = lab.layout.server_socket(primary);
        let mut config = tokio_postgres::Config::new();
        config.host_path(socket).user("postgres").dbname("postgres");
        let (client, session) = config
            .connect(tokio_postgres::NoTls)
            .await
            .context("the socket on the host")?;
        tokio::spawn(session);
        let table =
            "set synchronous_commit = local; create table if not exists in_host (at bigint)";
        client.batch_execute(table).await?;
        let writing = tokio::spawn(async move {
            let mut last = 0;
            while client
                .execute("insert into in_host values ($1)", &[&(boot_nanos() as i64)])
                .await
                .is_ok()
            {
                last = boot_nanos();
            }
            Ok(last)
        });
        Ok(Self(writing))
    }

    /// When the last write returned; the server has ended.
    async fn finish(self) -> Result<u64> {
        tokio::time::timeout(LIMIT, self.0)
            .await
            .context("the server on the host still answers")??
    }
}

/// Waits until nothing of the server on `primary` runs, which has to be within `longest` of
/// `stopped`, when its daemon or deadman stood still or its host was cut off, and before anyone
/// else gets an epoch. How long it took.
pub async fn server_ends(
    lab: &Lab,
    primary: &str,
    stopped: u64,
    longest: Duration,
    writing: InHost,
) -> Result<Duration> {
    let begun = std::time::Instant::now();
    while !find::working_in(&lab.layout.data(primary)).is_empty() {
        ensure!(begun.elapsed() < LIMIT, "the old server never ended");
        tokio::time::sleep(Duration::from_millis(2)).await;
    }
    let ended = boot_nanos();
    let elsewhere = |r: &StatusReply| {
        r.status.workloads[0]
            .primary
            .as_ref()
            .is_some_and(|p| p.as_str() != primary)
    };
    let moved = lab.wait("a new primary", LIMIT, elsewhere).await?;
    let steps = &moved
        .status
        .operations
        .first()
        .context("an operation")?
        .steps;
    let assigned = steps
        .iter()
        .find(|s| s.kind == FactKind::Assigned)
        .context("the assignment")?;
    ensure!(
        assigned.at.0 > ended,
        "there was a new epoch {} ms before the old server was seen to have ended, {} ms after the process stood still",
        (ended - assigned.at.0) / 1_000_000,
        (ended - stopped) / 1_000_000
    );
    let after = Duration::from_nanos(ended - stopped);
    ensure!(
        after < longest,
        "the old server ended {after:?} after the process stood still"
    );
    let last = writing.finish().await?;
    ensure!(
        last > stopped,
        "the client on the host wrote nothing after the process stood still"
    );
    ensure!(
        last < assigned.at.0,
        "a client on the host wrote after the new epoch began"
    );
    Ok(after)
}
