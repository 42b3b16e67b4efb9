//! What the log builds: commands that come too late change nothing, and a former primary's way back
//! depends on how it ended.

use karst_core::author::Author;
use karst_core::command::{Command, Ended, Standing, WorkloadAct};
use karst_core::operation::{Cause, Kind, Mode, ModeSet, Operation};
use karst_core::replica::Copied;
use karst_core::safetypoint::{HeldBack, Mark, Stage};
use karst_core::state::{ClusterState, Tenure};
use karst_core::{BootId, Epoch, Index, NodeId, OperationId, Position, SwitchPoint, WorkloadId};
use std::time::Duration;

fn w() -> WorkloadId {
    "sailings".into()
}

#[test]
fn a_copy_says_how_far_it_is_how_fast_and_what_is_left() {
    let (since, copied) = (Duration::from_secs(2), |done| Copied {
        done,
        total: 12_000_000,
    });
    let half_way = copied(3_000_000);
    assert_eq!((half_way.percent(), half_way.pace(since)), (25, 1_500_000));
    assert_eq!(half_way.rest(since), Some(Duration::from_secs(6)));
    assert_eq!((copied(0).pace(since), copied(0).rest(since)), (0, None));
}

struct Built(ClusterState);

impl Built {
    fn new() -> Self {
        Self(ClusterState::default())
    }
    fn apply(&mut self, command: Command) -> bool {
        let next = self.0.applied.next();
        self.0.apply(next, &command)
    }
    fn assign(&mut self, epoch: u64, holder: &str) -> bool {
        self.apply(Command::Workload(
            w(),
            WorkloadAct::Assign {
                epoch: Epoch(epoch),
                holder: holder.into(),
                why: String::new(),
            },
        ))
    }
    fn open(&mut self, epoch: u64) -> bool {
        self.open_with(epoch, &[])
    }
    fn open_with(&mut self, epoch: u64, doubtful: &[&str]) -> bool {
        let workload = w();
        let point = SwitchPoint {
            history: epoch.to_string().into(),
            parent: Some((epoch - 1).to_string().into()),
            began: epoch,
            writes_from: epoch,
        };
        let sync = vec![NodeId::from("uvala")];
        let doubtful = doubtful.iter().map(|n| NodeId::from(*n)).collect();
        self.apply(Command::Workload(
            workload,
            WorkloadAct::Open {
                unprotected: false,
                epoch: Epoch(epoch),
                point,
                sync,
                doubtful,
            },
        ))
    }
    fn standing(&self, node: &str) -> Standing {
        self.0
            .workload(&w())
            .standing
            .get(&NodeId::from(node))
            .cloned()
            .unwrap_or_default()
    }
    fn revoke(&mut self, epoch: u64) -> bool {
        self.apply(Command::Workload(
            w(),
            WorkloadAct::Revoke {
                epoch: Epoch(epoch),
                why: String::new(),
            },
        ))
    }
    fn end(&mut self, epoch: u64, clean_at: Option<u64>) -> bool {
        let how = Ended::Surrender {
            boot: BootId::from("b"),
            clean_at,
        };
        self.apply(Command::Workload(
            w(),
            WorkloadAct::End {
                epoch: Epoch(epoch),
                how,
            },
        ))
    }
}

#[test]
fn an_epoch_goes_through_its_stations_and_no_other_way() {
    let mut state = Built::new();
    assert!(
        !state.open(1) && !state.revoke(1) && !state.end(1, None),
        "nothing is assigned yet"
    );
    assert!(state.assign(1, "doline"));
    assert!(
        !state.assign(2, "polje"),
        "an assigned epoch is not taken over without an end (S3)"
    );
    assert!(state.open(1) && !state.open(1));
    assert!(!state.end(1, None), "no end without revoking first (C7)");
    assert!(state.revoke(1) && !state.revoke(1));
    assert_eq!(
        state.0.workload(&w()).grantable(),
        None,
        "a revoked holder gets no lease"
    );
    assert!(state.end(1, None));
    assert!(
        !state.assign(1, "polje"),
        "an epoch is higher than every earlier one (S4)"
    );
    assert!(state.assign(2, "polje"));
    assert!(!state.revoke(1), "about an epoch that has passed");
}

/// Nothing is said of anybody's data before somebody else has opened: until then the last opened
/// epoch is the one that counts.
#[test]
fn a_former_primary_has_diverged_once_another_opens_unless_it_stopped_cleanly() {
    let standing_after = |clean_at, next: &str| {
        let mut state = Built::new();
        assert!(
            state.assign(1, "doline") && state.open(1) && state.revoke(1) && state.end(1, clean_at)
        );
        assert!(state.assign(2, next));
        assert_eq!(
            state.standing("doline"),
            Standing::Sound,
            "it may still be asked to go on"
        );
        assert!(state.open(2));
        state.standing("doline")
    };
    assert_eq!(standing_after(Some(9), "polje"), Standing::Sound);
    assert!(matches!(
        standing_after(None, "polje"),
        Standing::Diverged(_)
    ));
    assert_eq!(
        standing_after(None, "doline"),
        Standing::Sound,
        "its own data go on"
    );
}

/// Who was promoted and never opened may have a history of the same name as the one that counts
/// (D5).
#[test]
fn a_promotion_that_was_not_opened_needs_a_clone_once_another_is() {
    let mut state = Built::new();
    assert!(state.assign(1, "doline") && state.open(1) && state.revoke(1) && state.end(1, Some(9)));
    assert!(state.assign(2, "polje") && state.revoke(2) && state.end(2, None));
    assert_eq!(
        state.0.workload(&w()).clean_end,
        Some(9),
        "the last opened epoch ended there"
    );
    assert!(state.assign(3, "doline"));
    assert_eq!(
        state.standing("polje"),
        Standing::Sound,
        "it may be the last copy"
    );
    assert!(state.open(3));
    assert!(matches!(state.standing("polje"), Standing::NeedsClone(_)));
    assert!(state.0.workload(&w()).attempts.is_empty());
}

/// A history of a name that was open before: whoever may have followed the other one is copied
/// anew.
#[test]
fn twins_are_copied_and_a_sound_mark_leaves_nothing_behind() {
    let mut state = Built::new();
    assert!(state.assign(1, "doline") && state.open(1) && state.revoke(1) && state.end(1, None));
    assert!(state.assign(2, "polje") && state.open_with(2, &["doline"]));
    assert!(matches!(state.standing("doline"), Standing::NeedsClone(_)));
    let sound = || {
        Command::Workload(
            w(),
            WorkloadAct::Mark {
                node: "doline".into(),
                standing: Standing::Sound,
            },
        )
    };
    assert!(state.apply(sound()) && !state.apply(sound()), "once");
    assert!(
        state.0.workload(&w()).standing.is_empty(),
        "a workload is calm again after a rejoin"
    );
}

/// A person who lets the cluster act lets it go on with what it has prepared.
#[test]
fn mode_act_approves_what_waits() {
    let mut state = Built::new();
    let waiting = Operation {
        kind: Kind::Failover,
        workload: w(),
        from: None,
        to: None,
        by: Author::Cluster,
        cause: Cause::AskedFor,
        why: String::new(),
        asks: true,
        accept_loss: 0,
        intent: None,
    };
    assert!(state.apply(Command::begin(waiting)));
    let mode = |mode| {
        Command::Workload(
            w(),
            WorkloadAct::Mode(ModeSet::plain(mode, Author::person("captain"))),
        )
    };
    assert!(state.apply(mode(Mode::Watch)));
    assert!(state.0.running(&w()).unwrap().1.waits());
    assert!(state.apply(mode(Mode::Act)));
    assert_eq!(
        state.0.running(&w()).unwrap().1.approved,
        Some(Author::person("captain"))
    );
}

#[test]
fn a_sync_set_moves_forward_only() {
    let mut state = Built::new();
    assert!(state.assign(1, "doline") && state.open(1));
    let mut sync = |number, sure: &[&str], asked: &[&str]| {
        let list = |names: &[&str]| names.iter().map(|n| NodeId::from(*n)).collect();
        let (workload, epoch, why) = (w(), Epoch(1), String::new());
        state.apply(Command::Workload(
            workload,
            WorkloadAct::Sync {
                unprotected: false,
                epoch,
                number,
                sure: list(sure),
                asked: list(asked),
                why,
            },
        ))
    };
    assert!(sync(2, &["uvala"], &["polje", "uvala"]));
    assert!(
        sync(2, &["polje", "uvala"], &["polje", "uvala"]),
        "growth is completed under its own number"
    );
    assert!(!sync(2, &[], &[]), "a shrinking set needs a new number");
    assert!(
        !sync(1, &["uvala"], &["uvala"]),
        "a late one changes nothing (D2)"
    );
    assert!(sync(3, &[], &[]));
    assert!(matches!(
        state.0.workload(&w()).tenure,
        Tenure::Open { serving: false, .. }
    ));
}

#[test]
fn one_operation_at_a_time() {
    let mut state = Built::new();
    let begin = || {
        let (by, why) = (Author::person("captain"), String::new());
        Command::begin(Operation {
            kind: Kind::Switchover,
            workload: w(),
            from: None,
            to: None,
            by,
            cause: Cause::AskedFor,
            why,
            asks: false,
            accept_loss: 0,
            intent: None,
        })
    };
    assert!(state.apply(begin()));
    assert!(
        !state.apply(begin()),
        "the second is refused, and its asker told so"
    );
    assert_eq!(state.0.running(&w()).map(|(id, _)| id.0), Some(1));
    assert_eq!(state.0.applied, Index(2));
}

fn held(node: &str, stage: Stage) -> HeldBack {
    HeldBack {
        intent: OperationId(3),
        name: "before-fares".into(),
        node: node.into(),
        stage,
    }
}

fn stands(epoch: u64) -> Stage {
    Stage::Stands(Mark {
        label: "before-fares.3.1".into(),
        epoch: Epoch(epoch),
        at: Position::new("1", 100),
    })
}

impl Built {
    fn hold_back(&mut self, held: Option<HeldBack>) -> bool {
        self.apply(Command::Workload(w(), WorkloadAct::HoldBack(held)))
    }
    fn sync(&mut self, number: u64, asked: &[&str]) -> bool {
        let asked: Vec<NodeId> = asked.iter().map(|n| NodeId::from(*n)).collect();
        let epoch = self.0.workload(&w()).epoch;
        self.apply(Command::Workload(
            w(),
            WorkloadAct::Sync {
                epoch,
                number,
                sure: Vec::new(),
                asked,
                unprotected: false,
                why: String::new(),
            },
        ))
    }
    fn held(&self) -> Option<&HeldBack> {
        self.0.workload(&w()).held_back.as_ref()
    }
}

/// No write waits for a standby that is held back, in whichever order the log says so (P1).
#[test]
fn whoever_is_held_back_is_waited_for_by_nobody() {
    let mut built = Built::new();
    built.assign(1, "doline");
    built.open(1);
    let first = |node| Some(held(node, Stage::Stops));
    assert!(!built.hold_back(first("uvala")), "it is in the set");
    assert!(!built.hold_back(first("doline")), "it is the primary");
    assert!(
        !built.hold_back(Some(held("polje", Stage::Marks))),
        "it runs"
    );
    assert!(built.hold_back(first("polje")));
    assert!(!built.hold_back(first("cenote")), "one at a time");
    assert!(!built.sync(2, &["uvala", "polje"]), "a set with it");
    assert!(built.sync(2, &["uvala"]));
}

#[test]
fn a_point_is_made_one_stage_after_the_other_and_under_one_primary() {
    let mut built = Built::new();
    built.assign(1, "doline");
    built.open(1);
    built.hold_back(Some(held("polje", Stage::Stops)));
    assert!(
        !built.hold_back(Some(held("polje", stands(1)))),
        "not written yet"
    );
    assert!(built.hold_back(Some(held("polje", Stage::Marks))));
    built.revoke(1);
    built.apply(Command::Workload(
        w(),
        WorkloadAct::End {
            epoch: Epoch(1),
            how: Ended::LeaseOver,
        },
    ));
    built.assign(2, "uvala");
    assert!(
        !built.hold_back(Some(held("polje", stands(1)))),
        "nobody is open"
    );
    built.open(2);
    assert!(
        !built.hold_back(Some(held("polje", stands(1)))),
        "of another primary"
    );
    assert!(built.hold_back(Some(held("polje", stands(2)))));
    let needs_clone = Standing::NeedsClone("its history is a twin".into());
    built.apply(Command::Workload(
        w(),
        WorkloadAct::Mark {
            node: "polje".into(),
            standing: needs_clone,
        },
    ));
    assert_eq!(built.held(), None, "its data are no point any more");
}

#[test]
fn whoever_goes_on_from_its_point_is_held_back_no_more() {
    let mut built = Built::new();
    built.assign(1, "doline");
    built.open(1);
    for stage in [Stage::Stops, Stage::Marks, stands(1)] {
        assert!(built.hold_back(Some(held("polje", stage))));
    }
    built.revoke(1);
    built.apply(Command::Workload(
        w(),
        WorkloadAct::End {
            epoch: Epoch(1),
            how: Ended::LeaseOver,
        },
    ));
    built.assign(2, "polje");
    assert!(built.held().is_some(), "it has to be at its point yet");
    built.open(2);
    assert_eq!(built.held(), None);
}
