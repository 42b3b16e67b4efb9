//! Power devices, as the coordinator uses them: looked at now and then, and told to cut under a
//! committed entry (C7).

use super::devices::{Device, Devices};
use super::{Effect, Node};
use crate::fact::Fact;
use crate::ids::{Index, NodeId};
use crate::planted::Planted;
use crate::power::{PowerOrder, PowerSeen};
use crate::steward::{Scene, fencing};
use crate::time::Time;
use std::collections::BTreeMap;
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
        self.consensus.is_established().then_some(())?;
        Some((until, fencing::to_cut(&self.scene()?)))
    }

    pub(super) fn step_power(&mut self) {
        let Some((_, cuts)) = self.cutting() else {
            return;
        };
        let Some(mut lead) = self.lead.take() else {
            return;
        };
        let mut devices = std::mem::take(&mut lead.devices.devices);
        let orders = self.power_orders(&self.scene_of(&lead), &cuts, &mut devices);
        for (node, order) in orders {
            if let (PowerOrder::Off { fence }, Some(Planted::AssumeOff)) = (order, self.planted) {
                lead.devices.off.insert(node.clone(), fence);
            }
            let system = self.state.nodes.get(&node).and_then(|n| n.system.clone());
            self.outbox.emit(Effect::Power {
                node,
                order,
                system,
            });
        }
        lead.devices.devices = devices;
        self.lead = Some(lead);
    }

    fn power_orders(
        &self,
        scene: &Scene,
        cuts: &[(NodeId, Index)],
        devices: &mut BTreeMap<NodeId, Device>,
    ) -> Vec<(NodeId, PowerOrder)> {
        let now = self.now;
        let seen_off = |d: &Device| matches!(&d.seen, Some(Ok(seen)) if !seen.on);
        let off = devices.iter().filter(|(_, d)| seen_off(d)).map(|(n, _)| n);
        let back: Vec<NodeId> = off.filter(|n| scene.is_up(n)).cloned().collect();
        let turn_on = fencing::to_turn_on(scene);
        let mut orders = Vec::new();
        let powered = self.spec.nodes.iter().filter(|(_, n)| n.power.is_some());
        for node in powered.map(|(id, _)| id) {
            let fresh = || Device {
                due: now + LOOK_AGAIN,
                ..Device::default()
            };
            let device = devices.entry(node.clone()).or_insert_with(fresh);
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
        orders
    }

    /// When a device has to be asked again.
    pub(super) fn power_due(&self, devices: &Devices) -> Time {
        let idle = devices.devices.values().filter(|d| d.asked.is_none());
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
        let Some(devices) = self.lead.as_mut().map(|lead| &mut lead.devices) else {
            return;
        };
        let Some(device) = devices.devices.get_mut(node) else {
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
                    devices.off.insert(node.clone(), fence);
                }
                None
            }
            (Ok(_), PowerOrder::Off { .. }) => {
                Some("it says that the power is still on".to_string())
            }
            (Ok(seen), PowerOrder::On { asked }) if seen.on => {
                devices.on.insert(node.clone(), asked);
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
}
