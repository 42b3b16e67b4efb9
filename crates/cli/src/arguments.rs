//! The command line: everything that can be asked for, and its help.

use crate::output::Format;
use clap::{Args, Parser, Subcommand};
use clap_complete::Shell;
use karst_api::core::operation::Mode;
use karst_api::core::request::PowerWish;
use std::path::PathBuf;
use std::time::Duration;

#[derive(Parser)]
#[command(name = "karst", version, about = "Shows and steers a Karst cluster", after_help = EXIT_CODES)]
pub struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

const EXIT_CODES: &str = "Exit codes: 0 done, 1 failed, 2 wrong command line, 3 not healthy or a spec with errors, \
                          4 refused by the cluster, 5 no node answered.";

#[derive(Args, Clone)]
pub struct Global {
    /// A node's address; several are tried in turn [default: those of the client configuration]
    #[arg(
        long = "node",
        global = true,
        env = "KARST_NODES",
        value_delimiter = ','
    )]
    pub servers: Vec<String>,
    /// A file with the access token [default: that of the client configuration]
    #[arg(long, global = true, env = "KARST_TOKEN_FILE")]
    pub token_file: Option<PathBuf>,
    /// A CA certificate to trust, PEM
    #[arg(long, global = true, env = "KARST_CA")]
    pub ca: Option<PathBuf>,
    /// The client configuration: nodes, token-file, ca
    #[arg(long, global = true, env = "KARST_CONFIG")]
    pub config: Option<PathBuf>,
    #[arg(long, global = true, value_enum, default_value_t = Format::Table)]
    pub output: Format,
}

#[derive(Subcommand)]
pub enum Command {
    /// The cluster in one screen: the sentence, votes, nodes, workloads, endpoints, what is under
    /// way
    Status {
        /// Show every change until interrupted
        #[arg(long)]
        watch: bool,
    },
    /// Wait until all is well, or until writes are taken
    Wait {
        /// The workload [default: all of them]
        workload: Option<String>,
        #[arg(long = "for", value_enum, default_value_t = Until::Healthy)]
        until: Until,
        #[arg(long, default_value = "60s", value_parser = duration)]
        timeout: Duration,
    },
    /// Waiting or broken: the evidence, what blocks, what can safely be done next
    Why { workload: Option<String> },
    /// Nodes
    #[command(subcommand)]
    Node(NodeCommand),
    /// Who votes, the margin, what could still be lost
    #[command(subcommand)]
    Quorum(Show),
    /// Workloads, their replicas and candidates
    #[command(subcommand)]
    Workload(One),
    /// Move a primary as planned; nothing is lost and the old one follows
    Switchover {
        workload: String,
        /// The node to move to [default: the best candidate]
        #[arg(long)]
        to: Option<String>,
        #[command(flatten)]
        consent: Consent,
    },
    /// Move a primary without waiting for its clean stop
    Failover {
        workload: String,
        #[arg(long)]
        to: String,
        /// Acknowledged writes that may be lost: a size (300B, 16MB), or `all`
        #[arg(long, value_name = "SIZE")]
        accept_loss: Option<String>,
        #[command(flatten)]
        consent: Consent,
    },
    /// Whether the cluster moves a workload by itself, asks first, or only reports
    Mode {
        #[arg(value_enum)]
        mode: ModeWord,
        /// The workload [default: the only one]
        workload: Option<String>,
        /// Every workload
        #[arg(long, conflicts_with = "workload")]
        all: bool,
        /// For how long, after which it is `act` again: 90s, 30m, 2h, 1d
        #[arg(long = "for", value_name = "TIME", value_parser = duration)]
        time: Option<Duration>,
        /// A reason, shown to whoever wonders why nothing is done
        #[arg(long)]
        why: Option<String>,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Operations: what was done, by whom, and where the time went
    #[command(subcommand)]
    Operation(OperationCommand),
    /// What clients paste, and where it leads now
    #[command(subcommand)]
    Endpoint(EndpointCommand),
    /// The spec file
    #[command(subcommand)]
    Spec(SpecCommand),
    /// What happened, oldest first
    History {
        /// Go on as it happens
        #[arg(long)]
        follow: bool,
        #[arg(long)]
        workload: Option<String>,
        #[arg(long)]
        operation: Option<u64>,
        /// At most so many, the newest
        #[arg(long, default_value_t = 50)]
        limit: u32,
    },
    /// Completions for a shell
    Completions { shell: Shell },
}

fn duration(text: &str) -> Result<Duration, String> {
    let time = humantime::parse_duration(text)
        .map_err(|error| format!("{error}; write it as 30m or 2h"))?;
    if time.as_secs() == 0 {
        return Err("it has to be a second at least".into());
    }
    Ok(time)
}

#[derive(Args, Clone)]
pub struct Consent {
    /// Only show what would be done
    #[arg(long, visible_alias = "dry-run")]
    pub plan: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

#[derive(Subcommand)]
pub enum One {
    List,
    Show { name: String },
}

#[derive(Subcommand)]
pub enum NodeCommand {
    List,
    Show {
        name: String,
    },
    /// Take all authority from a node, and cut its power where there is a device for it
    Fence {
        name: String,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Turn a host on or off, or off and on again: off is a fence, so that it holds nothing when it
    /// goes
    Power {
        name: String,
        what: PowerWord,
        #[command(flatten)]
        consent: Consent,
    },
    /// Take a fenced node back
    Readmit {
        name: String,
    },
    /// Take a node's new store in, after its old one was lost: from then on it votes again
    Enrol {
        name: String,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
}

#[derive(Clone, Copy, clap::ValueEnum)]
pub enum Until {
    /// Everything that the spec asks for is there
    Healthy,
    /// Clients' writes are accepted
    Writes,
}

#[derive(Clone, Copy, clap::ValueEnum)]
pub enum PowerWord {
    On,
    Off,
    /// Off, and on again once others hold what it held
    Cycle,
}

impl From<PowerWord> for PowerWish {
    fn from(word: PowerWord) -> Self {
        match word {
            PowerWord::On => PowerWish::On,
            PowerWord::Off => PowerWish::Off,
            PowerWord::Cycle => PowerWish::Cycle,
        }
    }
}

#[derive(Clone, Copy, clap::ValueEnum)]
pub enum ModeWord {
    /// A lost primary is replaced at once
    Act,
    /// The move is prepared and waits for `karst operation approve`
    Ask,
    /// The loss is reported and nothing is done
    Watch,
}

impl From<ModeWord> for Mode {
    fn from(word: ModeWord) -> Self {
        match word {
            ModeWord::Act => Mode::Act,
            ModeWord::Ask => Mode::Ask,
            ModeWord::Watch => Mode::Watch,
        }
    }
}

#[derive(Subcommand)]
pub enum Show {
    Show,
}

#[derive(Subcommand)]
pub enum OperationCommand {
    List,
    /// Its steps and phases
    Show {
        id: String,
    },
    /// Its steps, as they happen
    Watch {
        id: String,
    },
    /// Let it go on, where it waits for that (mode `ask`)
    Approve {
        id: String,
    },
}

#[derive(Subcommand)]
pub enum EndpointCommand {
    Show { workload: Option<String> },
}

#[derive(Subcommand)]
pub enum SpecCommand {
    /// Check a file without any server: findings with line and column, the timings' inequalities,
    /// worst-case outages
    Check { file: PathBuf },
    /// The file that a running node uses
    Show,
}
