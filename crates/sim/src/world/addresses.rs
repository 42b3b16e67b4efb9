//! The floating address as the network sees it: whoever has it on an interface answers for it, however the daemon is,
//! unless the packet guard has closed (C3).

use super::{Happening, MS, World};
use karst_core::node::{AddressOrder, AddressSeen, Flow};
use karst_core::{Input, NodeId};
use rand::Rng;

/// How often the hands look at an address that they hold.
const LOOK_EVERY: u64 = 1_000 * MS;

impl World {
    pub(super) fn order_address(&mut self, id: &NodeId, run: u64, order: AddressOrder, strayed: &[Flow]) {
        let theirs: Vec<NodeId> = self.hosts.keys().filter(|h| strayed.contains(&self.client_of(h))).cloned().collect();
        self.roused.extend(theirs);
        let delay = self.chance.random_range(MS / 5..6 * MS);
        self.after(delay, Happening::Address(id.clone(), run, order));
    }

    pub(super) fn address(&mut self, id: &NodeId, run: u64, order: AddressOrder) -> Result<(), (&'static str, String)> {
        if self.hosts[id].run != run {
            return Ok(());
        }
        if self.hosts[id].is_paused {
            // The hands stand still with their daemon.
            self.after(10 * MS, Happening::Address(id.clone(), run, order));
            return Ok(());
        }
        if (run, order.turn) < self.hosts[id].address_turn {
            return Ok(());
        }
        let held = order.hold.is_some();
        (self.host(id).has_address, self.host(id).address_turn) = (held, (run, order.turn));
        self.tell(format!("{id}: the address is {}", if held { "here" } else { "gone" }));
        if held && self.holders.last() != Some(id) {
            self.holders.push(id.clone());
        }
        self.after(LOOK_EVERY, Happening::AddressLook(id.clone(), run, order.turn));
        let seen = AddressSeen { turn: order.turn, held, ..AddressSeen::default() };
        self.input(id, run, Input::AddressSeen { workload: self.workload.clone(), seen })
    }

    /// Each holder has one client, which was not there yet when the address came.
    pub(super) fn look_at_address(&mut self, id: &NodeId, run: u64, turn: u64) -> Result<(), (&'static str, String)> {
        let host = &self.hosts[id];
        if !host.has_address || host.address_turn != (run, turn) {
            return Ok(());
        }
        self.after(LOOK_EVERY, Happening::AddressLook(id.clone(), run, turn));
        let seen = AddressSeen { turn, held: true, flows: vec![self.client_of(id)], ..AddressSeen::default() };
        self.input(id, run, Input::AddressSeen { workload: self.workload.clone(), seen })
    }

    fn client_of(&self, host: &NodeId) -> Flow {
        let number = self.hosts.keys().take_while(|h| *h != host).count() as u8;
        Flow { client: ([10, 30, 0, 200 + number], 40_000).into(), here: ([10, 30, 0, 50], 6432).into() }
    }

    /// S7: no two hosts answer for it.
    pub(super) fn check_address(&mut self) -> Result<(), (&'static str, String)> {
        let now = self.now;
        let answers = |h: &super::Host| {
            let open = h.address_deadline.is_some_and(|d| h.clock(now) < d);
            h.has_power && h.has_address && (open || self.planted == Some(karst_core::Planted::OutliveLease))
        };
        let answering: Vec<&NodeId> = self.hosts.iter().filter(|(_, h)| answers(h)).map(|(n, _)| n).collect();
        if answering.len() > 1 {
            return Err(("S7", format!("{answering:?} answer for the address at once")));
        }
        if !answering.is_empty() {
            self.address_answered = now;
        }
        Ok(())
    }
}
