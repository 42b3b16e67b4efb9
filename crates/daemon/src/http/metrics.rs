//! `/metrics` in OpenMetrics text.

use super::now::status_now;
use super::problem::{Refusal, resource};
use super::service::Service;
use crate::heart::Glance;
use crate::tls;
use actix_web::{HttpResponse, web};
use karst_core::replica::Role;
use karst_core::view::{NodeView, PowerView, Status, WorkloadView};
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(resource("/metrics", "GET").route(web::get().to(metrics)));
}

/// All that is exported: name and help.
const OF_NODE: &[(&str, &str)] = &[
    ("build", "1, with the version of karstd as a label"),
    ("term", "The newest term this node knows"),
    ("log_applied", "The index of the last applied log entry"),
    ("coordinator", "1 on the coordinator"),
    ("coordinator_known", "1 where a coordinator is heard"),
    ("history_reachable", "1 where the history store answers"),
    (
        "history_waiting",
        "Events that the history store has not confirmed",
    ),
    (
        "certificate_left_seconds",
        "Until this node's certificate ends; -1 where that cannot be read",
    ),
    ("workload_epoch", "The newest epoch"),
    (
        "workload_role",
        "1 at the role of this node's server: primary under a lease, standby, none",
    ),
    ("workload_sync_set", "Standbys that have every write"),
];

/// What the coordinator alone knows: on every other node these have no samples.
const OF_CLUSTER: &[(&str, &str)] = &[
    (
        "workload_condition",
        "1 at the condition that a workload is in",
    ),
    ("workload_writes", "1 at the state of a workload's writes"),
    ("workload_mode", "1 at the mode that a workload is in"),
    (
        "lease_left_seconds",
        "For how long the primary's lease holds at the most",
    ),
    ("replica_lag_bytes", "Behind the primary's flushed position"),
    (
        "replica_lag_seconds",
        "Until the last writes were replayed there; none while nothing is written",
    ),
    (
        "replica_has_every_write",
        "1 where a standby has every acknowledged write",
    ),
    ("gate_connections", "Of clients now"),
    ("gate_waiting", "Of these, how many a gate lets wait"),
    ("quorum_votes", "Votes that are heard, needed and there are"),
    ("node_up", "1 where a node is heard"),
    ("node_silence_seconds", "Since the last heartbeat of a node"),
    ("node_fenced", "1 where a node is fenced"),
    ("node_guarded", "1 where a node has a packet guard"),
    ("node_watchdog", "1 where a node's deadman feeds a watchdog"),
    ("node_power", "1 at what a node's power device said last"),
    (
        "node_version",
        "1, with the version of karstd there as a label",
    ),
    (
        "room_free_bytes",
        "On the volume of a directory, in steps of a hundredth",
    ),
    ("room_total_bytes", "Of that volume"),
    (
        "certificate_ends_seconds",
        "When a node's certificate ends, since the Unix epoch",
    ),
    ("needs_you", "What waits for a person"),
    (
        "findings",
        "Findings that stand and nobody has acknowledged",
    ),
];

/// Counters begin at zero when the daemon starts; `_total` follows the name (OpenMetrics 1.0, section 5.2).
const COUNTED: &[(&str, &str)] = &[
    (
        "wrong_tokens",
        "Wrong tokens that were shown to this node since its start",
    ),
    (
        "strange_datagrams",
        "Datagrams that this node dropped unread since its start: their addresses are not in the spec",
    ),
    (
        "gate_refused",
        "Clients that a gate has turned away since it started; the coordinator alone has it",
    ),
];

type Labels = Vec<(String, String)>;
type Values = Family<Labels, Gauge<f64, AtomicU64>>;
type Counts = Family<Labels, Counter<u64, AtomicU64>>;

/// The families of one answer.
struct Board {
    registry: Registry,
    families: BTreeMap<&'static str, Values>,
    counts: BTreeMap<&'static str, Counts>,
}

impl Board {
    fn new() -> Self {
        let mut registry = Registry::with_prefix("karst");
        let mut families = BTreeMap::new();
        for (name, help) in OF_NODE.iter().chain(OF_CLUSTER) {
            let family = Values::default();
            registry.register(*name, *help, family.clone());
            families.insert(*name, family);
        }
        let mut counts = BTreeMap::new();
        for (name, help) in COUNTED {
            let family = Counts::default();
            registry.register(*name, *help, family.clone());
            counts.insert(*name, family);
        }
        Self {
            registry,
            families,
            counts,
        }
    }

    fn set(&self, name: &str, labels: &[(&str, &str)], value: impl Into<f64>) {
        let Some(family) = self.families.get(name) else {
            debug_assert!(false, "{name} is not declared");
            return;
        };
        family.get_or_create(&owned(labels)).set(value.into());
    }

    /// Once for each answer, which counts nothing itself.
    fn count(&self, name: &str, labels: &[(&str, &str)], so_far: u64) {
        let Some(family) = self.counts.get(name) else {
            debug_assert!(false, "{name} is not declared");
            return;
        };
        family.get_or_create(&owned(labels)).inc_by(so_far);
    }

    fn of_node(&self, service: &Service, glance: &Glance) {
        let history = service.history_state.borrow().clone();
        let version = env!("CARGO_PKG_VERSION");
        self.set("build", &[("version", version)], 1.0);
        self.set("term", &[], large(glance.term.0));
        self.set("log_applied", &[], large(glance.applied));
        self.set("coordinator", &[], f64::from(glance.is_coordinator));
        self.set(
            "coordinator_known",
            &[],
            f64::from(glance.coordinator.is_some()),
        );
        self.set("history_reachable", &[], f64::from(history.reachable));
        self.set("history_waiting", &[], large(history.waiting));
        self.count("wrong_tokens", &[], service.strangers.count());
        let strange = service.strange_datagrams.load(Ordering::Relaxed);
        self.count("strange_datagrams", &[], strange);
        let left = tls::left(&service.certificate_file).ok().flatten();
        let left = left.map_or(-1.0, |left| left.as_secs_f64());
        self.set("certificate_left_seconds", &[], left);
        for (id, workload) in &glance.workloads {
            let of = ("workload", id.as_str());
            let role = match workload.role {
                Some(Role::Primary) => "primary",
                Some(Role::Standby) => "standby",
                None => "none",
            };
            self.set("workload_epoch", &[of], large(workload.epoch.0));
            self.set("workload_role", &[of, ("role", role)], 1.0);
            self.set("workload_sync_set", &[of], large(workload.sync_set as u64));
        }
    }

    fn of_cluster(&self, status: &Status) {
        status.workloads.iter().for_each(|w| self.of_workload(w));
        status.nodes.iter().for_each(|node| self.of_a_node(node));
        let q = &status.quorum;
        for (kind, value) in [("heard", q.heard), ("needed", q.needed), ("total", q.total)] {
            self.set("quorum_votes", &[("kind", kind)], f64::from(value));
        }
        self.set("needs_you", &[], large(status.needs_you.len() as u64));
        let unknown = status.findings.iter().filter(|f| f.acknowledged.is_none());
        self.set("findings", &[], large(unknown.count() as u64));
    }

    fn of_workload(&self, w: &WorkloadView) {
        let of = ("workload", w.workload.as_str());
        self.set(
            "workload_condition",
            &[of, ("condition", w.condition.word())],
            1,
        );
        self.set(
            "workload_writes",
            &[of, ("state", &w.writes.state.to_string())],
            1,
        );
        self.set("workload_mode", &[of, ("mode", w.mode.word())], 1.0);
        if let Some(left) = w.lease_left_ms {
            self.set("lease_left_seconds", &[of], large(left) / 1e3);
        }
        for r in &w.replicas {
            let of = [of, ("node", r.node.as_str())];
            if let Some(bytes) = r.lag {
                self.set("replica_lag_bytes", &of, large(bytes));
            }
            self.set("replica_has_every_write", &of, f64::from(r.in_sync_set));
            for standby in r.server.iter().flat_map(|server| &server.standbys) {
                if let Some(delay) = standby.delay_ms {
                    let of = [of[0], ("node", standby.node.as_str())];
                    self.set("replica_lag_seconds", &of, large(delay) / 1e3);
                }
            }
        }
        for gate in &w.gates {
            let of = [of, ("node", gate.node.as_str())];
            if let Some(seen) = &gate.seen {
                self.set("gate_connections", &of, large(seen.connections));
                self.set("gate_waiting", &of, large(seen.waiting));
                self.count("gate_refused", &of, seen.refused);
            }
        }
    }

    fn of_a_node(&self, node: &NodeView) {
        let of = ("node", node.node.as_str());
        let up = node.state == karst_core::view::NodeState::Up;
        self.set("node_up", &[of], f64::from(up));
        self.set("node_silence_seconds", &[of], large(node.silent_ms) / 1e3);
        self.set("node_fenced", &[of], f64::from(node.fenced.is_some()));
        if let Some(power) = &node.power {
            let state = match power {
                PowerView::On => "on",
                PowerView::Off => "off",
                PowerView::NotRead => "not-read",
                PowerView::Unknown { .. } => "unknown",
            };
            self.set("node_power", &[of, ("state", state)], 1.0);
        }
        let Some(about) = &node.about else { return };
        self.set("node_version", &[of, ("version", &about.version)], 1.0);
        self.set("node_guarded", &[of], f64::from(about.unguarded.is_none()));
        self.set("node_watchdog", &[of], f64::from(about.watchdog.is_some()));
        for room in &about.rooms {
            let of = [of, ("of", room.of.as_str())];
            self.set("room_free_bytes", &of, large(room.free));
            self.set("room_total_bytes", &of, large(room.total));
        }
        if let Some(end) = about.certificate_until {
            self.set("certificate_ends_seconds", &[of], large(end));
        }
    }
}

fn owned(labels: &[(&str, &str)]) -> Labels {
    let labels = labels.iter().map(|(k, v)| ((*k).into(), (*v).into()));
    labels.collect()
}

/// Exact up to 2^53, which no count here comes near.
fn large(count: u64) -> f64 {
    count as f64
}

/// For Prometheus and whatever reads its text.
#[utoipa::path(get, path = "/metrics", security(()), responses((status = 200, body = String, content_type = "application/openmetrics-text")))]
pub async fn metrics(service: web::Data<Service>) -> Result<HttpResponse, Refusal> {
    let glance = service.heart.glance.borrow().clone();
    let mut board = Board::new();
    board.of_node(&service, &glance);
    // Others may ask often: they get what was asked for a moment ago.
    if glance.is_coordinator
        && let Ok(now) = status_now(&service).await
    {
        board.of_cluster(&now.reply.status);
    }
    service.measured.register(&mut board.registry);
    let mut text = String::new();
    encode(&mut text, &board.registry).map_err(|e| Refusal::unavailable(e.to_string()))?;
    // A family writes empty braces where it has no label: right, and unusual.
    let text = text.replace("{} ", " ");
    Ok(HttpResponse::Ok()
        .content_type("application/openmetrics-text; version=1.0.0; charset=utf-8")
        .body(text))
}
