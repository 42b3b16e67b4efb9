//! L1 in the middle of faults: while a majority is well, and with it a copy that may serve, clients
//! can write again within a bound.

use super::host::Host;
use super::{MS, World};
use crate::check::Verdict;
use karst_core::NodeId;
use karst_core::intent::Intended;
use karst_core::operation::Mode;
use karst_core::spec::{Alone, Clock, Loss};

/// Longer than anything that has to be waited for: a lease, a promotion that hangs, a settling, an
/// operator's move to nowhere.
const BOUND: u64 = 20_000 * MS;
/// A store that takes longer to sync holds everybody up.
const SLOW_SYNC_MS: u64 = 50;

impl World {
    /// Called now and then.
    pub(super) fn check_progress(&mut self) -> Verdict {
        for w in 0..self.workloads.len() {
            if !self.should_serve(w) {
                self.service[w].hindered_at = self.now;
            }
            let service = self.service[w];
            if self
                .now
                .saturating_sub(service.hindered_at.max(service.last_acknowledged))
                > BOUND
            {
                let (id, state) = (
                    &self.workloads[w],
                    self.truth.state.workload(&self.workloads[w]),
                );
                let what = format!(
                    "a majority and a copy of {id} have been well since {} ms, and clients cannot write since {} ms: {:?}",
                    service.hindered_at / MS,
                    service.last_acknowledged / MS,
                    state
                );
                return Err(("L1", what));
            }
        }
        Ok(())
    }

    /// Whether nothing is broken that clients of this workload would have to wait for.
    fn should_serve(&self, w: usize) -> bool {
        let (id, weather) = (&self.workloads[w], &self.weather);
        let state = self.truth.state.workload(id);
        let charter = &self.truth.state.charter;
        let Some(spec) = self.in_force().workloads.get(id) else {
            return false;
        };
        let ends = |intended: &Intended| intended.change.workloads_out.contains(id);
        // A rule may keep it down until a person decides.
        let ruled = spec.rules.keep > 0 || !spec.rules.never.is_empty();
        if ruled || charter.intents.values().any(ends) {
            return false;
        }
        if weather.lossy.is_some()
            || weather.flaky > 0
            || weather.cut.values().any(|cuts| *cuts > 0)
        {
            return false;
        }
        let well: Vec<&NodeId> = self
            .names
            .iter()
            .zip(&self.hosts)
            .filter(|(n, h)| self.is_well(n, h))
            .map(|(n, _)| n)
            .collect();
        let majority = self.voters().is_majority(well.iter().copied());
        if state.mode != Mode::Act || !majority || !self.votes_can_change() {
            return false;
        }
        let Some(opened) = &state.opened else {
            let all = spec.replicas.keys().all(|n| well.contains(&n));
            return all && !self.asks_whose_data(w);
        };
        let holder = state.holder().unwrap_or(&opened.holder);
        // Only its own word, or its power device's, ends a primary whose clock may stop.
        let stops = |n: &NodeId| self.spec.nodes[n].clock == Clock::MayStop && !well.contains(&n);
        if stops(holder) || stops(&opened.holder) {
            return false;
        }
        let copies = spec.replicas.keys().filter(|n| {
            let counts = *n == &opened.holder || state.sync.sure.contains(n);
            counts && state.unsound(n).is_none() && well.contains(n)
        });
        match (spec.loss, spec.alone) {
            (Loss::Bytes(_), _) => well.contains(&&opened.holder),
            (Loss::None, Alone::Continue) => copies.count() > 0,
            (Loss::None, Alone::Block) => copies.count() > 1,
        }
    }

    /// A workload has the name of a removed one, whose data lie there, and more than one copy could
    /// be the right one: a person has to say which.
    pub(super) fn asks_whose_data(&self, w: usize) -> bool {
        let id = &self.workloads[w];
        let state = self.truth.state.workload(id);
        let spec = self.in_force().workloads.get(id);
        let replicas = spec.iter().flat_map(|spec| spec.replicas.keys());
        let servers = replicas.map(|node| &self.hosts[self.place(node)].slots[w].server);
        let full = servers.filter(|server| server.has_data);
        let originals = full.clone().filter(|server| !server.standby).count();
        state.epoch.0 > 0 && state.opened.is_none() && full.count() > 1 && originals != 1
    }

    /// A change of votes that somebody has begun comes to no end where too few of those who are to
    /// vote have their stores still: nobody inside can mend that.
    pub(super) fn votes_can_change(&self) -> bool {
        if self.hosts.iter().all(|host| host.disk.stored.counts) {
            return true;
        }
        let hosts = self.names.iter().zip(&self.hosts);
        let stores: Vec<&NodeId> = hosts
            .filter(|(_, host)| host.disk.stored.counts)
            .map(|(name, _)| name)
            .collect();
        let mut nodes = self.hosts.iter().filter_map(|host| host.node.as_ref());
        nodes.all(|node| node.voters().is_majority(stores.iter().copied()))
    }

    /// When something was the matter with a host last.
    pub(super) fn note_ill(&mut self) {
        let cut = self.weather.lossy.is_some() || self.weather.cut.values().any(|n| *n > 0);
        for h in 0..self.hosts.len() {
            if cut || !self.is_well(&self.names[h], &self.hosts[h]) {
                self.hosts[h].ill_at = self.now;
            }
        }
    }

    /// Whether those who vote are a majority without these, of hosts that have been well for long
    /// enough for a screen to know.
    pub(super) fn decides_without(&self, nodes: &[NodeId]) -> bool {
        let well =
            |(name, host): &(&NodeId, &Host)| !nodes.contains(name) && self.is_well(name, host);
        let all = self.names.iter().zip(&self.hosts);
        let well = all.filter(well).map(|(name, _)| name);
        self.voters().is_majority(well)
    }

    /// All hosts that are on have been well for so long.
    pub(super) fn is_calm_for(&self, time: u64) -> bool {
        let on = self.hosts.iter().filter(|host| host.has_power);
        let calm = |host: &Host| self.now.saturating_sub(host.ill_at) > time;
        on.into_iter().all(calm)
    }

    fn is_well(&self, name: &NodeId, host: &Host) -> bool {
        let ill = [
            host.deadman_dead,
            host.deadman_late,
            host.hanging,
            host.slow_standby,
            host.isolated,
        ];
        let answers = host.slots.iter().all(|slot| !slot.server.hung);
        host.has_power
            && host.node.is_some()
            && !host.is_still()
            && ill.iter().all(|times| *times == 0)
            && answers
            && host.sync_ms <= SLOW_SYNC_MS
            && host.syncs.last() <= self.now + SLOW_SYNC_MS * MS
            && host.disk.stored.counts
            && self.truth.state.fenced(name).is_none()
    }
}
