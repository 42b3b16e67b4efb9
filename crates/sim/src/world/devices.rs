//! Power devices: on a network of their own, slow, and able to fail. Whoever is cut gets its power back after a while, as
//! if somebody had seen to it.

use super::{Happening, MS, World, nanos};
use crate::fault::Fault;
use karst_core::power::{PowerOrder, PowerSeen};
use karst_core::{Input, NodeId};
use rand::Rng;

/// A request on its way, and its answer on the way back.
pub(super) enum Step {
    /// The request arrives at the device.
    Arrives,
    /// The state is read.
    Read,
}

impl World {
    /// Half of what a slow device takes: the order's way, and the reading's.
    fn half_a_device(&self) -> Option<u64> {
        self.slow.device.map(|time| nanos(time / 2))
    }

    pub(super) fn ask_device(&mut self, by: &NodeId, run: u64, node: NodeId, order: PowerOrder) {
        let delay = self.half_a_device().unwrap_or_else(|| self.chance.random_range(MS..30 * MS));
        self.after(delay, Happening::Device(by.clone(), run, node, order, Step::Arrives));
    }

    pub(super) fn device(
        &mut self, by: &NodeId, run: u64, node: NodeId, order: PowerOrder, step: Step,
    ) -> Result<(), (&'static str, String)> {
        let dead = self.dead_devices > 0;
        if matches!(step, Step::Arrives) && !dead && !self.hosts[by].is_paused {
            // Checked again just before the request (C7).
            let asker = self.hosts[by].node.as_ref().filter(|_| self.hosts[by].run == run);
            let permits =
                |fence| asker.and_then(|n| n.cutting()).is_some_and(|(_, c)| c.contains(&(node.clone(), fence)));
            if let PowerOrder::Off { fence } = order
                && permits(fence)
                && self.hosts[&node].has_power
            {
                let down_ms = self.chance.random_range(500..4_000);
                self.begin_fault(Fault::PowerCut { node: node.clone(), down_ms })?;
            }
            let delay = self.half_a_device().unwrap_or_else(|| self.chance.random_range(MS..60 * MS));
            self.after(delay, Happening::Device(by.clone(), run, node, order, Step::Read));
            return Ok(());
        }
        let result = match step {
            Step::Read if !dead => Ok(PowerSeen { on: self.hosts[&node].has_power, system: None }),
            _ => Err("the device does not answer".to_string()),
        };
        self.input(by, run, Input::Powered { node, order, result })
    }
}
