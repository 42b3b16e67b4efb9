//! What somebody asks of the ferry company's cluster.

use karst_core::request::{Plea, Request};
use karst_core::{NodeId, WorkloadId};
use karst_sim::Fault;

pub fn n(name: &str) -> NodeId {
    name.into()
}

pub fn sailings() -> WorkloadId {
    "sailings".into()
}

/// Without a look at its plan.
pub fn wish(plea: Plea) -> Fault {
    let (of, by) = (n("polje"), "marlin".into());
    let request = Request::Intend {
        plea,
        by,
        at: 0,
        why: None,
        seen: None,
        plan_only: false,
    };
    Fault::Ask { of, request }
}

/// A safety point, on the standby that is missed least.
pub fn point() -> Fault {
    wish(Plea::SafetyPoint {
        workload: sailings(),
        name: "before-fares".into(),
        node: Some(n("uvala")),
        bare: false,
        until: None,
    })
}
