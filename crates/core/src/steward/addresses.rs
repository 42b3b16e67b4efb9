//! Where a workload's floating address is (S7): one holder at a time, under a lease of its own. It
//! leaves the old holder in the log before the old holder's lease runs out or is given up, and
//! arrives at the next one only after that.
//!
//! Mode does not matter here: an address that follows a healthy gate puts no write at risk.
//! Nobody's power is cut for it either: its lease ends soon enough, and the host may be a voter.

use super::scene::{Desk, Notes, Scene};
use crate::authority::Claim;
use crate::command::{Command, Ended, WorkloadAct};
use crate::ids::{NodeId, WorkloadId};
use crate::planted::Planted;
use crate::spec::{Follows, WorkloadSpec};
use crate::state::Tenure;
use std::collections::BTreeSet;

impl Scene<'_> {
    /// Each node that may not have a workload's address now although the spec lets it, and why.
    pub(crate) fn places<'s>(
        &'s self,
        id: &'s WorkloadId,
        spec: &'s WorkloadSpec,
    ) -> impl Iterator<Item = (&'s NodeId, String)> {
        let w = self.state.workload(id);
        let follows = spec.address.as_ref().map_or(Follows::Gate, |a| a.follows);
        let nodes: BTreeSet<&NodeId> = spec.replicas.keys().chain(spec.gates.keys()).collect();
        let may = nodes.into_iter().filter(|n| spec.may_hold_address(n));
        may.filter_map(move |node| {
            let desk = Desk {
                scene: self,
                id,
                spec,
                w,
            };
            Some((node, desk.obstacle_to_address(node, follows)?))
        })
    }
}

impl Desk<'_> {
    /// What to commit about the address now.
    pub(super) fn address(&self, notes: &mut Notes) -> Vec<Command> {
        let Some(spec) = &self.spec.address else {
            return Vec::new();
        };
        self.note_cut_off(notes);
        let place = &self.w.place;
        let Some(holder) = &place.holder else {
            return self.settle_address(spec.follows).into_iter().collect();
        };
        let claim = Claim::Address(self.id.clone());
        if place.leaving {
            let vacate = |how| {
                self.about(WorkloadAct::Vacate {
                    number: place.number,
                    how,
                })
            };
            return self
                .address_ended(holder, &claim)
                .map(vacate)
                .into_iter()
                .collect();
        }
        let cut_off = || {
            let off = spec.follows == Follows::Gate && self.is_cut_off(holder, notes);
            off.then(|| format!("{holder}: its gate does not reach the primary"))
        };
        let lost = self.address_lost(holder, spec.follows);
        let Some(why) = lost.or_else(cut_off) else {
            return Vec::new();
        };
        // With nobody else to go to it stays where it is: its holder may come back. A fenced one
        // may not before it has left.
        let must = self.scene.state.fenced(holder).is_some()
            || self.scene.leaving.address(self.id)
            || self.scene.leaving.holder(self.id, holder).is_some();
        let next = self.next_place(spec.follows, Some(holder));
        // Two gates that are cut off are equally bad.
        let better =
            next.is_some_and(|next| !self.is_unreachable(&next) || !self.is_unreachable(holder));
        if !must && !better {
            return Vec::new();
        }
        vec![self.about(WorkloadAct::Withdraw {
            number: place.number,
            why,
        })]
    }

    fn is_unreachable(&self, node: &NodeId) -> bool {
        let heard = self.scene.reports.get(node);
        let gate = heard.and_then(|h| h.report.parts.gates.get(self.id));
        gate.is_some_and(|gate| gate.unreachable)
    }

    fn note_cut_off(&self, notes: &mut Notes) {
        notes.cut_off.retain(|node, _| self.is_unreachable(node));
        for node in self.spec.gates.keys().filter(|n| self.is_unreachable(n)) {
            notes.cut_off.entry(node.clone()).or_insert(self.scene.now);
        }
    }

    /// A gate does not reach the primary, and the primary reports, straight or by way of another node. A primary that is lost
    /// moves elsewhere, and before that the address gains nothing by a move.
    fn is_cut_off(&self, node: &NodeId, notes: &Notes) -> bool {
        let since = notes.cut_off.get(node);
        let primary = self.w.holder().filter(|n| self.scene.reports_in(n));
        let heard = primary.and_then(|n| self.scene.reports.get(n));
        let own = primary == Some(self.scene.me);
        let later = since
            .zip(heard)
            .is_some_and(|(since, heard)| heard.at > *since);
        later || (own && since.is_some())
    }

    fn settle_address(&self, follows: Follows) -> Option<Command> {
        let to = self.next_place(follows, None)?;
        let why = match follows {
            Follows::Gate => "its gate listens",
            Follows::Primary => "it is the primary",
        };
        let number = self.w.place.number.next();
        Some(self.about(WorkloadAct::Place {
            number,
            holder: to,
            why: why.into(),
        }))
    }

    /// The best node for it: a gate that forwards before one that holds, then by name.
    fn next_place(&self, follows: Follows, except: Option<&NodeId>) -> Option<NodeId> {
        let fits =
            |n: &&NodeId| Some(*n) != except && self.obstacle_to_address(n, follows).is_none();
        match follows {
            Follows::Gate => self
                .spec
                .gates
                .keys()
                .filter(fits)
                .min_by_key(|n| (self.is_unreachable(n), !self.forwards(n), (*n).clone()))
                .cloned(),
            Follows::Primary => self.spec.replicas.keys().find(fits).cloned(),
        }
    }

    fn forwards(&self, node: &NodeId) -> bool {
        let gate = self
            .scene
            .reports
            .get(node)
            .and_then(|h| h.report.parts.gates.get(self.id));
        gate.is_some_and(|g| g.forwarding == Some(self.w.epoch))
    }

    /// Why it may not be there, if so.
    fn obstacle_to_address(&self, node: &NodeId, follows: Follows) -> Option<String> {
        if self.scene.state.fenced(node).is_some() {
            return Some("it is fenced".into());
        }
        if let Some(why) = self.scene.leaving.holder(self.id, node) {
            return Some(why.into());
        }
        let Some(heard) = self
            .scene
            .reports
            .get(node)
            .filter(|_| self.scene.is_up(node))
        else {
            return Some("it is not heard".into());
        };
        let trouble = heard
            .report
            .parts
            .addresses
            .get(self.id)
            .and_then(|a| a.trouble.clone());
        trouble.or(match follows {
            Follows::Gate => match heard.report.parts.gates.get(self.id) {
                Some(gate) if gate.listening => None,
                _ => Some("its gate does not listen".into()),
            },
            Follows::Primary if !matches!(&self.w.tenure, Tenure::Open { holder, .. } if holder == node) => {
                Some("it is not the primary".into())
            }
            _ => None,
        })
    }

    /// Why it has to leave its holder, if it has to. A holder that is only late is left alone (L2):
    /// its lease says how long.
    fn address_lost(&self, holder: &NodeId, follows: Follows) -> Option<String> {
        if !self.scene.is_up(holder) && self.scene.state.fenced(holder).is_none() {
            let claim = Claim::Address(self.id.clone());
            let gone =
                self.scene.is_gone(holder) || self.scene.lease_over_at(&claim) <= self.scene.now;
            return gone.then(|| format!("nobody hears {holder}"));
        }
        self.obstacle_to_address(holder, follows)
            .map(|why| format!("{holder}: {why}"))
    }

    fn address_ended(&self, holder: &NodeId, claim: &Claim) -> Option<Ended> {
        let report = self.scene.reports.get(holder).map(|h| &h.report);
        let given_up = report
            .and_then(|r| r.parts.addresses.get(self.id))
            .and_then(|a| a.surrendered);
        match report {
            Some(r) if given_up == Some(self.w.place.number) => Some(Ended::Surrender {
                boot: r.boot.clone(),
                clean_at: None,
            }),
            _ if self.is_off(holder) => Some(Ended::PowerOff),
            _ if self.scene.lease_over_at(claim) <= self.scene.now && self.lease_proves(holder) => {
                Some(Ended::LeaseOver)
            }
            _ if self.scene.planted == Some(Planted::AddressAtOnce) => Some(Ended::LeaseOver),
            _ => None,
        }
    }
}
