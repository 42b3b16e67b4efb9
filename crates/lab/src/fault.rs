//! Faults that are done to a running lab from outside, each with its undo. The product gets no hint
//! of any.
//!
//! Cuts and losses live in the switch between the hosts, so that a host sees silence and no error.
//! A power cut takes the links down first: a dying host says no goodbye.

use crate::disk::{self, Volume};
use crate::find;
use crate::hang;
use crate::layout::{ARCHIVE, CLIENT, CONTROLLER, Layout, NODES};
use crate::network::{NETWORKS, SWITCH, port};
use crate::power;
use anyhow::{Context, Result, bail, ensure};
use clap::{Subcommand, ValueEnum};
use rustix::process::Signal;
use std::io::Write as _;
use std::process::Stdio;
use std::time::{Duration, Instant};

#[derive(Clone, Debug, Subcommand)]
pub enum Fault {
    /// Cut a host's power: its links first, then everything that runs on it. Undo: power-on
    PowerOff { host: String },
    /// Give a host its power back; it boots
    PowerOn { host: String },
    /// Power off, and on again
    PowerCycle { host: String },
    /// Cut a host off in silence, from everyone. Undo: heal
    Cut {
        host: String,
        /// Only on this network
        #[arg(long)]
        network: Option<Network>,
    },
    /// Cut the way between two hosts. Undo: heal
    CutPair {
        from: String,
        to: String,
        /// Only in the direction given
        #[arg(long)]
        one_way: bool,
        #[arg(long)]
        network: Option<Network>,
    },
    /// Drop a share of what is sent between the nodes. Undo: heal
    Loss {
        /// Percent, 1 to 99
        #[arg(value_parser = clap::value_parser!(u32).range(1..=99))]
        percent: u32,
        #[arg(long)]
        network: Option<Network>,
    },
    /// End every cut and loss
    Heal,
    /// Let something on a host stand still. Undo: thaw
    Freeze {
        host: String,
        #[arg(long, default_value = "host")]
        what: Frozen,
    },
    /// Let everything on a host go on, the server first
    Thaw { host: String },
    /// Leave no room on a disk of a host's servers. Undo: free-disk
    FillDisk {
        host: String,
        #[arg(long, default_value = "data")]
        volume: Volume,
    },
    /// Let every sync of a host's daemon hang, as on a disk that does. Undo: free-disk
    HangDisk { host: String },
    /// Give a host's disks their room back, and let them go on
    FreeDisk { host: String },
    /// Move the node store of a host away, and let its daemon start without it. Undo: `karst node
    /// enrol`
    LoseStore { host: String },
    /// End the daemon or the deadman of a host, and do not start it again. Undo: release
    Hold {
        host: String,
        #[arg(long, default_value = "daemon")]
        what: Held,
    },
    /// Start again what was held
    Release { host: String },
    /// End the power controller: no host's power can be cut, nor read. Undo: controller-start
    ControllerStop,
    /// Start the power controller again
    ControllerStart,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Network {
    Peer,
    Client,
    Mgmt,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Frozen {
    /// Everything that runs on it
    Host,
    Daemon,
    Deadman,
    /// Daemon and deadman
    Both,
    /// Every process of its servers
    Server,
}

/// What is started again on a host whenever it ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Held {
    Daemon,
    Deadman,
}

impl Held {
    /// The file that keeps it from being started, and its word on the command line.
    fn names(self) -> (&'static str, &'static str) {
        match self {
            Self::Daemon => ("hold-daemon", "run"),
            Self::Deadman => ("hold-deadman", "deadman"),
        }
    }
}

/// Does it, and says what was done and how to undo it.
pub fn apply(layout: &Layout, fault: &Fault) -> Result<String> {
    Ok(match fault {
        Fault::PowerOff { host } => {
            power::power_off(layout, known(host)?)?;
            format!("{host} has no power; `karst-lab fault power-on {host}` gives it back")
        }
        Fault::PowerOn { host } => {
            power::power_on(layout, known(host)?)?;
            format!("{host} has power and boots")
        }
        Fault::PowerCycle { host } => {
            power::power_off(layout, known(host)?)?;
            power::power_on(layout, host)?;
            format!("{host} lost its power and boots again")
        }
        Fault::Cut { host, network } => {
            cut_off(layout, known(host)?, *network)?;
            format!("{host} is cut off; `karst-lab fault heal` ends every cut")
        }
        Fault::CutPair {
            from,
            to,
            one_way,
            network,
        } => {
            cut_pair(layout, known(from)?, known(to)?, *one_way, *network)?;
            let arrow = if *one_way { "->" } else { "<->" };
            format!("nothing passes {from} {arrow} {to}; `karst-lab fault heal` ends every cut")
        }
        Fault::Loss { percent, network } => {
            lose(layout, *percent, *network)?;
            format!(
                "{percent} % of what the nodes send each other is lost; `karst-lab fault heal` ends it"
            )
        }
        Fault::Heal => {
            nft(
                layout,
                "add table bridge faults\ndelete table bridge faults\n",
            )?;
            "every cut and loss has ended".into()
        }
        Fault::Freeze { host, what } => {
            freeze(layout, known(host)?, *what)?;
            format!("it stands still; `karst-lab fault thaw {host}` lets it go on")
        }
        Fault::FillDisk { .. }
        | Fault::HangDisk { .. }
        | Fault::LoseStore { .. }
        | Fault::Hold { .. }
        | Fault::Release { .. }
        | Fault::FreeDisk { .. } => in_a_host(layout, fault)?,
        Fault::ControllerStop => {
            stop_controller(layout)?;
            "the power controller is gone; `karst-lab fault controller-start` brings it back".into()
        }
        Fault::ControllerStart => {
            power::unless_missing(std::fs::remove_file(layout.host(CONTROLLER).join("hold")))?;
            "the power controller starts".into()
        }
        Fault::Thaw { host } => {
            thaw(layout, known(host)?)?;
            format!("everything on {host} goes on")
        }
    })
}

/// What is done to a host's disks and processes.
fn in_a_host(layout: &Layout, fault: &Fault) -> Result<String> {
    Ok(match fault {
        Fault::FillDisk { host, volume } => {
            disk::fill(layout, known(host)?, *volume)?;
            format!(
                "the {volume:?} disk of {host} is full; `karst-lab fault free-disk {host}` gives it its room back"
            )
        }
        Fault::HangDisk { host } => {
            hang::begin(layout, known(host)?)?;
            format!(
                "syncs of the daemon on {host} hang; `karst-lab fault free-disk {host}` lets them go on"
            )
        }
        Fault::LoseStore { host } => {
            lose_store(layout, known(host)?)?;
            format!(
                "the node store of {host} is gone; `karst node enrol {host}` takes its new one in"
            )
        }
        Fault::Hold { host, what } => {
            hold(layout, known(host)?, *what)?;
            format!(
                "the {what:?} of {host} is gone; `karst-lab fault release {host}` starts it again"
            )
        }
        Fault::Release { host } => {
            release(layout, known(host)?)?;
            format!("whatever was held on {host} starts again")
        }
        Fault::FreeDisk { host } => {
            free_disk(layout, known(host)?)?;
            format!("the disks of {host} have room again")
        }
        other => bail!("{other:?} is not about the inside of a host"),
    })
}

fn cut_off(layout: &Layout, host: &str, network: Option<Network>) -> Result<()> {
    let others = everyone().filter(|other| *other != host);
    cut(
        layout,
        others.flat_map(|other| [(host, other), (other, host)]),
        network,
    )
}

fn cut_pair(
    layout: &Layout,
    from: &str,
    to: &str,
    one_way: bool,
    network: Option<Network>,
) -> Result<()> {
    ensure!(from != to, "{from} cannot be cut off from itself");
    if one_way {
        // Whoever filters packets lets ARP through; without its answers the other direction would
        // end as well, once the neighbour is forgotten.
        let pair = std::iter::once((from, to));
        return filter(layout, "oneway", pair, network, "ether type != arp drop");
    }
    cut(layout, [(from, to), (to, from)].into_iter(), network)
}

fn lose(layout: &Layout, percent: u32, network: Option<Network>) -> Result<()> {
    let nodes = || NODES.iter().map(|n| n.name);
    let pairs = nodes().flat_map(|a| nodes().filter(move |b| *b != a).map(move |b| (a, b)));
    filter(
        layout,
        "lossy",
        pairs,
        network,
        &format!("numgen random mod 100 < {percent} drop"),
    )
}

fn release(layout: &Layout, host: &str) -> Result<()> {
    for minder in [Held::Daemon, Held::Deadman] {
        power::unless_missing(std::fs::remove_file(
            layout.host(host).join(minder.names().0),
        ))?;
    }
    Ok(())
}

fn free_disk(layout: &Layout, host: &str) -> Result<()> {
    let full: Vec<Volume> = Volume::BOTH
        .into_iter()
        .filter(|v| disk::is_full(layout, host, *v))
        .collect();
    let hung = hang::is_on(layout, host);
    hang::end(layout, host)?;
    ensure!(
        hung || !full.is_empty(),
        "no disk of {host} is full, or hangs"
    );
    full.into_iter()
        .try_for_each(|volume| disk::free(layout, host, volume))
}

fn stop_controller(layout: &Layout) -> Result<()> {
    std::fs::write(layout.host(CONTROLLER).join("hold"), "")?;
    if let Ok(pid) = find::controller(layout) {
        find::signal(pid, Signal::KILL)?;
    }
    Ok(())
}

fn everyone() -> impl Iterator<Item = &'static str> {
    NODES
        .iter()
        .map(|n| n.name)
        .chain([CLIENT, ARCHIVE, CONTROLLER])
}

fn known(host: &str) -> Result<&str> {
    if NODES.iter().all(|n| n.name != host) {
        let names: Vec<&str> = NODES.iter().map(|n| n.name).collect();
        bail!(
            "there is no host `{host}` in the lab; known: {}",
            names.join(", ")
        );
    }
    Ok(host)
}

fn cut<'a>(
    layout: &Layout,
    pairs: impl Iterator<Item = (&'a str, &'a str)>,
    network: Option<Network>,
) -> Result<()> {
    filter(layout, "cut", pairs, network, "drop")
}

/// One rule for packets between ports of a set, which the pairs are added to.
fn filter<'a>(
    layout: &Layout,
    set: &str,
    pairs: impl Iterator<Item = (&'a str, &'a str)>,
    network: Option<Network>,
    rule: &str,
) -> Result<()> {
    let networks = NETWORKS.into_iter().filter(|n| {
        network.is_none_or(|w| w.to_possible_value().is_some_and(|v| v.matches(n, false)))
    });
    let networks: Vec<&str> = networks.collect();
    let elements: Vec<String> = pairs
        .flat_map(|(a, b)| {
            networks
                .iter()
                .map(move |n| format!("\"{}\" . \"{}\"", port(a, n), port(b, n)))
        })
        .collect();
    nft(
        layout,
        &format!(
            "add table bridge faults\n\
             add set bridge faults {set} {{ type ifname . ifname; }}\n\
             add chain bridge faults {set}-chain {{ type filter hook forward priority 0; }}\n\
             flush chain bridge faults {set}-chain\n\
             add rule bridge faults {set}-chain iifname . oifname @{set} {rule}\n\
             add element bridge faults {set} {{ {} }}\n",
            elements.join(", ")
        ),
    )
}

fn nft(layout: &Layout, script: &str) -> Result<()> {
    let mut nft = find::enter(layout, SWITCH)?;
    nft.args(["nft", "-f", "-"])
        .stdin(Stdio::piped())
        .stderr(Stdio::piped());
    let mut child = nft.spawn().context("nft (package nftables)")?;
    child
        .stdin
        .take()
        .context("nft's input")?
        .write_all(script.as_bytes())?;
    let output = child.wait_with_output()?;
    ensure!(
        output.status.success(),
        "nft: {}",
        String::from_utf8_lossy(&output.stderr).trim()
    );
    Ok(())
}

fn freeze(layout: &Layout, host: &str, what: Frozen) -> Result<()> {
    let daemon = |role: &str| find::signal(find::daemon(layout, host, role)?, Signal::STOP);
    match what {
        Frozen::Host => {
            // Twice: what was started meanwhile stands still too.
            for _ in 0..2 {
                find::on_host(layout, host)?
                    .into_iter()
                    .for_each(|pid| drop(find::signal(pid, Signal::STOP)));
            }
            Ok(())
        }
        Frozen::Server => {
            let server = find::working_in(&layout.data(host));
            ensure!(!server.is_empty(), "no server runs on {host}");
            server
                .into_iter()
                .try_for_each(|pid| find::signal(pid, Signal::STOP))
        }
        Frozen::Daemon => daemon("run"),
        Frozen::Deadman => daemon("deadman"),
        Frozen::Both => daemon("run").and_then(|()| daemon("deadman")),
    }
}

/// Ends it, and keeps it from being started. Its ports and files are free afterwards.
fn hold(layout: &Layout, host: &str, what: Held) -> Result<()> {
    let (file, word) = what.names();
    std::fs::write(layout.host(host).join(file), "")?;
    find::signal(find::daemon(layout, host, word)?, Signal::KILL)?;
    let begun = Instant::now();
    while find::daemon(layout, host, word).is_ok() {
        ensure!(
            begun.elapsed() < Duration::from_secs(10),
            "the {word} of {host} does not end"
        );
        std::thread::sleep(Duration::from_millis(5));
    }
    Ok(())
}

/// As where a volume is not mounted: the daemon finds nothing of what it had written.
fn lose_store(layout: &Layout, host: &str) -> Result<()> {
    hold(layout, host, Held::Daemon)?;
    let store = layout.host(host).join("state/node.store");
    std::fs::rename(&store, store.with_extension("lost")).context("the node store")?;
    power::unless_missing(std::fs::remove_file(
        layout.host(host).join(Held::Daemon.names().0),
    ))
}

fn thaw(layout: &Layout, host: &str) -> Result<()> {
    let server = find::working_in(&layout.data(host));
    let rest = find::on_host(layout, host)?
        .into_iter()
        .filter(|pid| !server.contains(pid));
    let rest: Vec<i32> = rest.collect();
    // The worst order: the server has the host for itself for a moment.
    server
        .iter()
        .for_each(|pid| drop(find::signal(*pid, Signal::CONT)));
    if !server.is_empty() {
        std::thread::sleep(Duration::from_millis(200));
    }
    rest.iter()
        .for_each(|pid| drop(find::signal(*pid, Signal::CONT)));
    Ok(())
}
