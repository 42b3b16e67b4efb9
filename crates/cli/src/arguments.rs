//! The command line: everything that can be asked for, and its help.

use crate::output::Format;
use clap::{Args, Parser, Subcommand};
use clap_complete::Shell;
use karst_api::core::OperationId;
use karst_api::core::operation::Mode;
use karst_api::core::request::PowerWish;
use karst_api::firstspec::AnsweredNode;
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
    /// A node's address, or `unix:` and the path of a daemon's socket on this host; several
    /// addresses are tried in turn [default: those of the client configuration, else
    /// unix:/run/karst/api.sock]
    #[arg(
        long = "node",
        global = true,
        env = "KARST_NODES",
        value_name = "ADDRESS",
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
    Quorum(QuorumCommand),
    /// Workloads, their replicas and candidates
    #[command(subcommand)]
    Workload(WorkloadCommand),
    /// Copies of a workload
    #[command(subcommand)]
    Replica(ReplicaCommand),
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
        /// Acknowledged writes that may be lost: a size (300B, 16MiB), or `all`
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
        #[command(flatten)]
        consent: Consent,
    },
    /// Operations: what was done, by whom, and where the time went
    #[command(subcommand)]
    Operation(OperationCommand),
    /// What clients paste, and where it leads now
    #[command(subcommand)]
    Endpoint(EndpointCommand),
    /// Places in a workload's writes to go back to, kept before risky work
    #[command(subcommand)]
    SafetyPoint(SafetyPointCommand),
    /// The site's own programs, run at named points of what the cluster does
    #[command(subcommand)]
    Step(StepCommand),
    /// The spec file
    #[command(subcommand)]
    Spec(SpecCommand),
    /// What stands against a guarantee or an expectation, and who knows of it
    #[command(subcommand)]
    Finding(FindingCommand),
    /// What happened, oldest first
    History(Past),
    /// What a word on the screen means, and what to do
    Runbook {
        /// As it is named there: `bring-back`, `disk-fills` [default: all names]
        name: Option<String>,
    },
    /// The cluster's CA: who believes it, and another one in its place
    #[command(subcommand)]
    Ca(CaCommand),
    /// Make this host the first node of a cluster: its CA, its certificate; the others join later
    Init {
        /// The spec
        file: PathBuf,
        #[command(flatten)]
        place: Place,
    },
    /// Make this host a node of a cluster that runs, by the line that `karst node add` printed: paste it,
    /// or say which file it is in
    Join {
        /// `-` is standard input
        #[arg(default_value = "-")]
        file: PathBuf,
        #[command(flatten)]
        place: Place,
        /// Where secrets may be written that the cluster's spec refers to; several times for several
        /// directories [default: `secrets` in --dir]
        #[arg(long = "secrets", value_name = "DIR")]
        secrets: Vec<PathBuf>,
    },
    /// What this host needs to be a node, each met or not, and what to do about it
    Doctor(Doctor),
    /// The same for each node of a cluster that runs, as each sees it: ports, peers, clocks, guards,
    /// devices, programs, certificates
    Check,
    /// Completions for a shell
    Completions { shell: Shell },
    /// Write the manual pages into a directory
    #[command(hide = true)]
    Manual { dir: PathBuf },
}

#[derive(Args, Clone)]
pub struct Past {
    /// Go on as it happens
    #[arg(long, conflicts_with_all = ["newest_first", "export", "before"])]
    pub follow: bool,
    #[arg(long)]
    pub workload: Option<String>,
    /// `op-12` or `12`
    #[arg(long, value_parser = crate::operations::id)]
    pub operation: Option<OperationId>,
    /// What that node recorded
    #[arg(long, value_name = "NODE")]
    pub recorded_by: Option<String>,
    /// Of these kinds alone
    #[arg(long = "kind", value_delimiter = ',')]
    pub kinds: Vec<String>,
    /// At least so much
    #[arg(long, value_enum)]
    pub level: Option<LevelWord>,
    /// Who asked for what, and how it was answered
    #[arg(long, value_enum, default_value_t = Asked::Without)]
    pub audit: Asked,
    /// Later than this moment: 2026-11-28T09:30:00Z
    #[arg(long)]
    pub after: Option<String>,
    /// Earlier than this moment
    #[arg(long)]
    pub before: Option<String>,
    /// The newest first, not last
    #[arg(long)]
    pub newest_first: bool,
    /// At most so many, the newest
    #[arg(long, default_value_t = 50, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub limit: u32,
    /// All of it, for a spreadsheet or another program
    #[arg(long, value_enum, conflicts_with = "limit")]
    pub export: Option<Export>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum LevelWord {
    Info,
    Notice,
    Warning,
}

impl LevelWord {
    pub fn word(self) -> &'static str {
        match self {
            LevelWord::Info => "info",
            LevelWord::Notice => "notice",
            LevelWord::Warning => "warning",
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Asked {
    /// With everything else
    With,
    /// Not at all
    Without,
    /// Nothing else
    Only,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Export {
    Csv,
    JsonLines,
}

impl Export {
    pub fn word(self) -> &'static str {
        match self {
            Export::Csv => "csv",
            Export::JsonLines => "jsonl",
        }
    }
}

#[derive(Args, Clone)]
pub struct Doctor {
    /// The spec file
    #[arg(long, default_value = "/etc/karst/spec.toml")]
    pub spec: PathBuf,
    /// Which node of the spec this host is [default: the host name]
    #[arg(long = "as")]
    pub node: Option<String>,
    /// Where the daemon's arguments are others than by default: these follow, as `-- --state DIR`
    #[arg(last = true)]
    pub rest: Vec<String>,
}

#[derive(Subcommand)]
pub enum FindingCommand {
    List,
    /// Know of it by name: it is shown last from then on, until it has gone for a while
    Acknowledge {
        finding: String,
        /// Why it may stand, for whoever sees it next
        #[arg(long)]
        note: Option<String>,
        #[command(flatten)]
        consent: Consent,
    },
    /// Take that back
    Forget {
        finding: String,
        #[command(flatten)]
        consent: Consent,
    },
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

/// A change of the spec.
#[derive(Args, Clone)]
pub struct Changed {
    /// A reason, kept with it
    #[arg(long)]
    pub why: Option<String>,
    #[command(flatten)]
    pub consent: Consent,
}

#[derive(Args, Clone)]
pub struct Added {
    pub name: String,
    /// Its zone, where the spec does not have the node yet
    #[arg(long)]
    pub zone: Option<String>,
    /// Where other nodes reach it: 10.20.0.14:26700
    #[arg(long)]
    pub peer: Option<String>,
    /// Where its HTTP service is to listen: 10.40.0.14:26780
    #[arg(long)]
    pub api: Option<String>,
    #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u32).range(0..=7))]
    pub votes: u32,
    /// For how long the line can be used [default: 1h]
    #[arg(long = "for", value_name = "TIME", value_parser = duration)]
    pub time: Option<Duration>,
    #[command(flatten)]
    pub change: Changed,
}

#[derive(Args)]
pub struct NewWorkload {
    pub name: String,
    /// Where a server of it is to be, the preferred one first; once for each
    #[arg(long = "replica", value_name = "NODE=ADDRESS:PORT", required = true)]
    pub replicas: Vec<String>,
    /// Its data directory, the same on each of these hosts
    #[arg(long)]
    pub data: String,
    /// Whose data are copied to a node, in place of the primary's; once for each
    #[arg(long, value_name = "NODE=REPLICA")]
    pub copy_from: Vec<String>,
    /// A directory of a node with a base backup to make its data from; once for each
    #[arg(long, value_name = "NODE=DIRECTORY")]
    pub base_backup: Vec<String>,
    /// Where clients connect; once for each gate
    #[arg(long = "gate", value_name = "NODE=ADDRESS:PORT")]
    pub gates: Vec<String>,
    /// There are data already, and maybe servers that run on them: each of those is stopped once, and
    /// started by Karst
    #[arg(long)]
    pub adopt: bool,
    /// The list of clients to go by, a file as the server has it: what it includes is written out
    #[arg(long, value_name = "FILE")]
    pub clients: Option<PathBuf>,
    /// A file, on each host, with the CAs of clients' certificates
    #[arg(long, value_name = "FILE")]
    pub clients_ca: Option<String>,
    /// Directories for sockets that people on the hosts use, with commas between them
    #[arg(long, value_name = "DIRECTORIES")]
    pub sockets: Option<String>,
    #[arg(long, default_value = "postgres")]
    pub driver: String,
    /// The password that its standbys connect with: file:PATH, on each host, or env:NAME
    #[arg(long, value_name = "REFERENCE")]
    pub secret: Option<String>,
    /// Where its programs are
    #[arg(long, value_name = "DIRECTORY")]
    pub programs: Option<String>,
    /// The user that its servers run as
    #[arg(long)]
    pub user: Option<String>,
    /// A setting of its servers; once for each
    #[arg(long = "set", value_name = "NAME=VALUE")]
    pub set: Vec<String>,
    #[command(flatten)]
    pub change: Changed,
}

/// Where a host has what its daemon needs.
#[derive(Args, Clone)]
pub struct Place {
    /// Which node this host is [default: the host name]
    #[arg(long = "as")]
    pub node: Option<String>,
    #[arg(long, default_value = "/etc/karst")]
    pub dir: PathBuf,
}

#[derive(Subcommand, Clone)]
pub enum CaCommand {
    /// Which CAs there are, which nodes believe them, and whose certificates are theirs
    Show,
    /// On the host that has the CA's key: the next of three steps to another CA. Nobody is cut off:
    /// each waits until every node has taken the one before
    Renew(CaRenewal),
}

#[derive(Args, Clone)]
pub struct CaRenewal {
    #[command(flatten)]
    pub place: Place,
    /// Do not wait for this node: it has to join anew afterwards
    #[arg(long, value_name = "NODE")]
    pub without: Vec<String>,
    #[command(flatten)]
    pub consent: Consent,
}

#[derive(Args, Clone)]
pub struct Rest {
    #[arg(value_name = "NODE", required_unless_present = "zone")]
    pub nodes: Vec<String>,
    /// Every node of a zone
    #[arg(long, conflicts_with = "nodes")]
    pub zone: Option<String>,
    /// For how long, after which it ends by itself: 90m, 2h, 1d
    #[arg(long = "for", value_name = "TIME", value_parser = duration)]
    pub time: Option<Duration>,
    /// Move what was there back when it ends
    #[arg(long)]
    pub back: bool,
    /// A workload that may be left without a standby that has every write meanwhile
    #[arg(long, value_name = "WORKLOAD")]
    pub bare: Vec<String>,
    /// A workload whose clients may be left without a way in meanwhile
    #[arg(long, value_name = "WORKLOAD")]
    pub cut_off: Vec<String>,
    /// A reason, for whoever wonders
    #[arg(long)]
    pub why: Option<String>,
    #[command(flatten)]
    pub consent: Consent,
}

#[derive(Subcommand)]
pub enum WorkloadCommand {
    List,
    Show {
        name: String,
    },
    /// Serve another program, whether its data are there already or not
    Add(Box<NewWorkload>),
    /// Restart its servers, one after the other, so that settings which wait for that are in force
    Restart {
        name: String,
        #[command(flatten)]
        change: Changed,
    },
    /// Stop serving it, for good; its data stay where they are
    Remove {
        name: String,
        #[command(flatten)]
        change: Changed,
    },
}

#[derive(Subcommand)]
pub enum SafetyPointCommand {
    List,
    /// Keep the place where a workload is now: a standby stops there and stays, and can be read
    Take(NewPoint),
    /// Have a workload go on from its point: what was written since is given up on every node
    GoBack {
        workload: String,
        #[command(flatten)]
        change: Changed,
    },
    /// Let its standby follow again
    Drop {
        workload: String,
        #[command(flatten)]
        consent: Consent,
    },
}

#[derive(Args)]
pub struct NewPoint {
    pub workload: String,
    /// 1 to 40 lower-case letters, digits and `-`, such as before-fares
    pub name: String,
    /// The standby that is held back [default: the one that is missed least]
    #[arg(long, value_name = "NODE")]
    pub on: Option<String>,
    /// For how long, after which it is dropped by itself: 90m, 8h, 7d
    #[arg(long = "for", value_name = "TIME", value_parser = duration)]
    pub time: Option<Duration>,
    /// No other standby need have every write meanwhile
    #[arg(long)]
    pub bare: bool,
    #[command(flatten)]
    pub change: Changed,
}

#[derive(Subcommand)]
pub enum ReplicaCommand {
    /// Take a copy out of a workload; its data stay where they are
    Remove {
        workload: String,
        node: String,
        #[command(flatten)]
        change: Changed,
    },
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
        #[command(flatten)]
        consent: Consent,
    },
    /// Turn a host on or off, or off and on again: off is a fence, so that it holds nothing when it
    /// goes
    Power {
        name: String,
        what: PowerWord,
        #[command(flatten)]
        consent: Consent,
    },
    /// Have nodes, or a zone, hold nothing while somebody works there: primaries move away, and
    /// nobody is alarmed where they are silent
    Maintenance {
        #[command(flatten)]
        rest: Rest,
        /// It is over
        #[arg(long, conflicts_with_all = ["time", "back", "bare", "why"])]
        end: bool,
    },
    /// Print the line by which a host becomes a node: of a name that the spec has, or that is added
    /// to it
    Add(Added),
    /// Take a node out of the cluster, with all that the spec places there
    Remove {
        name: String,
        #[command(flatten)]
        change: Changed,
    },
    /// Take a fenced node back
    Readmit {
        name: String,
        #[command(flatten)]
        consent: Consent,
    },
    /// On a node's host: new keys and certificates in place of those that are there; the daemon takes
    /// them up by itself. The node that has the key of the cluster's CA signs
    Renew(Place),
    /// Take a node's new store in, after its old one was lost: its vote goes, and comes back when the
    /// new store has the whole log
    Enrol {
        name: String,
        /// Why, for the others
        #[arg(long)]
        why: Option<String>,
        #[command(flatten)]
        consent: Consent,
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
pub enum QuorumCommand {
    Show,
    /// Have another node coordinate
    HandOver {
        /// [default: whoever can]
        #[arg(long)]
        to: Option<String>,
        #[command(flatten)]
        consent: Consent,
    },
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
    /// What it was, where its time went, who voted, what was lost; for whoever was asleep
    Report {
        id: String,
        #[arg(long = "as", value_enum, default_value_t = ReportAs::Markdown)]
        form: ReportAs,
    },
    /// End a maintenance, or take back a revision that is not in force yet
    End {
        id: String,
        #[command(flatten)]
        consent: Consent,
    },
    /// Let it go on, where it waits for that (mode `ask`)
    Approve {
        id: String,
        #[command(flatten)]
        consent: Consent,
    },
}

#[derive(Subcommand)]
pub enum StepCommand {
    List,
    /// Run one by hand, and show what it was told and what it wrote
    Try {
        step: String,
        /// The node to run it on [default: the one that answers]
        #[arg(long, value_name = "NODE")]
        on: Option<String>,
        /// The workload that it is told of [default: the first that it is about]
        #[arg(long)]
        workload: Option<String>,
        #[command(flatten)]
        consent: Consent,
    },
}

#[derive(Subcommand)]
pub enum EndpointCommand {
    Show {
        workload: Option<String>,
        /// For which client: psql, jdbc, python, go, dotnet
        #[arg(long = "client")]
        client: Option<String>,
    },
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum ReportAs {
    Markdown,
    Json,
    Svg,
}

#[derive(Args, Clone)]
pub struct SpecInit {
    /// The file [default: standard output]
    #[arg(long)]
    pub write: Option<PathBuf>,
    /// The cluster's name [default: asked for]
    #[arg(long)]
    pub cluster: Option<String>,
    /// A host that runs servers; give one for each
    #[arg(long = "host", value_name = "NAME=ADDRESS[@ZONE]")]
    pub hosts: Vec<AnsweredNode>,
    /// A host that votes and runs none
    #[arg(long = "witness", value_name = "NAME=ADDRESS[@ZONE]")]
    pub witnesses: Vec<AnsweredNode>,
    /// What is kept available
    #[arg(long)]
    pub workload: Option<String>,
    /// Where its servers have their data, on every host
    #[arg(long)]
    pub data: Option<String>,
    /// The one address that its clients keep: 10.30.0.50/24
    #[arg(long)]
    pub address: Option<String>,
}

#[derive(Subcommand)]
pub enum SpecCommand {
    /// Write a first spec file, with comments, from options or from answers to a few questions
    Init(SpecInit),
    /// Check a file without any server: findings with line and column, the timings' inequalities,
    /// worst-case outages
    Check { file: PathBuf },
    /// The spec in force, or an earlier one
    Show {
        #[arg(long, value_name = "NUMBER")]
        revision: Option<u64>,
    },
    /// In which lines a file differs from the spec in force, and what it would take to have it
    Diff {
        file: PathBuf,
        /// From an earlier one
        #[arg(long, value_name = "NUMBER")]
        from: Option<u64>,
    },
    /// Have another spec in force, after its plan
    Submit {
        file: PathBuf,
        #[command(flatten)]
        change: Changed,
    },
    /// Every revision: by whom, when, why
    Log,
    /// Have an earlier one in force again, after its plan
    Revert {
        number: u64,
        #[command(flatten)]
        change: Changed,
    },
}

#[cfg(test)]
mod tests {
    use super::Cli;
    use clap::CommandFactory;

    /// Commands that change nothing in a cluster: they read, or write on this host alone.
    const READS: [&str; 31] = [
        "status",
        "wait",
        "why",
        "node list",
        "node show",
        "node renew",
        "quorum show",
        "workload list",
        "workload show",
        "safety-point list",
        "operation list",
        "operation show",
        "operation watch",
        "operation report",
        "endpoint show",
        "step list",
        "spec init",
        "spec check",
        "spec show",
        "spec diff",
        "spec log",
        "finding list",
        "history",
        "runbook",
        "ca show",
        "init",
        "join",
        "doctor",
        "check",
        "completions",
        "manual",
    ];

    /// The words of a command that has no further ones below it.
    fn leaves(of: &clap::Command, words: &str) -> Vec<(String, clap::Command)> {
        let below: Vec<_> = of.get_subcommands().collect();
        if below.is_empty() {
            return vec![(words.trim().into(), of.clone())];
        }
        let each = below
            .into_iter()
            .map(|c| leaves(c, &format!("{words} {}", c.get_name())));
        each.flatten().collect()
    }

    /// A new command that changes something has both options, or this fails.
    #[test]
    fn every_change_can_be_planned_and_agreed_to() {
        let all = leaves(&Cli::command(), "");
        for (words, command) in &all {
            let has = |option| {
                command
                    .get_arguments()
                    .any(|a| a.get_long() == Some(option))
            };
            let both = (has("plan"), has("yes"));
            let reads = READS.contains(&words.as_str());
            assert_eq!(both, (!reads, !reads), "karst {words}");
        }
        for words in READS {
            assert!(all.iter().any(|(known, _)| known == words), "karst {words}");
        }
    }

    #[test]
    fn no_two_options_have_one_name() {
        Cli::command().debug_assert();
    }
}
