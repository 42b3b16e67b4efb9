//! Drills: real faults under a real load, measured by the clients' own journal.

pub mod acceptance;
mod callers;
mod compare;
pub mod doors;
mod in_host;
mod load;
mod loss;
mod picture;
mod report;
mod rounds;
pub mod scenes;
pub mod stalls;
mod steady;
pub mod stolen_key;
pub mod storm;
pub mod ways;

pub use acceptance::{Acceptance, Extent, Finding};
pub use compare::compare;
pub use in_host::{InHost, server_ends};
pub use load::{Running, start_load};
pub use loss::Loss;
pub use report::{Report, Round};
pub use rounds::{Course, lose_coordinator, lose_primary, switchover};

use crate::cluster::Lab;
use crate::layout::WORKLOAD;
use anyhow::{Context, Result, bail, ensure};
use clap::{Args, Subcommand};
use std::path::PathBuf;
use std::time::Duration;

#[derive(Args, Debug)]
#[command(args_conflicts_with_subcommands = true, arg_required_else_help = true)]
pub struct Options {
    /// The acceptance run: every fault in turn, with what was promised and what was seen
    #[arg(long)]
    all: bool,
    /// Of each kind of loss in the acceptance run
    #[arg(long, default_value_t = 5, value_parser = clap::value_parser!(u32).range(1..=1000), requires = "all")]
    rounds: u32,
    /// Only the faults whose name contains this, as they are named in the report
    #[arg(long, requires = "all")]
    only: Option<String>,
    /// Where its report goes: text, JSON and a picture of the phases [default: `report` in the
    /// lab's directory]
    #[arg(long, requires = "all")]
    report: Option<PathBuf>,
    #[command(subcommand)]
    drill: Option<Drill>,
}

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
        /// In so many rounds, the first ones, the primary's host is made the coordinator beforehand
        #[arg(long, default_value_t = 0, value_name = "ROUNDS")]
        together: u32,
    },
    /// Cut the primary's host off from its peers, with the power controller gone; healed when
    /// clients write elsewhere
    CutOff {
        workload: String,
        #[arg(long, default_value_t = 1)]
        rounds: u32,
        /// In so many rounds, the first ones, the primary's host is made the coordinator beforehand
        #[arg(long, default_value_t = 0, value_name = "ROUNDS")]
        together: u32,
    },
    /// Random faults one after the other under load, each undone; then every acknowledged row is
    /// looked for
    Storm {
        workload: String,
        #[arg(long, default_value_t = 10)]
        minutes: u64,
        /// Chooses the faults; printed, so that a storm can be repeated
        #[arg(long)]
        seed: Option<u64>,
    },
    /// Callers of each level send hostile values to every call of the interface
    Callers {
        #[arg(long, default_value_t = 10)]
        minutes: u64,
        /// Chooses the values; printed, so that a run can be repeated
        #[arg(long)]
        seed: Option<u64>,
    },
    /// A program with the key of a node without a vote says everything to all other nodes
    StolenKey {
        #[arg(long, default_value_t = 10)]
        minutes: u64,
        /// Chooses the messages; printed, so that a run can be repeated
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

pub async fn run(lab: Lab, options: Options) -> Result<()> {
    let Some(drill) = options.drill else {
        let report = options
            .report
            .unwrap_or_else(|| lab.layout.dir.join("report"));
        let extent = Extent {
            only: options.only,
            ..Extent::of(options.rounds)
        };
        return accept(&lab, &extent, &report).await;
    };
    let (workload, course, loss) = match &drill {
        Drill::Storm {
            workload,
            minutes,
            seed,
        } => {
            known(workload)?;
            let seed = seed.unwrap_or_else(rand::random);
            return storm::run(&lab, Duration::from_secs(minutes * 60), seed).await;
        }
        Drill::Callers { minutes, seed } => {
            let seed = seed.unwrap_or_else(rand::random);
            return callers::run(&lab, Duration::from_secs(minutes * 60), seed).await;
        }
        Drill::StolenKey { minutes, seed } => {
            let seed = seed.unwrap_or_else(rand::random);
            return stolen_key::run(&lab, Duration::from_secs(minutes * 60), seed).await;
        }
        Drill::KillServer { workload, rounds } => {
            (workload, Course::of(*rounds), Some(Loss::Server))
        }
        Drill::PowerOff {
            workload,
            rounds,
            unconfirmed,
            together,
        } => {
            let loss = if *unconfirmed {
                Loss::PowerAlone
            } else {
                Loss::Power
            };
            (
                workload,
                Course {
                    together: *together,
                    ..Course::of(*rounds)
                },
                Some(loss),
            )
        }
        Drill::CutOff {
            workload,
            rounds,
            together,
        } => (
            workload,
            Course {
                together: *together,
                ..Course::of(*rounds)
            },
            Some(Loss::Peers),
        ),
        Drill::Switchover { workload, rounds } => (workload, Course::of(*rounds), None),
    };
    known(workload)?;
    lab.healthy(Duration::from_secs(60)).await?;
    let report = match loss {
        Some(loss) => lose_primary(&lab, loss, course).await?,
        None => switchover(&lab, course).await?,
    };
    tell(&report);
    lab.healthy(Duration::from_secs(120)).await?;
    println!("{}", lab.status().await?.status.sentence);
    if report.missing_total() > 0 {
        bail!("acknowledged rows are missing");
    }
    if let Some(round) = report.late() {
        bail!(
            "a round took longer than the worst case of {} ms: {round:?}",
            report.worst.unwrap_or_default()
        );
    }
    Ok(())
}

fn tell(report: &Report) {
    println!(
        "\nacknowledged rows missing: {}   (of {}, compared with {} replicas)",
        report.missing_total(),
        report.acknowledged,
        report.missing.len()
    );
    println!("connections refused by a gate: {}", report.refused());
    println!(
        "clients could not write for: median {:.0} ms, longest {:.0} ms",
        report.median(),
        report.longest()
    );
}

async fn accept(lab: &Lab, extent: &Extent, report: &std::path::Path) -> Result<()> {
    let found = acceptance::run(lab, extent).await?;
    print!("\n{found}");
    found
        .save(report)
        .with_context(|| format!("the report in {}", report.display()))?;
    println!(
        "\nThe report: {0}/report.txt, {0}/report.json, {0}/phases.svg",
        report.display()
    );
    let broken = found.broken();
    ensure!(
        broken == 0,
        "{broken} of {} promises were not kept",
        found.findings.len()
    );
    Ok(())
}

fn known(workload: &str) -> Result<()> {
    ensure!(
        workload == WORKLOAD,
        "there is no workload `{workload}` in the lab; known: {WORKLOAD}"
    );
    Ok(())
}
