//! Descriptors used up: each daemon has 256, thousands of clients that say nothing sit on a gate
//! and on an HTTP service, and what fails is replaced all the same, in time, with no row missing.

use crate::rig::TestLab;
use karst_lab::crowd;
use karst_lab::drill::acceptance::{Extent, run};
use karst_lab::fault::{self, Fault};
use karst_lab::layout::host;
use karst_lab::shape::Shape;

const CLIENTS: u32 = 2_000;

#[tokio::test(flavor = "multi_thread")]
async fn promises_are_kept_without_descriptors() {
    let shape = Shape {
        descriptors: Some(256),
        ..Shape::default()
    };
    let lab = TestLab::shaped("test-few", 9960, shape).await.unwrap();
    fault::apply(&lab.layout, &Fault::ControllerStart).unwrap();
    let gate = format!("{}:26900", host("uvala").unwrap().client())
        .parse()
        .unwrap();
    let api = format!("{}:26780", host("doline").unwrap().management())
        .parse()
        .unwrap();
    let _crowds = [
        crowd::idle_clients(&lab.layout, gate, CLIENTS).unwrap(),
        crowd::idle_askers(&lab.layout, api, CLIENTS).unwrap(),
    ];
    for only in ["kill-server", "cut-off"] {
        let extent = Extent {
            only: Some(only.into()),
            ..Extent::of(1)
        };
        let found = run(&lab, &extent)
            .await
            .unwrap_or_else(|error| panic!("{only}: {error:#}"));
        assert_eq!(found.broken(), 0, "{only}: {found}");
    }
}
