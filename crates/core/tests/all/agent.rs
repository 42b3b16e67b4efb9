//! One replica's agent: the stop before the deadline, the order of attempt, promotion and
//! surrender, and what makes it clone.

use crate::keeper::{Rig, granted, me, second, until, up, workload};
use karst_core::command::{Ended, Standing};
use karst_core::operation::Kind;
use karst_core::replica::agent::{Agent, Kept, Order};
use karst_core::replica::{Action, Data, Done, Observation, Presence, Role};
use karst_core::spec::Timings;
use karst_core::state::{Opened, SyncSet, Tenure, WorkloadState};
use karst_core::{BootId, Epoch, OperationId, Position, SwitchPoint, Time};
use std::time::Duration;

#[test]
fn a_promotion_waits_for_lease_deadman_and_the_durable_attempt() {
    let assigned = workload(2, Tenure::Assigned { holder: me() });
    let mut rig = Rig::new(up(Role::Standby));
    assert_eq!(rig.step(&assigned), [], "without a lease nothing is begun");
    let lease = granted(2, 2_000);
    let deadline = rig
        .agent
        .authority
        .on_grant(&lease, rig.now, Duration::ZERO);
    assert!(deadline.is_some());
    assert_eq!(
        rig.step(&assigned),
        [],
        "a lease that the deadman has not confirmed covers nothing (C6)"
    );
    rig.agent.authority.on_armed(deadline);
    let kept = Kept {
        attempted: Some(Epoch(2)),
        ..Kept::default()
    };
    assert_eq!(
        rig.step(&assigned),
        [Order::Keep(kept)],
        "the attempt comes first (D5)"
    );
    assert_eq!(rig.step(&assigned), [], "... and has to be durable");
    rig.agent.on_kept();
    let (id, action) = rig.action(&assigned).unwrap();
    assert_eq!(action, Action::Promote { after: None });
    let promoted = Done::Promoted(second());
    rig.agent.on_done(id, Ok(promoted), rig.now);
    assert_eq!(
        rig.agent.report(&assigned, rig.now).opened,
        Some((Epoch(2), second()))
    );
}

#[test]
fn a_primary_is_stopped_before_its_deadline_whatever_is_under_way() {
    let mut open = workload(
        2,
        Tenure::Open {
            holder: me(),
            serving: true,
        },
    );
    open.sync = SyncSet {
        epoch: Epoch(2),
        number: 1,
        sure: vec![],
        asked: vec!["polje".into()],
        unprotected: false,
    };
    let mut rig = Rig::new(up(Role::Primary));
    rig.lease(2, 2000);
    let (busy, _) = rig.action(&open).expect("it sets the sync set");
    rig.now += Duration::from_millis(1_600);
    assert_eq!(rig.step(&open), [], "not yet");
    // 2000 ms less 1 %, less the kill bound of 300 ms (C2).
    rig.now += Duration::from_millis(90);
    let orders = rig.step(&open);
    assert_eq!(orders[0], Order::Cancel { id: busy });
    assert!(
        matches!(
            &orders[1],
            Order::Start {
                action: Action::StopNow,
                ..
            }
        ),
        "{orders:?}"
    );
}

#[test]
fn a_surrender_is_durable_before_it_is_reported_and_is_final() {
    let open = workload(
        2,
        Tenure::Open {
            holder: me(),
            serving: true,
        },
    );
    let mut rig = Rig::new(up(Role::Primary));
    rig.lease(2, 2000);
    rig.agent
        .on_observed(Observation::down(Data::Present { standby: false }), rig.now);
    let orders = rig.step(&open);
    assert!(
        matches!(
            orders.as_slice(),
            [Order::Keep(Kept {
                surrendered: Some((Epoch(2), None)),
                ..
            })]
        ),
        "{orders:?}"
    );
    assert_eq!(rig.agent.report(&open, rig.now).surrendered, None);
    rig.agent.on_kept();
    assert_eq!(
        rig.agent.report(&open, rig.now).surrendered,
        Some((Epoch(2), None))
    );
    assert_eq!(
        rig.step(&workload(2, Tenure::Assigned { holder: me() })),
        [],
        "nothing of that epoch starts again (C5)"
    );
}

#[test]
fn a_planned_stop_is_clean_and_an_unplanned_one_is_not() {
    for (operation, wanted) in [
        (
            Some((OperationId(9), Kind::Switchover)),
            Action::StopClean {
                limit: Timings::default().stop_limit,
            },
        ),
        (
            Some((OperationId(9), Kind::ForcedFailover)),
            Action::StopNow,
        ),
        (None, Action::StopNow),
    ] {
        let mut rig = Rig::new(up(Role::Primary));
        rig.lease(2, 2000);
        rig.operation = operation;
        let revoking = workload(2, Tenure::Revoking { holder: me() });
        assert_eq!(rig.action(&revoking).map(|(_, a)| a), Some(wanted));
    }
}

#[test]
fn nothing_starts_while_the_deadman_still_counts() {
    let open = workload(
        3,
        Tenure::Open {
            holder: "polje".into(),
            serving: true,
        },
    );
    let mut rig = Rig::new(Observation::down(Data::Present { standby: true }));
    rig.agent.authority.on_armed(Some(until(rig.now, 1_000)));
    assert_eq!(rig.step(&open), [Order::Disarm]);
    rig.agent.authority.on_armed(None);
    assert_eq!(
        rig.action(&open).map(|(_, a)| a),
        Some(Action::StartStandby {
            upstream: "polje".into()
        })
    );
}

#[test]
fn a_replica_clones_when_marked_or_after_an_attempt_that_never_opened() {
    let mut marked = workload(
        3,
        Tenure::Open {
            holder: "polje".into(),
            serving: true,
        },
    );
    marked
        .standing
        .insert(me(), Standing::NeedsClone("a test".into()));
    let mut rig = Rig::new(Observation::down(Data::Present { standby: false }));
    let clone = Action::Clone {
        from: "polje".into(),
    };
    assert_eq!(rig.action(&marked).map(|(_, a)| a), Some(clone.clone()));

    let kept = Kept {
        attempted: Some(Epoch(2)),
        ..Kept::default()
    };
    let mut agent = Agent::new(me(), kept);
    agent.on_observed(
        Observation::down(Data::Present { standby: false }),
        Time::from_millis(1000),
    );
    let mut rig = Rig {
        agent,
        now: Time::from_millis(1000),
        operation: None,
        own_steps: Default::default(),
        copy_from: None,
        base_backup: None,
    };
    let mut open = workload(
        3,
        Tenure::Open {
            holder: "polje".into(),
            serving: true,
        },
    );
    assert!(
        !rig.agent.report(&open, rig.now).suspect,
        "with nothing ever opened there is no twin to mistake it for"
    );
    open.opened = Some(Opened {
        epoch: Epoch(3),
        holder: "polje".into(),
        point: second().point,
        after: Epoch(2),
    });
    assert!(rig.agent.report(&open, rig.now).suspect);
    let (id, action) = rig.action(&open).unwrap();
    assert_eq!(
        action, clone,
        "twin histories are not rewound or repointed (D5)"
    );
    rig.agent.on_done(id, Ok(Done::Ok), rig.now);
    assert_eq!(rig.agent.report(&open, rig.now).rejoined, Some(Epoch(3)));
}

#[test]
fn a_standby_settles_once_when_an_epoch_has_ended_and_then_waits() {
    let how = Ended::Surrender {
        boot: BootId::from("b"),
        clean_at: None,
    };
    let ended = workload(
        2,
        Tenure::Ended {
            last: "polje".into(),
            how,
        },
    );
    let mut rig = Rig::new(up(Role::Standby));
    let (id, action) = rig.action(&ended).unwrap();
    assert_eq!(action, Action::Settle { enough: None });
    rig.agent.on_done(
        id,
        Ok(Done::Settled {
            at: Position::new("1", 5),
        }),
        rig.now,
    );
    assert_eq!(
        rig.agent.report(&ended, rig.now).settled,
        Some((Epoch(2), Position::new("1", 5)))
    );
    assert_eq!(rig.step(&ended), []);
    let how = Ended::Surrender {
        boot: BootId::from("b"),
        clean_at: Some(5),
    };
    let clean = WorkloadState {
        clean_end: Some(5),
        ..workload(
            2,
            Tenure::Ended {
                last: "polje".into(),
                how,
            },
        )
    };
    let (_, action) = Rig::new(up(Role::Standby)).action(&clean).unwrap();
    assert_eq!(
        action,
        Action::Settle { enough: Some(5) },
        "nobody has more than a clean stop left"
    );
    // A former primary's data waits: it may be asked to go on.
    let mut rig = Rig::new(Observation::down(Data::Present { standby: false }));
    let opened = Opened {
        epoch: Epoch(2),
        holder: me(),
        point: SwitchPoint::first("1"),
        after: Epoch(0),
    };
    assert_eq!(
        rig.step(&WorkloadState {
            opened: Some(opened),
            ..ended
        }),
        []
    );
}

/// A restarted daemon knows neither what is committed nor what the deadman counts: the server that
/// runs is left alone until its deadline, and not longer.
#[test]
fn a_running_primary_is_picked_up_after_a_restart() {
    let unknown = WorkloadState::default();
    let mut rig = Rig::new(up(Role::Primary));
    rig.agent.authority = karst_core::authority::Authority::awaiting(until(rig.now, 400));
    assert_eq!(rig.step(&unknown), []);
    rig.agent.authority.on_armed(Some(until(rig.now, 900)));
    rig.now += Duration::from_millis(590);
    assert_eq!(rig.step(&unknown), []);
    rig.now += Duration::from_millis(20);
    assert_eq!(rig.action(&unknown).map(|(_, a)| a), Some(Action::StopNow));
}

/// Its host may be off, and a connection to it silent for long: nobody waits for that.
#[test]
fn a_copy_of_a_primary_that_is_none_any_more_is_given_up() {
    let mut open = workload(
        3,
        Tenure::Open {
            holder: "polje".into(),
            serving: true,
        },
    );
    open.standing
        .insert(me(), Standing::Diverged("a test".into()));
    let mut rig = Rig::new(Observation::down(Data::Present { standby: false }));
    let (id, action) = rig.action(&open).expect("it goes home");
    assert_eq!(action, Action::Rewind { to: "polje".into() });
    let ended = WorkloadState {
        tenure: Tenure::Ended {
            last: "polje".into(),
            how: Ended::PowerOff,
        },
        ..open.clone()
    };
    assert_eq!(rig.step(&ended), [Order::Cancel { id }]);
    // It had begun to change the data.
    rig.agent.on_observed(
        Observation::down(Data::Unusable("half rewound".into())),
        rig.now,
    );
    let next = WorkloadState {
        epoch: Epoch(4),
        tenure: Tenure::Open {
            holder: "uvala".into(),
            serving: true,
        },
        ..open
    };
    rig.now += Duration::from_secs(1);
    assert_eq!(
        rig.action(&next).map(|(_, a)| a),
        Some(Action::Clone {
            from: "uvala".into()
        })
    );
}

/// A former primary is rewound; where that does not work, cloned; a completed one is reported and
/// not repeated.
#[test]
fn a_diverged_replica_is_rewound_and_else_cloned() {
    let mut open = workload(
        3,
        Tenure::Open {
            holder: "polje".into(),
            serving: true,
        },
    );
    open.standing
        .insert(me(), Standing::Diverged("a test".into()));
    let down = Observation::down(Data::Present { standby: false });
    let mut rig = Rig::new(down.clone());
    let (id, action) = rig.action(&open).unwrap();
    assert_eq!(action, Action::Rewind { to: "polje".into() });
    let rewound = rig.agent.clone();
    rig.agent.on_done(id, Err("a test".into()), rig.now);
    rig.now += Duration::from_secs(5);
    assert_eq!(
        rig.action(&open).map(|(_, a)| a),
        Some(Action::Clone {
            from: "polje".into()
        })
    );

    rig.agent = rewound;
    rig.agent.on_done(id, Ok(Done::Ok), rig.now);
    rig.agent
        .on_observed(Observation::down(Data::Present { standby: true }), rig.now);
    rig.agent.on_kept();
    assert_eq!(rig.agent.report(&open, rig.now).rejoined, Some(Epoch(3)));
    let (id, action) = rig.action(&open).unwrap();
    assert_eq!(
        action,
        Action::StartStandby {
            upstream: "polje".into()
        }
    );
    // Rewound data that do not start are replaced, whatever the coordinator thinks of them by now
    // (D11).
    rig.agent
        .on_done(id, Err("it never became consistent".into()), rig.now);
    let sound = workload(
        3,
        Tenure::Open {
            holder: "polje".into(),
            serving: true,
        },
    );
    rig.now += Duration::from_secs(5);
    assert_eq!(
        rig.action(&sound).map(|(_, a)| a),
        Some(Action::Clone {
            from: "polje".into()
        })
    );
    // Half-rewound data are no data.
    rig.agent = Rig::new(Observation::down(Data::Unusable(
        "a rewind was cut short".into(),
    )))
    .agent;
    assert_eq!(
        rig.action(&open).map(|(_, a)| a),
        Some(Action::Clone {
            from: "polje".into()
        })
    );
}

/// Seen: a standby that settled for 1.4 s kept a new primary, which waited for nobody else, from
/// its first commit.
#[test]
fn a_standby_that_still_settles_follows_the_new_primary_at_once() {
    let mut rig = Rig::new(up(Role::Standby));
    let ended = workload(
        2,
        Tenure::Ended {
            last: "polje".into(),
            how: Ended::LeaseOver,
        },
    );
    let (settling, action) = rig.action(&ended).expect("it settles");
    assert_eq!(action, Action::Settle { enough: None });
    let open = workload(
        3,
        Tenure::Open {
            holder: "uvala".into(),
            serving: false,
        },
    );
    let orders = rig.step(&open);
    assert_eq!(orders[0], Order::Cancel { id: settling });
    let follows = Action::Repoint {
        upstream: "uvala".into(),
    };
    assert!(
        matches!(&orders[1], Order::Start { action, .. } if *action == follows),
        "{orders:?}"
    );
}

#[test]
fn a_server_is_calm_only_while_nothing_is_expected_of_it() {
    let rig = Rig::new(up(Role::Standby));
    assert!(rig.agent.is_calm());
    let restless = [
        Observation {
            presence: Presence::Exited,
            ..up(Role::Standby)
        },
        Observation {
            role: None,
            ..up(Role::Standby)
        },
        Observation {
            trouble: Some("a write failed".into()),
            ..up(Role::Primary)
        },
        Observation {
            can_write: Some(false),
            ..up(Role::Primary)
        },
        Observation::down(Data::Empty),
    ];
    for seen in restless {
        assert!(!Rig::new(seen.clone()).agent.is_calm(), "{seen:?}");
    }
    let mut open = workload(
        2,
        Tenure::Open {
            holder: me(),
            serving: true,
        },
    );
    open.sync = SyncSet {
        epoch: Epoch(2),
        number: 1,
        sure: vec![],
        asked: vec!["polje".into()],
        unprotected: false,
    };
    let mut rig = Rig::new(up(Role::Primary));
    rig.lease(2, 2000);
    let (busy, _) = rig.action(&open).expect("it sets the sync set");
    assert!(!rig.agent.is_calm(), "an action runs");
    rig.agent.on_done(busy, Err("no".into()), rig.now);
    assert!(!rig.agent.is_calm(), "it failed and is tried again");
}

/// What a standby needs may be gone from its primary (D9): it would ask for it for ever.
#[test]
fn a_standby_that_never_streams_again_is_copied_while_it_runs() {
    let open = workload(
        2,
        Tenure::Open {
            holder: "polje".into(),
            serving: true,
        },
    );
    let mut rig = Rig::new(Observation {
        position: Some(Position::new("1", 7)),
        ..up(Role::Standby)
    });
    let wait = |rig: &mut Rig, seconds: u64, position: u64, streaming: bool| {
        rig.now += Duration::from_secs(seconds);
        rig.agent.on_observed(
            Observation {
                position: Some(Position::new("1", position)),
                streaming,
                ..up(Role::Standby)
            },
            rig.now,
        );
        rig.action(&open).map(|(_, action)| action)
    };
    assert_eq!(wait(&mut rig, 0, 7, false), None);
    assert_eq!(
        wait(&mut rig, 19, 7, false),
        None,
        "it may still find its upstream"
    );
    assert_eq!(wait(&mut rig, 2, 8, false), None, "it replays what it has");
    assert_eq!(wait(&mut rig, 19, 8, true), None);
    assert_eq!(wait(&mut rig, 19, 8, false), None, "it streamed meanwhile");
    let copy = wait(&mut rig, 20, 8, false);
    assert_eq!(
        copy,
        Some(Action::Clone {
            from: "polje".into()
        }),
        "and is not stopped before the copy is there"
    );
}

/// F6: an action that is not over within its limit has failed. A promotion that hangs ends in a
/// surrender, so that another is tried.
#[test]
fn a_promotion_that_hangs_is_given_up() {
    let assigned = workload(2, Tenure::Assigned { holder: me() });
    let mut rig = Rig::new(up(Role::Standby));
    rig.lease(2, 60_000);
    assert!(matches!(rig.step(&assigned).as_slice(), [Order::Keep(_)]));
    rig.agent.on_kept();
    let (id, action) = rig.action(&assigned).unwrap();
    assert_eq!(rig.agent.next_due(), rig.now + action.limit());
    rig.now += action.limit();
    let orders = rig.step(&assigned);
    assert_eq!(orders[0], Order::Cancel { id });
    assert!(
        matches!(
            &orders[1],
            Order::Start {
                action: Action::StopNow,
                ..
            }
        ),
        "{orders:?}"
    );
}

/// F5: a holder that is revoked stops its server whatever its disk does; that it has, it says only
/// once that is durable.
#[test]
fn a_stop_waits_for_no_disk() {
    let assigned = workload(2, Tenure::Assigned { holder: me() });
    let mut rig = Rig::new(up(Role::Standby));
    rig.lease(2, 2_000);
    assert!(
        matches!(rig.step(&assigned).as_slice(), [Order::Keep(_)]),
        "the attempt, which does not become durable"
    );
    let revoking = workload(2, Tenure::Revoking { holder: me() });
    assert_eq!(rig.action(&revoking).map(|(_, a)| a), Some(Action::StopNow));
    rig.agent
        .on_observed(Observation::down(Data::Present { standby: true }), rig.now);
    rig.agent
        .on_done(1, Ok(Done::Stopped { clean_at: None }), rig.now);
    assert!(matches!(
        rig.step(&revoking).as_slice(),
        [Order::Keep(Kept {
            surrendered: Some(_),
            ..
        })]
    ));
    rig.agent.on_kept();
    assert_eq!(
        rig.agent.report(&revoking, rig.now).surrendered,
        None,
        "one of two writes is durable"
    );
    rig.agent.on_kept();
    assert_eq!(
        rig.agent.report(&revoking, rig.now).surrendered,
        Some((Epoch(2), None))
    );
}

/// Who never began what it was assigned goes on as a standby: it has nothing to stop.
#[test]
fn an_idle_holder_surrenders_and_stays() {
    let revoking = workload(2, Tenure::Revoking { holder: me() });
    let mut rig = Rig::new(up(Role::Standby));
    assert!(matches!(
        rig.step(&revoking).as_slice(),
        [Order::Keep(Kept {
            surrendered: Some((Epoch(2), None)),
            ..
        })]
    ));
}

/// A failure with nothing left to do asks for no other look, and is not remembered for ever.
#[test]
fn a_failure_that_does_not_matter_any_more_is_forgotten() {
    let follow = |holder: &str| {
        workload(
            3,
            Tenure::Open {
                holder: holder.into(),
                serving: true,
            },
        )
    };
    let mut rig = Rig::new(Observation {
        streaming: true,
        ..up(Role::Standby)
    });
    let (id, _) = rig.action(&follow("uvala")).expect("it repoints");
    rig.agent
        .on_done(id, Err("streaming took longer than 5s".into()), rig.now);
    rig.now += Duration::from_secs(36);
    // Its upstream is the right one again.
    assert_eq!(rig.step(&follow("polje")), []);
    assert!(rig.agent.next_due() > rig.now);
    assert!(rig.agent.is_calm());
}

/// A copy that took longer than an epoch is one of the epoch in which it was begun.
#[test]
fn a_copy_is_of_the_epoch_in_which_it_was_begun() {
    let open = |epoch| {
        workload(
            epoch,
            Tenure::Open {
                holder: "polje".into(),
                serving: true,
            },
        )
    };
    let mut rig = Rig::new(Observation::down(Data::Empty));
    let (id, action) = rig.action(&open(3)).unwrap();
    assert_eq!(
        action,
        Action::Clone {
            from: "polje".into()
        }
    );
    rig.step(&open(4));
    rig.agent.on_done(id, Ok(Done::Ok), rig.now);
    assert_eq!(rig.agent.report(&open(4), rig.now).rejoined, Some(Epoch(3)));
}

/// What is not a copy of the workload's data is somebody else's, whatever it is named (R9); and a
/// standby that somebody else keeps is stopped before it can follow.
#[test]
fn data_of_another_identity_are_not_touched() {
    let seen = |identity: Option<&str>| Observation {
        identity: identity.map(Into::into),
        ..Observation::down(Data::Present { standby: true })
    };
    let open = WorkloadState {
        identity: Some("ours".into()),
        ..workload(
            3,
            Tenure::Open {
                holder: "polje".into(),
                serving: true,
            },
        )
    };
    let act = |seen: Observation| {
        let mut rig = Rig::new(seen);
        let mut action = rig.action(&open);
        // It lets the clients of a new primary come first.
        rig.now += Duration::from_secs(1);
        action = action.or_else(|| rig.action(&open));
        (
            action.map(|(_, action)| action),
            rig.agent.report(&open, rig.now).failed,
        )
    };
    let (action, failed) = act(seen(Some("theirs")));
    assert_eq!(action, None);
    assert!(failed.is_some_and(|why| why.contains("known as theirs")));
    let (action, failed) = act(seen(None));
    assert_eq!(action, None, "what cannot be read may be anybody's");
    assert!(failed.is_some_and(|why| why.contains("cannot be read")));
    let start = Action::StartStandby {
        upstream: "polje".into(),
    };
    assert_eq!(act(seen(Some("ours"))).0, Some(start));
    // Nothing is there any more: whatever was known of it before keeps no copy away.
    let moved = Observation {
        data: Data::Empty,
        ..seen(Some("theirs"))
    };
    let copy = Action::Clone {
        from: "polje".into(),
    };
    assert_eq!(act(moved).0, Some(copy));
    let strange = Observation {
        presence: Presence::Runs,
        strange: true,
        ..seen(Some("ours"))
    };
    assert!(matches!(act(strange).0, Some(Action::StopClean { .. })));
}
