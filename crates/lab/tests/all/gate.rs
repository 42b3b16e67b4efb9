//! The way between a gate's host and the primary is cut, and all others hear both. So many times, by
//! `KARST_ROUNDS` (2 where it is not set), from wherever the address is.

use crate::rig::TestLab;
use karst_lab::drill::ways::{GATE_CUT_OFF, gate_cut_off};

#[tokio::test(flavor = "multi_thread")]
async fn clients_of_a_gate_that_is_cut_off_write_on() {
    let rounds = std::env::var("KARST_ROUNDS").map_or(2, |n| n.parse().expect("a number"));
    let lab = TestLab::start("test-gate", 9970).await.unwrap();
    let mut late = Vec::new();
    for round in 0..rounds {
        let waited = gate_cut_off(&lab).await.unwrap();
        println!("round {round}: {waited:?}");
        if waited.gate.max(waited.address) >= GATE_CUT_OFF + waited.stolen {
            late.push((round, waited));
        }
    }
    assert!(late.is_empty(), "later than {GATE_CUT_OFF:?}: {late:?}");
}
