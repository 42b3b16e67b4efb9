//! The acceptance run in small: hosts lose their power, are cut off, stand still, fill their disks,
//! hear one way only, and come back. Every promise is kept.

use crate::rig::TestLab;
use karst_lab::drill::{Extent, acceptance};

#[tokio::test(flavor = "multi_thread")]
#[ignore = "minutes of real faults against real time bounds: `make faults`, on a machine that is not starved of CPU"]
async fn every_promise_is_kept() {
    let lab = TestLab::start("test-hosts", 9820).await.unwrap();
    let found = acceptance::run(&lab, &Extent::of(2)).await.unwrap();
    let report = lab.layout.dir.join("report");
    found.save(&report).unwrap();
    assert!(
        std::fs::read_to_string(report.join("phases.svg"))
            .unwrap()
            .contains("power-off")
    );
    assert_eq!(found.broken(), 0, "{found}");
}
