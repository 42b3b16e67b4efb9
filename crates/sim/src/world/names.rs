//! A name server: slow, now and then silent, and with answers that get lost. It carries out a change
//! only against the mark that was read.

use super::happening::Happening;
use super::{MS, World, nanos};
use crate::check::Verdict;
use karst_core::Input;
use karst_core::name::{NameOrder, NameSeen};
use karst_core::spec::Leads;
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use std::collections::BTreeSet;
use std::net::IpAddr;
use std::time::Duration;

/// After so long whoever asked takes it for silent.
const PATIENCE: u64 = 3_000 * MS;
/// What a cluster has to have a name lead elsewhere, after that is known.
const LATE: Duration = Duration::from_secs(3);

/// The names of all workloads, by their place in the spec.
pub(super) struct NameServer {
    names: Vec<Name>,
    /// Of its own, so that names change nothing of what else happens.
    chance: Pcg64Mcg,
    /// From then on every answer arrives.
    well_from: u64,
}

#[derive(Clone, Default)]
struct Name {
    has: NameSeen,
    /// Where the primary is, as the log says, and since when.
    primary: Option<IpAddr>,
    since: u64,
}

/// A change of a name on its way.
pub(super) struct Swap {
    pub by: (usize, u64),
    pub workload: usize,
    pub order: NameOrder,
    /// The mark that it was made for.
    read: Option<karst_core::Index>,
    is_heard: bool,
}

impl NameServer {
    pub fn new(workloads: usize, seed: u64) -> Self {
        Self {
            names: vec![Name::default(); workloads],
            chance: Pcg64Mcg::seed_from_u64(seed ^ 0xd25),
            well_from: u64::MAX,
        }
    }

    pub fn is_well_from(&mut self, at: u64) {
        self.well_from = at;
    }
}

impl World {
    pub(super) fn ask_for_name(&mut self, by: (usize, u64), workload: usize, order: NameOrder) {
        let (server, now) = (&mut self.name_server, self.now);
        let lost = |chance: &mut Pcg64Mcg| now < server.well_from && chance.random_range(0..5) == 0;
        let late = server.chance.random_range(MS..200 * MS);
        let (is_silent, is_heard) = (lost(&mut server.chance), !lost(&mut server.chance));
        let read = server.names[workload].has.entry;
        let swap = Swap {
            by,
            workload,
            order,
            read,
            is_heard,
        };
        if is_silent {
            return self.answer_about_name(swap, Err("it does not answer".into()));
        }
        self.after(late, Happening::Swap(Box::new(swap)));
    }

    pub(super) fn swap_name(&mut self, swap: Swap) {
        let has = &mut self.name_server.names[swap.workload].has;
        let wanted = swap.order.to.as_ref().filter(|to| **to != has.to);
        let result = match wanted {
            _ if has.entry > Some(swap.order.entry) => Err("a later order led it elsewhere".into()),
            None => Ok(has.clone()),
            Some(_) if has.entry != swap.read => Err("its mark is another one by now".into()),
            Some(to) => {
                has.to.clone_from(to);
                has.entry = Some(swap.order.entry);
                Ok(has.clone())
            }
        };
        let is_heard = swap.is_heard;
        let result = if is_heard {
            result
        } else {
            Err("it does not answer".into())
        };
        self.answer_about_name(swap, result);
    }

    fn answer_about_name(&mut self, swap: Swap, result: Result<NameSeen, String>) {
        let delay = if swap.is_heard && result.is_ok() {
            MS
        } else {
            PATIENCE
        };
        let (h, run) = swap.by;
        let said = Input::Named {
            workload: self.workloads[swap.workload].clone(),
            order: swap.order,
            result,
        };
        self.after(delay, Happening::Input(h, run, said));
    }

    /// Since when each primary is where it is.
    pub(super) fn note_primaries(&mut self) {
        for (w, id) in self.workloads.iter().enumerate() {
            let state = self.truth.state.workload(id);
            let holder = state.holder().filter(|_| state.is_open());
            let spec = self.in_force().workloads.get(id);
            let replica = holder.and_then(|holder| spec?.replicas.get(holder));
            let primary = replica.map(|replica| replica.address.ip());
            let name = &mut self.name_server.names[w];
            if name.primary != primary {
                (name.primary, name.since) = (primary, self.now);
            }
        }
    }

    /// After the calm each name leads to its primary.
    pub(super) fn check_name(&self, w: usize) -> Verdict {
        let spec = self.in_force().workloads.get(&self.workloads[w]);
        let spec = spec.and_then(|spec| spec.name.as_ref());
        let name = &self.name_server.names[w];
        // What was asked just before the calm may have got lost, which is found out after a while.
        let server = self.name_server.well_from.saturating_add(PATIENCE);
        let settled = self.now.saturating_sub(name.since.max(server)) > nanos(LATE);
        if spec.is_none_or(|name| name.leads != Leads::Primary) || !settled {
            return Ok(());
        }
        let wanted: BTreeSet<IpAddr> = name.primary.into_iter().collect();
        if wanted.is_empty() || name.has.to == wanted {
            return Ok(());
        }
        let what = format!(
            "the name leads to {:?} by entry {:?}, and the primary is at {wanted:?}",
            name.has.to, name.has.entry
        );
        self.broken("name", what)
    }
}
