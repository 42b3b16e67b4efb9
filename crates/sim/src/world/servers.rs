//! The servers of the world and its clients: what an action does to a server, who streams from whom, which writes a client
//! saw acknowledged.

use super::{Happening, Host, MS, World};
use crate::server::{Server, Sync};
use karst_core::node::CALM_LOOKS;
use karst_core::replica::{Action, Done, Downstream, Observation};
use karst_core::{Input, Lsn, NodeId};
use rand::Rng;

impl World {
    pub(super) fn finish_action(
        &mut self, id: &NodeId, run: u64, number: u64, action: Action,
    ) -> Result<(), (&'static str, String)> {
        if self.hosts[id].run != run || !self.host(id).acting.remove(&number) {
            return Ok(());
        }
        if self.hosts[id].is_paused {
            // The driver stands still with its daemon.
            self.host(id).acting.insert(number);
            self.after(10 * MS, Happening::Act(id.clone(), run, number, action));
            return Ok(());
        }
        let result = self.act(id, action);
        let (workload, observation) = (self.workload.clone(), self.observe(id));
        self.input(id, run, Input::Observed { workload: workload.clone(), observation })?;
        self.input(id, run, Input::Acted { workload, id: number, result })
    }

    pub(super) fn act(&mut self, id: &NodeId, action: Action) -> Result<Done, String> {
        let promotion = self.next_promotion;
        let up = |w: &Self, n: &NodeId| w.connected(id, n) && w.hosts[n].server.runs && w.hosts[n].server.primary;
        match action {
            Action::Create | Action::StartPrimary => {
                let server = &mut self.host(id).server;
                if server.standby || (server.runs && action == Action::StartPrimary) {
                    return Err("not the data of a stopped primary".into());
                }
                if !server.runs {
                    (server.has_data, server.runs, server.primary, server.sync) = (true, true, true, Sync::Impossible);
                }
                Ok(Done::Ok)
            }
            Action::StartStandby { upstream } => {
                let server = &mut self.host(id).server;
                (server.runs, server.primary, server.standby, server.receiving) = (true, false, true, false);
                server.upstream = Some(upstream);
                Ok(Done::Ok)
            }
            Action::Checkpoint => Ok(Done::Ok),
            Action::StopClean { .. } => {
                let at = self.hosts[id].server.position();
                let behind: Vec<NodeId> = self.followers(id).into_iter().map(|(n, _)| n).collect();
                for node in behind {
                    self.stream(&node, usize::MAX);
                }
                let server = &mut self.host(id).server;
                let was_up = server.runs;
                server.stop();
                Ok(Done::Stopped { clean_at: was_up.then_some(at) })
            }
            Action::StopNow => {
                self.host(id).server.stop();
                Ok(Done::Stopped { clean_at: None })
            }
            Action::Promote => {
                self.next_promotion += 1;
                let server = &mut self.host(id).server;
                if !server.runs {
                    return Err("the server does not run".into());
                }
                if !server.primary {
                    let at = server.wal.len();
                    server.timelines.push((server.timeline().0 + 1, at, promotion));
                    (server.primary, server.standby, server.receiving) = (true, false, false);
                    server.sync = Sync::Impossible;
                }
                let (timeline, at, _) = server.timeline();
                Ok(Done::Promoted { timeline, switch: Lsn(at as u64) })
            }
            Action::Settle { .. } => {
                let server = &mut self.host(id).server;
                (server.upstream, server.receiving) = (None, false);
                Ok(Done::Settled { timeline: server.timeline().0, position: server.position() })
            }
            Action::Repoint { upstream } => {
                self.host(id).server.upstream = Some(upstream);
                Ok(Done::Ok)
            }
            Action::Clone { from } => {
                if !up(self, &from) {
                    return Err(format!("{from} does not answer"));
                }
                let (wal, timelines) =
                    (self.hosts[&from].server.wal.clone(), self.hosts[&from].server.timelines.clone());
                let fresh = Server { has_data: true, standby: true, wal, timelines, ..Server::new() };
                self.host(id).server = fresh;
                Ok(Done::Ok)
            }
            Action::Rewind { to } => {
                if !up(self, &to) {
                    return Err(format!("{to} does not answer"));
                }
                let source = self.hosts[&to].server.clone();
                self.host(id).server.rewind(&source);
                Ok(Done::Ok)
            }
            Action::SetSync { epoch, number, standbys, unprotected } => {
                let server = &mut self.host(id).server;
                if !server.runs || !server.primary || (epoch.0, number) < server.sync_number {
                    return Err("not a primary, or a late setting".into());
                }
                let sync = match (standbys.is_empty(), unprotected) {
                    (true, true) => Sync::Unprotected,
                    (true, false) => Sync::Impossible,
                    _ => Sync::Names(standbys.clone()),
                };
                if (server.sync_number, &server.sync) != ((epoch.0, number), &sync) {
                    // Whatever was written before commits waited for them (D2).
                    server.barrier = server.wal.len();
                }
                (server.sync_number, server.sync) = ((epoch.0, number), sync);
                let at = server.barrier;
                let have = self.followers(id);
                let all = standbys.iter().all(|n| have.iter().any(|(f, p)| f == n && *p >= at));
                if all { Ok(Done::Ok) } else { Err("not every member has everything yet".into()) }
            }
        }
    }

    /// The standbys that stream from this primary, with their positions.
    pub(super) fn followers(&self, primary: &NodeId) -> Vec<(NodeId, usize)> {
        let follows = |(n, h): &(&NodeId, &Host)| {
            h.server.runs
                && h.server.receiving
                && h.server.upstream.as_ref() == Some(primary)
                && self.connected(primary, n)
        };
        self.hosts.iter().filter(follows).map(|(n, h)| (n.clone(), h.server.wal.len())).collect()
    }

    pub(super) fn observe(&self, id: &NodeId) -> Observation {
        let standbys = self.followers(id).into_iter().map(|(node, at)| {
            let at = Lsn(at as u64);
            Downstream { node, sent: at, flushed: at, replayed: at, streaming: true }
        });
        self.hosts[id].server.observe(standbys.collect())
    }

    /// One standby receives up to `most` writes.
    pub(super) fn stream(&mut self, id: &NodeId, most: usize) {
        let server = &self.hosts[id].server;
        let Some(from) = server.upstream.clone().filter(|_| server.runs && !server.primary) else { return };
        let Some(primary) = self.hosts.get(&from).map(|h| h.server.clone()) else { return };
        let linked = self.connected(&from, id) && self.connected(id, &from) && primary.runs && primary.primary;
        let server = &mut self.host(id).server;
        server.receiving = linked && server.can_stream_from(&primary);
        if server.receiving {
            let upto = primary.wal.len().min(server.wal.len().saturating_add(most));
            let have = server.wal.len();
            server.wal.extend_from_slice(&primary.wal[have..upto]);
            server.timelines = primary.timelines.iter().filter(|(_, at, _)| *at <= upto).copied().collect();
            server.replayed = upto;
        }
    }

    /// A millisecond of the servers' and clients' lives; every 20th, the drivers probe.
    pub(super) fn tick(&mut self) -> Result<(), (&'static str, String)> {
        let ids: Vec<NodeId> = self.hosts.keys().cloned().collect();
        let millis = self.now / MS;
        for id in &ids {
            if self.chance.random_range(0..4) > 0 {
                self.stream(id, 3);
            }
        }
        for id in &ids {
            let server = &self.hosts[id].server;
            if server.runs && server.primary {
                if millis.is_multiple_of(5) {
                    let write = self.next_write;
                    self.next_write += 1;
                    let server = &mut self.host(id).server;
                    server.wal.push(write);
                    server.waiting.push((server.wal.len(), write));
                }
                self.acknowledge(id);
            }
            let every = if self.hosts[id].closely { 20 } else { 20 * u64::from(CALM_LOOKS) };
            if millis.is_multiple_of(every)
                && self.spec.workloads[&self.workload].replicas.contains_key(id)
                && self.hosts[id].has_power
            {
                let (run, workload, observation) = (self.hosts[id].run, self.workload.clone(), self.observe(id));
                if !self.hosts[id].is_paused {
                    self.input(id, run, Input::Observed { workload, observation })?;
                }
            }
        }
        self.after(MS, Happening::Tick);
        Ok(())
    }

    /// Commits return once everyone that the setting names has them.
    pub(super) fn acknowledge(&mut self, id: &NodeId) {
        let have = self.followers(id);
        let upto = match &self.hosts[id].server.sync {
            Sync::Impossible => 0,
            Sync::Unprotected => usize::MAX,
            Sync::Names(names) => {
                let position = |n: &NodeId| have.iter().find(|(f, _)| f == n).map_or(0, |(_, at)| *at);
                names.iter().map(position).min().unwrap_or(0)
            }
        };
        let waiting = std::mem::take(&mut self.host(id).server.waiting);
        let (done, still): (Vec<_>, Vec<_>) = waiting.into_iter().partition(|(at, _)| *at <= upto);
        self.host(id).server.waiting = still;
        if !done.is_empty() {
            if self.last_acknowledged > 0 {
                self.longest_pause = self.longest_pause.max(self.now - self.last_acknowledged);
            }
            self.last_acknowledged = self.now;
        }
        self.truth.acknowledged.extend(done.into_iter().map(|(_, write)| write));
    }
}
