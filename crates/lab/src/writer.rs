//! The client load: ordinary PostgreSQL clients that commit numbered rows with no pause and see the
//! server's warnings.

use crate::journal::{Ending, Journal, Line};
use crate::keep;
use crate::layout::Layout;
use crate::steal::boot_nanos;
use anyhow::{Context, Result};
use futures_util::{StreamExt, stream::poll_fn};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tokio::sync::mpsc;
use tokio_postgres::{AsyncMessage, Client, Config, NoTls};

/// What the writers do, and where.
#[derive(Clone, Debug)]
pub struct Load {
    /// A connection string; several hosts are tried in turn.
    pub to: String,
    pub password: String,
    pub writers: u32,
    /// Between two writes of one writer; zero for commit to commit.
    pub pause: Duration,
    pub journal: PathBuf,
    /// The load ends when this file exists, or when its lab has ended.
    pub until: PathBuf,
    pub lab: Layout,
}

/// How long a client waits for an answer before it gives its connection up: longer than any
/// failover.
const PATIENCE: Duration = Duration::from_secs(20);

struct Session {
    client: Client,
    warned: Arc<AtomicBool>,
    server: String,
}

/// Runs the load to its end.
pub async fn run(load: Load) -> Result<()> {
    let (lines, mut written) = mpsc::unbounded_channel::<Line>();
    let stop = Arc::new(AtomicBool::new(false));
    let mut journal = Journal::create(&load.journal)?;
    let journaling = tokio::task::spawn_blocking(move || {
        while let Some(line) = written.blocking_recv() {
            journal.push(&line)?;
        }
        anyhow::Ok(())
    });
    let writers: Vec<_> = (0..load.writers)
        .map(|n| tokio::spawn(write(n, load.clone(), stop.clone(), lines.clone())))
        .collect();
    drop(lines);
    while !load.until.exists() && keep::running(&load.lab).is_some() {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    stop.store(true, Ordering::Relaxed);
    for writer in writers {
        if keep::running(&load.lab).is_none() {
            writer.abort();
            continue;
        }
        writer.await.context("a writer")?;
    }
    journaling.await.context("the journal")?
}

async fn connect(load: &Load) -> Result<Session, tokio_postgres::Error> {
    let mut config: Config = load.to.parse()?;
    config
        .password(&load.password)
        .connect_timeout(PATIENCE)
        .application_name("writer");
    let (client, mut connection) = config.connect(NoTls).await?;
    let warned = Arc::new(AtomicBool::new(false));
    let flag = warned.clone();
    tokio::spawn(async move {
        let mut messages = poll_fn(move |cx| connection.poll_message(cx));
        while let Some(Ok(message)) = messages.next().await {
            if let AsyncMessage::Notice(notice) = message
                && notice.severity() == "WARNING"
            {
                flag.store(true, Ordering::SeqCst);
            }
        }
    });
    let row = client
        .query_one("select host(inet_server_addr())", &[])
        .await?;
    Ok(Session {
        client,
        warned,
        server: row.get(0),
    })
}

async fn write(number: u32, load: Load, stop: Arc<AtomicBool>, lines: mpsc::UnboundedSender<Line>) {
    let mut session = None;
    // Unique over all runs: each writer's number, its process, the clock. Two processes that begin in
    // one millisecond would take each other's rows for their own, and one of them never write.
    let process = i64::from(std::process::id() % 1_000);
    let mut id = i64::from(number) * 100_000_000_000_000_000
        + process * 100_000_000_000_000
        + (boot_nanos() >> 20) as i64 * 100_000;
    while !stop.load(Ordering::Relaxed) {
        id += 1;
        let began = boot_nanos();
        if session.is_none() {
            match tokio::time::timeout(PATIENCE, connect(&load)).await {
                Ok(Ok(new)) => session = Some(new),
                other => {
                    if let Ok(Err(error)) = &other
                        && is_refusal(error)
                    {
                        let _ = lines.send(Line {
                            id,
                            writer: number,
                            began,
                            ended: boot_nanos(),
                            ending: Ending::Refused,
                            server: Some(error.to_string()),
                        });
                    }
                    tokio::time::sleep(Duration::from_millis(5)).await;
                    continue;
                }
            }
        }
        let Some(open) = &session else { continue };
        open.warned.store(false, Ordering::SeqCst);
        let insert = "insert into drill_row (id, writer) values ($1, $2)";
        let done = tokio::time::timeout(
            PATIENCE,
            open.client.execute(insert, &[&id, &(number as i32)]),
        )
        .await;
        let clean = matches!(done, Ok(Ok(1))) && !open.warned.load(Ordering::SeqCst);
        let ending = if clean {
            Ending::Acknowledged
        } else {
            Ending::Unknown
        };
        let server = Some(open.server.clone());
        if lines
            .send(Line {
                id,
                writer: number,
                began,
                ended: boot_nanos(),
                ending,
                server,
            })
            .is_err()
        {
            return;
        }
        if !clean {
            session = None;
        }
        if !load.pause.is_zero() {
            tokio::time::sleep(load.pause).await;
        }
    }
}

/// Nobody listened: what a gate must never let a client see.
fn is_refusal(error: &tokio_postgres::Error) -> bool {
    use std::error::Error;
    let io = error
        .source()
        .and_then(|s| s.downcast_ref::<std::io::Error>());
    io.is_some_and(|e| e.kind() == std::io::ErrorKind::ConnectionRefused)
}
