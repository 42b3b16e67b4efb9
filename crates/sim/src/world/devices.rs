//! Power devices: on a network of their own, slow, and able to fail. Whoever is cut gets its power
//! back after a while, as if somebody had seen to it.

use super::happening::{Happening, Step};
use super::{MS, World, nanos};
use crate::check::Verdict;
use crate::fault::Fault;
use karst_core::Input;
use karst_core::power::{PowerOrder, PowerSeen};
use rand::Rng;

impl World {
    /// Half of what a slow device takes: the order's way, and the reading's.
    fn half_a_device(&self) -> Option<u64> {
        self.slow.device.map(|time| nanos(time / 2))
    }

    pub(super) fn ask_device(&mut self, by: usize, run: u64, to: usize, order: PowerOrder) {
        let delay = self
            .half_a_device()
            .unwrap_or_else(|| self.chance.random_range(MS..30 * MS));
        self.after(delay, Happening::Device(by, run, to, order, Step::Arrives));
    }

    pub(super) fn device(
        &mut self,
        by: usize,
        run: u64,
        to: usize,
        order: PowerOrder,
        step: Step,
    ) -> Verdict {
        let dead = self.weather.dead_devices > 0;
        let result = match step {
            Step::Arrives if !dead && !self.hosts[by].is_still() => {
                // Checked again just before the request (C7).
                let asker = self.hosts[by]
                    .node
                    .as_ref()
                    .filter(|_| self.hosts[by].run == run);
                let (name, asker_runs) = (&self.names[to], asker.is_some());
                let permits = |fence| {
                    asker
                        .and_then(|n| n.cutting())
                        .is_some_and(|(_, c)| c.contains(&(name.clone(), fence)))
                };
                if let PowerOrder::Off { fence } = order
                    && permits(fence)
                    && self.hosts[to].has_power
                {
                    let down_ms = self.chance.random_range(500..4_000);
                    self.begin_fault(Fault::PowerCut {
                        node: self.names[to].clone(),
                        down_ms,
                    })?;
                }
                if matches!(order, PowerOrder::On { .. }) && asker_runs && !self.hosts[to].has_power
                {
                    self.hosts[to].has_power = true;
                    self.start_daemon(to);
                }
                let delay = self
                    .half_a_device()
                    .unwrap_or_else(|| self.chance.random_range(MS..60 * MS));
                self.after(delay, Happening::Device(by, run, to, order, Step::Read));
                return Ok(());
            }
            Step::Read if !dead => {
                let seen = PowerSeen {
                    on: self.hosts[to].has_power,
                    system: None,
                };
                match self.weather.late_devices {
                    None => Ok(seen),
                    Some(late) => {
                        self.after(
                            late * MS,
                            Happening::Device(by, run, to, order, Step::Answers(seen)),
                        );
                        return Ok(());
                    }
                }
            }
            Step::Answers(seen) => Ok(seen),
            _ => Err("the device does not answer".to_string()),
        };
        self.input(
            by,
            run,
            Input::Powered {
                node: self.names[to].clone(),
                order,
                result,
            },
        )
    }
}
