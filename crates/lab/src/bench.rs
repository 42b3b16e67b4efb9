//! The measured table: the floor and the product's drills in one run, as ratios, with every round
//! and its steal.

use crate::cluster::Lab;
use crate::demo;
use crate::drill::{self, Course};
use crate::floor::{self, Floor, Link};
use crate::idle::{self, Idle};
use crate::layout::Layout;
use crate::quantile::{quantile, ratio};
use crate::scale::{self, Scale};
use crate::shape::Shape;
use anyhow::{Context, Result};
use clap::Args;
use serde::Serialize;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::time::Duration;

#[derive(Args, Debug)]
pub struct Options {
    /// Rounds of kill-server and of the floor
    #[arg(long, default_value_t = 50)]
    pub rounds: u32,
    /// Rounds of kill-server under four writers
    #[arg(long, default_value_t = 10)]
    pub busy: u32,
    /// Rounds of the switchover
    #[arg(long, default_value_t = 10)]
    pub moves: u32,
    /// Rounds of power-off, at each set of timings
    #[arg(long, default_value_t = 10)]
    pub cuts: u32,
    /// How long the daemons of five hosts and ten workloads are watched while nothing happens, in
    /// seconds
    #[arg(long, default_value_t = 60)]
    pub idle: u64,
    /// Where the table goes; the JSON goes beside it
    #[arg(long, default_value = "docs/benchmarks.md")]
    pub table: PathBuf,
}

/// Everything that was measured; empty where it came to nothing.
#[derive(Default, Serialize)]
struct Results {
    cores: usize,
    memory_gib: u64,
    floor_kill: Vec<floor::Round>,
    floor_clean: Vec<floor::Round>,
    /// Killed, and its servers speak to each other in clear.
    floor_clear: Vec<floor::Round>,
    kill_server: drill::Report,
    kill_server_busy: drill::Report,
    switchover: drill::Report,
    power_off: drill::Report,
    power_off_brisk: drill::Report,
    /// Milliseconds from the coordinator's end to another one's election, brisk timings.
    coordinator_lost: Vec<f64>,
    idle: Vec<Idle>,
    scale: Vec<Scale>,
}

impl Results {
    fn drills(&self) -> [&drill::Report; 5] {
        [
            &self.kill_server,
            &self.kill_server_busy,
            &self.switchover,
            &self.power_off,
            &self.power_off_brisk,
        ]
    }
}

pub async fn run(dir: &Path, options: Options) -> Result<()> {
    let memory = std::fs::read_to_string("/proc/meminfo")?;
    let kib = memory
        .lines()
        .next()
        .and_then(|l| l.split_whitespace().nth(1)?.parse::<u64>().ok())
        .unwrap_or(0);
    let cores = std::thread::available_parallelism().map_or(0, usize::from);
    let mut results = Results {
        cores,
        memory_gib: (kib + (1 << 19)) >> 20,
        ..Results::default()
    };
    let done = measure_all(&dir.with_extension("bench"), &options, &mut results).await;
    let text = table(&results);
    print!("{text}");
    done.context("the rest was not measured, and no table is written")?;
    if let Some(parent) = options.table.parent() {
        std::fs::create_dir_all(parent)?;
    }
    std::fs::write(&options.table, &text)?;
    std::fs::write(
        options.table.with_extension("json"),
        serde_json::to_string_pretty(&results)?,
    )?;
    Ok(())
}

async fn measure_all(dir: &Path, options: &Options, results: &mut Results) -> Result<()> {
    println!("a coordinator's own work, up to a thousand members ...");
    results.scale = scale::measure();
    println!(
        "floor: {} rounds killed, {} stopped cleanly ...",
        options.rounds, options.moves
    );
    let of_floor = dir.with_extension("floor");
    let mut floor = Floor::start(&of_floor, 9440, Link::Tls).await?;
    for _ in 0..options.rounds {
        results.floor_kill.push(floor.round(false).await?);
    }
    for _ in 0..options.moves {
        results.floor_clean.push(floor.round(true).await?);
    }
    drop(floor);
    println!("floor in clear: {} rounds killed ...", options.moves);
    let mut floor = Floor::start(&of_floor, 9440, Link::Clear).await?;
    for _ in 0..options.moves {
        results.floor_clear.push(floor.round(false).await?);
    }
    drop(floor);
    let lab = Lab::up(Layout::new(dir, 9400, Shape::default())?)?;
    let measured = measure(&lab, options, results).await;
    lab.remove()?;
    measured?;
    let lab = Lab::up(Layout::new(
        dir,
        9400,
        Shape {
            brisk: true,
            ..Shape::default()
        },
    )?)?;
    let measured = measure_brisk(&lab, options.cuts, results).await;
    lab.remove()?;
    measured?;
    results.idle = measure_idle(dir, Duration::from_secs(options.idle)).await?;
    Ok(())
}

async fn measure(lab: &Lab, options: &Options, results: &mut Results) -> Result<()> {
    fill(lab).await?;
    println!(
        "kill-server: {} rounds with one writer, as the floor has ...",
        options.rounds
    );
    let course = Course {
        writers: 1,
        ..Course::of(options.rounds)
    };
    results.kill_server = drill::lose_primary(lab, drill::Loss::Server, course).await?;
    println!(
        "kill-server: {} rounds under four writers ...",
        options.busy
    );
    results.kill_server_busy =
        drill::lose_primary(lab, drill::Loss::Server, Course::of(options.busy)).await?;
    println!("switchover: {} rounds with one writer ...", options.moves);
    results.switchover = drill::switchover(
        lab,
        Course {
            writers: 1,
            ..Course::of(options.moves)
        },
    )
    .await?;
    println!("power-off: {} rounds under four writers ...", options.cuts);
    results.power_off =
        drill::lose_primary(lab, drill::Loss::Power, Course::of(options.cuts)).await?;
    Ok(())
}

/// At the brisk timings.
async fn measure_brisk(lab: &Lab, rounds: u32, results: &mut Results) -> Result<()> {
    fill(lab).await?;
    println!("power-off at brisk timings: {rounds} rounds under four writers ...");
    results.power_off_brisk =
        drill::lose_primary(lab, drill::Loss::Power, Course::of(rounds)).await?;
    println!("coordinator lost at brisk timings: {rounds} rounds ...");
    results.coordinator_lost = drill::lose_coordinator(lab, rounds).await?;
    Ok(())
}

/// Servers as small as they can be: thirty of them share this machine.
async fn measure_idle(dir: &Path, time: Duration) -> Result<Vec<Idle>> {
    println!("idle: five hosts, ten workloads, {} s ...", time.as_secs());
    let settings = vec!["shared_buffers=16MB".into(), "max_connections=40".into()];
    let lab = Lab::up(Layout::new(
        dir,
        9400,
        Shape {
            fleet: true,
            settings,
            ..Shape::default()
        },
    )?)?;
    let well = lab.healthy(Duration::from_secs(180)).await;
    let measured = match well {
        Ok(_) => idle::measure(&lab, time).await,
        Err(error) => Err(error),
    };
    lab.remove()?;
    measured
}

async fn fill(lab: &Lab) -> Result<()> {
    lab.healthy(Duration::from_secs(120)).await?;
    demo::fill(&lab.layout.gates(), &lab.layout.client_password()?).await?;
    Ok(())
}

fn sorted(values: impl Iterator<Item = f64>) -> Vec<f64> {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    values
}

fn table(r: &Results) -> String {
    let mut text = format!(
        "# Measured\n\nMade by `karst-lab bench`, which `make bench` runs, on a machine with {} cores and {} GiB of memory. Milliseconds; the floor (a script that \
         knows at once that the primary died, promotes, writes; its standbys stream by TLS, as the product's do) and the product in one \
         run.\n\n\
         | what | rounds | median | 95 % | 99 % | longest |\n|---|---|---|---|---|---|\n",
        r.cores, r.memory_gib
    );
    text += &medians(r);
    text += &ratios(r);
    text += &idle_table(&r.idle);
    text += "\n";
    text += &scale::table(&r.scale);
    text += &rounds_table(r);
    text
}

fn medians(r: &Results) -> String {
    let mut text = String::new();
    let floor_kill = sorted(r.floor_kill.iter().map(|o| o.replicated));
    let floor_clean = sorted(r.floor_clean.iter().map(|o| o.replicated));
    let floor_clear = sorted(r.floor_clear.iter().map(|o| o.replicated));
    let floor_local = sorted(r.floor_kill.iter().map(|o| o.local));
    let lost = sorted(r.coordinator_lost.iter().copied());
    let [killed, killed_busy, moved, cut, cut_brisk] = r.drills().map(|drill| drill.pauses());
    for (what, values) in [
        ("floor, killed: first local write", &floor_local),
        ("floor, killed: first replicated write", &floor_kill),
        (
            "floor in clear, killed: first replicated write",
            &floor_clear,
        ),
        (
            "**kill-server, one writer: first acknowledged write through a gate**",
            &killed,
        ),
        ("**kill-server, four writers**", &killed_busy),
        (
            "floor, stopped cleanly: first replicated write",
            &floor_clean,
        ),
        ("**switchover, one writer: write pause**", &moved),
        (
            "**host's power cut and confirmed, default timings: first acknowledged write**",
            &cut,
        ),
        (
            "**host's power cut and confirmed, brisk timings: first acknowledged write**",
            &cut_brisk,
        ),
        (
            "**coordinator's daemon killed, brisk timings: another one elected**",
            &lost,
        ),
    ]
    .into_iter()
    .filter(|(_, values)| !values.is_empty())
    {
        let q = |share| quantile(values, share);
        let (median, most) = (
            q(0.5),
            [q(0.95), q(0.99), q(1.0)]
                .map(|v| format!("{v:.0}"))
                .join(" | "),
        );
        let _ = writeln!(text, "| {what} | {} | {median:.0} | {most} |", values.len());
    }
    text
}

fn ratios(r: &Results) -> String {
    let mut text = String::new();
    let floor_kill = sorted(r.floor_kill.iter().map(|o| o.replicated));
    let floor_clean = sorted(r.floor_clean.iter().map(|o| o.replicated));
    let (killed, moved) = (r.kill_server.pauses(), r.switchover.pauses());
    let _ = writeln!(
        text,
        "\nRatios: kill-server {} (medians) and {} (99 %), switchover {} (medians). Acknowledged rows missing: {} of {}; connections refused by a \
         gate: {}.\n",
        ratio(&killed, &floor_kill, 0.5),
        ratio(&killed, &floor_kill, 0.99),
        ratio(&moved, &floor_clean, 0.5),
        r.drills().iter().map(|d| d.missing_total()).sum::<usize>(),
        r.drills().iter().map(|d| d.acknowledged).sum::<usize>(),
        r.drills().iter().map(|d| d.refused()).sum::<usize>(),
    );
    // What the machine's host takes is nobody's delay, and it does not take it from all alike.
    let quiet = |drill: &drill::Report| {
        sorted(
            drill
                .rounds
                .iter()
                .filter(|r| r.steal == 0)
                .map(|r| r.pause),
        )
    };
    let quiet_floor = |rounds: &[floor::Round]| {
        sorted(rounds.iter().filter(|r| r.steal == 0).map(|r| r.replicated))
    };
    let (killed, moved) = (quiet(&r.kill_server), quiet(&r.switchover));
    let (floor_kill, floor_clean) = (quiet_floor(&r.floor_kill), quiet_floor(&r.floor_clean));
    let _ = writeln!(
        text,
        "Of the rounds without steal alone ({} of kill-server, {} of the switchover): kill-server {} (medians) and {} \
         (99 %), switchover {} (medians).\n",
        killed.len(),
        moved.len(),
        ratio(&killed, &floor_kill, 0.5),
        ratio(&killed, &floor_kill, 0.99),
        ratio(&moved, &floor_clean, 0.5),
    );
    text
}

fn idle_table(idle: &[Idle]) -> String {
    let mut text = String::from(
        "An idle cluster of five hosts and ten workloads, thirty servers in all:\n\n\
             | host | karstd, % of a core | resident, MiB | deadman, % of a core |\n|---|---|---|---|\n",
    );
    for Idle {
        node,
        daemon,
        deadman,
        resident,
    } in idle
    {
        let _ = writeln!(
            text,
            "| {node} | {daemon:.2} | {resident:.0} | {deadman:.2} |"
        );
    }
    text
}

fn rounds_table(r: &Results) -> String {
    let mut text = String::from(
        "\nEvery round, with the CPU time that the machine's host took away meanwhile (steal):\n\n\
             | what | from | to | pause | detect | decide | isolate | promote | route | first write | steal |\n\
             |---|---|---|---|---|---|---|---|---|---|---|\n",
    );
    for round in r.drills().iter().flat_map(|d| &d.rounds) {
        let phases: Vec<String> = round
            .phases
            .iter()
            .map(|(_, ms)| format!("{ms:.0}"))
            .collect();
        let _ = writeln!(
            text,
            "| {} | {} | {} | {:.0} | {} | {} |",
            round.what,
            round.from,
            round.to,
            round.pause,
            phases.join(" | "),
            round.steal
        );
    }
    text
}
