//! `/metrics` in OpenMetrics text.

use super::api::status_now;
use super::problem::{Refusal, resource};
use super::service::Service;
use crate::heart::Glance;
use crate::tls;
use actix_web::{HttpResponse, web};
use karst_core::replica::Role;
use karst_core::view::Status;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};
use std::sync::atomic::Ordering;

type PerWorkload = Family<Vec<(String, String)>, Gauge>;

pub fn routes(config: &mut web::ServiceConfig) {
    config.service(resource("/metrics", "GET").route(web::get().to(metrics)));
}

/// For Prometheus and whatever reads its text.
#[utoipa::path(get, path = "/metrics", security(()), responses((status = 200, body = String, content_type = "application/openmetrics-text")))]
pub async fn metrics(service: web::Data<Service>) -> Result<HttpResponse, Refusal> {
    let glance = service.heart.glance.borrow().clone();
    let history = service.history_state.borrow().clone();
    let mut registry = Registry::with_prefix("karst");
    let mut gauge = |name: &str, help: &str, value: i64| {
        let gauge = Gauge::<i64>::default();
        gauge.set(value);
        registry.register(name, help, gauge);
    };
    gauge(
        "term",
        "The newest term this node knows",
        glance.term.0 as i64,
    );
    gauge(
        "log_applied",
        "The index of the last applied log entry",
        glance.applied as i64,
    );
    gauge(
        "coordinator",
        "1 on the coordinator",
        i64::from(glance.is_coordinator),
    );
    gauge(
        "coordinator_known",
        "1 where a coordinator is heard",
        i64::from(glance.coordinator.is_some()),
    );
    gauge(
        "history_reachable",
        "1 where the history store answers",
        i64::from(history.reachable),
    );
    gauge(
        "history_waiting",
        "Events that the history store has not confirmed",
        history.waiting as i64,
    );
    gauge(
        "wrong_tokens",
        "Wrong tokens that were shown since the start",
        service.strangers.count() as i64,
    );
    let strange = service.strange_datagrams.load(Ordering::Relaxed);
    gauge(
        "strange_datagrams",
        "Datagrams from addresses outside the spec, dropped unread",
        strange as i64,
    );
    gauge(
        "certificate_left_seconds",
        "Until this node's certificate ends; -1 where that cannot be read",
        certificate_left(&service),
    );
    of_workloads(&mut registry, &glance);
    of_build(&mut registry);
    // Others may ask often: they get what was asked for a moment ago.
    let now = if glance.is_coordinator {
        status_now(&service).await.ok()
    } else {
        None
    };
    of_cluster(&mut registry, now.as_ref().map(|now| &now.reply.status));
    let mut text = String::new();
    encode(&mut text, &registry).map_err(|e| Refusal::unavailable(e.to_string()))?;
    Ok(HttpResponse::Ok()
        .content_type("application/openmetrics-text; version=1.0.0; charset=utf-8")
        .body(text))
}

fn certificate_left(service: &Service) -> i64 {
    let left = tls::left(&service.certificate_file).ok().flatten();
    left.map_or(-1, |left| left.as_secs() as i64)
}

fn of_build(registry: &mut Registry) {
    let build = PerWorkload::default();
    let version = ("version".to_string(), env!("CARGO_PKG_VERSION").to_string());
    build.get_or_create(&vec![version]).set(1);
    registry.register("build", "1, with the version of karstd as a label", build);
}

/// What the coordinator alone knows: on every other node these have no samples.
fn of_cluster(registry: &mut Registry, status: Option<&Status>) {
    let new = PerWorkload::default;
    let (condition, writes, lag, every_write) = (new(), new(), new(), new());
    let (connections, waiting, votes, needs, findings) = (new(), new(), new(), new(), new());
    let silence = new();
    if let Some(status) = status {
        let count = |family: &PerWorkload, labels: &[(&str, &str)], value: i64| {
            let labels = labels.iter().map(|(k, v)| (k.to_string(), v.to_string()));
            family.get_or_create(&labels.collect()).set(value);
        };
        for w in &status.workloads {
            let id = w.workload.as_str();
            count(
                &condition,
                &[("workload", id), ("condition", w.condition.word())],
                1,
            );
            count(
                &writes,
                &[("workload", id), ("state", &w.writes.state.to_string())],
                1,
            );
            for r in &w.replicas {
                let of = [("workload", id), ("node", r.node.as_str())];
                if let Some(bytes) = r.lag {
                    count(&lag, &of, bytes as i64);
                }
                count(&every_write, &of, i64::from(r.in_sync_set));
            }
            for gate in &w.gates {
                let of = [("workload", id), ("node", gate.node.as_str())];
                if let Some(seen) = &gate.seen {
                    count(&connections, &of, seen.connections as i64);
                    count(&waiting, &of, seen.waiting as i64);
                }
            }
        }
        for node in &status.nodes {
            let of = [("node", node.node.as_str())];
            count(&silence, &of, node.silent_ms as i64);
        }
        let q = &status.quorum;
        for (kind, value) in [("heard", q.heard), ("needed", q.needed), ("total", q.total)] {
            count(&votes, &[("kind", kind)], i64::from(value));
        }
        count(&needs, &[], status.needs_you.len() as i64);
        count(&findings, &[], status.findings.len() as i64);
    }
    for (name, help, family) in [
        (
            "workload_condition",
            "1 at the condition that a workload is in",
            condition,
        ),
        (
            "workload_writes",
            "1 at the state of a workload's writes",
            writes,
        ),
        (
            "replica_lag_bytes",
            "Behind the primary's flushed position",
            lag,
        ),
        (
            "replica_has_every_write",
            "1 where a standby has every acknowledged write",
            every_write,
        ),
        ("gate_connections", "Of clients now", connections),
        (
            "gate_waiting",
            "Of these, how many a gate lets wait",
            waiting,
        ),
        (
            "quorum_votes",
            "Votes that are heard, needed and there are",
            votes,
        ),
        (
            "node_silence_milliseconds",
            "Since the last heartbeat of a node",
            silence,
        ),
        ("needs_you", "What waits for a person", needs),
        ("findings", "Findings that stand", findings),
    ] {
        registry.register(name, help, family);
    }
}

fn of_workloads(registry: &mut Registry, glance: &Glance) {
    let (epoch, role, sync) = (
        PerWorkload::default(),
        PerWorkload::default(),
        PerWorkload::default(),
    );
    for (id, workload) in &glance.workloads {
        let labels = vec![("workload".to_string(), id.to_string())];
        epoch.get_or_create(&labels).set(workload.epoch.0 as i64);
        sync.get_or_create(&labels).set(workload.sync_set as i64);
        role.get_or_create(&labels).set(match workload.role {
            Some(Role::Primary) => 2,
            Some(Role::Standby) => 1,
            None => 0,
        });
    }
    registry.register("workload_epoch", "The newest epoch", epoch);
    registry.register(
        "workload_role",
        "This node's server: 2 primary under a lease, 1 standby, 0 neither",
        role,
    );
    registry.register_with_unit(
        "workload_sync_set",
        "Standbys that have every write",
        Unit::Other("nodes".into()),
        sync,
    );
}
