//! Daemons that come and go, and what the spec places with them.

use super::happening::Happening;
use super::{MS, World};
use crate::check::Verdict;
use crate::fault::Fault;
use karst_core::replica::GateReport;
use karst_core::spec::Spec;
use karst_core::{BootId, Input, Node, NodeConfig};
use rand::Rng;

/// Small: a run of a minute takes several, and whoever was away for some seconds needs one.
const SNAPSHOT_AFTER: u64 = 12;

impl World {
    pub(super) fn start_daemon(&mut self, h: usize) {
        let (founding, planted, seed) = (self.founding.clone(), self.planted, self.chance.random());
        let given = self.hosts[h].given.clone().unwrap_or(founding);
        let (me, now) = (self.names[h].clone(), self.now);
        let host = &mut self.hosts[h];
        host.run += 1;
        // Whatever stood still was the run before: nothing is started on a host that does.
        host.paused = 0;
        host.waiting.clear();
        let config = NodeConfig {
            me: me.clone(),
            given,
            alone: false,
            boot: BootId::from(format!("boot-{}", host.boot)),
            system: None,
            seed,
            stored: host.disk.stored.clone(),
            kept: host.disk.kept.clone(),
            snapshot_after: SNAPSHOT_AFTER,
            planted,
        };
        host.ways.clear();
        host.node = Some(Node::new(config, host.clock.at(now)));
        let run = host.run;
        for slot in &mut host.slots {
            slot.closely = true;
            slot.gate = GateReport {
                listening: true,
                ..GateReport::default()
            };
            slot.acting.clear();
        }
        self.truth.forget(&me);
        self.say_deadlines(h);
        self.after(2, Happening::Input(h, run, Input::Woke));
    }

    /// A host that the spec names by now, and that has never been part of it, joins: somebody gives it
    /// the spec in force, once. Whoever coordinates later it knows by the word of the others (V7).
    pub(super) fn join(&mut self) -> Verdict {
        let Some(now) = self.truth.state.charter.revision.clone() else {
            return Ok(());
        };
        for h in 0..self.hosts.len() {
            let (name, host) = (&self.names[h], &self.hosts[h]);
            let stored = &host.disk.stored;
            let is_new = stored.entries.is_empty() && stored.snapshot.is_none();
            let expected = now.spec.nodes.contains_key(name);
            if is_new
                && expected
                && host.given.is_none()
                && !self.founding.spec.nodes.contains_key(name)
                && host.node.is_some()
                && !host.stands()
            {
                let node = name.clone();
                self.hosts[h].given = Some(now.clone());
                self.begin_fault(Fault::KillDaemon { node, down_ms: 80 })?;
            }
        }
        Ok(())
    }

    /// What the spec places on a host.
    pub(super) fn shape(&mut self, h: usize, run: u64, spec: &Spec) {
        let me = self.names[h].clone();
        for (w, id) in self.workloads.clone().into_iter().enumerate() {
            let here = spec.workloads.get(&id);
            let reads = here.and_then(|workload| workload.reads.as_ref());
            if !reads.is_some_and(|reads| reads.gates.contains_key(&me)) {
                self.hosts[h].slots[w].readers = None;
            }
            if here.is_some_and(|workload| workload.gates.contains_key(&me)) {
                let report = self.hosts[h].slots[w].gate.clone();
                self.after(
                    MS,
                    Happening::Input(
                        h,
                        run,
                        Input::GateSeen {
                            workload: id,
                            report,
                        },
                    ),
                );
            } else {
                self.hosts[h].slots[w].gate.forwarding = None;
            }
        }
    }

    pub(super) fn stop_daemon(&mut self, h: usize) {
        let host = &mut self.hosts[h];
        host.run += 1;
        host.node = None;
        host.paused = 0;
        host.waiting.clear();
        // Gates are the daemon's own.
        for slot in &mut host.slots {
            (slot.gate.forwarding, slot.readers) = (None, None);
        }
    }
}
