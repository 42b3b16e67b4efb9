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
    wish_at("polje", plea, false)
}

pub fn wish_at(of: &str, plea: Plea, plan_only: bool) -> Fault {
    let request = Request::Intend {
        plea,
        by: "marlin".into(),
        at: 0,
        why: None,
        seen: None,
        plan_only,
    };
    Fault::Ask { of: n(of), request }
}

/// A rest that may cut off the clients of `sailings`, or may not.
pub fn maintenance(nodes: &[&str], cut_off: bool) -> Plea {
    Plea::Maintenance {
        nodes: nodes.iter().map(|node| n(node)).collect(),
        back: false,
        bare: Default::default(),
        cut_off: cut_off.then(sailings).into_iter().collect(),
        until: None,
    }
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
