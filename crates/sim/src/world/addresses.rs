//! The floating address as the network sees it: whoever has it on an interface answers for it,
//! however the daemon is, unless the packet guard has closed (C3).

use super::host::Host;
use super::{Happening, MS, World};
use crate::check::Verdict;
use karst_core::address::{AddressOrder, AddressSeen, Connection};
use karst_core::{Input, NodeId, Planted};
use rand::Rng;
use std::net::IpAddr;

/// How often the hands look at an address that they hold.
const LOOK_EVERY: u64 = 1_000 * MS;

impl World {
    pub(super) fn order_address(
        &mut self,
        h: usize,
        run: u64,
        w: usize,
        order: AddressOrder,
        strayed: &[Connection],
    ) {
        let theirs: Vec<NodeId> = (0..self.names.len())
            .filter(|n| strayed.contains(&client_of(*n)))
            .map(|n| self.names[n].clone())
            .collect();
        self.roused.extend(theirs);
        let delay = self.chance.random_range(MS / 5..6 * MS);
        self.after(delay, Happening::Address(h, run, w, order));
    }

    pub(super) fn address(&mut self, h: usize, run: u64, w: usize, order: AddressOrder) -> Verdict {
        if self.hosts[h].run != run {
            return Ok(());
        }
        if self.hosts[h].is_still() {
            // The hands stand still with their daemon.
            self.after(10 * MS, Happening::Address(h, run, w, order));
            return Ok(());
        }
        let slot = &mut self.hosts[h].slots[w];
        if (run, order.turn) < slot.address_turn {
            return Ok(());
        }
        let held = order.hold.is_some();
        (slot.has_address, slot.address_turn) = (held, (run, order.turn));
        let line = format!(
            "{}: the address is {}",
            self.names[h],
            if held { "here" } else { "gone" }
        );
        self.tell(line);
        if held && self.holders.last() != Some(&self.names[h]) {
            self.holders.push(self.names[h].clone());
        }
        self.after(LOOK_EVERY, Happening::AddressLook(h, run, w, order.turn));
        let seen = AddressSeen {
            turn: order.turn,
            held,
            on: self.floating(w),
            ..AddressSeen::default()
        };
        self.input(
            h,
            run,
            Input::AddressSeen {
                workload: self.workloads[w].clone(),
                seen,
            },
        )
    }

    /// Each holder has one client, which was not there yet when the address came.
    pub(super) fn look_at_address(&mut self, h: usize, run: u64, w: usize, turn: u64) -> Verdict {
        let slot = &self.hosts[h].slots[w];
        if !slot.has_address || slot.address_turn != (run, turn) {
            return Ok(());
        }
        self.after(LOOK_EVERY, Happening::AddressLook(h, run, w, turn));
        let seen = AddressSeen {
            turn,
            held: true,
            on: self.floating(w),
            connections: vec![client_of(h)],
            ..AddressSeen::default()
        };
        self.input(
            h,
            run,
            Input::AddressSeen {
                workload: self.workloads[w].clone(),
                seen,
            },
        )
    }

    fn floating(&self, w: usize) -> Vec<IpAddr> {
        let spec = self.in_force().workloads.get(&self.workloads[w]);
        let on = spec.and_then(|spec| spec.address.as_ref()).into_iter();
        on.flat_map(|address| &address.on).map(|s| s.ip).collect()
    }

    pub(super) fn answers_for(&self, host: &Host, w: usize) -> bool {
        let slot = &host.slots[w];
        let open = || {
            slot.address_deadline
                .is_some_and(|d| host.clock.at(self.now) < d.at)
        };
        let unguarded = matches!(self.planted, Some(Planted::OutliveLease | Planted::NoGuard));
        slot.has_address && host.has_power && host.suspended == 0 && (unguarded || open())
    }

    /// S7: no two hosts answer for it.
    pub(super) fn check_address(&mut self, w: usize) -> Verdict {
        let mut answering = self
            .hosts
            .iter()
            .enumerate()
            .filter(|(_, h)| self.answers_for(h, w))
            .map(|(n, _)| n);
        let (first, second) = (answering.next(), answering.next());
        if let (Some(a), Some(b)) = (first, second) {
            let (a, b) = (&self.names[a], &self.names[b]);
            return Err(("S7", format!("{a} and {b} answer for the address at once")));
        }
        if first.is_some() {
            self.service[w].address_answered = self.now;
        }
        Ok(())
    }
}

fn client_of(host: usize) -> Connection {
    Connection {
        client: ([10, 30, 0, 200 + host as u8], 40_000).into(),
        here: ([10, 30, 0, 50], 7433).into(),
    }
}
