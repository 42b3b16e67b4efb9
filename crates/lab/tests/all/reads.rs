//! Readers by the strings that people paste: spread over the standbys, never to data older than the
//! spec allows, and left alone while the primary moves.

use crate::rig::clients::{code_of, pasted, psql};
use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::StatusReply;
use karst_api::core::spec::FindingKind;
use karst_api::core::view::ReadsView;
use karst_lab::drill::start_load;
use karst_lab::layout::WORKLOAD;
use karst_lab::{Lab, find};
use rustix::process::Signal;
use std::collections::BTreeSet;
use std::process::{Child, Stdio};

#[tokio::test(flavor = "multi_thread")]
async fn readers_are_spread_and_never_see_old_data() {
    let lab = TestLab::start("test-reads", 9820).await.unwrap();
    let load = start_load(&lab.layout, "reads", 2, 2).unwrap();
    spread(&lab).await.unwrap();
    held_back(&lab).await.unwrap();
    left_alone(&lab).await.unwrap();
    drop(load.finish().unwrap());
}

const WHO: &str = "select pg_is_in_recovery()::text || ' ' || host(inet_server_addr())";

/// The string for readers, for somebody who waits where the disks of a busy machine stand still.
async fn string(lab: &Lab) -> Result<String> {
    let pasted = pasted(lab, "reads, any read gate").await?;
    let patient = pasted.replace("connect_timeout=3", "connect_timeout=60");
    ensure!(patient != pasted, "{pasted}");
    Ok(patient)
}

/// Whom so many connections lead to.
fn who(lab: &Lab, string: &str, connections: usize) -> Result<BTreeSet<String>> {
    let one = |_| {
        let output = psql(lab, string, WHO)?.output()?;
        let error = String::from_utf8_lossy(&output.stderr).into_owned();
        ensure!(output.status.success(), "a reader was refused: {error}");
        Ok(String::from_utf8_lossy(&output.stdout).trim().to_string())
    };
    (0..connections).map(one).collect()
}

async fn reads(lab: &Lab) -> Result<ReadsView> {
    lab.workload().await?.reads.context("its readers")
}

fn serves(reply: &StatusReply, node: &str) -> Option<bool> {
    let reads = reply.status.workloads[0].reads.as_ref()?;
    reads
        .readers
        .iter()
        .find(|r| r.node.as_str() == node)?
        .serves
}

fn both_serve(reply: &StatusReply) -> bool {
    let serve = ["doline", "polje", "uvala"].map(|n| serves(reply, n) == Some(true));
    serve.into_iter().filter(|serves| *serves).count() == 2
}

async fn standbys(lab: &Lab) -> Result<Vec<String>> {
    let all = reads(lab).await?.readers.into_iter();
    let serve = all.filter(|r| r.serves == Some(true));
    Ok(serve.map(|r| r.node.to_string()).collect())
}

/// 200 where this node's server is one for readers.
fn probe(lab: &Lab, node: &str) -> Result<String> {
    let url = format!("http://node/role/{WORKLOAD}/reader");
    code_of(&lab.layout.runtime(node).join("api.sock"), &[&url])
}

async fn spread(lab: &Lab) -> Result<()> {
    lab.wait("both standbys serve readers", LIMIT, both_serve)
        .await?;
    let any = string(lab).await?;
    let seen = who(lab, &any, 12)?;
    ensure!(
        seen.iter().all(|who| who.starts_with("true ")),
        "a reader was let to a primary: {seen:?}"
    );
    // With one there already the next goes to the other.
    let first = hold(lab, &any)?;
    let next = who(lab, &any, 1)?;
    ensure!(
        next.iter().all(|who| *who != first.to),
        "two readers at {}, and nobody at the other",
        first.to
    );
    first.end()?;
    let (primary, standbys) = (lab.primary().await?, standbys(lab).await?);
    for (node, code) in [(primary.as_str(), "503"), (standbys[0].as_str(), "200")] {
        ensure!(
            probe(lab, node)? == code,
            "{node} answers {}",
            probe(lab, node)?
        );
    }
    Ok(())
}

/// A reader that stays.
struct Held {
    to: String,
    child: Child,
}

impl Held {
    fn end(mut self) -> Result<()> {
        self.child.kill()?;
        self.child.wait()?;
        Ok(())
    }
}

/// It says where it is before it stays.
fn hold(lab: &Lab, string: &str) -> Result<Held> {
    use std::io::BufRead;
    let mut psql = psql(lab, string, WHO)?;
    psql.args(["-c", "select pg_sleep(600)"])
        .stdout(Stdio::piped())
        .stderr(Stdio::null());
    let mut child = psql.spawn()?;
    let mut said = std::io::BufReader::new(child.stdout.take().context("its output")?);
    let mut line = String::new();
    said.read_line(&mut line)?;
    Ok(Held {
        to: line.trim().into(),
        child,
    })
}

/// Standbys that replay nothing any more are let go one after the other; readers wait then, and are
/// served again once one of them is back.
async fn held_back(lab: &Lab) -> Result<()> {
    let any = string(lab).await?;
    let (mut first, mut second) = (hold(lab, &any)?, hold(lab, &any)?);
    ensure!(first.to != second.to, "{}", first.to);
    let all = standbys(lab).await?;
    lab.administrator(&all[0])
        .await?
        .execute("select pg_wal_replay_pause()", &[])
        .await?;
    let gone = |r: &StatusReply| serves(r, &all[0]) == Some(false);
    let reply = lab.wait("the first is let go", LIMIT, gone).await?;
    let said = reply.status.workloads[0]
        .reads
        .clone()
        .context("its readers")?;
    let why = said
        .readers
        .iter()
        .find_map(|r| r.why.clone().filter(|_| r.node.as_str() == all[0]));
    ensure!(
        why.as_ref().is_some_and(|why| why.contains(" old")),
        "{why:?}"
    );
    let begun = std::time::Instant::now();
    while first.child.try_wait()?.is_none() && second.child.try_wait()?.is_none() {
        ensure!(
            begun.elapsed() < LIMIT,
            "a reader stays where the data are old"
        );
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    ensure!(who(lab, &any, 6)?.len() == 1, "only one serves them");
    let one_left = first.child.try_wait()?.is_some() != second.child.try_wait()?.is_some();
    ensure!(one_left, "a reader was closed whose data are not old");

    lab.administrator(&all[1])
        .await?
        .execute("select pg_wal_replay_pause()", &[])
        .await?;
    let waits = |r: &StatusReply| {
        let mut all = r.status.findings.iter();
        all.any(|f| f.finding.kind == FindingKind::ReadersWait)
    };
    lab.wait("readers wait", LIMIT, waits).await?;
    let mut waiting = psql(lab, &any, WHO)?.stdout(Stdio::piped()).spawn()?;
    let held = |r: &StatusReply| {
        let reads = r.status.workloads[0].reads.as_ref();
        let seen = reads.into_iter().flat_map(|reads| &reads.gates);
        seen.filter_map(|g| g.seen.as_ref())
            .map(|seen| seen.waiting)
            .sum::<u64>()
            > 0
    };
    lab.wait("one of them is held", LIMIT, held).await?;
    for node in &all {
        lab.administrator(node)
            .await?
            .execute("select pg_wal_replay_resume()", &[])
            .await?;
    }
    ensure!(waiting.wait()?.success(), "whoever waited was not served");
    lab.wait("nobody waits", LIMIT, |r| !waits(r)).await?;
    drop((first.end(), second.end()));
    Ok(())
}

/// While the primary is lost and another takes over, whoever reads from the third goes on.
async fn left_alone(lab: &Lab) -> Result<()> {
    lab.wait("both standbys serve readers", LIMIT, both_serve)
        .await?;
    let any = string(lab).await?;
    let (mut first, mut second) = (hold(lab, &any)?, hold(lab, &any)?);
    let from = lab.primary().await?;
    find::signal(find::postmaster(&lab.layout, &from)?, Signal::KILL)?;
    let moved = |r: &StatusReply| {
        let primary = &r.status.workloads[0].primary;
        primary.as_ref().is_some_and(|p| p.as_str() != from) && both_serve(r)
    };
    lab.wait(
        "another is primary and both others serve readers",
        LIMIT,
        moved,
    )
    .await?;
    let begun = std::time::Instant::now();
    let is_gone = |held: &mut Held| held.child.try_wait().map(|ended| ended.is_some());
    while !is_gone(&mut first)? && !is_gone(&mut second)? {
        ensure!(begun.elapsed() < LIMIT, "a reader stays on the new primary");
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    ensure!(
        is_gone(&mut first)? != is_gone(&mut second)?,
        "both readers were closed, and only one read from the new primary"
    );
    let seen = who(lab, &any, 6)?;
    ensure!(seen.iter().all(|who| who.starts_with("true ")), "{seen:?}");
    drop((first.end(), second.end()));
    Ok(())
}
