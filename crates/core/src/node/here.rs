//! What of the spec is on this node.

use super::readers::{ReadGate, Served, reads_at};
use crate::address::Keeper;
use crate::authority::{Authority, Deadline};
use crate::consensus::Pace;
use crate::gate::Gate;
use crate::ids::{Index, NodeId, OperationId, WorkloadId};
use crate::ownstep::{Prepared, StepTimes};
use crate::replica::Examined;
use crate::replica::agent::{Agent, Kept};
use crate::spec::{Spec, Timings};
use std::collections::{BTreeMap, BTreeSet};

/// By which part of a heartbeat the coordinator's are sooner: more than a busy host is late.
const COORDINATOR_SOONER: u32 = 16;

/// What of the workloads is on this node.
#[derive(Default)]
pub(super) struct Here {
    pub agents: BTreeMap<WorkloadId, Agent>,
    pub gates: BTreeMap<WorkloadId, Gate>,
    pub addresses: BTreeMap<WorkloadId, Keeper>,
    pub read_gates: BTreeMap<WorkloadId, ReadGate>,
    /// Who serves readers, of workloads with a read gate or a replica here.
    pub readers: BTreeMap<WorkloadId, Served>,
    /// Whose servers are looked at now and then only.
    pub calm: BTreeSet<WorkloadId>,
    /// Replicas that the spec has elsewhere now, until nothing of them runs here.
    pub dismissed: BTreeMap<WorkloadId, Agent>,
    /// Addresses that the spec has elsewhere now, until they are gone from here.
    pub vacated: BTreeMap<WorkloadId, Keeper>,
    /// Of an earlier run, about what the spec of this start does not place here: a later one may.
    pub kept: BTreeMap<WorkloadId, Kept>,
    /// What the site's own steps may take here, where there are any.
    pub step_times: BTreeMap<WorkloadId, StepTimes>,
    /// The revision that this host is examined for, and what came of that.
    pub examining: Option<OperationId>,
    pub examined: Option<Examined>,
    /// The maintenance that this node's own steps were run before, and what came of them; and the one
    /// that they are to be run after.
    pub resting: Option<OperationId>,
    pub prepared: Option<Prepared>,
    /// The last entry that was in the store at this start: what was wanted before was seen to then.
    pub stored: Index,
}

/// What was there before this run.
#[derive(Default)]
pub(super) struct Before {
    pub kept: BTreeMap<WorkloadId, Kept>,
    /// What the deadman still counts down is heard until then (A7).
    pub until: Option<Deadline>,
}

impl Here {
    /// The workloads of which there is a replica, a gate or an address.
    pub fn workloads(&self) -> BTreeSet<&WorkloadId> {
        let served = self.agents.keys().chain(self.gates.keys());
        served.chain(self.addresses.keys()).collect()
    }

    /// The agent of a replica that is here, or that is being dismissed.
    pub fn agent_mut(&mut self, id: &WorkloadId) -> Option<&mut Agent> {
        let here = self.agents.get_mut(id);
        here.or_else(|| self.dismissed.get_mut(id))
    }

    /// The keeper of an address that may be held here, or that is being given up for good.
    pub fn keeper_mut(&mut self, id: &WorkloadId) -> Option<&mut Keeper> {
        let here = self.addresses.get_mut(id);
        here.or_else(|| self.vacated.get_mut(id))
    }

    /// Makes what the spec places here and is not here yet. What is still being dismissed comes
    /// back once that is over.
    pub fn make(&mut self, spec: &Spec, me: &NodeId, before: Before) {
        self.kept.extend(before.kept);
        let authority = || {
            before
                .until
                .map_or_else(Authority::default, Authority::awaiting)
        };
        for (id, workload) in &spec.workloads {
            if workload.replicas.contains_key(me)
                && !self.agents.contains_key(id)
                && !self.dismissed.contains_key(id)
            {
                let mut agent = Agent::new(me.clone(), self.kept.remove(id).unwrap_or_default());
                agent.authority = authority();
                self.agents.insert(id.clone(), agent);
            }
            if workload.may_hold_address(me)
                && !self.addresses.contains_key(id)
                && !self.vacated.contains_key(id)
            {
                self.addresses.insert(id.clone(), Keeper::new(authority()));
            }
            if workload.gates.contains_key(me) {
                self.gates.entry(id.clone()).or_default();
            }
            if reads_at(workload.reads.as_ref(), me) {
                self.read_gates.entry(id.clone()).or_default();
            }
        }
        let own = self.agents.keys().filter(|_| !spec.steps.is_empty());
        self.step_times = own
            .map(|id| (id.clone(), spec.step_times(id, me)))
            .collect();
    }

    /// Takes out what the spec does not place here any more.
    pub fn dismiss(&mut self, spec: &Spec, me: &NodeId) {
        let workload = |id: &WorkloadId| spec.workloads.get(id);
        let has_no_replica =
            |id: &WorkloadId| !workload(id).is_some_and(|w| w.replicas.contains_key(me));
        let agents = self.agents.extract_if(.., |id, _| has_no_replica(id));
        self.dismissed.extend(agents);
        let has_no_address =
            |id: &WorkloadId| !workload(id).is_some_and(|w| w.may_hold_address(me));
        let keepers = self.addresses.extract_if(.., |id, _| has_no_address(id));
        self.vacated.extend(keepers);
        self.gates
            .retain(|id, _| workload(id).is_some_and(|w| w.gates.contains_key(me)));
        self.read_gates
            .retain(|id, _| workload(id).is_some_and(|w| reads_at(w.reads.as_ref(), me)));
        self.readers.retain(|id, _| workload(id).is_some());
        self.calm.retain(|id| self.agents.contains_key(id));
    }
}

pub(super) fn pace(t: &Timings) -> Pace {
    Pace {
        // The coordinator's go a little sooner, so that everybody's beats and check-ins go along
        // with the answer to them.
        heartbeat: t.heartbeat - t.heartbeat / COORDINATOR_SOONER,
        election_timeout: t.election_timeout,
        election_jitter: t.election_jitter,
    }
}
