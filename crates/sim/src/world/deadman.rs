//! The deadman of each host, and the packet guard that it renews: both outlive the daemon.

use super::{Happening, MS, World};
use karst_core::authority::{Claim, Deadline};
use karst_core::{Input, Planted};
use rand::Rng;

impl World {
    /// To a daemon that connects: what is counted down for each claim.
    pub(super) fn say_deadlines(&mut self, h: usize) {
        if self.hosts[h].deadman_dead > 0 {
            return;
        }
        for w in 0..self.workloads.len() {
            let (workload, slot) = (self.workloads[w].clone(), &self.hosts[h].slots[w]);
            let both = [
                (Claim::Primary(workload.clone()), slot.deadline),
                (Claim::Address(workload), slot.address_deadline),
            ];
            for (claim, deadline) in both {
                self.confirm(h, claim, deadline, 1_000);
            }
        }
    }

    fn confirm(&mut self, h: usize, claim: Claim, deadline: Option<Deadline>, delay: u64) {
        let run = self.hosts[h].run;
        self.after(
            delay,
            Happening::Input(
                h,
                run,
                Input::Armed {
                    claim,
                    deadline,
                    unguarded: None,
                },
            ),
        );
    }

    /// A deadline is moved, or taken away; with it the guard (C3).
    pub(super) fn arm(&mut self, h: usize, run: u64, claim: Claim, deadline: Option<Deadline>) {
        if self.hosts[h].run != run || self.hosts[h].deadman_dead > 0 {
            return;
        }
        let w = self.place_of(claim.workload());
        let now = self.now;
        let slot = &mut self.hosts[h].slots[w];
        if let Claim::Address(_) = claim {
            slot.address_deadline = deadline;
        } else {
            (slot.deadline, slot.guard) = (deadline, deadline.map(|d| d.at));
            slot.moved += 1;
            if let Some(deadline) = deadline {
                let (moved, act_at) = (
                    slot.moved,
                    self.hosts[h].clock.true_time(deadline.stop_by()),
                );
                self.at(act_at.max(now), Happening::Deadman(h, w, moved));
            }
        }
        self.confirm(h, claim, deadline, MS / 5);
    }

    /// Ends the server when its deadline has come.
    pub(super) fn deadman(&mut self, h: usize, w: usize, moved: u64) {
        let now = self.now;
        let host = &self.hosts[h];
        let slot = &host.slots[w];
        let Some(deadline) = slot
            .deadline
            .filter(|_| slot.moved == moved && host.has_power)
        else {
            return;
        };
        if host.deadman_dead > 0 || self.planted == Some(Planted::OutliveLease) {
            return;
        }
        if host.stands() || now < host.deadman_from {
            return self.after(5 * MS, Happening::Deadman(h, w, moved));
        }
        let (act_at, kill_bound) = (
            host.clock.true_time(deadline.stop_by()),
            deadline.kill_bound,
        );
        if host.clock.at(now) < deadline.stop_by() {
            return self.at(act_at.max(now + 1_000), Happening::Deadman(h, w, moved));
        }
        // As late as its host schedules it, and never past its bound.
        if host.deadman_late > 0 && now < act_at + (kill_bound.as_nanos() as u64) / 2 {
            let late = self
                .chance
                .random_range(MS..kill_bound.as_nanos() as u64 / 2);
            return self.after(late, Happening::Deadman(h, w, moved));
        }
        if self.hosts[h].slots[w].server.runs {
            let line = format!(
                "{}: the deadman ends the server of {}",
                self.names[h], self.workloads[w]
            );
            self.tell(line);
        }
        let slot = &mut self.hosts[h].slots[w];
        slot.server.stop();
        (slot.deadline, slot.guard) = (None, None);
        let claim = Claim::Primary(self.workloads[w].clone());
        self.confirm(h, claim, None, MS / 5);
    }

    /// It is started again, and goes on with the deadlines that it kept (C6).
    pub(super) fn deadman_is_back(&mut self, h: usize) {
        for w in 0..self.workloads.len() {
            let moved = self.hosts[h].slots[w].moved;
            self.after(MS, Happening::Deadman(h, w, moved));
        }
        self.say_deadlines(h);
    }
}
