//! From the arguments to a daemon that answers, and until it is told to stop.

use crate::arguments::Run;
use crate::given::Given;
use crate::heart::{self, Tell};
use crate::judge::Judge;
use crate::measured::Measured;
use crate::panics::Panics;
use crate::steps::OwnSteps;
use crate::tokens::Tokens;
use crate::wiring::{self, Wiring};
use crate::{
    about, clock, deadman, examine, http, nightly, peers, pulse, readiness, renew, ship, store,
    tls, whole,
};
use actix_web::dev::Server;
use actix_web::dev::ServerHandle;
use actix_web::web;
use anyhow::{Context, Result};
use karst_adapters::Steps;
use karst_core::spec::Revision;
use karst_core::{BootId, Input, Node, NodeConfig, NodeId};
use karst_history::History;
use sha2::{Digest, Sha256};
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, RwLock};
use std::thread::JoinHandle;
use std::time::Duration;
use tokio::runtime::Runtime;
use tokio::sync::{mpsc, watch};
use tokio::task::JoinError;

/// The mark that `karst init` leaves: this host forms the cluster by itself, at its next start.
const FORMS_ALONE: &str = "forms-alone";
/// How often the core hears what the host's clock says.
const TELL_THE_TIME: Duration = Duration::from_secs(10);

pub fn start_logs(json: bool) {
    let filter =
        tracing_subscriber::EnvFilter::try_from_env("KARST_LOG").unwrap_or_else(|_| "info".into());
    let logs = tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr);
    if json {
        logs.json().init()
    } else {
        logs.init()
    }
}

/// Of the spec's text: nodes that disagree say so.
fn digest(text: &str) -> String {
    let bytes = Sha256::digest(text.as_bytes());
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// What the deadman is told goes this way, and what it counts down comes back to the heart.
fn start_deadman(run: &Run, pulse: &Runtime, tell: &Tell) -> mpsc::UnboundedSender<deadman::Order> {
    let (deadman, orders) = mpsc::unbounded_channel();
    let (socket, tell) = (deadman::socket(&run.common.runtime), tell.clone());
    let counts = move |counting: deadman::Counting| tell.input(counting.into());
    pulse.spawn(deadman::client::run(socket, orders, counts));
    deadman
}

/// The heart beats on a thread of its own, and another one looks whether it does.
fn start_pulse(
    pulse: Runtime,
    beats: impl Future<Output = ()> + Send + 'static,
    moves: whole::Moves,
    heartbeat: Duration,
) -> Result<JoinHandle<Result<(), JoinError>>> {
    let pulse = std::thread::Builder::new()
        .name("pulse".into())
        .spawn(move || {
            let _part = whole::Part("pulse");
            let beats = pulse.spawn(beats);
            pulse.block_on(beats)
        })?;
    std::thread::Builder::new()
        .name("watch".into())
        .spawn(move || whole::watch(&moves, heartbeat))?;
    Ok(pulse)
}

/// Until somebody stops this daemon; its servers run on.
fn wait(runtime: &Runtime, stop: &watch::Sender<bool>, servers: &[ServerHandle]) -> Result<()> {
    runtime.block_on(wait_for_stop())?;
    tracing::info!("stopping; servers run on until the deadman's deadline");
    whole::stopping();
    stop.send_replace(true);
    runtime.block_on(futures_util::future::join_all(
        servers.iter().map(|server| server.stop(true)),
    ));
    Ok(())
}

/// The core has no clock but the leases', and people set things for a time.
async fn tell_the_time(tell: Tell) {
    loop {
        tell.input(Input::Clock {
            unix: clock::unix(),
        });
        tokio::time::sleep(TELL_THE_TIME).await;
    }
}

/// What of a daemon acts: the heart and all that it moves.
struct Engine {
    tell: Tell,
    measured: Arc<Measured>,
    heart: heart::Heart,
    pulse: JoinHandle<Result<(), JoinError>>,
    store: store::Store,
    servers: wiring::Servers,
    disagreements: peers::Disagreements,
    refused: tls::Refused,
    links: peers::Links,
    renewal: peers::Renewal,
    strange_datagrams: Arc<AtomicU64>,
    in_force: watch::Receiver<Arc<Revision>>,
    judge: Judge,
    lacks: about::Own,
    steps: Steps,
}

fn start_engine(
    run: &Run,
    given: &Given,
    digest: &str,
    (identity, tokens): (&tls::Identity, Arc<RwLock<Tokens>>),
    workers: &Runtime,
) -> Result<Engine> {
    let me = &given.me;
    let (tell, told) = heart::channel();
    let (store, mut node) = open_node(run, given, &tell)?;
    let revision = node.revision().clone();
    let (spec, in_force) = (revision.spec.clone(), watch::Sender::new(revision));
    let pulse = pulse::runtime()?;
    let judge = Judge::new(in_force.subscribe());
    let asked = peers::Asked {
        tokens,
        judge: judge.clone(),
    };
    let peers = {
        let (_on_it, tell) = (pulse.enter(), tell.clone());
        let receive = move |input| tell.input(input);
        peers::Peers::start(
            me,
            given.own(&spec).peer,
            &spec,
            digest,
            (identity, asked),
            receive,
        )?
    };
    let (disagreements, refused, links, renewal, strange_datagrams) = (
        peers.disagreements.clone(),
        peers.refused.clone(),
        peers.links.clone(),
        peers.renewal.clone(),
        peers.strangers.clone(),
    );
    let deadman = start_deadman(run, &pulse, &tell);
    let (show, glance) = watch::channel(heart::Glance::default());
    let examine = watch::Sender::new(None);
    tokio::spawn(readiness::run(
        run.clone(),
        me.clone(),
        in_force.subscribe(),
        examine.subscribe(),
        tell.clone(),
    ));
    let lacks = about::Own::default();
    let steps = OwnSteps {
        here: run.steps_of(&spec.cluster, me),
        in_force: in_force.subscribe(),
        tell: tell.clone(),
    };
    let host = wiring::Host {
        steps: steps.clone(),
        lacks: lacks.clone(),
        examine,
        me: me.clone(),
        common: run.common.clone(),
        tls: run.tls.clone(),
        allowed: run.allowed(),
        tell: tell.clone(),
        glance: glance.clone(),
        in_force: in_force.clone(),
        pulse: pulse.handle().clone(),
        workers: workers.handle().clone(),
    };
    let mut wiring = Wiring::new(host, peers, deadman);
    let servers = wiring.servers.clone();
    // The first of them is this node's shape: what cannot be had of it is said here and now.
    while let Some(effect) = node.poll_effect() {
        wiring.carry_out(effect)?;
    }
    tokio::spawn(tell_the_time(tell.clone()));
    let told_about = tell.clone();
    let measured = Arc::<Measured>::default();
    let moves = whole::Moves::default();
    let watched = moves.clone();
    let around = heart::Around {
        told,
        tell,
        store: store.clone(),
        show,
        glance,
        moves,
        measured: measured.clone(),
    };
    let (heart, beats) = heart::new(node, around, move |effect| wiring.carry_out(effect));
    let pulse = start_pulse(pulse, beats, watched, spec.timings.heartbeat)?;
    Ok(Engine {
        tell: told_about,
        measured,
        heart,
        pulse,
        store,
        servers,
        disagreements,
        refused,
        links,
        renewal,
        strange_datagrams,
        in_force: in_force.subscribe(),
        judge,
        lacks,
        steps: steps.here,
    })
}

/// This node says of itself and its host what people want to know.
fn start_about(
    run: &Run,
    me: &NodeId,
    engine: &Engine,
    identity: Arc<RwLock<Arc<tls::Identity>>>,
    own: [about::Own; 3],
) {
    let sources = about::Sources {
        me: me.clone(),
        in_force: engine.in_force.clone(),
        state: run.common.state.clone(),
        runtime: run.common.runtime.clone(),
        certificate: run.tls.join("node.pem"),
        identity,
        servers: engine.servers.clone(),
        own,
    };
    tokio::spawn(about::run(sources, engine.tell.clone()));
}

pub fn run_daemon(run: Run, given: Given) -> Result<()> {
    let runtime = two_workers()?;
    let _inside = runtime.enter();
    let digest = digest(&given.text);
    crate::renew::finish(&run.tls)?;
    let identity = tls::Identity::load(&run.tls)?;
    let certificate = tls::HttpCertificate::new(&identity)?;
    let tokens = Arc::new(RwLock::new(renew::read_tokens(&run.tokens)?));
    let shown = (&identity, tokens.clone());
    let engine = start_engine(&run, &given, &digest, shown, &runtime)?;
    let identity = Arc::new(RwLock::new(Arc::new(identity)));
    let own_in_file = given.own(&given.spec).clone();
    let me = given.me;
    let sessions = http::Sessions::new(&std::fs::read(run.tls.join("node.key"))?);
    let (asked, in_force) = (run.clone(), engine.in_force.clone());
    let looked_at = (me.clone(), engine.in_force.clone());
    let links = engine.links.clone();
    let [own, seen_of_host] = <[about::Own; 2]>::default();
    start_about(
        &run,
        &me,
        &engine,
        identity.clone(),
        [own.clone(), seen_of_host.clone(), engine.lacks.clone()],
    );
    let (stop, stopping) = watch::channel(false);
    let service = open_service(&run, |history, history_state| http::Service {
        me: me.clone(),
        in_force,
        judge: engine.judge.clone(),
        own_in_file,
        examining: Arc::default(),
        examine: Box::new(move || {
            let (me, in_force) = &looked_at;
            let spec = in_force.borrow().spec.clone();
            let needs = examine::look_again(&asked, &spec, me, &links)?;
            nightly::note(&seen_of_host, me, &needs);
            Ok(needs)
        }),
        steps: engine.steps.clone(),
        files: http::Files {
            tls: run.tls.clone(),
            tokens: run.tokens.clone(),
            secrets: run.secrets.clone(),
        },
        certificate_file: run.tls.join("node.pem"),
        heart: engine.heart.clone(),
        store: engine.store.clone(),
        history,
        history_state,
        disagreements: engine.disagreements,
        refused: engine.refused,
        tokens,
        sessions,
        tickets: Default::default(),
        identity,
        written: http::Written::kept_in(&run.common.state),
        measured: engine.measured,
        strangers: Default::default(),
        live: Default::default(),
        recent: Default::default(),
        strange_datagrams: engine.strange_datagrams,
        stopping,
    })?;
    let users = renew::Users {
        peers: engine.renewal,
        http: certificate.clone(),
        service: service.clone(),
        servers: engine.servers,
        own,
    };
    tokio::spawn(renew::run(renew::Files::of(&run), users));
    tokio::spawn(nightly::run(service.clone()));
    let listen = http::Listen {
        socket: Some(run.common.runtime.join("api.sock")),
        tls: Some(certificate.server()),
    };
    let servers = serve(move || http::start(&service, listen))?;
    tracing::info!(node = %me, "karstd {} runs", env!("CARGO_PKG_VERSION"));

    wait(&runtime, &stop, &servers)?;
    engine.heart.stop();
    let _ = engine.pulse.join();
    engine.store.stop();
    runtime.shutdown_timeout(Duration::from_secs(1));
    Ok(())
}

/// A node whose every run panicked answers, and does nothing else: its peers count it as lost, its
/// deadman ends what it held, and people are told what to do.
pub fn explain(run: &Run, given: &Given, said: &str) -> Result<()> {
    let runtime = two_workers()?;
    let me = &given.me;
    let why = format!(
        "{me} does not act: each of its last runs panicked within seconds ({said}). It holds nothing, and the other nodes go on \
         without it. Keep {}, and report it with the daemon's log. Then try again with a restart of karstd (`systemctl restart karst`), \
         with another version of it where the log cannot be read by this one; else have the node begin with an empty store: move that \
         file away, restart, and `karst node enrol {me}` at another node",
        run.common.state.join("node.store").display(),
    );
    tracing::error!("{why}");
    let identity = tls::Identity::load(&run.tls)?;
    let certificate = tls::HttpCertificate::new(&identity)?;
    let listen = http::Listen {
        socket: Some(run.common.runtime.join("api.sock")),
        tls: Some(certificate.server()),
    };
    let address = given.own(&given.spec).api;
    let servers = serve(move || http::explain(&why, address, listen))?;
    runtime.block_on(wait_for_stop())?;
    whole::stopping();
    // A person has looked: the next start is one like any other.
    Panics::forget(&run.common.state);
    runtime.block_on(futures_util::future::join_all(
        servers.iter().map(|server| server.stop(true)),
    ));
    Ok(())
}

/// The node as its store left it.
fn open_node(run: &Run, given: &Given, tell: &Tell) -> Result<(store::Store, Node)> {
    let Given { spec, text, me } = given;
    let path = run.common.state.join("node.store");
    let voters = spec.nodes.iter().filter(|(_, node)| node.votes > 0);
    let votes = voters
        .map(|(name, node)| (name.clone(), node.votes))
        .collect();
    let alone = run.tls.join(FORMS_ALONE);
    let start = store::Start {
        forms: run.form,
        alone: alone.exists(),
        votes,
        votes_changed: run.votes_changed,
    };
    let tell = tell.clone();
    let persisted = move |number| tell.input(Input::Persisted { number });
    let (store, opened) = store::Store::open(&path, start, persisted)?;
    // Once: a store that is lost later forms nothing (F3).
    if alone.exists() {
        std::fs::remove_file(&alone).with_context(|| format!("{}", alone.display()))?;
    }
    if !opened.stored.counts {
        tracing::warn!(
            path = %path.display(),
            "this node's store is new, or was put back to an earlier state: it does not vote until `karst node enrol {me}`; if it \
             should not be new, look whether its volume is mounted"
        );
    }
    let boot = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").context("the boot id")?;
    let system = std::fs::read_to_string(&run.system_uuid)
        .ok()
        .map(|text| text.trim().to_string());
    let config = NodeConfig {
        me: me.clone(),
        alone: opened.alone,
        given: Arc::new(Revision::first(spec.clone(), text.as_str())),
        boot: BootId::from(boot.trim()),
        system: system.filter(|uuid| !uuid.is_empty()),
        seed: rand::random(),
        stored: opened.stored,
        snapshot_after: run.snapshot_after,
        kept: opened.kept,
        planted: None,
    };
    let node = Node::new(config, clock::now());
    if *node.revision().text != **text {
        tracing::info!(
            spec = %run.spec.display(),
            "this file is not what counts: revision {} of the spec is in force here, from the log; `karst spec show` prints it",
            node.revision().number
        );
    }
    Ok((store, node))
}

fn open_history(run: &Run) -> Result<Option<History>> {
    let file = run.history_password.as_ref();
    let password = file
        .map(std::fs::read_to_string)
        .transpose()
        .context("history password")?;
    Ok(run
        .history
        .as_ref()
        .map(|url| History::new(url, password.as_deref().map(str::trim)))
        .transpose()?)
}

fn two_workers() -> std::io::Result<Runtime> {
    tokio::runtime::Builder::new_multi_thread()
        .worker_threads(2)
        .enable_all()
        .build()
}

/// What the HTTP service answers from: the history store, which events are shipped to from here
/// on, and all else.
fn open_service(
    run: &Run,
    with: impl FnOnce(Option<History>, watch::Receiver<karst_api::HistoryState>) -> http::Service,
) -> Result<web::Data<http::Service>> {
    let history = open_history(run)?;
    let (show, state) = watch::channel(karst_api::HistoryState::default());
    let service = web::Data::new(with(history.clone(), state));
    let (me, store) = (service.me.clone(), service.store.clone());
    tokio::spawn(ship::run(me, store, history, show));
    tokio::spawn(http::watch_status(service.clone()));
    tokio::spawn(http::record_written(service.clone()));
    Ok(service)
}

/// The HTTP service, on a thread of its own.
fn serve(
    start: impl FnOnce() -> std::io::Result<Vec<Server>> + Send + 'static,
) -> Result<Vec<ServerHandle>> {
    let (served, serving) = std::sync::mpsc::channel();
    std::thread::Builder::new()
        .name("http".into())
        .spawn(move || {
            let _part = whole::Part("http");
            actix_web::rt::System::new().block_on(async {
                match start() {
                    Ok(servers) => {
                        let handles = servers.iter().map(Server::handle).collect();
                        let _ = served.send(Ok(handles));
                        futures_util::future::join_all(servers).await;
                    }
                    Err(error) => drop(served.send(Err(error))),
                }
            });
        })?;
    serving
        .recv()
        .context("the HTTP service")?
        .context("the HTTP service")
}

async fn wait_for_stop() -> Result<()> {
    use tokio::signal::unix::{SignalKind, signal};
    let (mut term, mut int) = (
        signal(SignalKind::terminate())?,
        signal(SignalKind::interrupt())?,
    );
    tokio::select! {
        _ = term.recv() => {}
        _ = int.recv() => {}
    }
    Ok(())
}
