//! One replica's agent with what it is told: what was committed, a lease, what its driver sees.

use karst_core::authority::{Claim, Deadline, Lease};
use karst_core::operation::Kind;
use karst_core::ownstep::StepTimes;
use karst_core::replica::agent::{Agent, Kept, Order, Scene};
use karst_core::replica::{Action, Data, Observation, Presence, Promotion, Role};
use karst_core::spec::Timings;
use karst_core::state::{Tenure, WorkloadState};
use karst_core::{Epoch, Index, NodeId, OperationId, SwitchPoint, Time};
use std::time::Duration;

pub fn me() -> NodeId {
    "doline".into()
}

pub fn second() -> Promotion {
    let point = SwitchPoint {
        history: "2".into(),
        parent: Some("1".into()),
        began: 7,
        writes_from: 7,
    };
    Promotion {
        point,
        unique: true,
    }
}

pub fn granted(epoch: u64, ms: u64) -> Lease {
    Lease {
        claim: Claim::Primary("sailings".into()),
        epoch: Epoch(epoch),
        length: Duration::from_millis(ms),
        kill_bound: Timings::default().kill_bound,
    }
}

pub fn until(now: Time, ms: u64) -> Deadline {
    Deadline {
        at: now + Duration::from_millis(ms),
        kill_bound: Timings::default().kill_bound,
    }
}

pub fn up(role: Role) -> Observation {
    let data = Data::Present {
        standby: role == Role::Standby,
    };
    Observation {
        presence: Presence::Runs,
        role: Some(role),
        upstream: Some("polje".into()),
        ..Observation::down(data)
    }
}

pub fn workload(epoch: u64, tenure: Tenure) -> WorkloadState {
    WorkloadState {
        epoch: Epoch(epoch),
        tenure,
        ..WorkloadState::default()
    }
}

pub struct Rig {
    pub agent: Agent,
    pub now: Time,
    pub operation: Option<(OperationId, Kind)>,
    pub own_steps: StepTimes,
    pub copy_from: Option<NodeId>,
    pub base_backup: Option<String>,
}

impl Rig {
    pub fn new(seen: Observation) -> Self {
        let mut agent = Agent::new(me(), Kept::default());
        agent.on_observed(seen, Time::from_millis(1000));
        Self {
            agent,
            now: Time::from_millis(1000),
            operation: None,
            own_steps: StepTimes::default(),
            copy_from: None,
            base_backup: None,
        }
    }

    /// A lease of the epoch, confirmed by the deadman.
    pub fn lease(&mut self, epoch: u64, ms: u64) {
        let lease = granted(epoch, ms);
        let deadline = self
            .agent
            .authority
            .on_grant(&lease, self.now, Duration::ZERO);
        self.agent.authority.on_armed(deadline);
    }

    pub fn step(&mut self, workload: &WorkloadState) -> Vec<Order> {
        let timings = Timings::default();
        let operation = self.operation;
        let scene = Scene {
            now: self.now,
            workload,
            applied: Index(100),
            operation,
            timings: &timings,
            fenced: false,
            own_steps: self.own_steps,
            copy_from: self.copy_from.as_ref(),
            base_backup: self.base_backup.as_deref(),
            planted: None,
        };
        self.agent.step(&scene);
        let orders = self.agent.take_orders();
        orders
            .into_iter()
            .filter(|o| !matches!(o, Order::Note(_)))
            .collect()
    }

    pub fn action(&mut self, workload: &WorkloadState) -> Option<(u64, Action)> {
        self.step(workload).into_iter().find_map(|o| match o {
            Order::Start { id, action } => Some((id, action)),
            _ => None,
        })
    }
}
