//! Power devices, as the coordinator uses them: looked at now and then, and told to cut under a
//! committed entry (C7).

use super::devices::{Device, Devices};
use super::{Effect, Node};
use crate::fact::Fact;
use crate::ids::{Index, NodeId};
use crate::planted::Planted;
use crate::power::{PowerOrder, PowerSeen};
use crate::spec::Severity;
use crate::steward::fencing;
use crate::time::Time;
use crate::view::PowerView;
use std::time::Duration;

/// How often a coordinator reads each device's state, so that one that would fail is known before
/// the night it is needed.
const LOOK_EVERY: Duration = Duration::from_secs(15);
/// Between a cut that failed and the next try.
const TRY_AGAIN: Duration = Duration::from_millis(100);
/// Between a look that failed and the next; and before the first, while hosts still say which
/// hardware they are.
const LOOK_AGAIN: Duration = Duration::from_secs(2);
/// A host that held what nobody has taken over yet is turned on all the same after so long: it may
/// be the only one that can.
const WAITS_FOR_OTHERS: Duration = Duration::from_secs(10);

impl Node {
    /// Fences that this node may use a power device for right now: committed, its leadership
    /// acknowledged (A3).
    pub fn cutting(&self) -> Option<(Time, Vec<(NodeId, Index)>)> {
        let until = self
            .consensus
            .leadership_until(self.now)
            .filter(|until| *until > self.now)?;
        self.consensus
            .is_established()
            .then(|| (until, fencing::to_cut(&self.scene())))
    }

    pub(super) fn step_power(&mut self) {
        if !self.is_coordinator() {
            self.devices = Devices::default();
            return;
        }
        let Some((_, cuts)) = self.cutting() else {
            return;
        };
        let now = self.now;
        let scene = self.scene();
        let seen_off = |d: &Device| matches!(&d.seen, Some(Ok(seen)) if !seen.on);
        let off = self
            .devices
            .devices
            .iter()
            .filter(|(_, d)| seen_off(d))
            .map(|(n, _)| n);
        let back: Vec<NodeId> = off.filter(|n| scene.is_up(n)).cloned().collect();
        let turn_on = fencing::to_turn_on(&scene);
        let mut orders = Vec::new();
        let powered = self.spec.nodes.iter().filter(|(_, n)| n.power.is_some());
        for node in powered.map(|(id, _)| id) {
            let fresh = || Device {
                due: now + LOOK_AGAIN,
                ..Device::default()
            };
            let device = self
                .devices
                .devices
                .entry(node.clone())
                .or_insert_with(fresh);
            let fence = cuts
                .iter()
                .find(|(n, _)| n == node)
                .map(|(_, fence)| *fence);
            let wanted = turn_on.iter().find(|(n, ..)| n == node);
            let since = device
                .wanted_on
                .filter(|(asked, _)| wanted.is_some_and(|(_, a, _)| a == asked));
            device.wanted_on = wanted.map(|(_, asked, _)| since.unwrap_or((*asked, now)));
            let time = device
                .wanted_on
                .map_or(Duration::ZERO, |(_, since)| now.since(since));
            let on = wanted
                .filter(|(.., moved)| *moved || time >= WAITS_FOR_OTHERS)
                .map(|(_, asked, _)| *asked);
            let order = match (fence, on) {
                (Some(fence), _) => PowerOrder::Off { fence },
                (None, Some(asked)) => PowerOrder::On { asked },
                (None, None) => PowerOrder::Look,
            };
            if on.is_some() && device.tried_on != on {
                (device.tried_on, device.due) = (on, device.due.min(now));
            }
            // What was read as off and is heard again is not off any more.
            if back.contains(node) {
                device.due = device.due.min(device.seen_at + LOOK_AGAIN);
            }
            // A new cut waits neither for a look that is under way nor for the next look's turn.
            let new_cut = fence.is_some() && device.ordered != fence;
            if new_cut || (device.asked.is_none() && device.due <= now) {
                (device.asked, device.ordered) = (Some(order), fence);
                orders.push((node.clone(), order));
            }
        }
        for (node, order) in orders {
            if let (PowerOrder::Off { fence }, Some(Planted::AssumeOff)) = (order, self.planted) {
                self.devices.off.insert(node.clone(), fence);
            }
            let system = self.state.nodes.get(&node).and_then(|n| n.system.clone());
            self.outbox.emit(Effect::Power {
                node,
                order,
                system,
            });
        }
    }

    /// When a device has to be asked again.
    pub(super) fn power_due(&self) -> Time {
        let idle = self.devices.devices.values().filter(|d| d.asked.is_none());
        // One that is due waits while this leader's leadership is not acknowledged: no reason to
        // turn round and round.
        let due = idle.map(|d| d.due).min().unwrap_or(Time(u64::MAX));
        due.max(self.now + self.spec.timings.heartbeat / 4)
    }

    pub(super) fn on_powered(
        &mut self,
        node: &NodeId,
        order: PowerOrder,
        result: Result<PowerSeen, String>,
    ) {
        let now = self.now;
        let Some(device) = self.devices.devices.get_mut(node) else {
            return;
        };
        if device.asked == Some(order) {
            device.asked = None;
        }
        device.due = now
            + match (order, &result) {
                (PowerOrder::Off { .. }, _) => TRY_AGAIN,
                (PowerOrder::Look, Ok(_)) => LOOK_EVERY,
                (PowerOrder::Look, Err(_)) | (PowerOrder::On { .. }, _) => LOOK_AGAIN,
            };
        let fenced = self.state.fenced(node).map(|f| f.id);
        let failed = match (&result, order) {
            (Ok(seen), PowerOrder::Off { fence }) if !seen.on => {
                // Read after that entry was committed, which this node knew before it asked.
                if fenced == Some(fence) {
                    self.devices.off.insert(node.clone(), fence);
                }
                None
            }
            (Ok(_), PowerOrder::Off { .. }) => {
                Some("it says that the power is still on".to_string())
            }
            (Ok(seen), PowerOrder::On { asked }) if seen.on => {
                self.devices.on.insert(node.clone(), asked);
                None
            }
            (Ok(_), PowerOrder::On { .. }) => {
                Some("it says that the power is still off".to_string())
            }
            (Ok(_), PowerOrder::Look) => None,
            (Err(why), _) => Some(why.clone()),
        };
        let news = failed.is_some() && failed != device.said;
        device.said.clone_from(&failed);
        (device.seen, device.seen_at) = (Some(result), now);
        if let (Some(why), true) = (failed, news) {
            self.record(Fact::PowerFails {
                node: node.clone(),
                order,
                why,
            });
        }
    }

    /// What the device of a node said last: `on`, `off`, or why it cannot be said.
    pub(crate) fn power_of(&self, node: &NodeId) -> Option<PowerView> {
        self.spec.nodes.get(node)?.power.as_ref()?;
        let seen = self.devices.devices.get(node).and_then(|d| d.seen.as_ref());
        Some(match seen {
            Some(Ok(seen)) if seen.on => PowerView::On,
            Some(Ok(_)) => PowerView::Off,
            Some(Err(why)) => PowerView::Unknown { why: why.clone() },
            None => PowerView::NotRead,
        })
    }

    /// Hosts whose power could not be confirmed off if they were lost now.
    pub(crate) fn power_findings(&self) -> Vec<crate::spec::Finding> {
        let failing = |(node, device): (&NodeId, &Device)| {
            let why = device.seen.as_ref()?.as_ref().err()?;
            Some(crate::spec::Finding {
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
            off.then(|| crate::spec::Finding {
                severity: Severity::Warning,
                path: vec!["node".into(), node.to_string(), "power".into()],
                what: format!(
                    "the power of {node} is off: it holds nothing, and counts for nothing that may be lost next"
                ),
                remedy: format!("`karst node power {node} on` turns it on"),
            })
        };
        self.devices
            .devices
            .iter()
            .filter_map(|d| failing(d).or_else(|| off(d)))
            .collect()
    }
}
