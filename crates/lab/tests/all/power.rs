//! A host that loses its power, or that nobody hears, is replaced once its power is read as off;
//! what cannot be confirmed is tried on and never assumed (C7). Whoever was fenced holds nothing
//! until it is readmitted (S6).

use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::StatusReply;
use karst_api::core::event::FactKind;
use karst_api::core::operation::Mode;
use karst_api::core::view::{NodeView, PowerView};
use karst_lab::cluster::LOOK;
use karst_lab::drill::{self, Course, Loss, scenes};
use karst_lab::fault::{self, Fault, Network};
use karst_lab::inside::SNAPSHOT_AFTER;
use karst_lab::layout::WORKLOAD;
use karst_lab::{Lab, find};
use rustix::process::Signal;
use std::time::Instant;

#[tokio::test(flavor = "multi_thread")]
async fn power_is_cut_confirmed_and_given_back() {
    let lab = TestLab::start("test-power", 9860).await.unwrap();
    apply(&lab, Fault::ControllerStart).unwrap();
    every_device_answers(&lab).await.unwrap();
    // The second finds its primary wherever the first left it; the first takes the coordinator
    // along.
    let report = drill::lose_primary(
        &lab,
        Loss::Power,
        Course {
            together: 1,
            ..Course::of(2)
        },
    )
    .await
    .unwrap();
    assert_eq!(
        (report.missing_total(), report.refused(), report.late()),
        (0, 0, None),
        "{report:?}"
    );
    assert!(report.rounds[0].coordinator_too, "{report:?}");
    // Nothing of a host without power leaves it, and nobody else answers before it is gone.
    assert!(
        report
            .rounds
            .iter()
            .all(|r| r.goodbyes.unwrap_or(0) == 0 && r.clashes.is_empty()),
        "{report:?}"
    );
    cut_off_from_its_peers(&lab).await.unwrap();
    what_is_not_confirmed_is_not_assumed(&lab).await.unwrap();
    fenced_and_readmitted_by_hand(&lab).await.unwrap();
    asked_first(&lab).await.unwrap();
    away_for_long(&lab).await.unwrap();
    println!("{}", scenes::address_moves(&lab).await.unwrap());
}

fn apply(lab: &Lab, fault: Fault) -> Result<String> {
    fault::apply(&lab.layout, &fault)
}

fn node<'a>(reply: &'a StatusReply, name: &str) -> Option<&'a NodeView> {
    reply.status.nodes.iter().find(|n| n.node.as_str() == name)
}

async fn every_device_answers(lab: &Lab) -> Result<()> {
    let on = |r: &StatusReply| {
        r.status
            .nodes
            .iter()
            .all(|n| n.power == Some(PowerView::On))
    };
    lab.wait("every device answers", LIMIT, on).await?;
    Ok(())
}

async fn moves_away(lab: &Lab, primary: &str) -> Result<StatusReply> {
    let elsewhere = |r: &StatusReply| {
        r.status.workloads[0]
            .primary
            .as_ref()
            .is_some_and(|p| p.as_str() != primary)
    };
    lab.wait("a new primary", LIMIT, elsewhere).await
}

/// Heard by nobody, though it runs: its power is cut, and it is back only after somebody has given
/// it back.
async fn cut_off_from_its_peers(lab: &Lab) -> Result<()> {
    lab.healthy(LIMIT).await?;
    let primary = lab.primary().await?;
    apply(
        lab,
        Fault::Cut {
            host: primary.clone(),
            network: Some(Network::Peer),
        },
    )?;
    let moved = moves_away(lab, &primary).await?;
    ensure!(
        find::host_init(&lab.layout, &primary).is_err(),
        "{primary} still has power"
    );
    let steps = &moved
        .status
        .operations
        .first()
        .context("an operation")?
        .steps;
    let at = |kind| {
        steps
            .iter()
            .position(|s| s.kind == kind)
            .with_context(|| format!("{kind}: {steps:?}"))
    };
    let order = [
        FactKind::Revoked,
        FactKind::Fenced,
        FactKind::PowerOff,
        FactKind::Assigned,
    ];
    let order = order.into_iter().map(at).collect::<Result<Vec<_>>>()?;
    ensure!(order.is_sorted(), "not in the order of C7: {steps:?}");
    apply(lab, Fault::Heal)?;
    let off = |n: &NodeView| n.fenced.is_some() && n.power == Some(PowerView::Off);
    lab.wait("it is shown as fenced, without power", LIMIT, |r| {
        node(r, &primary).is_some_and(off)
    })
    .await?;
    apply(
        lab,
        Fault::PowerOn {
            host: primary.clone(),
        },
    )?;
    let well = lab.healthy(LIMIT).await?;
    ensure!(
        node(&well, &primary).is_some_and(|n| n.fenced.is_none()),
        "it was not readmitted"
    );
    Ok(())
}

/// With the controller gone, the lease's end moves it, the record says what could not be confirmed,
/// and a host that was never cut off comes back without anybody's doing.
async fn what_is_not_confirmed_is_not_assumed(lab: &Lab) -> Result<()> {
    let primary = lab.primary().await?;
    apply(lab, Fault::ControllerStop)?;
    apply(
        lab,
        Fault::Cut {
            host: primary.clone(),
            network: Some(Network::Peer),
        },
    )?;
    let moved = moves_away(lab, &primary).await?;
    let operation = moved.status.operations.first().context("an operation")?;
    let says = |what: &str| operation.steps.iter().any(|s| s.text.contains(what));
    let read_off = operation.steps.iter().any(|s| s.kind == FactKind::PowerOff);
    ensure!(
        says("the old primary's lease has expired") && !read_off,
        "{:?}",
        operation.steps
    );
    apply(lab, Fault::Heal)?;
    lab.healthy(LIMIT).await?;
    ensure!(
        find::host_init(&lab.layout, &primary).is_ok(),
        "{primary} lost its power"
    );
    let history = lab.client.history("limit=500").await?;
    ensure!(
        history
            .records
            .iter()
            .any(|r| r.kind == FactKind::PowerUnconfirmed.word()),
        "nothing says that it is not confirmed"
    );
    apply(lab, Fault::ControllerStart)?;
    every_device_answers(lab).await
}

/// A standby fenced by a person: its power goes, it is nobody's candidate, and it cannot be
/// readmitted unheard.
async fn fenced_and_readmitted_by_hand(lab: &Lab) -> Result<()> {
    let well = lab.healthy(LIMIT).await?;
    let coordinator = well
        .status
        .coordinator
        .as_ref()
        .context("a coordinator")?
        .to_string();
    let standby = well.status.workloads[0]
        .sync
        .sure
        .iter()
        .find(|n| n.as_str() != coordinator);
    let standby = standby.context("a standby")?.to_string();
    lab.client.node(&standby, "fence").await?;
    let off = |r: &StatusReply| node(r, &standby).is_some_and(|n| n.power == Some(PowerView::Off));
    let status = lab.wait("its power is off", LIMIT, off).await?;
    let workload = &status.status.workloads[0];
    let candidate = workload
        .candidates
        .iter()
        .find(|c| c.node.as_str() == standby)
        .context("a candidate")?;
    ensure!(candidate.excluded.is_some(), "{candidate:?}");
    let refused = lab
        .client
        .node(&standby, "readmit")
        .await
        .err()
        .context("it is not heard")?
        .to_string();
    ensure!(refused.contains("not heard"), "{refused}");
    apply(
        lab,
        Fault::PowerOn {
            host: standby.clone(),
        },
    )?;
    let after = lab.healthy(LIMIT).await?;
    ensure!(
        after.status.workloads[0].epoch == workload.epoch,
        "a fenced standby moved the primary"
    );
    Ok(())
}

/// More is decided while a host has no power than the others keep of their log: it catches up by a
/// snapshot.
async fn away_for_long(lab: &Lab) -> Result<()> {
    let status = lab.healthy(LIMIT).await?.status;
    let away = status.workloads[0]
        .sync
        .sure
        .iter()
        .find(|n| Some(*n) != status.coordinator.as_ref());
    let away = away.context("a standby that does not lead")?.to_string();
    apply(lab, Fault::PowerOff { host: away.clone() })?;
    for _ in 0..SNAPSHOT_AFTER {
        lab.client.set_mode(WORKLOAD, &Mode::Ask.into()).await?;
        lab.client.set_mode(WORKLOAD, &Mode::Act.into()).await?;
    }
    apply(lab, Fault::PowerOn { host: away.clone() })?;
    lab.healthy(LIMIT).await?;
    let begun = Instant::now();
    loop {
        let records = lab.client.history("limit=200").await?.records;
        if records.iter().any(|r| {
            r.kind == FactKind::Snapshot.word() && r.text.contains(&format!("{away} catches up"))
        }) {
            return Ok(());
        }
        ensure!(
            begun.elapsed() < LIMIT,
            "{away} is back, and no record says by a snapshot"
        );
        tokio::time::sleep(LOOK).await;
    }
}

/// Mode `ask`: the loss is prepared and waits for a person, who is told what to say.
async fn asked_first(lab: &Lab) -> Result<()> {
    lab.client.set_mode(WORKLOAD, &Mode::Ask.into()).await?;
    let primary = lab.primary().await?;
    find::signal(find::postmaster(&lab.layout, &primary)?, Signal::KILL)?;
    let asks = |r: &StatusReply| r.status.operations.first().is_some_and(|o| o.waits);
    let waiting = lab.wait("it asks", LIMIT, asks).await?;
    let operation = waiting.status.operations[0].id;
    let next = waiting.status.workloads[0].next.clone().unwrap_or_default();
    ensure!(
        next.contains(&format!("approve {operation}")),
        "next: {next}"
    );
    lab.client.approve(operation).await?;
    moves_away(lab, &primary).await?;
    lab.client.set_mode(WORKLOAD, &Mode::Act.into()).await?;
    lab.healthy(LIMIT).await?;
    Ok(())
}
