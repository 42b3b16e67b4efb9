//! What a fault does to the world, and how it ends.

use super::KNOWN;
use super::host::{Disk, Syncs};
use super::{Happening, MS, World};
use crate::check::Verdict;
use crate::fault::Fault;
use crate::script::wish;
use karst_core::author::{Level, Token};
use karst_core::consensus::Stored;
use karst_core::request::{Plea, Request};
use karst_core::spec::{Clock, Spec};
use karst_core::view::IntentKind;
use karst_core::{Input, NodeId, StoreId};
use rand::Rng;

impl World {
    pub(super) fn begin_fault(&mut self, fault: Fault) -> Verdict {
        let host = host_of(&fault).map(|n| self.place(n));
        // A host that is off has nothing more to lose, and one that stands still does nothing
        // either.
        if let Some(h) = host
            && (!self.hosts[h].has_power
                || (self.hosts[h].stands() && !matches!(fault, Fault::PowerCut { .. })))
            && !matches!(
                fault,
                Fault::Isolate { .. } | Fault::SlowDisk { .. } | Fault::SlowStandby { .. }
            )
        {
            return Ok(());
        }
        self.tell(format!("FAULT {fault:?}"));
        self.back_up_primaries();
        let when = host.map_or((0, 0), |h| (self.hosts[h].run, self.hosts[h].boot));
        self.strike(&fault, host.unwrap_or_default())?;
        if let Some(ms) = fault.lasts() {
            self.after(ms * MS, Happening::End(fault, when));
        }
        Ok(())
    }

    /// Does it to a host, or to whatever else it is about.
    fn strike(&mut self, fault: &Fault, h: usize) -> Verdict {
        match fault {
            Fault::KillDaemon { .. } => self.stop_daemon(h),
            Fault::PauseDaemon { .. } => self.hosts[h].paused += 1,
            Fault::KillDeadman { .. } => self.hosts[h].deadman_dead += 1,
            Fault::LateDeadman { .. } => self.hosts[h].deadman_late += 1,
            Fault::PowerCut { .. } => self.cut_power(h),
            // Without the others' majority nobody could take it in again: that is a person's to
            // decide.
            Fault::LoseStore { node, .. } if !self.is_majority_without(node) => self.cut_power(h),
            Fault::LoseStore { node, .. } => self.lose_store(h, node),
            Fault::RestoreStore { .. } => {
                self.stop_daemon(h);
                self.forget_points(h);
                if let Some(backup) = self.hosts[h].backup.clone() {
                    self.hosts[h].disk = backup;
                }
            }
            Fault::FreezeHost { .. } => {
                let host = &mut self.hosts[h];
                (host.frozen, host.paused) = (host.frozen + 1, host.paused + 1);
            }
            Fault::Suspend { node, .. } => {
                let (now, stops) = (self.now, self.spec.nodes[node].clock == Clock::MayStop);
                let host = &mut self.hosts[h];
                (host.suspended, host.paused) = (host.suspended + 1, host.paused + 1);
                if stops {
                    host.clock.stop(now);
                }
            }
            Fault::KillServer { .. } => self.kill_servers(h),
            Fault::HangServer { .. } => {
                for slot in &mut self.hosts[h].slots {
                    slot.server.hung = slot.server.runs;
                }
            }
            Fault::Isolate { .. } => self.hosts[h].isolated += 1,
            Fault::OneWay { from, to, .. } => self.cut_link(self.place(from), self.place(to), 1),
            Fault::Partition { inside, .. } => self.part(inside, 1),
            Fault::Lossy {
                percent, late_ms, ..
            } => self.weather.lossy = Some((*percent, *late_ms)),
            Fault::SlowDisk { sync_ms, .. } => self.hosts[h].sync_ms = *sync_ms,
            Fault::ClockRate { ppm, .. } => {
                let now = self.now;
                self.hosts[h].clock.set_rate(*ppm, now);
                let run = self.hosts[h].run;
                self.after(0, Happening::Input(h, run, Input::Woke));
            }
            Fault::DeadDevices { .. } => self.weather.dead_devices += 1,
            Fault::LateDevices { by_ms, .. } => self.weather.late_devices = Some(*by_ms),
            Fault::Flaky { percent, .. } => self.weather.flaky = *percent,
            Fault::HangActions { .. } => self.hosts[h].hanging += 1,
            Fault::SlowStandby { .. } => self.hosts[h].slow_standby += 1,
            Fault::SlowCheckpoint { takes_ms, .. } => self.hosts[h].checkpoint_ms = *takes_ms,
            Fault::StalledSetting { .. } => self.hosts[h].stalled += 1,
            Fault::WallClock { by_s, .. } => self.hosts[h].wall_off += by_s,
            Fault::SwitchOff { down_ms, .. } => self.switch_off(h, *down_ms)?,
            Fault::Hostile { for_ms, .. } => {
                let until = self.now + for_ms * MS;
                self.say_anything(h, until)?;
            }
            Fault::Ask { request, .. } => self.ask(h, request.clone())?,
            Fault::Submit { edit, .. } => {
                let spec = edit.of(self.in_force(), &self.spec);
                self.ask(h, submission(spec))?;
            }
            Fault::Rest { end: true, .. } => {
                let wanted = self.truth.state.charter.intents.keys();
                for intent in wanted.copied().collect::<Vec<_>>() {
                    let by = "marlin".into();
                    self.ask(h, Request::EndIntent { intent, by })?;
                }
            }
            Fault::Restart { workload, .. } => {
                let workload = workload.clone();
                self.ask(h, wish(Plea::Restart { workload }))?;
            }
            Fault::Rest { nodes, .. } => {
                let plea = Plea::Maintenance {
                    nodes: nodes.iter().cloned().collect(),
                    back: true,
                    bare: Default::default(),
                    cut_off: Default::default(),
                    until: None,
                };
                self.ask(h, wish(plea))?;
            }
        }
        Ok(())
    }

    /// What rests by the word of this node's screen, and of no other's: people look at one.
    fn switch_off(&mut self, h: usize, down_ms: u64) -> Verdict {
        let Some(status) = self.hosts[h].node.as_ref().map(|node| node.status()) else {
            return Ok(());
        };
        let rests = status.intents.iter().filter(|intent| {
            let rests = intent.kind == IntentKind::Maintenance;
            rests && intent.empty && !intent.turned
        });
        let nodes: Vec<NodeId> = rests.flat_map(|intent| intent.nodes.clone()).collect();
        // A screen knows of a fault once the hosts have been silent for some time.
        let known = self.is_calm_for(3_000 * MS) && self.weather.flaky == 0;
        if known && !nodes.is_empty() && !self.decides_without(&nodes) {
            let what =
                format!("{nodes:?} may be switched off, and without them nothing is decided");
            return Err(("shown", what));
        }
        for node in nodes {
            self.begin_fault(Fault::PowerCut { node, down_ms })?;
        }
        Ok(())
    }

    fn ask(&mut self, h: usize, request: Request) -> Verdict {
        let run = self.hosts[h].run;
        let level = Level::Administer;
        self.input(
            h,
            run,
            Input::Asked {
                ticket: 1,
                request,
                level,
                token: Some(Token::new(KNOWN)),
            },
        )
    }

    fn is_majority_without(&self, node: &NodeId) -> bool {
        let counts = |h: &usize| self.hosts[*h].disk.stored.counts && self.names[*h] != *node;
        let others = (0..self.hosts.len()).filter(counts);
        self.voters().is_majority(others.map(|h| &self.names[h]))
    }

    /// With its node store a node loses what it knew of whom it holds back.
    fn forget_points(&mut self, h: usize) {
        let slots = self.hosts[h].slots.iter_mut();
        slots.for_each(|slot| slot.stood = None);
    }

    /// The host comes back with an empty store under another name.
    fn lose_store(&mut self, h: usize, node: &NodeId) {
        self.cut_power(h);
        self.forget_points(h);
        self.hosts[h].stores += 1;
        let store = StoreId::from(format!("{node}-{}", self.hosts[h].stores));
        let stored = Stored {
            store: Some(store),
            ..Stored::default()
        };
        let before = std::mem::replace(
            &mut self.hosts[h].disk,
            Disk {
                stored,
                ..Disk::default()
            },
        );
        self.hosts[h].lost = Some(before.stored);
    }

    pub(super) fn end_fault(&mut self, fault: Fault, when: (u64, u64)) -> Verdict {
        let host = host_of(&fault).map(|n| self.place(n));
        let h = host.unwrap_or_default();
        let (same_run, same_boot) = (self.hosts[h].run == when.0, self.hosts[h].boot == when.1);
        if matches!(fault, Fault::KillDaemon { .. } | Fault::RestoreStore { .. })
            && self.hosts[h].stands()
        {
            // Nothing is started on a host that stands still.
            self.after(10 * MS, Happening::End(fault, when));
            return Ok(());
        }
        self.tell(format!("ENDS {fault:?}"));
        match fault {
            Fault::KillDaemon { .. } | Fault::RestoreStore { .. }
                if self.hosts[h].has_power && self.hosts[h].node.is_none() =>
            {
                self.start_daemon(h);
            }
            Fault::PauseDaemon { .. } if same_run => return self.resume(h, when),
            Fault::KillDeadman { .. } => {
                self.hosts[h].deadman_dead -= 1;
                if self.hosts[h].deadman_dead == 0 {
                    self.deadman_is_back(h);
                }
            }
            Fault::LateDeadman { .. } => self.hosts[h].deadman_late -= 1,
            Fault::PowerCut { .. } | Fault::LoseStore { .. } if !self.hosts[h].has_power => {
                self.hosts[h].has_power = true;
                self.start_daemon(h);
            }
            Fault::FreezeHost { .. } if same_boot => {
                self.hosts[h].frozen -= 1;
                self.thaw(h, when);
            }
            Fault::Suspend { .. } if same_boot => {
                let now = self.now;
                self.hosts[h].suspended -= 1;
                if self.hosts[h].suspended == 0 {
                    self.hosts[h].clock.go_on(now);
                }
                self.thaw(h, when);
            }
            Fault::KillServer { .. } => {
                for w in 0..self.workloads.len() {
                    if self.hosts[h].slots[w].server.first_gone {
                        self.hosts[h].slots[w].server.stop();
                        self.see(h, w, 0);
                    }
                }
            }
            Fault::HangServer { .. } if same_boot => {
                self.hosts[h]
                    .slots
                    .iter_mut()
                    .for_each(|s| s.server.hung = false);
            }
            Fault::Isolate { .. } => self.hosts[h].isolated -= 1,
            Fault::OneWay { from, to, .. } => self.cut_link(self.place(&from), self.place(&to), -1),
            Fault::Partition { inside, .. } => self.part(&inside, -1),
            Fault::Lossy { .. } => self.weather.lossy = None,
            Fault::DeadDevices { .. } => self.weather.dead_devices -= 1,
            Fault::LateDevices { .. } => self.weather.late_devices = None,
            Fault::Flaky { .. } => self.weather.flaky = 0,
            Fault::HangActions { .. } => self.hosts[h].hanging -= 1,
            Fault::SlowStandby { .. } => self.hosts[h].slow_standby -= 1,
            Fault::SlowCheckpoint { .. } => self.hosts[h].checkpoint_ms = 0,
            Fault::StalledSetting { .. } => self.hosts[h].stalled -= 1,
            Fault::SlowDisk { .. } => {
                // What hung until now is done soon.
                self.hosts[h].sync_ms = 1;
            }
            _ => {}
        }
        Ok(())
    }

    fn cut_power(&mut self, h: usize) {
        let now = self.now;
        self.stop_daemon(h);
        let host = &mut self.hosts[h];
        host.has_power = false;
        host.boot += 1;
        (host.frozen, host.suspended, host.syncs) = (0, 0, Syncs::default());
        host.clock.go_on(now);
        for slot in &mut host.slots {
            (slot.deadline, slot.guard, slot.moved) = (None, None, slot.moved + 1);
            (slot.has_address, slot.address_deadline) = (false, None);
            slot.server.lose_power();
        }
    }

    /// Its first process is seen to exit before what it left behind has ended.
    fn kill_servers(&mut self, h: usize) {
        for w in 0..self.workloads.len() {
            let server = &mut self.hosts[h].slots[w].server;
            server.first_gone = server.runs;
            self.see(h, w, 10 * MS);
        }
    }

    /// The driver looks, and says what it sees after so long.
    fn see(&mut self, h: usize, w: usize, delay: u64) {
        let (run, workload, observation) = (
            self.hosts[h].run,
            self.workloads[w].clone(),
            self.observe(h, w),
        );
        if self.looks_after(h, &workload) {
            self.after(
                delay,
                Happening::Input(
                    h,
                    run,
                    Input::Observed {
                        workload,
                        observation,
                    },
                ),
            );
        }
    }

    /// The server runs first, then the deadman, then the daemon, in an order that the scheduler
    /// likes.
    fn thaw(&mut self, h: usize, when: (u64, u64)) {
        self.hosts[h].deadman_from = self.now + self.chance.random_range(0..20 * MS);
        let delay = self.chance.random_range(0..30 * MS);
        self.after(delay, Happening::Resume(h, when));
    }

    /// The daemon goes on with what has come meanwhile.
    pub(super) fn resume(&mut self, h: usize, when: (u64, u64)) -> Verdict {
        let host = &mut self.hosts[h];
        if (host.run, host.boot) != when || host.paused == 0 {
            return Ok(());
        }
        host.paused -= 1;
        if host.is_still() {
            return Ok(());
        }
        let run = host.run;
        for input in std::mem::take(&mut host.waiting) {
            self.input(h, run, input)?;
        }
        Ok(())
    }

    fn cut_link(&mut self, from: usize, to: usize, by: i64) {
        let count = self.weather.cut.entry((from, to)).or_default();
        *count = count.saturating_add_signed(by as i32);
    }

    fn part(&mut self, inside: &[NodeId], by: i64) {
        let inside: Vec<bool> = self.names.iter().map(|n| inside.contains(n)).collect();
        for a in 0..inside.len() {
            for b in (0..inside.len()).filter(|b| inside[a] != inside[*b]) {
                self.cut_link(a, b, by);
            }
        }
    }

    /// From here on a store that is restored is put back to what it is now.
    pub fn back_up(&mut self, node: &NodeId) {
        let h = self.place(node);
        self.hosts[h].backup = Some(self.hosts[h].disk.clone());
    }
}

fn submission(spec: Spec) -> Request {
    // Two texts that differ are two revisions.
    let text = format!("{spec:?}");
    wish(Plea::Revision {
        text,
        spec: Box::new(spec),
        based_on: None,
        judged: None,
    })
}

/// The host that a fault is about.
fn host_of(fault: &Fault) -> Option<&NodeId> {
    match fault {
        Fault::KillDaemon { node, .. }
        | Fault::PauseDaemon { node, .. }
        | Fault::KillDeadman { node, .. }
        | Fault::LateDeadman { node, .. }
        | Fault::PowerCut { node, .. }
        | Fault::LoseStore { node, .. }
        | Fault::RestoreStore { node, .. }
        | Fault::FreezeHost { node, .. }
        | Fault::Suspend { node, .. }
        | Fault::KillServer { node, .. }
        | Fault::HangServer { node, .. }
        | Fault::Isolate { node, .. }
        | Fault::SlowDisk { node, .. }
        | Fault::ClockRate { node, .. }
        | Fault::HangActions { node, .. }
        | Fault::SlowStandby { node, .. }
        | Fault::SlowCheckpoint { node, .. }
        | Fault::StalledSetting { node, .. }
        | Fault::WallClock { node, .. }
        | Fault::SwitchOff { of: node, .. }
        | Fault::Hostile { node, .. }
        | Fault::Submit { of: node, .. }
        | Fault::Rest { of: node, .. }
        | Fault::Restart { of: node, .. }
        | Fault::Ask { of: node, .. } => Some(node),
        Fault::OneWay { .. }
        | Fault::Partition { .. }
        | Fault::Lossy { .. }
        | Fault::DeadDevices { .. }
        | Fault::LateDevices { .. }
        | Fault::Flaky { .. } => None,
    }
}
