//! Wishes of people under eight writers, each with a kill of the coordinator, a cut between two hosts
//! and a server that hangs on its way: each is done, and no row is missing. `KARST_TROUBLE=10` plays
//! ten seeds of every plan; else a few plans are played once.

use crate::each_step::{NODES, PLANS, Plan, begun, caught_up, edit, followed};
use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result};
use karst_lab::cluster::is_well;
use karst_lab::drill::{compare, start_load};
use karst_lab::fault::{self, Fault};
use karst_lab::shape::Shape;
use karst_lab::{Lab, find};
use rand::{Rng, SeedableRng, rngs::StdRng};
use rustix::process::Signal;
use std::time::Duration;

const WRITERS: u32 = 8;
const FEW: usize = 3;
/// So many of the nodes have links of the lab's own that can be cut.
const HOSTS: usize = 4;

#[tokio::test(flavor = "multi_thread")]
async fn wishes_are_done_in_the_middle_of_trouble() {
    let shape = Shape {
        fifth: true,
        ..Shape::default()
    };
    let lab = TestLab::shaped("test-trouble", 10_190, shape)
        .await
        .unwrap();
    let text = lab.client.spec().await.unwrap().text;
    let load = start_load(&lab.layout, "trouble", WRITERS, 2).unwrap();
    let seeds: Option<u64> = std::env::var("KARST_TROUBLE")
        .ok()
        .map(|seeds| seeds.parse().expect("a number"));
    let plans = if seeds.is_some() { PLANS.len() } else { FEW };
    for seed in 0..seeds.unwrap_or(1) {
        for plan in &PLANS[..plans] {
            let played = struck(&lab, *plan, &text, seed).await;
            played
                .with_context(|| format!("seed {seed}, {plan:?}"))
                .unwrap();
        }
    }
    let lines = load.finish().unwrap();
    let (acknowledged, missing) = compare(&lab, &lines).await.unwrap();
    let lost: usize = missing.iter().map(|(_, rows)| rows).sum();
    eprintln!("{acknowledged} rows, {lost} missing");
    assert!(acknowledged > 1_000 && lost == 0, "{missing:?}");
}

/// One plan in the middle of trouble, and what takes it back.
async fn struck(lab: &Lab, plan: Plan, text: &str, seed: u64) -> Result<()> {
    let mut chance = StdRng::seed_from_u64(seed * 100 + plan as u64);
    lab.wait("all is well before", LIMIT, is_well).await?;
    let started = begun(lab, plan).await?;
    strike(lab, &mut chance).await?;
    followed(lab, started, (NODES[0], usize::MAX)).await?;
    caught_up(lab).await?;
    if lab.client.spec().await?.text != text {
        let back = edit(lab, &|spec| *spec = text.parse().expect("it was in force")).await?;
        followed(lab, back, (NODES[0], usize::MAX)).await?;
    }
    Ok(())
}

/// The moments are the seed's: from at once to after the longest step.
async fn strike(lab: &Lab, chance: &mut StdRng) -> Result<()> {
    let mut moment = async || {
        let millis = chance.random_range(0..400);
        tokio::time::sleep(Duration::from_millis(millis)).await;
        chance.random_range(0..HOSTS)
    };
    moment().await;
    if let Some(leader) = lab
        .status()
        .await
        .ok()
        .and_then(|reply| reply.status.coordinator)
    {
        let daemon = find::daemon(&lab.layout, leader.as_str(), "run");
        daemon.and_then(|daemon| find::signal(daemon, Signal::KILL))?;
    }
    let (one, other) = (moment().await, moment().await);
    if one != other {
        let cut = Fault::CutPair {
            from: NODES[one].into(),
            to: NODES[other].into(),
            one_way: false,
            network: None,
        };
        fault::apply(&lab.layout, &cut)?;
    }
    // A host without a server has nothing that could hang.
    let hung = find::postmaster(&lab.layout, NODES[moment().await]).ok();
    if let Some(server) = hung {
        find::signal(server, Signal::STOP)?;
    }
    tokio::time::sleep(Duration::from_millis(1_500)).await;
    fault::apply(&lab.layout, &Fault::Heal)?;
    if let Some(server) = hung {
        // It may have been ended meanwhile.
        let _ = find::signal(server, Signal::CONT);
    }
    Ok(())
}
