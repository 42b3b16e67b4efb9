//! `/metrics` in OpenMetrics text.

use super::problem::{Refusal, resource};
use super::service::Service;
use crate::heart::Glance;
use actix_web::{HttpResponse, web};
use karst_core::replica::Role;
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
    of_workloads(&mut registry, &glance);
    let mut text = String::new();
    encode(&mut text, &registry).map_err(|e| Refusal::unavailable(e.to_string()))?;
    Ok(HttpResponse::Ok()
        .content_type("application/openmetrics-text; version=1.0.0; charset=utf-8")
        .body(text))
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
