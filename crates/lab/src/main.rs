//! karst-lab: a whole cluster on this machine, and what can be done to it.

use anyhow::{Context, Result, bail, ensure};
use clap::{Parser, Subcommand};
use karst_lab::layout::{CLIENT_ROLE, DATABASE, FLOATING, GATES, Layout, WORKLOAD};
use karst_lab::shape::Shape;
use karst_lab::writer::{self, Load};
use karst_lab::{
    Lab, bench, controller, crowd, demo, dial, drill, fault, idle, inside, keep, scale, thief,
};
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

#[derive(Parser)]
#[command(
    name = "karst-lab",
    version,
    about = "A whole Karst cluster on this machine: hosts, servers, clients, faults"
)]
struct Cli {
    /// The lab's directory
    #[arg(
        long,
        global = true,
        env = "KARST_LAB",
        default_value = "/var/tmp/karst-lab"
    )]
    dir: PathBuf,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Start the lab in the background and wait until all is well
    Up {
        /// The first of its loopback ports
        #[arg(long, default_value_t = 26800)]
        port: u16,
        #[command(flatten)]
        shape: Shape,
    },
    /// End the lab; its data stays
    Down {
        /// Remove the data too
        #[arg(long)]
        remove: bool,
    },
    /// What runs
    Status,
    /// Print what a shell needs to reach the lab, for `eval`
    Env,
    /// Start the lab, fill it with the ferry company's data, start a small client load
    Demo {
        #[arg(long, default_value_t = 26800)]
        port: u16,
        #[command(flatten)]
        shape: Shape,
    },
    /// Really do it, and measure
    Drill(drill::Options),
    /// Do something to a running lab from outside; each fault has its undo
    Fault {
        #[command(subcommand)]
        fault: fault::Fault,
    },
    /// Measure against the floor in the same run; write the table and JSON
    Bench(bench::Options),
    /// What a coordinator's own work costs as a cluster grows, up to a thousand members
    Scale,
    /// Measure what the daemons cost while nothing happens
    Idle {
        #[arg(long, default_value_t = 60)]
        seconds: u64,
    },
    #[command(hide = true)]
    Keep,
    #[command(hide = true)]
    Inside,
    #[command(hide = true)]
    Controller,
    #[command(hide = true)]
    Dial { to: SocketAddr, answers: PathBuf },
    #[command(hide = true)]
    Thief(thief::Theft),
    #[command(hide = true, subcommand)]
    Crowd(CrowdCommand),
    #[command(hide = true)]
    Host { name: String },
    #[command(hide = true)]
    Lead { socket: PathBuf, to: SocketAddr },
    #[command(hide = true)]
    Writer {
        #[arg(long)]
        writers: u32,
        #[arg(long)]
        pause_ms: u64,
        #[arg(long)]
        journal: PathBuf,
        #[arg(long)]
        until: PathBuf,
        /// Past the gates to this server, waiting for no standby
        #[arg(long)]
        direct: Option<SocketAddr>,
        /// By this gate or address, and by no other
        #[arg(long, conflicts_with = "direct")]
        through: Option<SocketAddr>,
    },
}

#[derive(Subcommand)]
enum CrowdCommand {
    Idle {
        to: SocketAddr,
        count: u32,
        from: Option<std::net::IpAddr>,
    },
    Knock {
        to: SocketAddr,
        a_second: u32,
    },
}

fn main() -> std::process::ExitCode {
    match start(Cli::parse()) {
        Ok(()) => std::process::ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("karst-lab: {error:#}");
            std::process::ExitCode::FAILURE
        }
    }
}

fn start(cli: Cli) -> Result<()> {
    // The minder and the inside start processes from the main thread, before any runtime.
    match &cli.command {
        Command::Keep => return keep::run(&Layout::load(&cli.dir)?),
        Command::Inside => return inside::run(&Layout::load(&cli.dir)?),
        Command::Controller => return controller::run(&Layout::load(&cli.dir)?),
        Command::Host { name } => return inside::run_host(&Layout::load(&cli.dir)?, name),
        Command::Lead { socket, to } => return keep::lead(socket, *to),
        _ => {}
    }
    tokio::runtime::Builder::new_multi_thread()
        .worker_threads(2)
        .enable_all()
        .build()?
        .block_on(run(cli))
}

async fn run(cli: Cli) -> Result<()> {
    match cli.command {
        Command::Up { port, shape } => {
            let lab = up(&cli.dir, port, shape).await?;
            println!("{}", lab.status().await?.status.sentence);
            print_env(&lab.layout);
        }
        Command::Down { remove } => down(&Layout::load(&cli.dir)?, remove)?,
        Command::Status => status(Layout::load(&cli.dir)?).await?,
        Command::Env => print_env(&Layout::load(&cli.dir)?),
        Command::Demo { port, shape } => run_demo(&cli.dir, port, shape).await?,
        Command::Drill(options) => {
            drill::run(Lab::attach(Layout::load(&cli.dir)?)?, options).await?
        }
        Command::Fault { fault } => println!("{}", fault::apply(&Layout::load(&cli.dir)?, &fault)?),
        Command::Idle { seconds } => {
            let lab = Lab::attach(Layout::load(&cli.dir)?)?;
            for idle in idle::measure(&lab, Duration::from_secs(seconds)).await? {
                println!(
                    "{:<10} karstd {:.2} % of a core, {:.0} MiB resident; deadman {:.2} %",
                    idle.node, idle.daemon, idle.resident, idle.deadman
                );
            }
        }
        Command::Bench(options) => bench::run(&cli.dir, options).await?,
        Command::Crowd(CrowdCommand::Idle { to, count, from }) => {
            crowd::idle(to, count, from).await?
        }
        Command::Crowd(CrowdCommand::Knock { to, a_second }) => crowd::knock(to, a_second)?,
        Command::Scale => {
            let sizes = scale::measure();
            print!("{}", scale::table(&sizes));
            ensure!(
                sizes.iter().all(scale::Scale::is_kept),
                "a limit is not kept"
            );
        }
        Command::Writer {
            writers,
            pause_ms,
            journal,
            until,
            direct,
            through,
        } => {
            let layout = Layout::load(&cli.dir)?;
            let to = writers_go_to(direct, through);
            let (password, pause) = (layout.client_password()?, Duration::from_millis(pause_ms));
            writer::run(Load {
                to,
                password,
                writers,
                pause,
                journal,
                until,
                lab: layout,
            })
            .await?;
        }
        Command::Dial { to, answers } => dial::run(to, &answers).await?,
        Command::Thief(theft) => thief::run(&Layout::load(&cli.dir)?, &theft).await?,
        Command::Keep
        | Command::Inside
        | Command::Controller
        | Command::Host { .. }
        | Command::Lead { .. } => {
            unreachable!("run before")
        }
    }
    Ok(())
}

async fn up(dir: &std::path::Path, port: u16, shape: Shape) -> Result<Lab> {
    let port = Layout::load(dir).map_or(port, |known| known.port);
    let lab = Lab::up(Layout::new(dir, port, shape)?)?;
    lab.healthy(Duration::from_secs(120)).await?;
    Ok(lab)
}

fn print_env(layout: &Layout) {
    let me = std::env::current_exe()
        .ok()
        .and_then(|p| Some(p.parent()?.display().to_string()))
        .unwrap_or_default();
    println!(
        "export KARST_CONFIG={} KARST_LAB={} PATH={me}:$PATH",
        layout.client_config().display(),
        layout.dir.display()
    );
}

async fn run_demo(dir: &std::path::Path, port: u16, shape: Shape) -> Result<()> {
    println!("Starting the lab: four hosts, a history store, a client host ...");
    let lab = up(dir, port, shape).await?;
    let layout = &lab.layout;
    println!("Filling `{WORKLOAD}` ...");
    let bookings = demo::fill(&layout.gates(), &layout.client_password()?)
        .await
        .context("filling")?;
    drill::start_load(layout, "demo", 2, 100)?;
    let reply = lab.healthy(Duration::from_secs(60)).await?;
    let token = layout.secret("captain");
    println!(
        "\n{}\n\n  bookings   {bookings}\n  console    {}/   (token: {})\n  clients    psql \"{}\"\n\n\
         Three things to try, after\n  eval \"$({} --dir {} env)\"\n\n\
         1  karst status                          the cluster in one screen\n\
         2  karst-lab drill kill-server {WORKLOAD}     kill the primary's server, and see where the time goes\n\
         3  karst switchover {WORKLOAD} --to doline    move it back\n\n\
         `karst-lab down` ends it all.",
        reply.status.sentence,
        layout.servers()[0],
        token.display(),
        layout.connection_string(),
        std::env::current_exe()?.display(),
        layout.dir.display(),
    );
    Ok(())
}

/// The gates, one of them, or one server past them.
fn writers_go_to(direct: Option<SocketAddr>, through: Option<SocketAddr>) -> String {
    let hosts: Vec<String> = GATES
        .iter()
        .filter_map(|g| Some(karst_lab::layout::host(g)?.client()))
        .collect();
    let to = match (direct, through) {
        (None, Some(at)) => format!("host={} port={}", at.ip(), at.port()),
        // The one address first; a client library that takes a list has the gates
        // themselves too.
        (None, None) => format!("host={FLOATING},{} port=26900,26900,26900", hosts.join(",")),
        (Some(at), _) => format!(
            "host={} port={} options='-c synchronous_commit=local'",
            at.ip(),
            at.port()
        ),
    };
    format!("{to} dbname={DATABASE} user={CLIENT_ROLE}")
}

fn down(layout: &Layout, remove: bool) -> Result<()> {
    let ran = keep::stop(layout)?;
    println!(
        "{}",
        if ran {
            "The lab has ended; nothing of it runs."
        } else {
            "No lab was running."
        }
    );
    if remove {
        std::fs::remove_dir_all(&layout.dir)?;
        println!("Removed {}.", layout.dir.display());
    }
    Ok(())
}

async fn status(layout: Layout) -> Result<()> {
    let Some(pid) = keep::running(&layout) else {
        bail!("the lab in {} does not run", layout.dir.display())
    };
    let status = Lab::attach(layout.clone())?.status().await?.status;
    println!(
        "The lab runs (minder {pid}, {} processes).",
        karst_lab::find::of_lab(&layout).len()
    );
    println!("{}", status.sentence);
    Ok(())
}
