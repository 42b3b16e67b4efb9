//! The measured table: the oracle and the product's drills in one run, as ratios, with every round and its steal.

use crate::cluster::Lab;
use crate::layout::Layout;
use crate::oracle::{self, Oracle};
use crate::{demo, drill};
use anyhow::Result;
use clap::Args;
use serde::Serialize;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::time::Duration;

#[derive(Args, Debug)]
pub struct Options {
    /// Rounds of kill-server and of the oracle
    #[arg(long, default_value_t = 20)]
    pub rounds: u32,
    /// Rounds of the switchover
    #[arg(long, default_value_t = 10)]
    pub moves: u32,
    /// Where the table goes; the JSON goes beside it
    #[arg(long, default_value = "docs/benchmarks.md")]
    pub table: PathBuf,
}

/// The value below which a share of the sorted values lies (nearest rank).
pub fn quantile(sorted: &[f64], share: f64) -> f64 {
    let rank = (share * sorted.len() as f64).ceil().max(1.0) as usize;
    sorted.get(rank - 1).or(sorted.last()).copied().unwrap_or(f64::NAN)
}

#[derive(Serialize)]
struct Results {
    cores: usize,
    memory_gib: u64,
    oracle_kill: Vec<oracle::Round>,
    oracle_clean: Vec<oracle::Round>,
    kill_server: drill::Report,
    switchover: drill::Report,
}

pub async fn run(dir: &Path, options: Options) -> Result<()> {
    let dir = dir.with_extension("bench");
    println!("oracle: {} rounds killed, {} stopped cleanly ...", options.rounds, options.moves);
    let mut oracle = Oracle::start(&dir.with_extension("oracle"), 9440).await?;
    let (mut oracle_kill, mut oracle_clean) = (Vec::new(), Vec::new());
    for _ in 0..options.rounds {
        oracle_kill.push(oracle.round(false).await?);
    }
    for _ in 0..options.moves {
        oracle_clean.push(oracle.round(true).await?);
    }
    drop(oracle);
    let lab = Lab::up(Layout::new(&dir, 9400)?, false)?;
    let measured = measure(&lab, &options).await;
    lab.remove()?;
    let (kill_server, switchover) = measured?;
    let memory = std::fs::read_to_string("/proc/meminfo")?;
    let kib = memory.lines().next().and_then(|l| l.split_whitespace().nth(1)?.parse::<u64>().ok()).unwrap_or(0);
    let cores = std::thread::available_parallelism().map_or(0, usize::from);
    let results =
        Results { cores, memory_gib: (kib + (1 << 19)) >> 20, oracle_kill, oracle_clean, kill_server, switchover };
    let text = table(&results);
    print!("{text}");
    if let Some(parent) = options.table.parent() {
        std::fs::create_dir_all(parent)?;
    }
    std::fs::write(&options.table, &text)?;
    std::fs::write(options.table.with_extension("json"), serde_json::to_string_pretty(&results)?)?;
    Ok(())
}

async fn measure(lab: &Lab, options: &Options) -> Result<(drill::Report, drill::Report)> {
    lab.healthy(Duration::from_secs(120)).await?;
    demo::fill(&lab.layout.gates(), &lab.layout.client_password()?).await?;
    println!("kill-server: {} rounds under four writers ...", options.rounds);
    let killed = drill::lose_primary(lab, drill::Loss::Server, options.rounds, true).await?;
    println!("switchover: {} rounds under four writers ...", options.moves);
    let moved = drill::switchover(lab, options.moves, true).await?;
    Ok((killed, moved))
}

fn sorted(values: impl Iterator<Item = f64>) -> Vec<f64> {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    values
}

fn table(r: &Results) -> String {
    let oracle_kill = sorted(r.oracle_kill.iter().map(|o| o.replicated));
    let oracle_clean = sorted(r.oracle_clean.iter().map(|o| o.replicated));
    let oracle_local = sorted(r.oracle_kill.iter().map(|o| o.local));
    let (killed, moved) = (sorted(r.kill_server.pauses().into_iter()), sorted(r.switchover.pauses().into_iter()));
    let mut text = format!(
        "# Measured\n\nMade by `make bench` on a machine with {} cores and {} GiB of memory. Milliseconds; the oracle (a script that \
         knows at once that the primary died, promotes, writes) and the product in one run.\n\n\
         | what | rounds | median | 95 % | longest |\n|---|---|---|---|---|\n",
        r.cores, r.memory_gib
    );
    for (what, values) in [
        ("oracle, killed: first local write", &oracle_local),
        ("oracle, killed: first replicated write", &oracle_kill),
        ("**kill-server: first acknowledged write through a gate**", &killed),
        ("oracle, stopped cleanly: first replicated write", &oracle_clean),
        ("**switchover: write pause of the clients**", &moved),
    ] {
        let q = |share| quantile(values, share);
        let _ = writeln!(text, "| {what} | {} | {:.0} | {:.0} | {:.0} |", values.len(), q(0.5), q(0.95), q(1.0));
    }
    let _ = writeln!(
        text,
        "\nRatios of medians: kill-server {:.2}, switchover {:.2}. Acknowledged rows missing: {} of {}; connections refused by a \
         gate: {}.\n",
        quantile(&killed, 0.5) / quantile(&oracle_kill, 0.5),
        quantile(&moved, 0.5) / quantile(&oracle_clean, 0.5),
        r.kill_server.missing_total() + r.switchover.missing_total(),
        r.kill_server.acknowledged + r.switchover.acknowledged,
        r.kill_server.refused() + r.switchover.refused(),
    );
    text += "Every round, with the CPU time that the machine's host took away meanwhile (steal):\n\n\
             | what | from | to | pause | detect | decide | isolate | promote | route | first write | steal |\n\
             |---|---|---|---|---|---|---|---|---|---|---|\n";
    for round in r.kill_server.rounds.iter().chain(&r.switchover.rounds) {
        let phases: Vec<String> = round.phases.iter().map(|(_, ms)| format!("{ms:.0}")).collect();
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

#[cfg(test)]
mod tests {
    use super::quantile;

    #[test]
    fn quantiles_are_nearest_ranks() {
        let values: Vec<f64> = (1..=20).map(f64::from).collect();
        assert_eq!([quantile(&values, 0.5), quantile(&values, 0.95), quantile(&values, 1.0)], [10.0, 19.0, 20.0]);
    }
}
