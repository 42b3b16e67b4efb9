//! A floating address on this node: held only under a lease that the deadman has confirmed, and
//! given up before it ends (S7, C2).

use super::{Effect, Node};
use crate::address::{AddressOrder, AddressReport, AddressSeen, Keeper};
use crate::authority::Claim;
use crate::fact::Fact;
use crate::ids::{Epoch, NodeId, WorkloadId};
use crate::message::Message;
use crate::time::Time;

impl Node {
    /// What has to be so now; none while a restarted daemon does not know yet whether it still
    /// holds it (A7).
    fn wanted_address(&self, id: &WorkloadId, keeper: &Keeper) -> Option<Option<Epoch>> {
        let place = &self.state.workload(id).place;
        let mine = place.holder.as_ref() == Some(&self.me)
            && !place.leaving
            && self.state.fenced(&self.me).is_none();
        let covered = keeper.authority.stop_by() > self.now;
        if !mine {
            // The log may not be known yet: what the deadman still covers stays until it says
            // otherwise.
            let undecided = keeper.order.is_none() && covered && self.state.applied.0 == 0;
            return (!undecided).then_some(None);
        }
        if keeper.authority.may_act(place.number, self.now) {
            return Some(Some(place.number));
        }
        if covered {
            keeper.order.map(|o| o.hold)
        } else {
            Some(None)
        }
    }

    pub(super) fn step_addresses(&mut self) {
        let ids: Vec<WorkloadId> = self.here.addresses.keys().cloned().collect();
        for id in ids {
            let wanted = self.wanted_address(&id, &self.here.addresses[&id]);
            let keeper = self
                .here
                .addresses
                .get_mut(&id)
                .expect("its id was just listed");
            if let Some(hold) = wanted
                && keeper.order.is_none_or(|o| o.hold != hold)
            {
                let order = AddressOrder {
                    turn: keeper.order.map_or(1, |o| o.turn + 1),
                    hold,
                };
                keeper.order = Some(order);
                let connections = if hold.is_some() {
                    keeper.connections.clone()
                } else {
                    Vec::new()
                };
                self.outbox.emit(Effect::Address {
                    workload: id.clone(),
                    order,
                    connections,
                });
            }
            let (now, keeper) = (
                self.now,
                self.here
                    .addresses
                    .get_mut(&id)
                    .expect("its id was just listed"),
            );
            if keeper.is_gone() && keeper.authority.disarms(now) {
                self.outbox.emit(Effect::Disarm {
                    claim: Claim::Address(id),
                });
            }
        }
    }

    /// The other nodes that may have to take an address up hear who is connected over it: their
    /// clients would not notice.
    pub(super) fn tell_connections(&mut self, id: &WorkloadId) {
        let workload = self.spec.workloads.get(id);
        let Some((keeper, workload)) = self.here.addresses.get_mut(id).zip(workload) else {
            return;
        };
        if !keeper.seen.held
            || (keeper.seen.connections.is_empty() && keeper.connections.is_empty())
        {
            return;
        }
        keeper.connections.clone_from(&keeper.seen.connections);
        let connections = keeper.connections.clone();
        let others = self
            .spec
            .nodes
            .keys()
            .filter(|n| **n != self.me && workload.may_hold_address(n));
        for other in others.cloned().collect::<Vec<NodeId>>() {
            self.send(
                other,
                Message::Connections {
                    workload: id.clone(),
                    connections: connections.clone(),
                },
            );
        }
    }

    /// News about an address, for the record: a conflict once, not each time that it is seen.
    pub(super) fn note_address(&mut self, id: &WorkloadId, old: &AddressSeen) {
        let Some(seen) = self.here.addresses.get(id).map(|keeper| &keeper.seen) else {
            return;
        };
        let conflict = seen
            .conflict
            .clone()
            .filter(|_| seen.conflict != old.conflict);
        let trouble = seen.trouble.clone().filter(|_| seen.trouble != old.trouble);
        let me = || self.me.clone();
        let conflict = conflict.map(|other| Fact::AddressConflict {
            workload: id.clone(),
            by: me(),
            other,
        });
        let trouble = trouble.map(|why| Fact::AddressTrouble {
            workload: id.clone(),
            node: me(),
            why,
        });
        for fact in conflict.into_iter().chain(trouble) {
            self.record(fact);
        }
    }

    /// When an address that is held has to be given up.
    pub(super) fn addresses_due(&self) -> Time {
        let held = self
            .here
            .addresses
            .values()
            .filter(|k| k.order.is_some_and(|o| o.hold.is_some()));
        held.map(|k| k.authority.stop_by())
            .min()
            .unwrap_or(Time(u64::MAX))
    }

    pub(super) fn address_report(&self, id: &WorkloadId, keeper: &Keeper) -> AddressReport {
        let place = &self.state.workload(id).place;
        let leaving = place.holder.as_ref() == Some(&self.me) && place.leaving;
        let AddressSeen {
            held,
            on,
            conflict,
            mut trouble,
            unlisted,
            ..
        } = keeper.seen.without_connections();
        if keeper.authority.is_deadman_silent(self.now) {
            trouble.get_or_insert_with(|| "its deadman does not answer".into());
        }
        let (connections, gone) = (keeper.seen.connections.len(), leaving && keeper.is_gone());
        AddressReport {
            held,
            on,
            conflict,
            trouble,
            connections,
            unlisted,
            surrendered: gone.then_some(place.number),
        }
    }
}
