//! karst: the command-line client. It shows and asks; it decides nothing.
//!
//! Exit codes: 0 done; 1 the command could not be carried out; 2 the command line is wrong; 3 not healthy (`status`,
//! `why`), or a spec with errors (`spec check`); 4 refused by the cluster; 5 no server answered.

mod act;
mod connect;
mod output;
mod show;

use clap::{Args, CommandFactory, Parser, Subcommand};
use clap_complete::Shell;
use karst_api::core::node::PowerWish;
use karst_api::core::operation::Mode;
use karst_api::{ClientError, MoveBody};
use output::Format;
use std::path::PathBuf;
use std::process::ExitCode;

#[derive(Parser)]
#[command(name = "karst", version, about = "Shows and steers a Karst cluster", after_help = EXIT_CODES)]
struct Cli {
    #[command(flatten)]
    global: Global,
    #[command(subcommand)]
    command: Command,
}

const EXIT_CODES: &str = "Exit codes: 0 done, 1 failed, 2 wrong command line, 3 not healthy or a spec with errors, \
                          4 refused by the cluster, 5 no server answered.";

#[derive(Args, Clone)]
struct Global {
    /// A server's address; several are tried in turn [default: those of the client configuration]
    #[arg(long = "server", global = true, env = "KARST_SERVERS", value_delimiter = ',')]
    servers: Vec<String>,
    /// A file with the access token [default: that of the client configuration]
    #[arg(long, global = true, env = "KARST_TOKEN_FILE")]
    token_file: Option<PathBuf>,
    /// A CA certificate to trust, PEM
    #[arg(long, global = true, env = "KARST_CA")]
    ca: Option<PathBuf>,
    /// The client configuration: servers, token-file, ca
    #[arg(long, global = true, env = "KARST_CONFIG")]
    config: Option<PathBuf>,
    #[arg(long, global = true, value_enum, default_value_t = Format::Table)]
    output: Format,
}

#[derive(Subcommand)]
enum Command {
    /// The cluster in one screen: the sentence, votes, nodes, workloads, endpoints, what is under way
    Status {
        /// Show every change until interrupted
        #[arg(long)]
        watch: bool,
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

#[derive(Args, Clone)]
struct Consent {
    /// Only show what would be done
    #[arg(long, visible_alias = "dry-run")]
    plan: bool,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

#[derive(Subcommand)]
enum One {
    List,
    Show { name: String },
}

#[derive(Subcommand)]
enum NodeCommand {
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
    /// Turn a host on or off, or off and on again: off is a fence, so that it holds nothing when it goes
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
enum PowerWord {
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
enum ModeWord {
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
enum Show {
    Show,
}

#[derive(Subcommand)]
enum OperationCommand {
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
enum EndpointCommand {
    Show { workload: Option<String> },
}

#[derive(Subcommand)]
enum SpecCommand {
    /// Check a file without any server: findings with line and column, the timings' inequalities, worst-case outages
    Check { file: PathBuf },
    /// The file that a running node uses
    Show,
}

/// How a command ended well.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ending {
    Done,
    NotWell,
}

fn main() -> ExitCode {
    let cli = Cli::parse();
    let runtime = match tokio::runtime::Builder::new_current_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => return fail(&error.into()),
    };
    match runtime.block_on(run(cli)) {
        Ok(Ending::Done) => ExitCode::SUCCESS,
        Ok(Ending::NotWell) => ExitCode::from(3),
        Err(error) => fail(&error),
    }
}

fn fail(error: &anyhow::Error) -> ExitCode {
    eprintln!("karst: {error:#}");
    ExitCode::from(match error.downcast_ref::<ClientError>() {
        Some(ClientError::Refused { .. }) => 4,
        Some(ClientError::Unreachable(_)) => 5,
        _ => 1,
    })
}

async fn run(cli: Cli) -> anyhow::Result<Ending> {
    let (global, format) = (cli.global.clone(), cli.global.output);
    let client = || connect::client(&global);
    match cli.command {
        Command::Status { watch: false } => show::status(&client()?, format).await,
        Command::Status { watch: true } => show::watch(&client()?).await,
        Command::Why { workload } => show::why(&client()?, workload.as_deref(), format).await,
        Command::Node(NodeCommand::List) => show::nodes(&client()?, None, format).await,
        Command::Node(NodeCommand::Show { name }) => show::nodes(&client()?, Some(&name), format).await,
        Command::Node(NodeCommand::Fence { name, yes }) => act::fence(&client()?, &name, yes, format).await,
        Command::Node(NodeCommand::Power { name, what, consent }) => {
            act::power(&client()?, &name, what.into(), &consent, format).await
        }
        Command::Node(NodeCommand::Readmit { name }) => act::readmit(&client()?, &name, format).await,
        Command::Node(NodeCommand::Enrol { name, yes }) => act::enrol(&client()?, &name, yes, format).await,
        Command::Mode { mode, workload, all } => {
            act::mode(&client()?, mode.into(), workload.as_deref(), all, format).await
        }
        Command::Quorum(Show::Show) => show::quorum(&client()?, format).await,
        Command::Workload(One::List) => show::workloads(&client()?, None, format).await,
        Command::Workload(One::Show { name }) => show::workloads(&client()?, Some(&name), format).await,
        Command::Switchover { workload, to, consent } => {
            let body = MoveBody { to: to.map(Into::into), ..MoveBody::default() };
            act::change(&client()?, "switchover", &workload, body, &consent, format).await
        }
        Command::Failover { workload, to, accept_loss, consent } => {
            let body = MoveBody { to: Some(to.into()), accept_loss, ..MoveBody::default() };
            act::change(&client()?, "failover", &workload, body, &consent, format).await
        }
        Command::Operation(OperationCommand::List) => show::operations(&client()?, format).await,
        Command::Operation(OperationCommand::Show { id }) => show::operation(&client()?, &id, format).await,
        Command::Operation(OperationCommand::Watch { id }) => act::watch(&client()?, show::operation_id(&id)?).await,
        Command::Operation(OperationCommand::Approve { id }) => {
            act::approve(&client()?, show::operation_id(&id)?).await
        }
        Command::Endpoint(EndpointCommand::Show { workload }) => {
            show::endpoints(&client()?, workload.as_deref(), format).await
        }
        Command::Spec(SpecCommand::Check { file }) => show::check_spec(&file, format),
        Command::Spec(SpecCommand::Show) => show::spec(&client()?, format).await,
        Command::History { follow, workload, operation, limit } => {
            show::history(&client()?, follow, workload, operation, limit, format).await
        }
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut Cli::command(), "karst", &mut std::io::stdout());
            Ok(Ending::Done)
        }
    }
}
