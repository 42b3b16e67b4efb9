//! The site's own steps: what one that fails keeps from being done, and what it does not.

use crate::desk::{Case, asked, w};
use crate::keeper::{Rig, second, up, workload};
use karst_core::OperationId;
use karst_core::command::{Command, WorkloadAct};
use karst_core::operation::{Kind, Outcome};
use karst_core::ownstep::{Prepared, StepTimes};
use karst_core::replica::agent::Order;
use karst_core::replica::{Action, Done, ReplicaReport, Role};
use karst_core::spec::Loss;
use karst_core::state::{Tenure, WorkloadState};
use karst_core::steward::Notes;
use std::time::Duration;

const OWN: StepTimes = StepTimes {
    switchover: Duration::from_secs(7),
    promotion: Duration::from_secs(9),
    clone: Duration::ZERO,
};

/// With a long lease of epoch 2, and steps of its own.
fn with_steps(role: Role) -> Rig {
    let mut rig = Rig::new(up(role));
    rig.own_steps = OWN;
    rig.lease(2, 3_600_000);
    rig
}

fn of(tenure: &Tenure) -> WorkloadState {
    workload(2, tenure.clone())
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
    let mut rig = with_steps(Role::Primary);
    let (id, setting) = only(rig.step(&of(&open)));
    assert!(matches!(setting, Action::SetSync(_)));
    rig.agent.on_done(id, Ok(Done::Ok), rig.now);
    let operation = OperationId(9);
    rig.operation = Some((operation, Kind::Switchover));
    let (id, action) = only(rig.step(&of(&open)));
    assert_eq!(action, Action::Checkpoint);
    // The steps' own time is added to the action's.
    assert_eq!(
        rig.agent.next_due(),
        rig.now + action.limit() + OWN.switchover
    );
    rig.agent.on_done(id, refused(), rig.now);
    let report = rig.agent.report(&WorkloadState::default(), rig.now);
    assert_eq!(report.prepared, None);
    let (operation_of, why) = report.refused.clone().unwrap();
    assert_eq!(operation_of, operation);
    assert_eq!(rig.step(&of(&open)), [], "it is asked for once");
    // Others refuse a report with more than they take.
    let mut wordy = with_steps(Role::Primary);
    let (id, _) = only(wordy.step(&of(&open)));
    wordy.agent.on_done(id, Ok(Done::Ok), wordy.now);
    wordy.operation = Some((operation, Kind::Switchover));
    let (id, _) = only(wordy.step(&of(&open)));
    let long = Done::Refused {
        why: "\u{7}é".repeat(5_000),
    };
    wordy.agent.on_done(id, Ok(long), wordy.now);
    let said = wordy.agent.report(&WorkloadState::default(), wordy.now);
    let said = said.refused.unwrap().1;
    assert!(said.len() <= Prepared::LONGEST && !said.contains('\u{7}'));

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
    let mut rig = with_steps(Role::Standby);
    assert!(matches!(
        rig.step(&of(&assigned)).as_slice(),
        [Order::Keep(_)]
    ));
    rig.agent.on_kept();
    let (id, action) = only(rig.step(&of(&assigned)));
    assert!(matches!(action, Action::Promote { .. }));
    assert_eq!(
        rig.agent.next_due(),
        rig.now + action.limit() + OWN.promotion
    );
    rig.agent.on_done(id, refused(), rig.now);
    assert_eq!(only(rig.step(&of(&assigned))).1, Action::StopNow);
    assert_eq!(
        rig.agent.report(&WorkloadState::default(), rig.now).opened,
        None
    );
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
    let mut rig = with_steps(Role::Standby);
    rig.step(&of(&assigned));
    rig.agent.on_kept();
    let (id, _) = only(rig.step(&of(&assigned)));
    rig.agent.on_done(id, Ok(Done::Promoted(second())), rig.now);
    let opened = |orders: Vec<Order>| {
        orders
            .iter()
            .filter(|o| matches!(o, Order::Opened { .. }))
            .count()
    };
    let told = [opened(rig.step(&of(&open))), opened(rig.step(&of(&open)))];
    assert_eq!(told, [1, 0]);
    // A restarted daemon that finds its primary open has promoted nothing.
    let mut later = with_steps(Role::Primary);
    assert_eq!(opened(later.step(&of(&open))), 0);
}
