//! Random faults one after the other under load, for as long as asked; each is undone, and all has
//! to be well again before the next. The seed is printed: the same one chooses the same faults.
//!
//! A machine that stands still for as long as the detector waits is a fault of its own, on all
//! hosts at once: what moves in such a round is counted apart and asked nothing, but that no row is
//! missing and no address answered twice.

use super::compare::compare;
use super::load::start_load;
use crate::capture::{self, Capture};
use crate::cluster::Lab;
use crate::disk::Volume;
use crate::fault::{self, Fault, Frozen, Network};
use crate::find;
use crate::journal::{Ending, Line};
use crate::layout::NODES;
use crate::power;
use crate::steal::{Standstill, boot_nanos};
use anyhow::{Context, Result, ensure};
use karst_api::StatusReply;
use karst_api::core::Epoch;
use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use rustix::process::Signal;
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// How long everything may take to be well again after a fault has ended.
const HEALS: Duration = Duration::from_secs(120);

/// A person who gives fenced hosts their power back comes round this often.
const LOOKS_EVERY: Duration = Duration::from_secs(2);

/// By then whatever a fault leads to has begun.
const NOTICED: Duration = Duration::from_millis(2_500);

/// What is done to a host, or between two.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Blow {
    KillServer,
    KillDaemon,
    KillDeadman,
    FreezeDaemon,
    FreezeDeadman,
    FreezeBoth,
    FreezeHost,
    PowerCut,
    CutOff,
    CutFromPeers,
    OneWay,
    Loss,
    NoController,
    FullData,
    FullLog,
}

const BLOWS: [Blow; 15] = [
    Blow::KillServer,
    Blow::KillDaemon,
    Blow::KillDeadman,
    Blow::FreezeDaemon,
    Blow::FreezeDeadman,
    Blow::FreezeBoth,
    Blow::FreezeHost,
    Blow::PowerCut,
    Blow::CutOff,
    Blow::CutFromPeers,
    Blow::OneWay,
    Blow::Loss,
    Blow::NoController,
    Blow::FullData,
    Blow::FullLog,
];

/// What came of one fault.
struct Round {
    blow: Blow,
    host: &'static str,
    was_primary: bool,
    /// Epochs that began meanwhile.
    moves: u64,
    /// For how long nothing on the machine ran, where it is a fault of its own.
    stood_still: Option<Duration>,
    /// What the operation says of its reason.
    why: Option<String>,
    from: u64,
    to: u64,
}

/// Goes on for `time`, then compares every acknowledged row with every replica.
///
/// # Errors
/// If a row is missing, two servers took writes at the same time, something moved without a fault,
/// or anything is not well again in time.
pub async fn run(lab: &Lab, time: Duration, seed: u64) -> Result<()> {
    println!("storm: seed {seed}, {} s", time.as_secs());
    lab.healthy(HEALS).await?;
    let load = start_load(&lab.layout, "storm", 4, 2)?;
    let mut chance = StdRng::seed_from_u64(seed);
    let (begun, mut rounds) = (Instant::now(), Vec::new());
    let still = Standstill::watch();
    while begun.elapsed() < time {
        let blow = *BLOWS.choose(&mut chance).context("there are blows")?;
        let server = matches!(blow, Blow::KillServer | Blow::FullData | Blow::FullLog);
        let replicas = NODES
            .iter()
            .filter(|n| !server || n.rank.is_some())
            .collect::<Vec<_>>();
        // The primary is the most interesting one.
        let primary = lab.primary().await?;
        let any = replicas
            .choose(&mut chance)
            .context("there are hosts")?
            .name;
        let first = replicas
            .iter()
            .find(|n| n.name == primary)
            .map_or(any, |n| n.name);
        let host = if chance.random_bool(0.5) { first } else { any };
        let hold = Duration::from_millis(
            *[200, 900, 2_500, 6_000]
                .choose(&mut chance)
                .context("there are times")?,
        );
        let other = NODES
            .iter()
            .map(|n| n.name)
            .filter(|n| *n != host)
            .collect::<Vec<_>>();
        let other = *other.choose(&mut chance).context("there are others")?;
        let round = strike(lab, &still, blow, host, other, hold).await?;
        println!(
            "{:>5} s  {:<14} {host}{} for {} ms: {}{}{}",
            begun.elapsed().as_secs(),
            format!("{blow:?}"),
            if round.was_primary { " (primary)" } else { "" },
            hold.as_millis(),
            if round.moves > 0 { "moved" } else { "stayed" },
            round
                .why
                .as_ref()
                .map_or(String::new(), |why| format!(": {why}")),
            round.stood_still.map_or(String::new(), |d| format!(
                "; THE MACHINE STOOD STILL for {} ms",
                d.as_millis()
            )),
        );
        rounds.push(round);
    }
    let lines = load.finish()?;
    let stalls = stalls(&rounds, &lines)?;
    let (acknowledged, missing) = compare(lab, &lines).await?;
    println!("\nfault           rounds  moved  longest without a write");
    for (blow, (count, moved, stall)) in stalls {
        println!(
            "{:<14} {count:>7} {moved:>6}  {:>8} ms",
            format!("{blow:?}"),
            stall.as_millis()
        );
    }
    let excused = rounds.iter().filter(|r| r.stood_still.is_some()).count();
    println!(
        "\nrounds in which the machine itself stood still: {excused} of {}",
        rounds.len()
    );
    let lost: usize = missing.iter().map(|(_, n)| n).sum();
    println!(
        "acknowledged rows missing: {lost}   (of {acknowledged}, compared with {} replicas)",
        missing.len()
    );
    ensure!(lost == 0, "acknowledged rows are missing: {missing:?}");
    Ok(())
}

async fn strike(
    lab: &Lab,
    still: &Standstill,
    blow: Blow,
    host: &'static str,
    other: &str,
    hold: Duration,
) -> Result<Round> {
    let before = lab.workload().await?;
    let mut capture = Capture::start(&lab.layout)?;
    still.take();
    let suspicion = lab.timings().await?.suspicion_floor;
    let was_primary = before.primary.as_ref().is_some_and(|p| p.as_str() == host);
    let from = boot_nanos();
    begin(lab, blow, host, other)?;
    tokio::time::sleep(hold).await;
    end(lab, blow, host)?;
    // Longer than any lease: before that, all may still look well because nobody has noticed.
    tokio::time::sleep(NOTICED).await;
    let well = heal(lab)
        .await
        .with_context(|| format!("after {blow:?} on {host}"))?;
    let after = &well.status.workloads[0];
    let moves = after.epoch.0 - before.epoch.0;
    let operations = &well.status.operations;
    let why = operations
        .first()
        .filter(|_| moves > 0)
        .map(|o| o.what.why.clone());
    ensure!(
        why.as_ref().is_none_or(|w| !w.is_empty()),
        "{blow:?} on {host}: the operation gives no reason"
    );
    if let Some(capture) = &mut capture {
        let clashes = capture::clashes(&capture.seen()?);
        ensure!(clashes.is_empty(), "{blow:?} on {host}: {}", clashes[0]);
    }
    let mut stood_still = Some(still.take()).filter(|d| *d >= suspicion);
    if stood_still.is_none() {
        let said = why.as_deref().unwrap_or_default();
        ensure!(
            moves <= moves_allowed(blow),
            "{blow:?} on {host} moved the primary {moves} times: {said}"
        );
        ensure!(
            moves == 0 || was_primary,
            "{blow:?} on {host} moved a primary that was elsewhere: {said}"
        );
    }
    let unended = well.status.operations.iter().find(|o| o.outcome.is_none());
    ensure!(unended.is_none(), "an operation has not ended: {unended:?}");
    let now = quiet(lab).await?;
    stood_still = stood_still.max(Some(still.take()).filter(|d| *d >= suspicion));
    let quiet = now == after.epoch || stood_still.is_some();
    ensure!(
        quiet,
        "it moved from epoch {} to {now} without a fault",
        after.epoch
    );
    Ok(Round {
        blow,
        host,
        was_primary,
        moves: now.0 - before.epoch.0,
        stood_still,
        why,
        from,
        to: boot_nanos(),
    })
}

/// How often a fault may move the primary of the host that it strikes.
fn moves_allowed(blow: Blow) -> u64 {
    match blow {
        Blow::KillDaemon | Blow::KillDeadman | Blow::OneWay | Blow::Loss => 0,
        _ => 2,
    }
}

fn begin(lab: &Lab, blow: Blow, host: &str, other: &str) -> Result<()> {
    let kill = |pid: Result<i32>| find::signal(pid?, Signal::KILL);
    let apply = |fault: Fault| fault::apply(&lab.layout, &fault).map(drop);
    let freeze = |what| {
        apply(Fault::Freeze {
            host: host.into(),
            what,
        })
    };
    let fill = |volume| {
        apply(Fault::FillDisk {
            host: host.into(),
            volume,
        })
    };
    let cut = |network| {
        apply(Fault::Cut {
            host: host.into(),
            network,
        })
    };
    let peer = Some(Network::Peer);
    match blow {
        Blow::KillServer => kill(find::postmaster(&lab.layout, host)),
        Blow::KillDaemon => kill(find::daemon(&lab.layout, host, "run")),
        Blow::KillDeadman => kill(find::daemon(&lab.layout, host, "deadman")),
        Blow::FreezeDaemon => freeze(Frozen::Daemon),
        Blow::FreezeDeadman => freeze(Frozen::Deadman),
        Blow::FreezeBoth => freeze(Frozen::Both),
        Blow::FreezeHost => freeze(Frozen::Host),
        Blow::PowerCut => apply(Fault::PowerOff { host: host.into() }),
        Blow::CutOff => cut(None),
        Blow::CutFromPeers => cut(peer),
        Blow::OneWay => apply(Fault::CutPair {
            from: host.into(),
            to: other.into(),
            one_way: true,
            network: peer,
        }),
        Blow::Loss => apply(Fault::Loss {
            percent: 20,
            network: peer,
        }),
        // The power goes, and nobody can say so.
        Blow::NoController => {
            apply(Fault::ControllerStop)?;
            apply(Fault::PowerOff { host: host.into() })
        }
        Blow::FullData => fill(Volume::Data),
        Blow::FullLog => fill(Volume::Log),
    }
}

fn end(lab: &Lab, blow: Blow, host: &str) -> Result<()> {
    let apply = |fault: Fault| fault::apply(&lab.layout, &fault).map(drop);
    match blow {
        Blow::KillServer | Blow::KillDaemon | Blow::KillDeadman | Blow::PowerCut => Ok(()),
        // Who stood still for too long may have lost its power meanwhile.
        Blow::FreezeDaemon | Blow::FreezeDeadman | Blow::FreezeBoth | Blow::FreezeHost => {
            if find::host_init(&lab.layout, host).is_err() {
                return Ok(());
            }
            apply(Fault::Thaw { host: host.into() })
        }
        Blow::FullData | Blow::FullLog => apply(Fault::FreeDisk { host: host.into() }),
        Blow::CutOff | Blow::CutFromPeers | Blow::OneWay | Blow::Loss => apply(Fault::Heal),
        Blow::NoController => apply(Fault::ControllerStart),
    }
}

/// The epoch after a time without a fault, in which nothing may move (L2).
async fn quiet(lab: &Lab) -> Result<Epoch> {
    tokio::time::sleep(Duration::from_millis(1_500)).await;
    Ok(heal(lab).await?.status.workloads[0].epoch)
}

/// Waits until all is well. Whoever was fenced stays off until a person has looked, and this one
/// goes on looking.
async fn heal(lab: &Lab) -> Result<StatusReply> {
    let look_round = async {
        loop {
            tokio::time::sleep(LOOKS_EVERY).await;
            if let Err(error) = power::power_on_all(&lab.layout, LOOKS_EVERY) {
                return error;
            }
        }
    };
    tokio::select! {
        well = lab.healthy(HEALS) => well,
        error = look_round => Err(error),
    }
}

/// The longest time without an acknowledged write of each kind of fault; and that no two servers
/// took turns.
fn stalls(rounds: &[Round], lines: &[Line]) -> Result<BTreeMap<Blow, (usize, usize, Duration)>> {
    let mut found: BTreeMap<Blow, (usize, usize, Duration)> = BTreeMap::new();
    for round in rounds {
        let within = |l: &&Line| {
            l.ending == Ending::Acknowledged && l.ended >= round.from && l.ended < round.to
        };
        let mut writes: Vec<&Line> = lines.iter().filter(within).collect();
        writes.sort_by_key(|l| l.ended);
        let gaps = std::iter::once(round.from)
            .chain(writes.iter().map(|l| l.ended))
            .collect::<Vec<_>>();
        let stall = gaps
            .windows(2)
            .map(|w| w[1] - w[0])
            .max()
            .unwrap_or_default();
        let entry = found.entry(round.blow).or_default();
        *entry = (
            entry.0 + 1,
            entry.1 + usize::from(round.moves > 0),
            entry.2.max(Duration::from_nanos(stall)),
        );
        // Once a newer primary has acknowledged a write, nothing that begins later is acknowledged
        // by an older one: with each epoch the writer may change once. No standstill excuses
        // another.
        let mut turns: Vec<&str> = writes.iter().filter_map(|l| l.server.as_deref()).collect();
        turns.dedup();
        ensure!(
            turns.len() as u64 <= round.moves + 1,
            "{:?} on {}: {} took turns in writing",
            round.blow,
            round.host,
            turns.join(", ")
        );
    }
    Ok(found)
}
