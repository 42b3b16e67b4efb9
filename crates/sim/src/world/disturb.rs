//! What a fault does to the world, and how it ends.

use super::{Happening, MS, World};
use crate::fault::Fault;
use karst_core::Input;
use karst_core::replica::Observation;

impl World {
    pub(super) fn begin_fault(&mut self, fault: Fault) -> Result<(), (&'static str, String)> {
        self.tell(format!("FAULT {fault:?}"));
        let mut lasts = None;
        match &fault {
            Fault::KillDaemon { node, down_ms } => {
                self.stop_daemon(node);
                lasts = Some(*down_ms);
            }
            Fault::PauseDaemon { node, for_ms } => {
                self.host(node).is_paused = true;
                lasts = Some(*for_ms);
            }
            Fault::PowerCut { node, down_ms } => {
                self.stop_daemon(node);
                let host = self.host(node);
                host.has_power = false;
                host.boot += 1;
                host.deadline = None;
                host.deadline_count += 1;
                (host.has_address, host.address_deadline) = (false, None);
                host.server.stop();
                lasts = Some(*down_ms);
            }
            Fault::KillServer { node } => {
                self.host(node).server.stop();
                let (run, workload, observation) = (self.hosts[node].run, self.workload.clone(), self.observe(node));
                // Its first process is seen to exit before what it left behind has ended.
                let exited = Observation { runs: true, exited: true, ..observation.clone() };
                let first = Input::Observed { workload: workload.clone(), observation: exited };
                self.after(10 * MS, Happening::Input(node.clone(), run, first));
                self.after(20 * MS, Happening::Input(node.clone(), run, Input::Observed { workload, observation }));
            }
            Fault::Isolate { node, for_ms } => {
                self.host(node).isolated += 1;
                lasts = Some(*for_ms);
            }
            Fault::OneWay { from, to, for_ms } => {
                *self.cut.entry((from.clone(), to.clone())).or_default() += 1;
                lasts = Some(*for_ms);
            }
            Fault::Lossy { percent, for_ms } => {
                self.lossy = *percent;
                lasts = Some(*for_ms);
            }
            Fault::SlowDisk { node, sync_ms, for_ms } => {
                self.host(node).sync_ms = *sync_ms;
                lasts = Some(*for_ms);
            }
            Fault::DeadDevices { for_ms } => {
                self.dead_devices += 1;
                lasts = Some(*for_ms);
            }
            Fault::Switchover { to } => {
                let Some(asked) = self.hosts.keys().next().cloned() else { return Ok(()) };
                let request = karst_core::node::Request::Switchover {
                    workload: self.workload.clone(),
                    to: Some(to.clone()),
                    by: "captain".into(),
                    plan_only: false,
                };
                let run = self.hosts[&asked].run;
                self.input(&asked, run, Input::Asked { ticket: 1, request })?;
            }
        }
        if let Some(ms) = lasts {
            self.after(ms * MS, Happening::End(fault));
        }
        Ok(())
    }

    pub(super) fn end_fault(&mut self, fault: Fault) -> Result<(), (&'static str, String)> {
        self.tell(format!("ENDS {fault:?}"));
        match fault {
            Fault::KillDaemon { node, .. } => {
                if self.hosts[&node].has_power && self.hosts[&node].node.is_none() {
                    self.start_daemon(&node);
                }
            }
            Fault::PauseDaemon { node, .. } => {
                let host = self.host(&node);
                host.is_paused = false;
                let (run, waited) = (host.run, std::mem::take(&mut host.paused));
                for input in waited {
                    self.input(&node, run, input)?;
                }
            }
            Fault::PowerCut { node, .. } => {
                if !self.hosts[&node].has_power {
                    self.host(&node).has_power = true;
                    self.start_daemon(&node);
                }
            }
            Fault::Isolate { node, .. } => self.host(&node).isolated -= 1,
            Fault::OneWay { from, to, .. } => *self.cut.entry((from, to)).or_default() -= 1,
            Fault::Lossy { .. } => self.lossy = 0,
            Fault::DeadDevices { .. } => self.dead_devices -= 1,
            Fault::SlowDisk { node, .. } => self.host(&node).sync_ms = 1,
            Fault::KillServer { .. } | Fault::Switchover { .. } => {}
        }
        Ok(())
    }
}
