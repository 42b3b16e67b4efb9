//! Ways between hosts that are broken, and nodes that rest and must stay on: what nobody sees who looks
//! at each node by itself.

use super::super::account::Account;
use crate::ids::{NodeId, OperationId, WorkloadId};
use crate::intent::Maintenance;
use crate::spec::{Finding, FindingKind, Severity};
use crate::view::{NodeState, NodeView};

impl Account<'_> {
    /// Two nodes of which one does not hear the other, though both are heard by the coordinator.
    pub(in crate::node) fn cut_links(&self, nodes: &[NodeView]) -> Vec<(NodeId, NodeId, bool)> {
        let up = |node: &NodeId| {
            nodes
                .iter()
                .find(|n| n.node == *node && n.state == NodeState::Up)
        };
        let deaf = |one: &NodeView, to: &NodeId| one.does_not_hear.contains(to);
        let mut links = Vec::new();
        for one in nodes
            .iter()
            .filter(|n| self.leads && n.state == NodeState::Up)
        {
            for other in one.does_not_hear.iter().filter_map(up) {
                let both = deaf(other, &one.node);
                // Each pair once.
                if !both || one.node < other.node {
                    links.push((one.node.clone(), other.node.clone(), both));
                }
            }
        }
        links
    }

    pub(super) fn of_links(&self) -> Vec<Finding> {
        let nodes = self.scene.spec.nodes.keys();
        let nodes: Vec<NodeView> = nodes.map(|node| self.node_view(node)).collect();
        let finding = |(one, other, both): (NodeId, NodeId, bool)| {
            let what = if both {
                format!("{one} and {other} do not hear each other; others hear both")
            } else {
                format!("{one} does not hear {other}; {other} hears {one}")
            };
            Finding {
                kind: FindingKind::LinkCut,
                severity: Severity::Warning,
                path: vec!["node".into(), one.to_string(), other.to_string()],
                what: format!(
                    "{what}: leases go round by another node, and what these two send each other does not arrive"
                ),
                remedy: format!("mend the network between {one} and {other}"),
            }
        };
        self.cut_links(&nodes).into_iter().map(finding).collect()
    }

    /// Gates that do not reach a server which they are to forward to.
    pub(super) fn cut_off_gates(&self) -> Vec<Finding> {
        let scene = &self.scene;
        let mut found = Vec::new();
        for (id, spec) in &scene.spec.workloads {
            let heard = |n: &NodeId| scene.reports.get(n).filter(|_| scene.reports_in(n));
            for node in spec.gates.keys() {
                let gate = heard(node).and_then(|h| h.report.parts.gates.get(id));
                let holder = scene.state.workload(id).holder();
                if let (Some(gate), Some(holder)) = (gate.filter(|g| g.unreachable), holder) {
                    let clients = match gate.forwarding {
                        Some(_) => "its clients go round by another gate",
                        None => "its clients wait there",
                    };
                    found.push(self.cut_off(id, node, holder, clients));
                }
            }
            for node in spec.reads.iter().flat_map(|reads| reads.gates.keys()) {
                let gate = heard(node).and_then(|h| h.report.parts.read_gates.get(id));
                for server in gate.into_iter().flat_map(|gate| &gate.unreachable) {
                    found.push(self.cut_off(id, node, server, "its readers go elsewhere"));
                }
            }
        }
        found
    }

    fn cut_off(&self, id: &WorkloadId, node: &NodeId, server: &NodeId, clients: &str) -> Finding {
        Finding {
            kind: FindingKind::GateCutOff,
            severity: Severity::Warning,
            path: vec![
                "workload".into(),
                id.to_string(),
                "gate".into(),
                node.to_string(),
            ],
            what: format!("the gate of {id} on {node} does not reach {server}: {clients}"),
            remedy: format!("mend the network between {node} and {server}"),
        }
    }

    /// Nodes that were said to be ready to be switched off, and must stay on now (G5).
    pub(super) fn unsafe_rests(&self) -> Vec<Finding> {
        let finding = |(_, rest): (OperationId, &Maintenance)| {
            let why = self.scene.obstacle_to_switching_off(&rest.nodes)?;
            let names: Vec<&str> = rest.nodes.iter().map(NodeId::as_str).collect();
            let (names, first) = (names.join(", "), rest.nodes.first()?);
            Some(Finding {
                kind: FindingKind::RestNotSafe,
                severity: Severity::Warning,
                path: vec!["node".into(), first.to_string(), "maintenance".into()],
                what: format!(
                    "{names} must stay on, or come back: without all that is in maintenance {why}, and nothing could be decided"
                ),
                remedy: format!(
                    "bring the voters back that are not heard, or end the maintenance: karst node maintenance {first} --end"
                ),
            })
        };
        let rests = self.scene.state.charter.maintenances();
        rests.filter(|_| self.leads).filter_map(finding).collect()
    }
}
