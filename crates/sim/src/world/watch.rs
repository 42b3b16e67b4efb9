//! The guarantees that are checked of the whole world: at every instant, with every tick, after
//! each step of a node, and at the end.

use super::host::Host;
use super::{MS, World};
use crate::check::{Data, Verdict};
use crate::cluster::HOSTILE;
use karst_core::consensus::Stored;
use karst_core::spec::Clock;
use karst_core::state::Tenure;
use karst_core::{Index, NodeId, Term};

/// So long after its own bound a gate may still be told to hold.
const GATE_SLACK: u64 = 5 * MS;

struct Servers<'a> {
    names: &'a [NodeId],
    hosts: &'a [Host],
}

impl Data for Servers<'_> {
    fn log_of(&self, holder: &NodeId, w: usize) -> &[u64] {
        let h = self.names.binary_search(holder).expect("it is in the spec");
        &self.hosts[h].slots[w].server.wal
    }

    fn durable_on(&self, index: Index, term: Term) -> Vec<NodeId> {
        let has = |stored: &Stored| {
            let within = stored
                .snapshot
                .as_ref()
                .is_some_and(|s| s.last.index >= index);
            let entry = || {
                stored
                    .entries
                    .iter()
                    .rev()
                    .any(|e| (e.term, e.index) == (term, index))
            };
            stored.counts && (within || entry())
        };
        let had = |h: &Host| has(&h.disk.stored) || h.lost.as_ref().is_some_and(has);
        // A hostile voter says that it has everything, and is believed: beside it an entry is on one disk
        // less. Without a vote it is not counted.
        self.names
            .iter()
            .zip(self.hosts)
            .filter(|(n, h)| had(h) || n.as_str() == HOSTILE)
            .map(|(n, _)| n.clone())
            .collect()
    }
}

impl World {
    pub(super) fn broken(&self, guarantee: &'static str, what: String) -> Verdict {
        Err((guarantee, what))
    }

    /// S3 and S7 hold at every instant.
    pub(super) fn check_instant(&mut self) -> Verdict {
        let guarded = self.guarded();
        for w in 0..self.workloads.len() {
            let serving = |h: &usize| self.hosts[*h].serves(w, self.now, guarded);
            let mut primaries = (0..self.hosts.len()).filter(serving);
            if let (Some(a), Some(b)) = (primaries.next(), primaries.next()) {
                let (a, b) = (&self.names[a], &self.names[b]);
                return self.broken(
                    "S3",
                    format!(
                        "two primaries of {} serve at once: {a} and {b}",
                        self.workloads[w]
                    ),
                );
            }
            if self.floats[w] {
                self.check_address(w)?;
            }
        }
        Ok(())
    }

    /// S6 and C8, and the leases of leadership.
    /// P1: whoever stands at a safety point stays there until the log lets go of it, or has it go on
    /// as the primary.
    fn check_points(&mut self) -> Verdict {
        for h in 0..self.hosts.len() {
            for w in 0..self.workloads.len() {
                let slot = &self.hosts[h].slots[w];
                let Some((_, at)) = slot.stood else { continue };
                let has = slot.server.wal.len();
                match self.stands_at(h, w) {
                    None => self.hosts[h].slots[w].stood = None,
                    Some(label) if has != at => {
                        let what = format!(
                            "{} stood at {at}, at {label}, and is at {has}",
                            self.names[h]
                        );
                        return Err(("P1", what));
                    }
                    Some(_) => {}
                }
            }
        }
        Ok(())
    }

    pub(super) fn check_tick(&mut self) -> Verdict {
        self.check_points()?;
        let now = self.now;
        let over = || {
            let (charter, timings) = (&self.truth.state.charter, &self.in_force().timings);
            let over = charter.longest(timings, |t| t.lease_is_over_after() + t.heartbeat);
            over.as_nanos() as u64
        };
        for (h, host) in self.hosts.iter().enumerate() {
            let name = &self.names[h];
            let fenced = if self.truth.fenced_at.is_empty() {
                None
            } else {
                self.truth.fenced_at.get(name).copied()
            };
            for (w, id) in self.workloads.iter().enumerate() {
                let slot = &host.slots[w];
                // Whoever is fenced holds nothing once its leases are over, and nothing at all once
                // its power was off.
                let off = || self.truth.state.fenced(name).is_some_and(|f| f.off);
                let proves = || self.spec.nodes[name].clock != Clock::MayStop;
                if let Some(at) = fenced
                    && ((now > at + over() && proves()) || off())
                {
                    let holds = [
                        (host.serves(w, now, self.guarded()), "runs a primary"),
                        (self.answers_for(host, w), "answers for the address"),
                        (
                            !host.is_still() && slot.gate.forwarding.is_some(),
                            "forwards clients",
                        ),
                    ];
                    if let Some((_, what)) = holds.iter().find(|(so, _)| *so) {
                        return self.broken("S6", format!("{name} is fenced and {what} of {id}"));
                    }
                }
                let Some(node) = host.node.as_ref().filter(|_| !host.is_still()) else {
                    continue;
                };
                if let Some(epoch) = slot.gate.forwarding {
                    let until = node.gate_until(id, epoch).unwrap_or_default();
                    if host.clock.at(now.saturating_sub(GATE_SLACK)) > until {
                        return self.broken(
                            "C8",
                            format!("the gate on {name} forwards to epoch {epoch} without a lease"),
                        );
                    }
                }
                self.check_served_after_write(w, epoch_of(slot))?;
            }
        }
        Ok(())
    }

    /// D7: after a restart in place nobody is let in before a write is replicated to the set.
    fn check_served_after_write(&self, w: usize, forwarding: Option<u64>) -> Verdict {
        let Some(epoch) = forwarding.filter(|_| !self.truth.restarted_in_place.is_empty()) else {
            return Ok(());
        };
        let state = self.truth.state.workload(&self.workloads[w]);
        let Some(opened) = &state.opened else {
            return Ok(());
        };
        if opened.epoch.0 != epoch || !self.truth.restarted_in_place.contains(&(w, epoch)) {
            return Ok(());
        }
        let h = self.place(&opened.holder);
        let server = &self.hosts[h].slots[w].server;
        if server.is_primary() && server.sync_number.0 < epoch {
            return self.broken(
                "D7",
                format!("clients are let in to epoch {epoch} before it waits for its standbys"),
            );
        }
        Ok(())
    }

    /// What one node has come to, after it took a step.
    pub(super) fn check_node(&mut self, h: usize, checked_in: Option<&NodeId>) -> Verdict {
        let Self {
            truth,
            hosts,
            names,
            workloads,
            ..
        } = self;
        let Some(node) = hosts[h].node.as_ref() else {
            return Ok(());
        };
        truth.check_leader(node)?;
        truth.check_reports(node, checked_in)?;
        let servers = Servers { names, hosts };
        truth.check_commits(node, workloads, &servers, self.now)?;
        if node.is_coordinator() {
            self.check_leadership(h)?;
        }
        Ok(())
    }

    /// At most one lease of leadership is valid (A1, A3). Whose clock may stop grants nothing on
    /// its own word (C4).
    fn check_leadership(&self, h: usize) -> Verdict {
        let leads = |other: &usize| {
            let host = &self.hosts[*other];
            let Some(node) = host.node.as_ref().filter(|node| node.is_coordinator()) else {
                return false;
            };
            let clock = self.spec.nodes[&self.names[*other]].clock;
            clock != Clock::MayStop && node.leads_at(host.clock.at(self.now))
        };
        if leads(&h)
            && let Some(other) = (0..self.hosts.len()).find(|o| *o != h && leads(o))
        {
            let (a, b) = (&self.names[h], &self.names[other]);
            return self.broken(
                "lease",
                format!("{a} and {b} both have a valid lease of leadership"),
            );
        }
        Ok(())
    }

    /// After the calm everybody serves, and nothing that was acknowledged is missing anywhere (L1,
    /// S5).
    pub(super) fn check_end(&mut self, calm_ms: u64) -> Verdict {
        if !self.votes_can_change() {
            // Nobody need serve; what was acknowledged is there all the same.
            return (0..self.workloads.len()).try_for_each(|w| self.check_holder(w));
        }
        let asks = (0..self.workloads.len()).any(|w| self.asks_whose_data(w));
        if calm_ms >= 20_000
            && !asks
            && let Some((id, intended)) = self.truth.state.charter.intents.iter().next()
        {
            let (id, title) = (*id, intended.what.want.title());
            let status = self
                .coordinator()
                .cloned()
                .and_then(|leader| self.status(&leader));
            let intents = status.map_or_else(Vec::new, |status| status.intents);
            let steps = intents
                .into_iter()
                .filter(|i| i.id == id)
                .flat_map(|i| i.steps);
            let open: Vec<String> = steps
                .filter(|step| !step.done)
                .map(|step| format!("{} ({:?})", step.text, step.waits))
                .collect();
            let what = format!(
                "{id}, {title}, is not done after the calm: {}",
                open.join("; ")
            );
            return self.broken("L1", what);
        }
        for w in 0..self.workloads.len() {
            let here = self.in_force().workloads.contains_key(&self.workloads[w]);
            if !here || self.asks_whose_data(w) {
                continue;
            }
            let lately = self.now.saturating_sub(self.service[w].last_acknowledged) < 1_000 * MS;
            let id = self.workloads[w].clone();
            let floats = self.floats[w] && self.in_force().workloads[&id].address.is_some();
            self.truth.check_served(&id, lately)?;
            if floats
                && calm_ms > 0
                && self.now.saturating_sub(self.service[w].address_answered) > 100 * MS
            {
                return self.broken("L1", "nobody answers for the address".into());
            }
            if calm_ms >= 20_000 {
                self.check_copies(w)?;
            }
            if calm_ms > 0 {
                self.check_name(w)?;
            }
        }
        Ok(())
    }

    /// No reader is let to data older than the spec allows, but for the time that a word of the
    /// coordinator's counts.
    pub(super) fn check_readers(&self) -> Verdict {
        for (w, id) in self.workloads.iter().enumerate() {
            let Some(spec) = self.in_force().workloads.get(id) else {
                continue;
            };
            let Some(reads) = &spec.reads else { continue };
            let timings = &self.spec.timings;
            let slack = timings.lease * 2 + timings.heartbeat * 4;
            let allowed = (reads.age + slack).as_millis() as u64 * MS;
            let before = self.now.saturating_sub(allowed);
            let Some(newest) = self.truth.newest_before(w, before) else {
                continue;
            };
            for host in self.hosts.iter().filter(|host| !host.is_still()) {
                for node in host.slots[w].readers.iter().flatten().map(|(n, _)| n) {
                    let server = &self.hosts[self.place(node)].slots[w].server;
                    // Writes are numbered in their order.
                    if server.runs && server.wal.binary_search(&newest).is_err() {
                        let what = format!(
                            "readers are let to {node}, which lacks write {newest} of more than {} s ago",
                            allowed / MS / 1_000
                        );
                        return self.broken("readers", what);
                    }
                }
            }
        }
        Ok(())
    }

    /// Whoever is primary has every write that was acknowledged (S5).
    fn check_holder(&self, w: usize) -> Verdict {
        let state = self.truth.state.workload(&self.workloads[w]);
        let Tenure::Open { holder, .. } = &state.tenure else {
            return Ok(());
        };
        let primary = &self.hosts[self.place(holder)].slots[w].server;
        match self.truth.lacks(w, &primary.wal).first() {
            None => Ok(()),
            Some(write) => self.broken(
                "S5",
                format!("{holder} lacks acknowledged write {write} at the end"),
            ),
        }
    }

    fn check_copies(&self, w: usize) -> Verdict {
        self.check_holder(w)?;
        let state = self.truth.state.workload(&self.workloads[w]);
        let Tenure::Open { holder, .. } = &state.tenure else {
            return Ok(());
        };
        let primary = &self.hosts[self.place(holder)].slots[w].server;
        for (h, host) in self
            .hosts
            .iter()
            .enumerate()
            .filter(|(_, h)| h.slots[w].server.receiving)
        {
            let copy = &host.slots[w].server.wal;
            if copy.iter().zip(&primary.wal).any(|(a, b)| a != b) {
                return self.broken(
                    "D5",
                    format!(
                        "{} streams and has another history than {holder}",
                        self.names[h]
                    ),
                );
            }
        }
        Ok(())
    }
}

fn epoch_of(slot: &super::host::Slot) -> Option<u64> {
    slot.gate.forwarding.map(|e| e.0)
}
