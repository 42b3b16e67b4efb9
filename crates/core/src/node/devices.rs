//! What a coordinator remembers of power devices.

use crate::ids::{Index, NodeId};
use crate::power::{PowerOrder, PowerSeen};
use crate::spec::{Finding, FindingKind, Severity, Spec};
use crate::time::Time;
use crate::view::PowerView;
use std::collections::BTreeMap;

/// The devices as this node knows them; nothing that a next coordinator could not find out.
#[derive(Debug, Default)]
pub(super) struct Devices {
    /// Fences whose power was read as off.
    pub off: BTreeMap<NodeId, Index>,
    /// Entries that asked for power which was then read as on.
    pub on: BTreeMap<NodeId, Index>,
    pub devices: BTreeMap<NodeId, Device>,
}

#[derive(Debug, Default)]
pub(super) struct Device {
    pub asked: Option<PowerOrder>,
    /// The last cut that was ordered.
    pub ordered: Option<Index>,
    /// The last entry for which it was to be turned on at once.
    pub tried_on: Option<Index>,
    /// Since when it is to be turned on.
    pub wanted_on: Option<(Index, Time)>,
    pub due: Time,
    pub seen: Option<Result<PowerSeen, String>>,
    pub seen_at: Time,
    /// The last failure that was recorded, so that a retry says something only when it is news.
    pub said: Option<String>,
}

impl Devices {
    /// What the device of a node said last: `on`, `off`, or why it cannot be said.
    pub fn power_of(&self, spec: &Spec, node: &NodeId) -> Option<PowerView> {
        spec.nodes.get(node)?.power.as_ref()?;
        let seen = self.devices.get(node).and_then(|d| d.seen.as_ref());
        Some(match seen {
            Some(Ok(seen)) if seen.on => PowerView::On,
            Some(Ok(_)) => PowerView::Off,
            Some(Err(why)) => PowerView::Unknown { why: why.clone() },
            None => PowerView::NotRead,
        })
    }

    /// Hosts whose power could not be confirmed off if they were lost now.
    pub fn findings(&self) -> Vec<Finding> {
        let failing = |(node, device): (&NodeId, &Device)| {
            let why = device.seen.as_ref()?.as_ref().err()?;
            Some(Finding {
                kind: FindingKind::PowerDeviceFails,
                severity: Severity::Warning,
                path: vec!["node".into(), node.to_string(), "power".into()],
                what: format!(
                    "the power device of {node} fails ({why}): if {node} is lost, its lease is waited for"
                ),
                remedy: "mend the device or its settings; it is asked again every 15 s".into(),
            })
        };
        let off = |(node, device): (&NodeId, &Device)| {
            let off = matches!(&device.seen, Some(Ok(seen)) if !seen.on);
            off.then(|| Finding {
            kind: FindingKind::PowerIsOff,
                severity: Severity::Warning,
                path: vec!["node".into(), node.to_string(), "power".into()],
                what: format!(
                    "the power of {node} is off: it holds nothing, and counts for nothing that may be lost next"
                ),
                remedy: format!("`karst node power {node} on` turns it on"),
            })
        };
        self.devices
            .iter()
            .filter_map(|d| failing(d).or_else(|| off(d)))
            .collect()
    }
}
