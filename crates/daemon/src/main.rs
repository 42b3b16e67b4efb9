//! karstd: runs the core on a real clock, network and disk, and serves the HTTP interface and the console.
//!
//! `karstd run` is the daemon, `karstd deadman` the second small process on the same host. Both are started by the host's
//! service manager, and each is started again when it ends.

mod clock;
mod deadman;
mod hands;
mod heart;
mod http;
mod peers;
mod pulse;
mod renew;
mod ship;
mod store;
mod tls;
mod whole;

use actix_web::web;
use anyhow::{Context, Result, bail};
use clap::{Args, Parser, Subcommand};
use deadman::watchdog::Watchdog;
use heart::{Tell, Told};
use karst_adapters::postgres::Plan;
use karst_adapters::process::{Cgroup, Processes, find_hierarchy, raise_descriptor_limit};
use karst_adapters::{Address, Bounds, Postgres, Power};
use karst_core::authority::Claim;
use karst_core::node::{AddressOrder, CALM_LOOKS, Flow, SNAPSHOT_AFTER};
use karst_core::power::PowerOrder;
use karst_core::spec::WorkloadSpec;
use karst_core::{BootId, Effect, Input, Node, NodeConfig, NodeId, Spec, WorkloadId};
use karst_history::History;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::fs::Permissions;
use std::net::SocketAddr;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio::sync::{mpsc, watch};

#[derive(Parser)]
#[command(name = "karstd", version, about = "Keeps replicated programs available: one daemon on every host")]
struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Run the daemon
    Run(Run),
    /// Run the deadman, which ends primaries whose daemon does not renew their lease
    Deadman(Deadman),
}

#[derive(Args)]
struct Common {
    /// The cluster's spec file, the same on every node
    #[arg(long, default_value = "/etc/karst/spec.toml")]
    spec: PathBuf,
    /// Which node of the spec this is [default: the host name]
    #[arg(long)]
    node: Option<String>,
    /// Sockets and what may be lost at a reboot
    #[arg(long, default_value = "/run/karst")]
    runtime: PathBuf,
    /// A directory of the cgroup v2 hierarchy for the workloads' servers, one cgroup each, the same for daemon and deadman
    /// [default: `karst` at its root, where there is such a hierarchy]
    #[arg(long)]
    cgroup: Option<PathBuf>,
    /// Logs as JSON lines
    #[arg(long)]
    json_logs: bool,
}

impl Common {
    /// All processes of a workload's server on this host (C1).
    fn processes(&self, workload: &WorkloadId, data: &str) -> Processes {
        let parent = self.cgroup.clone().or_else(|| Some(find_hierarchy()?.join("karst")));
        // Without the right to make one, servers are found by their directory alone.
        let usable = parent.filter(|dir| std::fs::create_dir_all(dir).is_ok());
        if usable.is_none() {
            tracing::warn!(%workload, "no cgroup of its own: its processes are found by their working directory");
        }
        Processes::new(Path::new(data), usable.map(|dir| Cgroup::new(&dir, workload.as_str())))
    }
}

#[derive(Args)]
struct Deadman {
    #[command(flatten)]
    common: Common,
    /// A watchdog device to feed: a host whose deadman stands still is reset by its hardware
    #[arg(long)]
    watchdog: Option<PathBuf>,
}

#[derive(Args)]
struct Run {
    #[command(flatten)]
    common: Common,
    /// What must not be lost: the node store
    #[arg(long, default_value = "/var/lib/karst")]
    state: PathBuf,
    /// This node forms the cluster: an empty node store votes at once. For the very first start only; a store that was lost is
    /// taken in again by `karst node enrol`
    #[arg(long)]
    form: bool,
    /// The spec's votes were changed on every host of the cluster while all were stopped. For one start of each; a node whose votes
    /// are others than before does not start without it
    #[arg(long)]
    votes_changed: bool,
    /// ca.pem, node.pem and node.key
    #[arg(long, default_value = "/etc/karst/tls")]
    tls: PathBuf,
    /// Who may use the HTTP service: lines of NAME LEVEL SHA256-IN-HEX
    #[arg(long, default_value = "/etc/karst/tokens")]
    tokens: PathBuf,
    /// Where the host says which hardware it is, so that a power device can be matched with it
    #[arg(long, default_value = "/sys/class/dmi/id/product_uuid")]
    system_uuid: PathBuf,
    /// Log entries after which a snapshot takes their place
    #[arg(long, default_value_t = SNAPSHOT_AFTER, value_parser = clap::value_parser!(u64).range(1..))]
    snapshot_after: u64,
    /// The history store, a PostgreSQL URL without password
    #[arg(long)]
    history: Option<String>,
    /// A file with the history store's password
    #[arg(long)]
    history_password: Option<PathBuf>,
}

fn main() -> Result<()> {
    let cli = Cli::parse();
    let common = match &cli.command {
        Command::Run(run) => &run.common,
        Command::Deadman(deadman) => &deadman.common,
    };
    start_logs(common.json_logs);
    raise_descriptor_limit();
    // A host that is short of CPU must not look like a host that is gone; without the right to it, it runs as it is.
    if let Err(error) = rustix::process::nice(-10) {
        tracing::warn!(%error, "no higher priority: a busy host may look like a lost one");
    }
    whole::exit_on_panic();
    rustls::crypto::ring::default_provider().install_default().ok();
    let (spec, text) = load_spec(&common.spec)?;
    let me = who_am_i(&spec, common.node.as_deref())?;
    std::fs::create_dir_all(&common.runtime)
        .with_context(|| format!("runtime directory {}", common.runtime.display()))?;
    // Servers' sockets are below it, each in a directory of its own user: everybody may pass, and nobody may look around.
    std::fs::set_permissions(&common.runtime, Permissions::from_mode(0o711))
        .with_context(|| format!("runtime directory {}", common.runtime.display()))?;
    match cli.command {
        Command::Deadman(Deadman { common, watchdog }) => {
            let watched = spec.workloads.iter().flat_map(|(id, w)| watched(&common, id, w, &me)).collect();
            let watchdog = watchdog.as_deref().map(Watchdog::open).transpose().context("the watchdog device")?;
            let bounds = deadman::server::Bounds { kill: spec.timings.kill_bound, lease: spec.timings.lease };
            deadman::server::run(&common.runtime, watched, bounds, watchdog).context("the deadman")
        }
        Command::Run(run) => run_daemon(run, spec, text, me),
    }
}

/// What of a workload the deadman watches on this node.
fn watched(common: &Common, id: &WorkloadId, workload: &WorkloadSpec, me: &NodeId) -> Vec<deadman::Watched> {
    let server = workload.replicas.get(me).map(|replica| {
        let (processes, port) = (common.processes(id, &replica.data), replica.address.port());
        deadman::Watched { claim: Claim::Primary(id.clone()), what: deadman::What::Server { processes, port } }
    });
    let address = workload.address.as_ref().filter(|_| workload.may_hold_address(me)).map(|address| {
        let list = address.on.iter().map(|subnet| subnet.ip).collect();
        deadman::Watched { claim: Claim::Address(id.clone()), what: deadman::What::Addresses(list) }
    });
    server.into_iter().chain(address).collect()
}

fn start_logs(json: bool) {
    let filter = tracing_subscriber::EnvFilter::try_from_env("KARST_LOG").unwrap_or_else(|_| "info".into());
    let logs = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr);
    if json { logs.json().init() } else { logs.init() }
}

fn load_spec(path: &Path) -> Result<(Spec, String)> {
    let text = std::fs::read_to_string(path).with_context(|| format!("spec {}", path.display()))?;
    let read = karst_api::specfile::read(&text);
    match read.spec {
        Some(spec) => Ok((spec, text)),
        None => {
            let errors: Vec<String> = read.errors().map(|e| format!("{}:{e}", path.display())).collect();
            bail!("the spec is refused:\n{}", errors.join("\n"))
        }
    }
}

fn who_am_i(spec: &Spec, given: Option<&str>) -> Result<NodeId> {
    let name = match given {
        Some(name) => name.to_string(),
        None => std::fs::read_to_string("/proc/sys/kernel/hostname").context("the host name")?.trim().to_string(),
    };
    let me = NodeId::from(name.clone());
    if spec.nodes.contains_key(&me) {
        return Ok(me);
    }
    let known: Vec<&str> = spec.nodes.keys().map(|n| n.as_str()).collect();
    let near = karst_core::spec::nearest(&name, known.iter().copied());
    let hint = near.map_or_else(|| format!("known: {}", known.join(", ")), |n| format!("did you mean `{n}`?"));
    bail!("there is no node `{name}` in the spec; {hint}; say which one this is with --node")
}

/// Where each kind of effect goes.
struct Wiring {
    peers: peers::Peers,
    deadman: mpsc::UnboundedSender<deadman::Order>,
    replicas: BTreeMap<WorkloadId, mpsc::UnboundedSender<hands::Hand>>,
    gates: BTreeMap<WorkloadId, mpsc::UnboundedSender<karst_core::node::GateOrder>>,
    addresses: BTreeMap<WorkloadId, AddressOrders>,
    power: BTreeMap<NodeId, PowerOrders>,
}

impl Wiring {
    fn carry_out(&self, effect: Effect) {
        match effect {
            Effect::Send { to, message } => self.peers.send(&to, message),
            Effect::Way { to, via } => self.peers.set_way(&to, via.as_ref()),
            Effect::Act { workload, id, action, operation: _ } => {
                if let Some(hand) = self.replicas.get(&workload) {
                    let _ = hand.send(hands::Hand::Act { id, action });
                }
            }
            Effect::Cancel { workload, id } => {
                if let Some(hand) = self.replicas.get(&workload) {
                    let _ = hand.send(hands::Hand::Cancel { id });
                }
            }
            Effect::Attend { workload, closely } => {
                if let Some(hand) = self.replicas.get(&workload) {
                    let _ = hand.send(hands::Hand::Attend { closely });
                }
            }
            Effect::Arm { claim, deadline } => {
                let _ = self.deadman.send(deadman::Order::Arm { claim, deadline });
            }
            Effect::Disarm { claim } => {
                let _ = self.deadman.send(deadman::Order::Disarm { claim });
            }
            Effect::Address { workload, order, flows } => {
                if let Some(address) = self.addresses.get(&workload) {
                    let _ = address.send((order, flows));
                }
            }
            Effect::Gate { workload, order } => {
                if let Some(gate) = self.gates.get(&workload) {
                    let _ = gate.send(order);
                }
            }
            Effect::Power { node, order, system } => {
                if let Some(device) = self.power.get(&node) {
                    let _ = device.send((order, system));
                }
            }
            // The heart keeps these to itself.
            Effect::Persist { .. } | Effect::Answer { .. } | Effect::Record(_) => {}
        }
    }
}

fn run_daemon(run: Run, spec: Spec, spec_text: String, me: NodeId) -> Result<()> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    let _inside = runtime.enter();
    let digest: String = Sha256::digest(spec_text.as_bytes()).iter().map(|b| format!("{b:02x}")).collect();
    let identity = tls::Identity::load(&run.tls)?;
    let http_certificate = tls::HttpCertificate::new(&identity)?;
    let tokens = renew::read_tokens(&run.tokens)?;
    let boot = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").context("the boot id")?;
    std::fs::create_dir_all(&run.state).with_context(|| format!("state directory {}", run.state.display()))?;

    let (tell, told) = mpsc::unbounded_channel();
    let persisted = tell.clone();
    let path = run.state.join("node.store");
    let voters = spec.nodes.iter().filter(|(_, node)| node.votes > 0);
    let votes = voters.map(|(name, node)| (name.clone(), node.votes)).collect();
    let start = store::Start { forms: run.form, votes, votes_changed: run.votes_changed };
    let persisted = move |number| drop(persisted.send(Told::Input(Box::new(Input::Persisted { number }))));
    let (store, opened) = store::Store::open(&path, start, persisted)?;
    if !opened.stored.counts {
        tracing::warn!(
            path = %path.display(),
            "this node's store is new, or was put back to an earlier state: it does not vote until `karst node enrol {me}`; if it \
             should not be new, look whether its volume is mounted"
        );
    }
    let config = NodeConfig {
        me: me.clone(),
        spec: spec.clone(),
        boot: BootId::from(boot.trim()),
        system: std::fs::read_to_string(&run.system_uuid).ok().map(|s| s.trim().to_string()).filter(|s| !s.is_empty()),
        seed: rand::random(),
        stored: opened.stored,
        snapshot_after: run.snapshot_after,
        kept: opened.kept,
        planted: None,
    };
    let node = Node::new(config, clock::now());

    let receive = {
        let tell = tell.clone();
        move |input| drop(tell.send(Told::Input(Box::new(input))))
    };
    let pulse = pulse::runtime()?;
    let peers = {
        let _on_it = pulse.enter();
        peers::Peers::start(&me, &spec, &digest, &identity, receive)?
    };
    let (disagreements, renewal, strange) =
        (peers.disagreements.clone(), peers.renewal.clone(), peers.strangers.clone());
    let Hands { servers, replicas, gates } = start_hands(&run, &spec, &me, &tell)?;
    let (deadman, orders) = mpsc::unbounded_channel();
    let confirmed = tell.clone();
    pulse.spawn(deadman::client::run(deadman::socket(&run.common.runtime), orders, move |counting| {
        let deadman::Counting { claim, deadline, unguarded } = counting;
        let input = Input::Armed { claim, deadline, unguarded };
        let _ = confirmed.send(Told::Input(Box::new(input)));
    }));
    let (show_glance, glance) = watch::channel(heart::Glance::default());
    let power = start_power(&spec, &glance, &tell)?;
    let addresses = start_addresses(&spec, &me, &tell)?;
    let wiring = Wiring { peers, deadman, replicas, gates, addresses, power };
    let carry_out = move |effect| wiring.carry_out(effect);
    let (moves, heartbeat) = (whole::Moves::default(), spec.timings.heartbeat);
    let around = heart::Around { told, tell, store: store.clone(), show: show_glance, glance, moves: moves.clone() };
    let (heart, beats) = heart::new(node, around, carry_out);
    let pulse = std::thread::Builder::new().name("pulse".into()).spawn(move || {
        let _part = whole::Part("pulse");
        let beats = pulse.spawn(beats);
        pulse.block_on(beats)
    })?;
    std::thread::Builder::new().name("watch".into()).spawn(move || whole::watch(&moves, heartbeat))?;

    let password =
        run.history_password.as_ref().map(std::fs::read_to_string).transpose().context("history password")?;
    let history = run.history.as_ref().map(|url| History::new(url, password.as_deref().map(str::trim))).transpose()?;
    let (show, history_state) = watch::channel(karst_api::HistoryState::default());
    tokio::spawn(ship::run(me.clone(), store.clone(), history.clone(), show));

    let (stop, stopping) = watch::channel(false);
    let listen =
        http::Listen { socket: Some(run.common.runtime.join("api.sock")), tls: Some(http_certificate.server()) };
    let service = web::Data::new(http::Service {
        me: me.clone(),
        spec,
        spec_text,
        digest,
        heart: heart.clone(),
        store: store.clone(),
        history,
        history_state,
        disagreements,
        tokens: tokens.into(),
        sessions: Default::default(),
        strangers: Default::default(),
        live: Default::default(),
        recent: Default::default(),
        own: Default::default(),
        strange_datagrams: strange,
        stopping,
    });
    tokio::spawn(http::watch_status(service.clone()));
    let (tls, tokens) = (run.tls.clone(), run.tokens.clone());
    let files = renew::Files { tls, tokens, history_password: run.history_password.clone() };
    let users = renew::Users { peers: renewal, http: http_certificate, service: service.clone(), servers };
    tokio::spawn(renew::run(files, users));
    let (served, serving) = std::sync::mpsc::channel();
    std::thread::Builder::new().name("http".into()).spawn(move || {
        let _part = whole::Part("http");
        actix_web::rt::System::new().block_on(async {
            match http::start(&service, listen) {
                Ok(servers) => {
                    let _ = served.send(Ok(servers.iter().map(actix_web::dev::Server::handle).collect::<Vec<_>>()));
                    futures_util::future::join_all(servers).await;
                }
                Err(error) => drop(served.send(Err(error))),
            }
        });
    })?;
    let servers = serving.recv().context("the HTTP service")?.context("the HTTP service")?;
    tracing::info!(node = %me, "karstd {} runs", env!("CARGO_PKG_VERSION"));

    runtime.block_on(wait_for_stop())?;
    tracing::info!("stopping; servers run on until the deadman's deadline");
    whole::stopping();
    stop.send_replace(true);
    runtime.block_on(futures_util::future::join_all(servers.iter().map(|server| server.stop(true))));
    heart.stop();
    let _ = pulse.join();
    store.stop();
    runtime.shutdown_timeout(std::time::Duration::from_secs(1));
    Ok(())
}

/// To one floating address: what to do, and whose clients to rouse once it is here.
type AddressOrders = mpsc::UnboundedSender<(AddressOrder, Vec<Flow>)>;
/// To one power device: what to do, and which hardware it has to be.
type PowerOrders = mpsc::UnboundedSender<(PowerOrder, Option<String>)>;

#[derive(Default)]
struct Hands {
    servers: Vec<Arc<Postgres>>,
    replicas: BTreeMap<WorkloadId, mpsc::UnboundedSender<hands::Hand>>,
    gates: BTreeMap<WorkloadId, mpsc::UnboundedSender<karst_core::node::GateOrder>>,
}

fn start_hands(run: &Run, spec: &Spec, me: &NodeId, tell: &Tell) -> Result<Hands> {
    let mut hands = Hands::default();
    let bounds = Bounds::of_gate(spec.workloads.values().filter(|w| w.gates.contains_key(me)).count());
    for (id, workload) in &spec.workloads {
        if let Some(replica) = workload.replicas.get(me) {
            let processes = run.common.processes(id, &replica.data);
            let server =
                Arc::new(Postgres::new(Plan::from_spec(id, workload, me, (&run.common.runtime, &run.tls), processes)?));
            hands.servers.push(server.clone());
            let (hand, told) = mpsc::unbounded_channel();
            tokio::spawn(hands::replica(id.clone(), server, spec.timings.heartbeat, told, tell.clone()));
            hands.replicas.insert(id.clone(), hand);
        }
        if let Some(address) = workload.gates.get(me) {
            let (order, orders) = mpsc::unbounded_channel();
            // A floating address comes and goes: the gate has to listen on whatever this host has.
            let everywhere = SocketAddr::from((std::net::Ipv6Addr::UNSPECIFIED, address.port()));
            let listen = if workload.may_hold_address(me) { everywhere } else { *address };
            let (at, every) = ((listen, bounds), spec.timings.heartbeat * CALM_LOOKS);
            tokio::spawn(hands::gate(id.clone(), at, every, orders, tell.clone()));
            hands.gates.insert(id.clone(), order);
        }
    }
    Ok(hands)
}

fn start_addresses(spec: &Spec, me: &NodeId, tell: &Tell) -> Result<BTreeMap<WorkloadId, AddressOrders>> {
    let mut addresses = BTreeMap::new();
    for (id, workload) in spec.workloads.iter().filter(|(_, w)| w.may_hold_address(me)) {
        let Some(address) = &workload.address else { continue };
        let hand = Address::new(address.on.clone()).with_context(|| format!("the address of {id}"))?;
        let (order, orders) = mpsc::unbounded_channel();
        tokio::spawn(hands::address(id.clone(), hand, orders, tell.clone()));
        addresses.insert(id.clone(), order);
    }
    Ok(addresses)
}

/// Every node can ask every device: whoever is coordinator does.
fn start_power(
    spec: &Spec, glance: &watch::Receiver<heart::Glance>, tell: &Tell,
) -> Result<BTreeMap<NodeId, PowerOrders>> {
    let mut devices = BTreeMap::new();
    for (id, node) in &spec.nodes {
        let Some(power) = &node.power else { continue };
        let device = Arc::new(Power::from_spec(power).with_context(|| format!("spec, node.{id}.power"))?);
        let (order, orders) = mpsc::unbounded_channel();
        tokio::spawn(hands::power(id.clone(), device, orders, glance.clone(), tell.clone()));
        devices.insert(id.clone(), order);
    }
    Ok(devices)
}

async fn wait_for_stop() -> Result<()> {
    use tokio::signal::unix::{SignalKind, signal};
    let (mut term, mut int) = (signal(SignalKind::terminate())?, signal(SignalKind::interrupt())?);
    tokio::select! {
        _ = term.recv() => {}
        _ = int.recv() => {}
    }
    Ok(())
}
