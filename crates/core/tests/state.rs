//! What the log builds: commands that come too late change nothing, and a former primary's way back depends on how it ended.

use karst_core::ids::Lsn;
use karst_core::operation::{Kind, Operation};
use karst_core::state::{ClusterState, Command, Ended, Standing, Tenure};
use karst_core::{BootId, Epoch, Index, NodeId, WorkloadId};

fn w() -> WorkloadId {
    "sailings".into()
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
        self.apply(Command::Assign { workload: w(), epoch: Epoch(epoch), holder: holder.into(), why: String::new() })
    }
    fn open(&mut self, epoch: u64) -> bool {
        let sync = vec![NodeId::from("uvala")];
        self.apply(Command::Open {
            workload: w(),
            epoch: Epoch(epoch),
            timeline: epoch as u32,
            switch: Lsn(epoch),
            sync,
        })
    }
    fn revoke(&mut self, epoch: u64) -> bool {
        self.apply(Command::Revoke { workload: w(), epoch: Epoch(epoch), why: String::new() })
    }
    fn end(&mut self, epoch: u64, clean_at: Option<Lsn>) -> bool {
        let how = Ended::Surrender { boot: BootId::from("b"), clean_at };
        self.apply(Command::End { workload: w(), epoch: Epoch(epoch), how })
    }
}

#[test]
fn an_epoch_goes_through_its_stations_and_no_other_way() {
    let mut state = Built::new();
    assert!(!state.open(1) && !state.revoke(1) && !state.end(1, None), "nothing is assigned yet");
    assert!(state.assign(1, "doline"));
    assert!(!state.assign(2, "polje"), "an assigned epoch is not taken over without an end (S3)");
    assert!(state.open(1) && !state.open(1));
    assert!(!state.end(1, None), "no end without revoking first (C7)");
    assert!(state.revoke(1) && !state.revoke(1));
    assert_eq!(state.0.workload(&w()).grantable(), None, "a revoked holder gets no lease");
    assert!(state.end(1, None));
    assert!(!state.assign(1, "polje"), "an epoch is higher than every earlier one (S4)");
    assert!(state.assign(2, "polje"));
    assert!(!state.revoke(1), "about an epoch that has passed");
}

#[test]
fn a_former_primary_has_diverged_unless_it_stopped_cleanly_or_goes_on_itself() {
    let standing_after = |clean_at, next: &str| {
        let mut state = Built::new();
        assert!(state.assign(1, "doline") && state.open(1) && state.revoke(1) && state.end(1, clean_at));
        assert!(state.assign(2, next));
        state.0.workload(&w()).standing.get(&NodeId::from("doline")).cloned().unwrap_or_default()
    };
    assert_eq!(standing_after(Some(Lsn(9)), "polje"), Standing::Sound);
    assert!(matches!(standing_after(None, "polje"), Standing::Diverged(_)));
    assert_eq!(standing_after(None, "doline"), Standing::Sound, "its own data go on");

    let mut state = Built::new();
    assert!(state.assign(1, "doline") && state.revoke(1) && state.end(1, Some(Lsn(9))) && state.assign(2, "polje"));
    let standing = state.0.workload(&w()).standing.get(&NodeId::from("doline")).cloned();
    assert!(matches!(standing, Some(Standing::NeedsClone(_))), "never opened: suspect (D5)");
}

#[test]
fn a_sync_set_moves_forward_only() {
    let mut state = Built::new();
    assert!(state.assign(1, "doline") && state.open(1));
    let mut sync = |number, sure: &[&str], asked: &[&str]| {
        let list = |names: &[&str]| names.iter().map(|n| NodeId::from(*n)).collect();
        let (workload, epoch, why) = (w(), Epoch(1), String::new());
        state.apply(Command::Sync { workload, epoch, number, sure: list(sure), asked: list(asked), why })
    };
    assert!(sync(2, &["uvala"], &["polje", "uvala"]));
    assert!(sync(2, &["polje", "uvala"], &["polje", "uvala"]), "growth is completed under its own number");
    assert!(!sync(2, &[], &[]), "a shrinking set needs a new number");
    assert!(!sync(1, &["uvala"], &["uvala"]), "a late one changes nothing (D2)");
    assert!(sync(3, &[], &[]));
    assert!(matches!(state.0.workload(&w()).tenure, Tenure::Open { serving: false, .. }));
}

#[test]
fn one_operation_at_a_time() {
    let mut state = Built::new();
    let begin = || {
        let (by, why) = ("captain".to_string(), String::new());
        Command::Begin(Operation {
            kind: Kind::Switchover,
            workload: w(),
            from: None,
            to: None,
            by,
            why,
            asks: false,
            accept_loss: 0,
        })
    };
    assert!(state.apply(begin()));
    assert!(!state.apply(begin()), "the second is refused, and its asker told so");
    assert_eq!(state.0.running(&w()).map(|(id, _)| id.0), Some(1));
    assert_eq!(state.0.applied, Index(2));
}
