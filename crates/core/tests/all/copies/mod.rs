//! Where a replica's agent has data from.

use crate::keeper::{Rig, workload};
use karst_core::replica::{Action, Data, Done, Observation};
use karst_core::state::Tenure;
use std::time::Duration;

/// It costs the primary nothing; what it could not be made from is not tried again, and never takes the
/// place of data.
#[test]
fn the_first_data_are_made_from_the_base_backup_that_lies_here() {
    let open = workload(
        2,
        Tenure::Open {
            holder: "uvala".into(),
            serving: true,
        },
    );
    let restore = |from: &str| Action::Restore {
        from: from.into(),
        to: "uvala".into(),
    };
    let mut rig = Rig::new(Observation::down(Data::Empty));
    rig.base_backup = Some("/backup".into());
    let (id, action) = rig.action(&open).unwrap();
    assert_eq!(action, restore("/backup"));
    rig.agent
        .on_done(id, Err("uvala does not answer".into()), rig.now);
    rig.now += Duration::from_secs(1);
    let (id, action) = rig.action(&open).unwrap();
    assert_eq!(action, restore("/backup"), "nothing is known against it");
    let why = "it is not of the history of uvala".into();
    rig.agent.on_done(id, Ok(Done::MustClone { why }), rig.now);
    let (id, action) = rig.action(&open).unwrap();
    let from = "uvala".into();
    assert_eq!(action, Action::Clone { from });
    rig.agent.on_done(id, Err("no room".into()), rig.now);
    rig.now += Duration::from_secs(2);
    rig.base_backup = Some("/another".into());
    let (_, action) = rig.action(&open).unwrap();
    assert_eq!(action, restore("/another"));

    for data in [
        Data::Unusable("half a copy".into()),
        Data::Present { standby: true },
    ] {
        let mut rig = Rig::new(Observation::down(data));
        rig.base_backup = Some("/backup".into());
        let (_, action) = rig.action(&open).unwrap();
        assert!(!matches!(action, Action::Restore { .. }), "{action:?}");
    }
}

/// A copy of a member of the sync set is as good as the primary's, and of nobody else.
#[test]
fn a_copy_comes_from_the_standby_that_the_spec_names_while_it_has_every_write() {
    let mut open = workload(
        2,
        Tenure::Open {
            holder: "uvala".into(),
            serving: true,
        },
    );
    let rig = || {
        let mut rig = Rig::new(Observation::down(Data::Empty));
        rig.copy_from = Some("polje".into());
        rig
    };
    let clone = |from: &str| Some(Action::Clone { from: from.into() });
    let copies = |rig: &mut Rig, open: &_| rig.action(open).map(|(_, action)| action);
    assert_eq!(
        copies(&mut rig(), &open),
        clone("uvala"),
        "it may lack some"
    );
    open.sync.sure = vec!["polje".into()];
    let mut one = rig();
    assert!(
        one.step(&open).is_empty(),
        "the primary's clients come first"
    );
    one.now += Duration::from_secs(1);
    let (id, action) = one.action(&open).unwrap();
    assert_eq!(Some(action), clone("polje"));
    open.sync.sure.clear();
    assert!(one.step(&open).is_empty(), "what is under way goes on");
    open.sync.sure = vec!["polje".into()];
    one.agent.on_done(id, Err("a test".into()), one.now);
    one.now += Duration::from_secs(5);
    assert_eq!(copies(&mut one, &open), clone("uvala"), "it failed there");
}
