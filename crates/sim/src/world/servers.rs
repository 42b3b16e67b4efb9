//! The servers of the world and its clients: what an action does to a server, who streams from
//! whom, which writes a client saw acknowledged.

use super::{Happening, MS, SECOND, WALL, World, nanos};
use crate::check::Verdict;
use crate::server::{Server, Sync};
use karst_core::node::CALM_LOOKS;
use karst_core::replica::{Action, Done, Downstream, Observation, SyncSetting};
use karst_core::safetypoint::{HeldBack, Mark};
use karst_core::spec::Loss;
use karst_core::{History, Input, NodeId, Planted, WorkloadId};
use rand::Rng;
use std::time::Duration;

/// Between two moments in which servers and clients do something.
const TICK: u64 = 4 * MS;
/// A standby that lacks no more writes than that can be waited for.
const NEAR: usize = 1 << 24;

impl World {
    pub(super) fn begin_action(
        &mut self,
        h: usize,
        run: u64,
        workload: &WorkloadId,
        number: u64,
        action: Action,
    ) -> Verdict {
        if matches!(
            action,
            Action::Promote { .. } | Action::StartPrimary | Action::Create
        ) {
            self.truth.check_promotion(&self.names[h], workload)?;
        }
        if matches!(action, Action::StopClean { .. }) {
            self.check_restart(h, workload)?;
        }
        self.check_point_untouched(h, workload, &action)?;
        let line = format!("{}: {} ({workload})", self.names[h], action.describe());
        self.tell(line);
        let w = self.place_of(workload);
        let member = self.is_member(h, w);
        self.hosts[h].slots[w].stops_unwaited = !member;
        self.hosts[h].slots[w].acting.insert(number);
        let most = match action {
            Action::Clone { .. } | Action::Restore { .. } => 1500,
            Action::StopClean { .. }
            | Action::Create
            | Action::StartPrimary
            | Action::StartStandby { .. } => 300,
            Action::Promote { .. } => 120,
            _ => 30,
        };
        let checkpoint = self.hosts[h].checkpoint_ms;
        let slow = match action {
            Action::Promote { .. } => self.slow.promote,
            Action::Settle { .. } => self.slow.settle,
            Action::Checkpoint if checkpoint > 0 => Some(Duration::from_millis(checkpoint)),
            _ => None,
        };
        let delay = slow.map_or_else(|| self.chance.random_range(MS..most * MS), nanos);
        self.after(delay, Happening::Act(h, run, w, number, action));
        Ok(())
    }

    /// P1: whoever stands at a safety point is started there again, and in no other way: beside what
    /// it replayed a server may have received more.
    fn check_point_untouched(&self, h: usize, workload: &WorkloadId, action: &Action) -> Verdict {
        let moves = matches!(
            action,
            Action::StartStandby { .. }
                | Action::Repoint { .. }
                | Action::Rewind { .. }
                | Action::Clone { .. }
                | Action::Restore { .. }
        );
        let me = &self.names[h];
        match self.stands_at(h, self.place_of(workload)) {
            Some(label) if moves => {
                let what = format!(
                    "{me} stands at {label}, and does this: {}",
                    action.describe()
                );
                Err(("P1", what))
            }
            _ => Ok(()),
        }
    }

    /// The point that a server went up to, where the log has it stay there.
    pub(super) fn stands_at(&self, h: usize, w: usize) -> Option<&String> {
        let (label, _) = self.hosts[h].slots[w].stood.as_ref()?;
        let (of, me) = (
            self.truth.state.workload(&self.workloads[w]),
            &self.names[h],
        );
        let mark = of.held_back(me).and_then(HeldBack::mark);
        let kept = mark.is_some_and(|mark| mark.label == *label);
        (kept && of.holder() != Some(me)).then_some(label)
    }

    /// A standby is stopped for nothing but a restart that is on record, and not while writes wait
    /// for it where they could wait for somebody else (K4).
    fn check_restart(&self, h: usize, workload: &WorkloadId) -> Verdict {
        let (me, w) = (&self.names[h], self.place_of(workload));
        let Some(node) = self.hosts[h].node.as_ref() else {
            return Ok(());
        };
        if self.hosts[h].slots[w].server.is_primary() {
            return Ok(());
        }
        let state = node.state().workload(workload);
        let leaves_office = state.holder() == Some(me);
        let waited_for = state.sync.asked.contains(me) && state.sync.asked.len() > 1;
        let held_back = state.held_back(me).is_some();
        let comes_back = self.hosts[h].slots[w].server.goes_up_to().is_some();
        let may = state.restarts(me) || held_back || comes_back;
        if !leaves_office && (waited_for || !may) {
            let what = format!("{me} stops its standby of {workload}, which writes wait for");
            return Err(("K4", what));
        }
        Ok(())
    }

    fn is_member(&self, h: usize, w: usize) -> bool {
        let state = self.truth.state.workload(&self.workloads[w]);
        state.sync.asked.contains(&self.names[h])
    }

    /// A standby whose server is being stopped is none that writes begin to wait for (K4).
    fn check_joined_meanwhile(&self, h: usize, w: usize) -> Verdict {
        if self.hosts[h].slots[w].stops_unwaited && self.is_member(h, w) {
            let (me, workload) = (&self.names[h], &self.workloads[w]);
            let what = format!("{workload}: writes wait for {me}, whose server was being stopped");
            return Err(("K4", what));
        }
        Ok(())
    }

    pub(super) fn finish_action(
        &mut self,
        h: usize,
        run: u64,
        w: usize,
        number: u64,
        action: Action,
    ) -> Verdict {
        let host = &mut self.hosts[h];
        if host.run != run || !host.slots[w].acting.contains(&number) {
            return Ok(());
        }
        let alone = matches!(
            action,
            Action::StopNow | Action::Clone { .. } | Action::Restore { .. }
        );
        let hangs = host.slots[w].server.hung && !alone;
        if host.is_still() || host.hanging > 0 || hangs {
            // The driver stands still with its daemon, or waits for its server.
            self.after(10 * MS, Happening::Act(h, run, w, number, action));
            return Ok(());
        }
        if let Action::HoldBack { upstream, mark } = &action
            && self.goes_up(h, w, upstream, mark)
        {
            self.after(10 * MS, Happening::Act(h, run, w, number, action));
            return Ok(());
        }
        if matches!(action, Action::StopClean { .. }) {
            self.check_joined_meanwhile(h, w)?;
        }
        let host = &mut self.hosts[h];
        host.slots[w].acting.remove(&number);
        let fails = self.weather.flaky > 0 && self.chance.random_range(0..100) < self.weather.flaky;
        let result = if let Some(refused) = self.refusal_of(h, w, &action) {
            Ok(refused)
        } else if fails {
            if self.chance.random_range(0..2) == 0 {
                let _: Result<Done, String> = self.act(h, w, action);
            }
            Err("nobody knows why".to_string())
        } else {
            self.act(h, w, action)
        };
        let (workload, observation) = (self.workloads[w].clone(), self.observe(h, w));
        self.input(
            h,
            run,
            Input::Observed {
                workload: workload.clone(),
                observation,
            },
        )?;
        self.input(
            h,
            run,
            Input::Acted {
                workload,
                id: number,
                result,
            },
        )
    }

    pub(super) fn guarded(&self) -> bool {
        self.guarded && self.planted != Some(Planted::NoGuard)
    }

    fn act(&mut self, h: usize, w: usize, action: Action) -> Result<Done, String> {
        match action {
            Action::Create | Action::StartPrimary => {
                let server = &mut self.hosts[h].slots[w].server;
                if server.standby || (server.runs && action == Action::StartPrimary) {
                    return Err("not the data of a stopped primary".into());
                }
                if action == Action::StartPrimary && !server.has_data {
                    return Err("there are no data".into());
                }
                if !server.runs {
                    server.start();
                    (server.has_data, server.primary, server.sync) = (true, true, Sync::Impossible);
                }
                Ok(Done::Ok)
            }
            Action::StartStandby { upstream } => {
                let server = &mut self.hosts[h].slots[w].server;
                if server.runs || !server.has_data {
                    return Err("something runs already, or there are no data".into());
                }
                server.start();
                (server.primary, server.standby, server.receiving) = (false, true, false);
                server.upstream = Some(upstream);
                Ok(Done::Ok)
            }
            Action::Checkpoint => Ok(Done::Ok),
            Action::StopClean { .. } => Ok(self.stop_clean(h, w)),
            Action::StopNow => {
                self.hosts[h].slots[w].server.stop();
                Ok(Done::Stopped { clean_at: None })
            }
            Action::Promote { after } => self.promote(h, w, after.as_ref()),
            Action::Settle { .. } => {
                let server = &mut self.hosts[h].slots[w].server;
                if !server.runs {
                    return Err("the server does not run".into());
                }
                (server.upstream, server.receiving) = (None, false);
                // What is said to be there for good is flushed.
                server.flushed = server.wal.len();
                Ok(Done::Settled { at: server.end() })
            }
            Action::Repoint { upstream } => {
                self.hosts[h].slots[w].server.upstream = Some(upstream);
                Ok(Done::Ok)
            }
            Action::Clone { from } => self.copy(h, w, &from),
            Action::Restore { to, .. } => self.restore(h, w, &to),
            Action::Rewind { to } => {
                let source = self.hosts[self.source(h, w, &to)?].slots[w].server.clone();
                let server = &mut self.hosts[h].slots[w].server;
                if server.runs {
                    return Err("the server runs".into());
                }
                server.rewind(&source);
                Ok(Done::Ok)
            }
            Action::SetSync(setting) => self.hold_sync(h, w, setting),
            Action::Mark { .. } => {
                let server = &mut self.hosts[h].slots[w].server;
                if !server.is_primary() {
                    return Err("not a primary".into());
                }
                server.flushed = server.wal.len();
                Ok(Done::Marked { at: server.end() })
            }
            Action::HoldBack { .. } => {
                let server = &mut self.hosts[h].slots[w].server;
                server.receiving = false;
                server.upstream = None;
                server.flushed = server.wal.len();
                if server.held_at().is_none() {
                    return Err("the point is not in what it follows".into());
                }
                let stood = server.target.clone();
                self.hosts[h].slots[w].stood = stood;
                Ok(Done::Ok)
            }
        }
    }

    /// Whether a standby is on its way up to a point.
    fn goes_up(&mut self, h: usize, w: usize, upstream: &NodeId, mark: &Mark) -> bool {
        let server = &mut self.hosts[h].slots[w].server;
        let at = usize::try_from(mark.at.number).expect("it was a length");
        if !server.runs && server.has_data {
            server.start();
            (server.primary, server.standby, server.receiving) = (false, true, false);
            server.upstream = Some(upstream.clone());
            server.target = Some((mark.label.clone(), at));
        }
        server.runs && server.target.is_some() && server.wal.len() < at
    }

    /// The setting is made, and everybody in it has everything from before.
    fn hold_sync(&mut self, h: usize, w: usize, setting: SyncSetting) -> Result<Done, String> {
        let SyncSetting {
            epoch,
            number,
            standbys,
            unprotected,
        } = setting;
        let sync = match (standbys.is_empty(), unprotected) {
            (true, true) => Sync::Unprotected,
            (true, false) => Sync::Impossible,
            _ => Sync::Names(standbys.clone()),
        };
        // Whether commits wait is decided when the server gets to it; a driver that has not seen one
        // wait says so (D2).
        if self.hosts[h].stalled > 0 {
            return if self.planted == Some(Planted::UnprovenSetting) {
                Ok(Done::Ok)
            } else {
                Err("commits return although nobody could confirm them".into())
            };
        }
        let spec = self.hosts[h].node.as_ref().map(|node| node.spec());
        let loss = spec.and_then(|spec| spec.workloads.get(&self.workloads[w]));
        // From when a primary has taken a loss its writes are acknowledged by it.
        if let Some(loss) = loss.map(|spec| spec.loss) {
            self.hosts[h].slots[w].loss = Some(loss);
        }
        self.set_sync(h, w, (epoch.0, number), sync)?;
        let at = self.hosts[h].slots[w].server.barrier;
        let have = self.followers(h, w);
        let has = |n: &NodeId| have.iter().any(|(f, p)| self.names[*f] == *n && *p >= at);
        if standbys.iter().all(has) {
            Ok(Done::Ok)
        } else {
            Err("not every member has everything yet".into())
        }
    }

    /// Whom a copy is made from, if it answers and serves.
    fn source(&self, h: usize, w: usize, node: &NodeId) -> Result<usize, String> {
        let from = self.place(node);
        let up = self.connected(h, from) && self.connected(from, h);
        let serves = self.hosts[from].serves(w, self.now, self.guarded());
        (up && serves)
            .then_some(from)
            .ok_or_else(|| format!("{node} does not answer"))
    }

    /// Standbys that stream receive everything before it ends.
    fn stop_clean(&mut self, h: usize, w: usize) -> Done {
        let behind: Vec<usize> = self.followers(h, w).into_iter().map(|(n, _)| n).collect();
        let server = &mut self.hosts[h].slots[w].server;
        server.flushed = server.wal.len();
        for node in behind {
            self.stream(node, w, usize::MAX);
        }
        let server = &mut self.hosts[h].slots[w].server;
        let clean = server.runs && !server.first_gone;
        let at = server.length();
        server.stop();
        Done::Stopped {
            clean_at: clean.then_some(at),
        }
    }

    fn promote(&mut self, h: usize, w: usize, after: Option<&History>) -> Result<Done, String> {
        let promotion = self.next_promotion;
        self.next_promotion += 1;
        let server = &mut self.hosts[h].slots[w].server;
        if !server.runs || server.first_gone {
            return Err("the server does not run".into());
        }
        if !server.primary {
            let at = server.wal.len();
            server
                .timelines
                .push((server.timeline().0 + 1, at, promotion));
            (server.primary, server.standby, server.receiving) = (true, false, false);
            (server.sync, server.flushed) = (Sync::Impossible, at);
        }
        Ok(Done::Promoted(server.promotion(after)))
    }

    fn copy(&mut self, h: usize, w: usize, from: &NodeId) -> Result<Done, String> {
        let copy = self.hosts[self.source(h, w, from)?].slots[w].server.clone();
        Ok(self.put_copy(h, w, copy))
    }

    /// A base backup may be of a history that went on elsewhere, or have more of it than it was left
    /// with.
    fn restore(&mut self, h: usize, w: usize, to: &NodeId) -> Result<Done, String> {
        let primary = &self.hosts[self.source(h, w, to)?].slots[w].server;
        let backup = self.base_backups.get(w).and_then(Option::as_ref);
        match backup
            .filter(|backup| backup.can_stream_from(primary))
            .cloned()
        {
            Some(backup) => Ok(self.put_copy(h, w, backup)),
            None => Ok(Done::MustClone {
                why: format!("there is none of the history of {to}"),
            }),
        }
    }

    fn put_copy(&mut self, h: usize, w: usize, copy: Server) -> Done {
        let server = &mut self.hosts[h].slots[w].server;
        server.stop();
        (server.wal, server.timelines) = (copy.wal, copy.timelines);
        // A copy is given what its source has flushed, as a stream is.
        server.wal.truncate(copy.flushed);
        server.timelines.retain(|(_, at, _)| *at <= copy.flushed);
        (server.has_data, server.standby, server.flushed) = (true, true, server.wal.len());
        Done::Ok
    }

    /// Somebody makes a base backup of each primary, of what it has flushed.
    pub(super) fn back_up_primaries(&mut self) {
        self.base_backups.resize(self.workloads.len(), None);
        for (w, id) in self.workloads.iter().enumerate() {
            let opened = self.truth.state.workload(id).opened.as_ref();
            let Some(holder) = opened.map(|opened| self.place(&opened.holder)) else {
                continue;
            };
            let server = &self.hosts[holder].slots[w].server;
            if server.is_primary() {
                let mut backup = server.clone();
                backup.wal.truncate(backup.flushed);
                backup.timelines.retain(|(_, at, _)| *at <= server.flushed);
                self.base_backups[w] = Some(backup);
            }
        }
    }

    fn set_sync(
        &mut self,
        h: usize,
        w: usize,
        number: (u64, u64),
        sync: Sync,
    ) -> Result<(), String> {
        let server = &mut self.hosts[h].slots[w].server;
        if !server.is_primary() || number < server.sync_number {
            return Err("not a primary, or a late setting".into());
        }
        if (server.sync_number, &server.sync) != (number, &sync) {
            // Whatever was written before commits waited for them (D2).
            server.barrier = server.wal.len();
        }
        (server.sync_number, server.sync) = (number, sync);
        Ok(())
    }

    /// The standbys that stream from this primary, with their flushed positions.
    pub(super) fn followers(&self, primary: usize, w: usize) -> Vec<(usize, usize)> {
        if !self.hosts[primary].serves(w, self.now, self.guarded()) {
            return Vec::new();
        }
        let flushed = |n| Some((n, self.flushed_by(n, primary, w)?));
        (0..self.hosts.len()).filter_map(flushed).collect()
    }

    /// How much a standby of that primary confirms.
    fn flushed_by(&self, standby: usize, primary: usize, w: usize) -> Option<usize> {
        let (host, name) = (&self.hosts[standby], &self.names[primary]);
        let server = &host.slots[w].server;
        let follows = server.runs && server.receiving && server.upstream.as_ref() == Some(name);
        let speaks = !host.stands() && !server.hung && self.connected(primary, standby);
        (follows && speaks).then_some(server.flushed)
    }

    pub(super) fn observe(&self, h: usize, w: usize) -> Observation {
        let server = &self.hosts[h].slots[w].server;
        if !server.is_primary() {
            return server.observe(Vec::new());
        }
        let seen = |(node, at): (usize, usize)| {
            let near = server.flushed.saturating_sub(at) <= NEAR;
            let at = Some(at as u64);
            Downstream {
                node: self.names[node].clone(),
                sent: at,
                flushed: at,
                replayed: at,
                streaming: true,
                near,
                delay: None,
            }
        };
        server.observe(self.followers(h, w).into_iter().map(seen).collect())
    }

    /// One standby receives up to `most` writes.
    fn stream(&mut self, h: usize, w: usize, most: usize) {
        let server = &self.hosts[h].slots[w].server;
        if !server.runs || server.primary || server.hung || self.hosts[h].stands() {
            return;
        }
        let Some(from) = server.upstream.as_ref().map(|n| self.place(n)) else {
            return;
        };
        let linked = from != h
            && self.connected(from, h)
            && self.connected(h, from)
            && self.hosts[from].serves(w, self.now, self.guarded());
        let Ok([host, source]) = self.hosts.get_disjoint_mut([h, from]) else {
            return;
        };
        let (server, primary) = (&mut host.slots[w].server, &source.slots[w].server);
        server.receiving = linked && server.can_stream_from(primary);
        if server.receiving {
            let have = server.wal.len();
            // A primary sends what it has flushed, and nothing else.
            let target = server.target.as_ref().map_or(usize::MAX, |(_, at)| *at);
            let upto = have.saturating_add(most).min(target);
            let upto = primary.flushed.min(upto).max(have);
            server.wal.extend_from_slice(&primary.wal[have..upto]);
            if server.timelines.len() < primary.timelines.len() {
                server.timelines = primary
                    .timelines
                    .iter()
                    .filter(|(_, at, _)| *at <= upto)
                    .copied()
                    .collect();
            }
        }
    }

    /// Four milliseconds of the servers' and clients' lives; every 20th, the drivers probe.
    /// Each daemon looks at its host's wall clock now and then; people's times end by it.
    fn tell_the_time(&mut self) -> Verdict {
        for h in 0..self.hosts.len() {
            let (run, off) = (self.hosts[h].run, self.hosts[h].wall_off);
            let unix = (WALL + self.now / SECOND).saturating_add_signed(off);
            self.input(h, run, Input::Clock { unix })?;
        }
        Ok(())
    }

    pub(super) fn tick(&mut self) -> Verdict {
        self.join()?;
        let millis = self.now / MS;
        self.note_ill();
        if self.tells_time && millis % 1_000 < 4 {
            self.tell_the_time()?;
        }
        if millis % 100 < 4 {
            self.check_readers()?;
        }
        for w in 0..self.workloads.len() {
            for h in 0..self.hosts.len() {
                if !self.hosts[h].slots[w].server.runs {
                    continue;
                }
                let dice = self.chance.random_range(0..20u32);
                let standby =
                    self.hosts[h].slots[w].server.runs && !self.hosts[h].slots[w].server.primary;
                // One that is slow receives a write now and then.
                let most = if self.hosts[h].slow_standby == 0 {
                    12
                } else {
                    usize::from(dice < 2)
                };
                if standby && most > 0 && dice < 15 {
                    self.stream(h, w, most);
                }
                if dice > 1 && !self.hosts[h].stands() {
                    let server = &mut self.hosts[h].slots[w].server;
                    server.flushed = server.wal.len();
                }
            }
            for h in 0..self.hosts.len() {
                if self.hosts[h].serves(w, self.now, self.guarded()) {
                    let write = self.next_write;
                    self.next_write += 1;
                    let server = &mut self.hosts[h].slots[w].server;
                    server.wal.push(write);
                    server.waiting.push((server.wal.len(), write));
                    self.acknowledge(h, w);
                }
            }
        }
        self.probe(millis)?;
        self.check_tick()?;
        if millis.is_multiple_of(100) {
            self.check_progress()?;
            self.note_primaries();
        }
        self.after(TICK, Happening::Tick);
        Ok(())
    }

    fn probe(&mut self, millis: u64) -> Verdict {
        if !millis.is_multiple_of(20) {
            return Ok(());
        }
        for w in 0..self.workloads.len() {
            let workload = self.workloads[w].clone();
            for h in 0..self.hosts.len() {
                let every = if self.hosts[h].slots[w].closely {
                    20
                } else {
                    20 * u64::from(CALM_LOOKS)
                };
                let mine = self.looks_after(h, &workload);
                if millis.is_multiple_of(every)
                    && mine
                    && self.hosts[h].has_power
                    && !self.hosts[h].is_still()
                {
                    let (run, observation) = (self.hosts[h].run, self.observe(h, w));
                    self.input(
                        h,
                        run,
                        Input::Observed {
                            workload: workload.clone(),
                            observation,
                        },
                    )?;
                }
            }
        }
        Ok(())
    }

    /// Commits return once everyone that the setting names has them, and so has the primary itself.
    fn acknowledge(&mut self, h: usize, w: usize) {
        let server = &self.hosts[h].slots[w].server;
        if server.waiting.is_empty() {
            return;
        }
        let others = match &server.sync {
            Sync::Impossible => 0,
            Sync::Unprotected => usize::MAX,
            Sync::Names(names) => {
                // It serves: what it has written just now is to be confirmed.
                let position = |n: &NodeId| self.flushed_by(self.place(n), h, w).unwrap_or(0);
                names.iter().map(position).min().unwrap_or(0)
            }
        };
        let upto = others.min(server.flushed);
        let server = &mut self.hosts[h].slots[w].server;
        let ready = server
            .waiting
            .iter()
            .take_while(|(at, _)| *at <= upto)
            .count();
        if ready == 0 {
            return;
        }
        let done: Vec<u64> = server
            .waiting
            .drain(..ready)
            .map(|(_, write)| write)
            .collect();
        let service = &mut self.service[w];
        if service.last_acknowledged > 0 {
            service.longest_pause = service
                .longest_pause
                .max(self.now - service.last_acknowledged);
        }
        service.last_acknowledged = self.now;
        let when = (self.now, self.is_primary_heard(h));
        let loss = self.hosts[h].slots[w].loss.unwrap_or(Loss::None);
        self.truth.acknowledge(w, &done, loss, when);
    }

    /// A majority of the voters hears how far a primary is, from its own daemon. What it writes
    /// otherwise counts for no bound by size: the next coordinator may have heard none of it.
    fn is_primary_heard(&self, h: usize) -> bool {
        let speaks = self.hosts[h].node.is_some() && !self.hosts[h].is_still();
        let hears = |o: &usize| *o == h || (self.connected(h, *o) && !self.hosts[*o].is_still());
        let hearing = (0..self.hosts.len()).filter(hears).map(|o| &self.names[o]);
        match &self.truth.state.charter.voters {
            Some(voters) => speaks && voters.is_majority(hearing),
            None => speaks && self.voters().is_majority(hearing),
        }
    }
}
