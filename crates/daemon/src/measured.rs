//! How many operations ended since this node's start, and how long their phases took, from the
//! lines of its own record: the same on every node that was there.

use crate::lock::lock;
use karst_core::OperationId;
use karst_core::event::{Event, FactKind};
use karst_core::operation::Phase;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::registry::{Registry, Unit};
use std::collections::BTreeMap;
use std::sync::Mutex;

type Labels = Vec<(String, String)>;

pub struct Measured {
    ended: Family<Labels, Counter>,
    phases: Family<Labels, Histogram>,
    /// The kinds of those that run.
    running: Mutex<BTreeMap<OperationId, String>>,
}

/// 5 ms to 40 s, each twice the one before.
fn durations() -> Histogram {
    Histogram::new(exponential_buckets(0.005, 2.0, 14))
}

impl Default for Measured {
    fn default() -> Self {
        Self {
            ended: Family::default(),
            phases: Family::new_with_constructor(durations),
            running: Mutex::default(),
        }
    }
}

impl Measured {
    /// Counts what ends. One whose beginning was not seen here is of an earlier run.
    pub fn note(&self, event: &Event) {
        let Some(operation) = event.operation else {
            return;
        };
        let result = match event.kind {
            FactKind::OperationBegan => {
                let kind = event.data.get("kind").cloned().unwrap_or_default();
                lock(&self.running).insert(operation, kind);
                return;
            }
            FactKind::OperationDone => "done",
            FactKind::OperationUndone => "undone",
            FactKind::OperationDiverted => "diverted",
            _ => return,
        };
        let Some(kind) = lock(&self.running).remove(&operation) else {
            return;
        };
        let workload = event.workload.as_ref().map(ToString::to_string);
        let of = vec![
            ("workload".to_string(), workload.unwrap_or_default()),
            ("kind".into(), kind.replace(' ', "-")),
        ];
        let counted = [of.clone(), vec![("result".into(), result.into())]].concat();
        self.ended.get_or_create(&counted).inc();
        for phase in Phase::ALL {
            let took = event.data.get(&phase.key());
            if let Some(us) = took.and_then(|us| us.parse::<f64>().ok()) {
                let name = phase.name().replace(' ', "-");
                let of = [of.clone(), vec![("phase".into(), name)]].concat();
                self.phases.get_or_create(&of).observe(us / 1e6);
            }
        }
    }

    pub fn register(&self, registry: &mut Registry) {
        registry.register(
            "operations",
            "That ended since this node's start; each node counts them all",
            self.ended.clone(),
        );
        registry.register_with_unit(
            "phase",
            "How long the phases of operations took",
            Unit::Seconds,
            self.phases.clone(),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_core::event::Level;
    use prometheus_client::encoding::text::encode;

    #[test]
    fn what_began_before_this_run_is_not_counted() {
        let measured = Measured::default();
        let of = |kind, operation| {
            Event::new(Level::Notice, kind, "x").within(Some(OperationId(operation)))
        };
        measured.note(&of(FactKind::OperationDone, 6).with("detect_us", 9_000));
        measured.note(&of(FactKind::OperationBegan, 7).with("kind", "forced failover"));
        measured.note(&of(FactKind::OperationDone, 7).with("first_write_us", 20_000));
        let mut registry = Registry::default();
        measured.register(&mut registry);
        let mut text = String::new();
        encode(&mut text, &registry).unwrap();
        assert!(
            text.contains("kind=\"forced-failover\",result=\"done\"} 1"),
            "{text}"
        );
        assert!(
            text.contains("phase=\"first-write\"") && !text.contains("detect"),
            "{text}"
        );
    }
}
