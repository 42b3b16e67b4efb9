//! Doors of a running lab, and a program that tries them.

use crate::rig::TestLab;
use karst_lab::drill::stolen_key;
use std::time::Duration;

/// Long enough for every kind of message to be said to every node.
const TIME: Duration = Duration::from_secs(20);

#[tokio::test(flavor = "multi_thread")]
async fn a_stolen_key_moves_and_revises_nothing() {
    let lab = TestLab::start("test-doors", 9420).await.unwrap();
    stolen_key::run(&lab, TIME, 1).await.unwrap();
}
