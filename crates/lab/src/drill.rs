//! Drills: real faults under a real load, measured by the clients' own journal.

use crate::cluster::{Lab, is_well};
use crate::fault::{self, Fault};
use crate::find;
use crate::journal::{self, Ending, Line};
use crate::layout::{CLIENT, Layout, NODES, WORKLOAD, host};
use crate::steal::{boot_nanos, millis as steal_millis};
use anyhow::{Context, Result, bail};
use clap::Subcommand;
use karst_api::MoveBody;
use karst_api::core::operation::{Phase, Progress};
use karst_api::core::outage::WorstCase;
use karst_api::core::{NodeId, OperationId};
use rustix::process::Signal;
use serde::Serialize;
use std::collections::BTreeSet;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

#[derive(Clone, Debug, Subcommand)]
pub enum Drill {
    /// Kill the first process of the primary's server
    KillServer {
        workload: String,
        #[arg(long, default_value_t = 1)]
        rounds: u32,
    },
    /// Cut the power of the primary's host; it gets it back when clients write elsewhere
    PowerOff {
        workload: String,
        #[arg(long, default_value_t = 1)]
        rounds: u32,
        /// With the power controller gone too: its lease's end alone says that it is
        #[arg(long)]
        unconfirmed: bool,
    },
    /// Cut the primary's host off from its peers, with the power controller gone; healed when clients write elsewhere
    CutOff {
        workload: String,
        #[arg(long, default_value_t = 1)]
        rounds: u32,
    },
    /// Random faults one after the other under load, each undone; then every acknowledged row is looked for
    Storm {
        workload: String,
        #[arg(long, default_value_t = 10)]
        minutes: u64,
        /// Chooses the faults; printed, so that a storm can be repeated
        #[arg(long)]
        seed: Option<u64>,
    },
    /// Move the primary under load, there and back
    Switchover {
        workload: String,
        #[arg(long, default_value_t = 1)]
        rounds: u32,
    },
}

/// One round as it was measured. Milliseconds.
#[derive(Clone, Debug, Serialize)]
pub struct Round {
    pub what: String,
    pub from: String,
    pub to: String,
    /// From the fault to the first write that the new primary acknowledged.
    pub pause: f64,
    pub phases: Vec<(String, f64)>,
    pub refused: usize,
    pub unknown: usize,
    pub steal: u64,
}

/// What a whole drill found.
#[derive(Clone, Debug, Serialize)]
pub struct Report {
    pub rounds: Vec<Round>,
    pub acknowledged: usize,
    /// Per replica, acknowledged rows that it does not have.
    pub missing: Vec<(String, usize)>,
}

impl Report {
    pub fn missing_total(&self) -> usize {
        self.missing.iter().map(|(_, n)| n).sum()
    }
    pub fn refused(&self) -> usize {
        self.rounds.iter().map(|r| r.refused).sum()
    }
    pub fn pauses(&self) -> Vec<f64> {
        self.rounds.iter().map(|r| r.pause).collect()
    }
}

/// Writers on the client host, in the background.
pub struct Running {
    child: Child,
    pub journal: PathBuf,
    until: PathBuf,
}

impl Running {
    /// Lets every writer finish, and reads what they did.
    pub fn finish(mut self) -> Result<Vec<Line>> {
        std::fs::write(&self.until, "")?;
        self.child.wait().context("the writers")?;
        journal::read(&self.journal)
    }
}

/// Starts writers in the client host's network.
pub fn start_load(layout: &Layout, name: &str, writers: u32, pause_ms: u64) -> Result<Running> {
    start_writers(layout, name, writers, pause_ms, None)
}

/// Starts one that goes past the gates to one host's server and waits for no standby: whatever gets through to that
/// server is acknowledged. Its rows are nobody's promise.
pub fn start_direct(layout: &Layout, name: &str, to: &str) -> Result<Running> {
    let to = host(to).with_context(|| format!("there is no host `{to}`"))?;
    start_writers(layout, name, 1, 0, Some(format!("{}:5432", to.client())))
}

fn start_writers(layout: &Layout, name: &str, writers: u32, pause_ms: u64, direct: Option<String>) -> Result<Running> {
    let dir = layout.dir.join("load");
    std::fs::create_dir_all(&dir)?;
    let (journal, until) = (dir.join(format!("{name}.journal")), dir.join(format!("{name}.stop")));
    // A load of the same name that still runs stops when it sees its file.
    std::fs::write(&until, "")?;
    while find_writer(&until) {
        std::thread::sleep(Duration::from_millis(20));
    }
    let _ = std::fs::remove_file(&until);
    let mut command = find::enter(layout, CLIENT)?;
    command.arg(find::sibling("karst-lab")?);
    command.arg("--dir").arg(&layout.dir).arg("writer").args([
        "--writers",
        &writers.to_string(),
        "--pause-ms",
        &pause_ms.to_string(),
    ]);
    command.arg("--journal").arg(&journal).arg("--until").arg(&until);
    if let Some(at) = direct {
        command.args(["--direct", &at]);
    }
    let log = std::fs::File::create(layout.dir.join("logs/load.log"))?;
    let child = command
        .stdin(Stdio::null())
        .stdout(log.try_clone()?)
        .stderr(log)
        .process_group_of_its_own()
        .spawn()
        .context("nsenter")?;
    Ok(Running { child, journal, until })
}

trait OwnGroup {
    fn process_group_of_its_own(&mut self) -> &mut Self;
}

impl OwnGroup for Command {
    fn process_group_of_its_own(&mut self) -> &mut Self {
        std::os::unix::process::CommandExt::process_group(self, 0)
    }
}

fn find_writer(until: &std::path::Path) -> bool {
    let name = until.to_string_lossy();
    let entries = std::fs::read_dir("/proc").map(|d| d.flatten().collect::<Vec<_>>()).unwrap_or_default();
    entries.iter().any(|e| {
        let command = std::fs::read(e.path().join("cmdline")).unwrap_or_default();
        String::from_utf8_lossy(&command).split('\0').any(|w| w == name)
    })
}

pub async fn run(lab: Lab, drill: Drill) -> Result<()> {
    let (workload, rounds, loss) = match &drill {
        Drill::Storm { workload, minutes, seed } => {
            known(workload)?;
            let seed = seed.unwrap_or_else(rand::random);
            return crate::storm::run(&lab, Duration::from_secs(minutes * 60), seed).await;
        }
        Drill::KillServer { workload, rounds } => (workload, *rounds, Some(Loss::Server)),
        Drill::PowerOff { workload, rounds, unconfirmed } => {
            (workload, *rounds, Some(if *unconfirmed { Loss::PowerAlone } else { Loss::Power }))
        }
        Drill::CutOff { workload, rounds } => (workload, *rounds, Some(Loss::Peers)),
        Drill::Switchover { workload, rounds } => (workload, *rounds, None),
    };
    known(workload)?;
    lab.healthy(Duration::from_secs(60)).await?;
    let report = match loss {
        Some(loss) => lose_primary(&lab, loss, rounds, true).await?,
        None => switchover(&lab, rounds, true).await?,
    };
    println!(
        "\nacknowledged rows missing: {}   (of {}, compared with {} replicas)",
        report.missing_total(),
        report.acknowledged,
        report.missing.len()
    );
    println!("connections refused by a gate: {}", report.refused());
    let mut pauses = report.pauses();
    pauses.sort_by(f64::total_cmp);
    println!(
        "clients could not write for: median {:.0} ms, longest {:.0} ms",
        crate::bench::quantile(&pauses, 0.5),
        crate::bench::quantile(&pauses, 1.0)
    );
    lab.healthy(Duration::from_secs(120)).await?;
    println!("{}", lab.status().await?.status.sentence);
    if report.missing_total() > 0 {
        bail!("acknowledged rows are missing");
    }
    Ok(())
}

fn known(workload: &str) -> Result<()> {
    anyhow::ensure!(workload == WORKLOAD, "there is no workload `{workload}` in the lab; known: {WORKLOAD}");
    Ok(())
}

/// How a primary is lost.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Loss {
    /// Its first process is killed, by number.
    Server,
    /// Its host loses power, and the power controller says so.
    Power,
    /// Its host loses power, and nobody says so.
    PowerAlone,
    /// Its host is cut off from its peers, and nobody can cut its power.
    Peers,
}

impl Loss {
    fn name(self) -> &'static str {
        match self {
            Loss::Server => "kill-server",
            Loss::Power => "power-off",
            Loss::PowerAlone => "power-off, unconfirmed",
            Loss::Peers => "cut-off",
        }
    }

    /// Does it; what was done, in words.
    fn happen(self, lab: &Lab, host: &str) -> Result<String> {
        let (host, peer) = (host.to_string(), Some(fault::Network::Peer));
        match self {
            Loss::Server => {
                let pid = find::postmaster(&lab.layout, &host)?;
                find::signal(pid, Signal::KILL)?;
                Ok(format!("killed process {pid}, the first of {WORKLOAD}'s server on {host}"))
            }
            Loss::Power | Loss::PowerAlone => fault::apply(&lab.layout, &Fault::PowerOff { host }),
            Loss::Peers => fault::apply(&lab.layout, &Fault::Cut { host, network: peer }),
        }
    }

    fn mend(self, lab: &Lab, host: &str) -> Result<()> {
        match self {
            Loss::Server => Ok(()),
            Loss::Power | Loss::PowerAlone => {
                fault::apply(&lab.layout, &Fault::PowerOn { host: host.into() }).map(drop)
            }
            Loss::Peers => fault::apply(&lab.layout, &Fault::Heal).map(drop),
        }
    }

    /// The longest outage that the timings allow, the coordinator lost with the primary included; as the spec check prints.
    fn worst_case(self, all: &[WorstCase]) -> Duration {
        let wanted: &[&str] = match self {
            Loss::Server => &["server process lost"],
            Loss::Power => &[
                "host lost, its power confirmed off",
                "primary and coordinator lost together, the power confirmed off",
            ],
            Loss::PowerAlone | Loss::Peers => &["host lost, by lease alone", "primary and coordinator lost together"],
        };
        let cases = all.iter().filter(|c| wanted.contains(&c.case.as_str()));
        cases.map(WorstCase::total).max().unwrap_or_default()
    }
}

/// Loses the primary `rounds` times, each time waiting until all is well again.
pub async fn lose_primary(lab: &Lab, loss: Loss, rounds: u32, aloud: bool) -> Result<Report> {
    let controller = match loss {
        Loss::PowerAlone | Loss::Peers => Some(Fault::ControllerStop),
        Loss::Power => Some(Fault::ControllerStart),
        Loss::Server => None,
    };
    if let Some(fault) = controller {
        let done = fault::apply(&lab.layout, &fault)?;
        if aloud {
            println!("{done}");
        }
    }
    let worst = loss.worst_case(&lab.client.spec().await?.worst_cases);
    if aloud {
        println!("{}: at the worst, clients cannot write for {} ms", loss.name(), worst.as_millis());
    }
    let load = start_load(&lab.layout, "drill", 4, 0)?;
    let mut marks = Vec::new();
    for round in 1..=rounds {
        let before = settle(lab, &load).await?;
        let from = lab.primary().await?;
        let (steal, at) = (steal_millis(), boot_nanos());
        let done = loss.happen(lab, &from)?;
        if aloud {
            println!("round {round}: {done}");
        }
        let operation = follow(lab, before, at, aloud).await?;
        let name = loss.name().into();
        loss.mend(lab, &from)?;
        marks.push(Mark { what: name, from, at, operation, steal: steal_millis() - steal });
        lab.healthy(Duration::from_secs(180)).await?;
    }
    let report = finish(lab, load, marks, aloud).await?;
    fault::apply(&lab.layout, &Fault::ControllerStart)?;
    // What the machine took from all of us is nobody's pause.
    let late = report.rounds.iter().find(|r| r.pause - r.steal as f64 > worst.as_secs_f64() * 1e3);
    if let Some(round) = late {
        bail!("a round took longer than the worst case of {} ms: {round:?}", worst.as_millis());
    }
    Ok(report)
}

/// Switches over to the next replica, there and back.
pub async fn switchover(lab: &Lab, rounds: u32, aloud: bool) -> Result<Report> {
    let load = start_load(&lab.layout, "drill", 4, 0)?;
    let mut marks = Vec::new();
    for round in 1..=rounds {
        let before = settle(lab, &load).await?;
        let from = lab.primary().await?;
        let to = if from == "doline" { "polje" } else { "doline" };
        let (steal, at) = (steal_millis(), boot_nanos());
        let body = MoveBody { to: Some(NodeId::from(to)), ..MoveBody::default() };
        lab.client.begin(WORKLOAD, "switchover", &body).await?;
        if aloud {
            println!("round {round}: switchover of {WORKLOAD} from {from} to {to}");
        }
        let operation = follow(lab, before, at, aloud).await?;
        marks.push(Mark { what: "switchover".into(), from, at, operation, steal: steal_millis() - steal });
        lab.healthy(Duration::from_secs(180)).await?;
    }
    finish(lab, load, marks, aloud).await
}

/// All is well, and every writer has written lately. The newest operation so far.
async fn settle(lab: &Lab, load: &Running) -> Result<Option<OperationId>> {
    lab.healthy(Duration::from_secs(180)).await?;
    let begun = boot_nanos();
    loop {
        let lines = journal::read(&load.journal).unwrap_or_default();
        let lately: BTreeSet<u32> =
            lines.iter().filter(|l| l.began > begun && l.ending == Ending::Acknowledged).map(|l| l.writer).collect();
        if lately.len() >= 4 {
            break;
        }
        anyhow::ensure!(
            boot_nanos() - begun < 30_000_000_000,
            "the writers do not write (`karst-lab demo` makes their table); see {}",
            lab.layout.dir.join("logs/load.log").display()
        );
        tokio::time::sleep(crate::cluster::LOOK).await;
    }
    Ok(lab.status().await?.status.operations.first().map(|o| o.id))
}

/// Prints the operation's steps while they happen, and returns it when it is done.
async fn follow(lab: &Lab, before: Option<OperationId>, from: u64, aloud: bool) -> Result<Progress> {
    let mut shown = 0;
    let mut finished = None;
    let reply = lab.wait("the operation's end", Duration::from_secs(120), |reply| {
        let newest = reply.status.operations.iter().find(|o| Some(o.id) > before);
        let Some(operation) = newest else { return false };
        for step in operation.steps.iter().skip(shown) {
            if aloud {
                println!("  {:>7.0} ms  {}", step.at.0.saturating_sub(from) as f64 / 1e6, step.text);
            }
        }
        shown = shown.max(operation.steps.len());
        if operation.outcome.is_some() {
            finished = Some(operation.clone());
        }
        operation.outcome.is_some()
    });
    reply.await?;
    finished.context("the operation ended")
}

struct Mark {
    what: String,
    from: String,
    at: u64,
    operation: Progress,
    steal: u64,
}

async fn finish(lab: &Lab, load: Running, marks: Vec<Mark>, aloud: bool) -> Result<Report> {
    let lines = load.finish()?;
    let mut rounds = Vec::new();
    for (i, mark) in marks.iter().enumerate() {
        let end = marks.get(i + 1).map_or(u64::MAX, |m| m.at);
        let round = measure(mark, &lines, end)?;
        if aloud {
            let phases: Vec<String> = round.phases.iter().map(|(name, ms)| format!("{name} {ms:.0}")).collect();
            println!(
                "round {}: {} -> {}, no write for {:.0} ms = {}; steal {} ms",
                i + 1,
                round.from,
                round.to,
                round.pause,
                phases.join(" + "),
                round.steal
            );
        }
        rounds.push(round);
    }
    let (acknowledged, missing) = compare(lab, &lines).await?;
    Ok(Report { rounds, acknowledged, missing })
}

/// One round from the journal and the operation's steps. The phases' ends are the coordinator's; the beginning is the
/// fault, and the end the first write that a client of the new primary saw acknowledged.
fn measure(mark: &Mark, lines: &[Line], end: u64) -> Result<Round> {
    let old = host(&mark.from).map(|h| h.client());
    let of_round = || lines.iter().filter(|l| l.ended > mark.at && l.ended < end);
    let first = of_round()
        .filter(|l| l.ending == Ending::Acknowledged && l.server != old)
        .map(|l| l.ended)
        .min()
        .context("no write was acknowledged after the fault")?;
    // A planned move goes on serving writes while it prepares: its pause begins at the last one.
    let last = of_round().filter(|l| l.ending == Ending::Acknowledged && l.server == old).map(|l| l.ended).max();
    let begin = if mark.what == "switchover" { last.unwrap_or(mark.at).max(mark.at) } else { mark.at };
    let mut phases = Vec::new();
    let mut from = begin;
    let reached = |phase: Phase| mark.operation.steps.iter().find(|s| s.phase == Some(phase)).map(|s| s.at.0);
    let opened = reached(Phase::Promote).unwrap_or(first);
    let route = mark
        .operation
        .phases
        .iter()
        .find(|(p, _)| *p == Phase::Route)
        .map_or(opened, |(_, d)| opened + d.as_nanos() as u64);
    let ends = [
        reached(Phase::Detect),
        reached(Phase::Decide),
        reached(Phase::Isolate),
        Some(opened),
        Some(route),
        Some(first),
    ];
    for (phase, at) in Phase::ALL.into_iter().zip(ends) {
        let at = at.unwrap_or(from).clamp(from, first.max(from));
        phases.push((phase.name().to_string(), (at - from) as f64 / 1e6));
        from = at;
    }
    Ok(Round {
        what: mark.what.clone(),
        from: mark.from.clone(),
        to: mark.operation.target.as_ref().map(ToString::to_string).unwrap_or_default(),
        pause: (first - begin) as f64 / 1e6,
        phases,
        refused: of_round().filter(|l| l.ending == Ending::Refused).count(),
        unknown: of_round().filter(|l| l.ending == Ending::Unknown).count(),
        steal: mark.steal,
    })
}

/// Every acknowledged row against every replica, after the last heal.
pub async fn compare(lab: &Lab, lines: &[Line]) -> Result<(usize, Vec<(String, usize)>)> {
    let acknowledged = journal::acknowledged(lines);
    lab.wait("all is well", Duration::from_secs(180), is_well).await?;
    let mut missing = Vec::new();
    for node in NODES.iter().filter(|n| n.rank.is_some()) {
        let have = rows_on(lab, node.name, &acknowledged).await?;
        missing.push((node.name.to_string(), acknowledged.difference(&have).count()));
    }
    Ok((acknowledged.len(), missing))
}

async fn rows_on(lab: &Lab, node: &str, wanted: &BTreeSet<i64>) -> Result<BTreeSet<i64>> {
    let mut config = tokio_postgres::Config::new();
    config.host_path(lab.layout.runtime(node).join(WORKLOAD)).user("postgres").dbname(crate::layout::DATABASE);
    let (client, session) =
        config.connect(tokio_postgres::NoTls).await.with_context(|| format!("the server on {node}"))?;
    tokio::spawn(session);
    // What was acknowledged is replicated, but a standby may still be replaying it.
    for _ in 0..200 {
        let rows = client.query("select id from drill_row", &[]).await?;
        let have: BTreeSet<i64> = rows.iter().map(|r| r.get(0)).collect();
        if wanted.is_subset(&have) {
            return Ok(have);
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let rows = client.query("select id from drill_row", &[]).await?;
    Ok(rows.iter().map(|r| r.get(0)).collect())
}
