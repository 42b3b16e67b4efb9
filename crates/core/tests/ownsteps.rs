//! The site's own steps: what one that fails keeps from being done, and what it does not.

mod desk;

use desk::{Case, asked, w};
use karst_core::authority::{Claim, Lease};
use karst_core::command::{Command, WorkloadAct};
use karst_core::operation::{Kind, Outcome};
use karst_core::ownstep::StepTimes;
use karst_core::replica::agent::{Agent, Kept, Order, Scene};
use karst_core::replica::{
    Action, Data, Done, Observation, Presence, Promotion, ReplicaReport, Role, SyncSetting,
};
use karst_core::spec::{Loss, Timings};
use karst_core::state::{Tenure, WorkloadState};
use karst_core::steward::Notes;
use karst_core::{Epoch, OperationId, SwitchPoint, Time};
use std::time::Duration;

const OWN: StepTimes = StepTimes {
    switchover: Duration::from_secs(7),
    promotion: Duration::from_secs(9),
    clone: Duration::ZERO,
};

fn up(role: Role) -> Observation {
    let data = Data::Present {
        standby: role == Role::Standby,
    };
    Observation {
        presence: Presence::Runs,
        role: Some(role),
        ..Observation::down(data)
    }
}

struct Rig {
    agent: Agent,
    now: Time,
    operation: Option<(OperationId, Kind)>,
}

impl Rig {
    /// With a long lease of epoch 2, confirmed by the deadman.
    fn new(role: Role) -> Self {
        let (now, mut agent) = (
            Time::from_millis(1_000),
            Agent::new("doline".into(), Kept::default()),
        );
        agent.on_observed(up(role), now);
        let lease = Lease {
            claim: Claim::Primary(w()),
            epoch: Epoch(2),
            length: Duration::from_secs(3_600),
            kill_bound: Timings::default().kill_bound,
        };
        let deadline = agent.authority.on_grant(&lease, now, Duration::ZERO);
        agent.authority.on_armed(deadline);
        Self {
            agent,
            now,
            operation: None,
        }
    }

    fn step(&mut self, tenure: &Tenure) -> Vec<Order> {
        let timings = Timings::default();
        let workload = WorkloadState {
            epoch: Epoch(2),
            tenure: tenure.clone(),
            ..WorkloadState::default()
        };
        self.agent.step(&Scene {
            now: self.now,
            workload: &workload,
            operation: self.operation,
            timings: &timings,
            fenced: false,
            own_steps: OWN,
            planted: None,
        });
        let orders = self.agent.take_orders().into_iter();
        orders.filter(|o| !matches!(o, Order::Note(_))).collect()
    }

    fn report(&self) -> ReplicaReport {
        self.agent.report(&WorkloadState::default(), self.now)
    }
}

fn only(orders: Vec<Order>) -> (u64, Action) {
    match orders.as_slice() {
        [Order::Start { id, action }] => (*id, action.clone()),
        other => panic!("{other:?}"),
    }
}

fn refused() -> Result<Done, String> {
    let why = "own step ask: it ended with code 1".into();
    Ok(Done::Refused { why })
}

#[test]
fn a_switchover_that_a_step_refuses_is_undone_and_the_primary_stays() {
    let open = Tenure::Open {
        holder: "doline".into(),
        serving: true,
    };
    let mut rig = Rig::new(Role::Primary);
    let (id, setting) = only(rig.step(&open));
    assert!(matches!(setting, Action::SetSync(SyncSetting { .. })));
    rig.agent.on_done(id, Ok(Done::Ok), rig.now);
    let operation = OperationId(9);
    rig.operation = Some((operation, Kind::Switchover));
    let (id, action) = only(rig.step(&open));
    assert_eq!(action, Action::Checkpoint);
    // The steps' own time is added to the action's.
    assert_eq!(
        rig.agent.next_due(),
        rig.now + action.limit() + OWN.switchover
    );
    rig.agent.on_done(id, refused(), rig.now);
    let report = rig.report();
    assert_eq!(report.prepared, None);
    let (of, why) = report.refused.clone().unwrap();
    assert_eq!(of, operation);
    assert_eq!(rig.step(&open), [], "it is asked for once");

    let mut case = Case::new(Loss::None).open_again();
    let index = case.apply(&Command::begin(asked(Kind::Switchover, 0)));
    let id = OperationId(index.0);
    let holder = case.state.workload(&w()).holder().cloned().unwrap();
    case.report(
        holder.as_str(),
        ReplicaReport {
            seen: Some(up(Role::Primary)),
            refused: Some((id, why.clone())),
            ..ReplicaReport::default()
        },
    );
    let commands = case.decided(&mut Notes::default());
    assert!(
        matches!(
            commands.as_slice(),
            [Command::Workload(_, WorkloadAct::Finish { outcome: Outcome::Undone(said), .. })]
                if *said == why
        ),
        "{commands:?}"
    );
    // Of an earlier move it says nothing.
    case.report(
        holder.as_str(),
        ReplicaReport {
            seen: Some(up(Role::Primary)),
            refused: Some((OperationId(id.0 - 1), why)),
            ..ReplicaReport::default()
        },
    );
    let finishes = |c: &Command| matches!(c, Command::Workload(_, WorkloadAct::Finish { .. }));
    assert!(!case.decided(&mut Notes::default()).iter().any(finishes));
}

/// Another is tried, as after any promotion that failed (D5).
#[test]
fn a_promotion_that_a_step_refuses_is_surrendered() {
    let assigned = Tenure::Assigned {
        holder: "doline".into(),
    };
    let mut rig = Rig::new(Role::Standby);
    assert!(matches!(rig.step(&assigned).as_slice(), [Order::Keep(_)]));
    rig.agent.on_kept();
    let (id, action) = only(rig.step(&assigned));
    assert!(matches!(action, Action::Promote { .. }));
    assert_eq!(
        rig.agent.next_due(),
        rig.now + action.limit() + OWN.promotion
    );
    rig.agent.on_done(id, refused(), rig.now);
    assert_eq!(only(rig.step(&assigned)).1, Action::StopNow);
    assert_eq!(rig.report().opened, None);
}

#[test]
fn what_was_promoted_here_is_told_to_be_open_once() {
    let assigned = Tenure::Assigned {
        holder: "doline".into(),
    };
    let open = Tenure::Open {
        holder: "doline".into(),
        serving: false,
    };
    let mut rig = Rig::new(Role::Standby);
    rig.step(&assigned);
    rig.agent.on_kept();
    let (id, _) = only(rig.step(&assigned));
    let point = SwitchPoint {
        history: "2".into(),
        parent: Some("1".into()),
        began: 7,
        writes_from: 7,
    };
    let promotion = Promotion {
        point,
        unique: true,
    };
    rig.agent
        .on_done(id, Ok(Done::Promoted(promotion)), rig.now);
    let opened = |orders: Vec<Order>| {
        orders
            .iter()
            .filter(|o| matches!(o, Order::Opened { .. }))
            .count()
    };
    let told = [opened(rig.step(&open)), opened(rig.step(&open))];
    assert_eq!(told, [1, 0]);
    // A restarted daemon that finds its primary open has promoted nothing.
    let mut later = Rig::new(Role::Primary);
    assert_eq!(opened(later.step(&open)), 0);
}
