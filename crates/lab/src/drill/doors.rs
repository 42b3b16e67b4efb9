//! Who should not get in, and parts of a daemon that stand still: each scene does it to a running
//! lab under load, looks at what must hold, undoes it, and says in a few words what it saw. An
//! error is a promise that was not kept.

use super::in_host::LIMIT;
use super::scenes::apply;
use super::steady::resident;
use crate::cluster::Lab;
use crate::crowd;
use crate::fault::{Fault, Network};
use crate::find;
use crate::journal::{self, Ending};
use crate::layout::{GATES, NODES, host};
use crate::steal::{boot_nanos, wall_nanos};
use anyhow::{Context, Result, ensure};
use karst_api::StatusReply;
use karst_api::core::event::FactKind;
use karst_api::core::request::PowerWish;
use karst_api::core::view::ReplicaState;
use nix::sys::ptrace;
use nix::sys::wait::{WaitPidFlag, waitpid};
use nix::unistd::Pid;
use std::path::Path;
use std::time::{Duration, Instant};

/// A datagram is dropped at once, and nothing of it is kept.
const MEMORY_GROWS: u64 = 8 << 20;
const KNOCKS_FOR: Duration = Duration::from_secs(10);
const KNOCKS_A_SECOND: u32 = 20_000;
/// From the moment that a heart stands still until its process is gone, and until all is well.
const GONE_WITHIN: Duration = Duration::from_millis(1_000);
const WELL_WITHIN: Duration = Duration::from_secs(5);
/// Where nothing has to be copied.
const HEALED_WITHIN: Duration = Duration::from_secs(6);
/// What a host takes that is turned off and on, its boot and the way home of its server included.
const CYCLED_WITHIN: Duration = Duration::from_secs(60);

fn epoch(reply: &StatusReply) -> u64 {
    reply.status.workloads[0].epoch.0
}

/// 20,000 first datagrams of connections a second, from addresses of nobody's, at the coordinator
/// and at the primary's host.
pub async fn strangers_knock(lab: &Lab) -> Result<String> {
    let before = lab.healthy(LIMIT).await?;
    let coordinator = before
        .status
        .coordinator
        .clone()
        .context("a coordinator")?
        .to_string();
    let primary = lab.primary().await?;
    let from = NODES
        .iter()
        .map(|n| n.name)
        .find(|n| *n != coordinator && *n != primary)
        .context("another host")?;
    let mut targets = vec![coordinator, primary];
    targets.dedup();
    let mut crowds = Vec::new();
    let mut daemons = Vec::new();
    for target in &targets {
        let to = format!("{}:26700", host(target).context("a host")?.peer()).parse()?;
        crowds.push(crowd::strangers(
            &lab.layout,
            from,
            to,
            KNOCKS_A_SECOND / targets.len() as u32,
        )?);
        let pid = find::daemon(&lab.layout, target, "run")?;
        daemons.push((target, pid, resident(pid)?));
    }
    let (began, since) = (wall_nanos(), Instant::now());
    while since.elapsed() < KNOCKS_FOR {
        ensure!(
            epoch(&lab.status().await?) == epoch(&before),
            "the primary moved for it"
        );
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    drop(crowds);
    let mut grown = 0;
    for (target, pid, had) in daemons {
        let has = resident(pid).with_context(|| format!("{target}'s daemon"))?;
        grown = grown.max(has.saturating_sub(had));
        ensure!(
            has < had + MEMORY_GROWS,
            "{target}'s daemon grew by {} kB",
            (has - had) / 1024
        );
    }
    let after = lab.healthy(LIMIT).await?;
    ensure!(epoch(&after) == epoch(&before), "the primary moved for it");
    let suspected = suspicions(lab, began).await?;
    ensure!(suspected == 0, "{suspected} suspicions");
    Ok(format!(
        "nobody was suspected, nothing moved; the daemons grew by {} kB at most",
        grown / 1024
    ))
}

async fn suspicions(lab: &Lab, since: u128) -> Result<usize> {
    let records = lab.records(FactKind::Suspected).await?;
    let parse = |text: &str| {
        time::OffsetDateTime::parse(text, &time::format_description::well_known::Rfc3339).ok()
    };
    let times = records.iter().filter_map(|r| parse(&r.at));
    Ok(times
        .filter(|at| at.unix_timestamp_nanos().cast_unsigned() > since)
        .count())
}

/// 300 event streams and 2,000 status requests a second at a node that does not lead.
pub async fn many_consoles(lab: &Lab) -> Result<String> {
    let before = lab.healthy(LIMIT).await?;
    let coordinator = before.status.coordinator.clone().context("a coordinator")?;
    let (place, follower) = NODES
        .iter()
        .enumerate()
        .find(|(_, n)| n.name != coordinator.as_str())
        .context("a node that does not lead")?;
    let (port, token) = (lab.layout.api_port(place), lab.layout.token()?);
    let began = wall_nanos();
    let (mut streams, mut refused) = (Vec::new(), 0);
    for _ in 0..300 {
        match crowd::listen(port, &token).await {
            Ok((200, stream)) => streams.push(stream),
            Ok((429, _)) => refused += 1,
            Ok((other, _)) => anyhow::bail!("an event stream was answered {other}"),
            Err(_) => refused += 1,
        }
    }
    let since = Instant::now();
    let mut answered = 0u32;
    while since.elapsed() < KNOCKS_FOR {
        let asked = (0..200).map(|_| {
            let token = token.clone();
            tokio::spawn(async move { crowd::get(port, "/api/v1/status", &token).await })
        });
        for one in asked.collect::<Vec<_>>() {
            answered += u32::from(matches!(one.await?, Ok(200)));
        }
        let due = Duration::from_secs_f64(f64::from(answered) / 2_000.0);
        tokio::time::sleep(due.saturating_sub(since.elapsed())).await;
    }
    let held = streams.len();
    drop(streams);
    let after = lab.healthy(LIMIT).await?;
    ensure!(
        epoch(&after) == epoch(&before) && after.status.coordinator == before.status.coordinator,
        "something moved"
    );
    let suspected = suspicions(lab, began).await?;
    ensure!(suspected == 0, "{suspected} suspicions");
    let rate = f64::from(answered) / since.elapsed().as_secs_f64();
    Ok(format!(
        "{rate:.0} answers a second from {}, {held} streams held and {refused} sent away; nobody was suspected, nothing moved",
        follower.name
    ))
}

/// The thread of the primary's daemon that runs its heart is stopped, and nothing else: the daemon
/// ends itself, is started again, and nothing moves.
pub async fn heart_stands_still(lab: &Lab) -> Result<String> {
    let before = lab.healthy(LIMIT).await?;
    let primary = lab.primary().await?;
    let pid = find::daemon(&lab.layout, &primary, "run")?;
    let at = boot_nanos();
    // Whoever traces a thread has to wait for its end: a thread of its own does all of it.
    let stopped = tokio::task::spawn_blocking(move || stop_thread(pid, "pulse"));
    let gone = loop {
        let took = Duration::from_nanos(boot_nanos() - at);
        if find::daemon(&lab.layout, &primary, "run").ok() != Some(pid) {
            break took;
        }
        ensure!(took < LIMIT, "the daemon goes on without its heart");
        tokio::time::sleep(Duration::from_millis(5)).await;
    };
    stopped.await??;
    ensure!(gone < GONE_WITHIN, "it was gone only after {gone:?}");
    let after = lab.healthy(LIMIT).await?;
    let well = Duration::from_nanos(boot_nanos() - at);
    ensure!(epoch(&after) == epoch(&before), "the primary moved for it");
    ensure!(well < WELL_WITHIN, "all was well only after {well:?}");
    Ok(format!(
        "its process was gone {} ms after, all was well after {} ms",
        gone.as_millis(),
        well.as_millis()
    ))
}

/// Stops one thread of a process until the process has ended (ptrace(2)).
fn stop_thread(pid: i32, name: &str) -> Result<()> {
    let is = |task: &Path| {
        std::fs::read_to_string(task.join("comm")).is_ok_and(|comm| comm.trim() == name)
    };
    let tasks = std::fs::read_dir(format!("/proc/{pid}/task"))?
        .flatten()
        .map(|entry| entry.path());
    let thread = tasks
        .filter(|task| is(task))
        .find_map(|task| task.file_name()?.to_str()?.parse().ok());
    let thread = Pid::from_raw(thread.with_context(|| format!("a thread {name}"))?);
    ptrace::seize(thread, ptrace::Options::empty()).context("tracing")?;
    ptrace::interrupt(thread).context("stopping")?;
    while Path::new(&format!("/proc/{pid}/task/{thread}")).exists() {
        // Its stop, and in the end its end.
        let _ = waitpid(thread, Some(WaitPidFlag::__WALL | WaitPidFlag::WNOHANG));
        std::thread::sleep(Duration::from_millis(5));
    }
    Ok(())
}

/// A member of the sync set whose stream is dead while the coordinator hears both: writes go on
/// without it within a second, and it comes back once and for good.
pub async fn stream_is_dead(lab: &Lab, load: &str) -> Result<String> {
    let journal = lab.layout.dir.join(format!("load/{load}.journal"));
    let before = lab.healthy(LIMIT).await?;
    let primary = lab.primary().await?;
    let limit = if lab.timings().await?.lease < Duration::from_secs(1) {
        500
    } else {
        1_000
    };
    let mut seen = Vec::new();
    for one_way in [None, Some(true), Some(false)] {
        let well = lab.healthy(LIMIT).await?;
        let members = &well.status.workloads[0].sync.sure;
        ensure!(members.len() > 1, "only {members:?} could confirm writes");
        let member = members
            .iter()
            .find(|n| n.as_str() != primary)
            .context("a standby")?
            .to_string();
        let changes = well.status.workloads[0].sync.number;
        let (from, to) = match one_way {
            Some(false) => (member.clone(), primary.clone()),
            _ => (primary.clone(), member.clone()),
        };
        let at = boot_nanos();
        for network in [Network::Client, Network::Peer] {
            let (from, to, one_way) = (from.clone(), to.clone(), one_way.is_some());
            apply(
                lab,
                Fault::CutPair {
                    from,
                    to,
                    one_way,
                    network: Some(network),
                },
            )?;
        }
        let left = |r: &StatusReply| {
            r.status.workloads[0]
                .sync
                .sure
                .iter()
                .all(|n| n.as_str() != member)
        };
        lab.wait("it leaves the sync set", LIMIT, left).await?;
        tokio::time::sleep(Duration::from_secs(4)).await;
        apply(lab, Fault::Heal)?;
        let after = lab.healthy(LIMIT).await?;
        ensure!(epoch(&after) == epoch(&before), "the primary moved for it");
        let stall = longest_stall(&journal, at)?;
        ensure!(
            stall < Duration::from_millis(limit),
            "writes waited for {stall:?}; {limit} ms are promised"
        );
        // It leaves once, and joins in two steps.
        let moves = after.status.workloads[0].sync.number - changes;
        ensure!(moves <= 2, "the set was changed {moves} times");
        seen.push(stall.as_millis().to_string());
    }
    Ok(format!(
        "writes waited for {} ms: both ways, to it, from it",
        seen.join(", ")
    ))
}

/// The longest time between two acknowledged writes since a moment.
pub(super) fn longest_stall(path: &Path, from: u64) -> Result<Duration> {
    let lines = journal::read(path)?;
    let mut acks: Vec<u64> = lines
        .iter()
        .filter(|l| l.ending == Ending::Acknowledged && l.ended >= from)
        .map(|l| l.ended)
        .collect();
    acks.push(from);
    acks.sort_unstable();
    Ok(acks
        .windows(2)
        .map(|w| Duration::from_nanos(w[1] - w[0]))
        .max()
        .unwrap_or_default())
}

/// The server of a planned move's target is killed in the middle of it.
pub async fn target_dies(lab: &Lab) -> Result<String> {
    let mut seen = Vec::new();
    for after in [20, 60, 100] {
        lab.healthy(LIMIT).await?;
        let primary = lab.primary().await?;
        let to = NODES
            .iter()
            .find(|n| n.rank.is_some_and(|r| r < 9) && n.name != primary)
            .context("a target")?
            .name;
        let pid = find::postmaster(&lab.layout, to)?;
        let body = karst_api::MoveBody {
            to: Some(to.into()),
            ..karst_api::MoveBody::default()
        };
        let operation = lab
            .client
            .begin(crate::layout::WORKLOAD, "switchover", &body)
            .await?
            .operation;
        tokio::time::sleep(Duration::from_millis(after)).await;
        let at = boot_nanos();
        find::signal(pid, rustix::process::Signal::KILL)?;
        let copies = |r: &StatusReply| {
            r.status.workloads[0]
                .replicas
                .iter()
                .any(|r| r.state == ReplicaState::Rejoining)
        };
        let mut copied = false;
        lab.wait("all is well", LIMIT, |r| {
            copied |= copies(r);
            let over = r
                .status
                .operations
                .iter()
                .any(|o| o.id == operation && o.outcome.is_some());
            crate::cluster::is_well(r) && over
        })
        .await?;
        let took = Duration::from_nanos(boot_nanos() - at);
        ensure!(
            copied || took < HEALED_WITHIN,
            "killed {after} ms after its beginning, all was well only after {took:?}"
        );
        seen.push(format!(
            "{} ms{}",
            took.as_millis(),
            if copied { " (with a copy)" } else { "" }
        ));
    }
    Ok(format!("all was well after {}", seen.join(", ")))
}

/// Power off and on by a person's word: the workload fails over, and the host comes back as a
/// standby by itself.
pub async fn power_cycled(lab: &Lab) -> Result<String> {
    let before = lab.healthy(LIMIT).await?;
    let coordinator = before
        .status
        .coordinator
        .clone()
        .context("a coordinator")?
        .to_string();
    let primary = lab.primary().await?;
    let node = if primary == coordinator {
        NODES
            .iter()
            .map(|n| n.name)
            .find(|n| *n != coordinator && !GATES.contains(n))
            .context("a host")?
            .to_string()
    } else {
        primary
    };
    let plan = lab.client.power_plan(&node, PowerWish::Cycle).await?;
    ensure!(plan.unmet.is_none() && !plan.steps.is_empty(), "{plan:?}");
    let at = boot_nanos();
    lab.client.power(&node, PowerWish::Cycle).await?;
    let off = |r: &StatusReply| {
        r.status
            .nodes
            .iter()
            .any(|n| n.node.as_str() == node && n.fenced.is_some())
    };
    lab.wait("it is fenced", LIMIT, off).await?;
    lab.healthy(LIMIT).await?;
    let took = Duration::from_nanos(boot_nanos() - at);
    ensure!(took < CYCLED_WITHIN, "it was back only after {took:?}");
    let turned_on = lab
        .first_record(FactKind::PowerOn, wall_nanos() - took.as_nanos())
        .await;
    turned_on.context("no word that it was turned on")?;
    Ok(format!(
        "{node} was off, turned on, and well {} ms after",
        took.as_millis()
    ))
}
