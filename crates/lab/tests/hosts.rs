//! Hosts lose their power, are cut off, hear one way only, and come back: nothing acknowledged is missing, nobody writes
//! twice, and nothing moves that need not.

mod rig;

use anyhow::{Context, Result, ensure};
use karst_api::{Client, StatusReply};
use karst_lab::drill::{self, Loss};
use karst_lab::fault::{self, Fault, Frozen, Network};
use karst_lab::journal::Ending;
use karst_lab::layout::NODES;
use karst_lab::steal::boot_nanos;
use karst_lab::{Lab, find};
use rig::{InHost, LIMIT, TestLab};
use std::time::Duration;

#[tokio::test(flavor = "multi_thread")]
#[ignore = "minutes of real faults against real time bounds: `make faults`, on a machine that is not starved of CPU"]
async fn hosts_fail_and_come_back() {
    let lab = TestLab::start("test-hosts", 9820).await.unwrap();
    for loss in [Loss::PowerAlone, Loss::Peers] {
        // It fails by itself if a round takes longer than the worst case that is printed beforehand (L1).
        let report = drill::lose_primary(&lab, loss, 2, true).await.unwrap();
        assert_eq!((report.missing_total(), report.refused()), (0, 0), "{report:?}");
    }
    apply(&lab, Fault::ControllerStop).unwrap();
    let load = drill::start_load(&lab.layout, "hosts", 2, 2).unwrap();
    cut_off_with_a_writer_on_it(&lab).await.unwrap();
    frozen_whole_and_thawed(&lab).await.unwrap();
    nothing_moves_on_a_bad_network(&lab).await.unwrap();
    majority_lost(&lab).await.unwrap();
    let lines = load.finish().unwrap();
    let (acknowledged, missing) = drill::compare(&lab, &lines).await.unwrap();
    assert!(acknowledged > 1000 && missing.iter().all(|(_, n)| *n == 0), "{acknowledged}: {missing:?}");
    let refused: Vec<_> = lines.iter().filter(|l| l.ending == Ending::Refused).collect();
    assert!(refused.is_empty(), "a gate refused connections: {refused:?}");
}

fn apply(lab: &Lab, fault: Fault) -> Result<String> {
    fault::apply(&lab.layout, &fault)
}

/// Cut off from everyone, the old primary stops itself before its lease ends, though a client on its own host writes on.
async fn cut_off_with_a_writer_on_it(lab: &Lab) -> Result<()> {
    lab.healthy(LIMIT).await?;
    let primary = lab.primary().await?;
    let writing = InHost::start(lab, &primary).await?;
    apply(lab, Fault::Cut { host: primary.clone(), network: None })?;
    // No lease can have been renewed after this.
    let cut = boot_nanos();
    rig::server_ends(lab, &primary, cut, writing).await?;
    apply(lab, Fault::Heal)?;
    lab.healthy(LIMIT).await?;
    Ok(())
}

/// C3: frozen as a whole past its lease, the old primary accepts no write after the new epoch has begun, though its server
/// is the first to run again and a client has the connection still open.
async fn frozen_whole_and_thawed(lab: &Lab) -> Result<()> {
    let well = lab.healthy(LIMIT).await?;
    ensure!(well.status.findings.iter().all(|f| !f.what.contains("no packet guard")), "{:?}", well.status.findings);
    let primary = lab.primary().await?;
    let direct = drill::start_direct(&lab.layout, "direct", &primary)?;
    let wrote = |after: u64| {
        let lines = karst_lab::journal::read(&direct.journal).unwrap_or_default();
        lines.iter().filter(|l| l.ending == Ending::Acknowledged && l.ended > after).map(|l| l.ended).max()
    };
    lab.wait("it writes", LIMIT, |_| wrote(0).is_some()).await?;
    apply(lab, Fault::Freeze { host: primary.clone(), what: Frozen::Host })?;
    let elsewhere = |r: &StatusReply| r.status.workloads[0].primary.as_ref().is_some_and(|p| p.as_str() != primary);
    let moved = lab.wait("a new primary", LIMIT, elsewhere).await?;
    let steps = &moved.status.operations.first().context("an operation")?.steps;
    let assigned = steps.iter().find(|s| s.text.contains("goes to")).context("the assignment")?.at.0;
    apply(lab, Fault::Thaw { host: primary.clone() })?;
    lab.healthy(LIMIT).await?;
    let late = wrote(assigned);
    direct.finish()?;
    ensure!(
        late.is_none(),
        "the old primary accepted a write {:?} after the new epoch began",
        late.map(|at| Duration::from_nanos(at - assigned))
    );
    Ok(())
}

/// L2: a direction that is cut, then the other, then a fifth of all packets lost, and the primary stays where it is.
async fn nothing_moves_on_a_bad_network(lab: &Lab) -> Result<()> {
    let before = lab.healthy(LIMIT).await?;
    let (primary, epoch) = (lab.primary().await?, before.status.workloads[0].epoch);
    let coordinator = before.status.coordinator.context("a coordinator")?.to_string();
    let other = NODES.iter().map(|n| n.name).find(|n| *n != primary && *n != coordinator).context("a third node")?;
    let far = if coordinator == primary { other } else { coordinator.as_str() };
    let network = Some(Network::Peer);
    for (from, to) in [(primary.as_str(), far), (far, primary.as_str())] {
        apply(lab, Fault::CutPair { from: from.into(), to: to.into(), one_way: true, network })?;
        let hears_not = |r: &StatusReply| {
            let deaf = |n: &karst_api::core::view::NodeView| {
                n.node.as_str() == to && n.does_not_hear.iter().any(|d| d.as_str() == from)
            };
            let silent = |n: &karst_api::core::view::NodeView| n.node.as_str() == from && n.state == "suspected";
            r.status.nodes.iter().any(|n| deaf(n) || silent(n))
        };
        lab.wait("the one-way cut is shown", LIMIT, hears_not).await?;
        // Longer than any lease.
        tokio::time::sleep(Duration::from_secs(3)).await;
        ensure!(lab.workload().await?.epoch == epoch, "it moved for {from} -> {to} cut");
        apply(lab, Fault::Heal)?;
        lab.healthy(LIMIT).await?;
    }
    apply(lab, Fault::Loss { percent: 20, network })?;
    let begun = std::time::Instant::now();
    while begun.elapsed() < Duration::from_secs(20) {
        ensure!(lab.workload().await.map_or(epoch, |w| w.epoch) == epoch, "it moved at 20 % loss");
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    apply(lab, Fault::Heal)?;
    let after = lab.healthy(LIMIT).await?;
    ensure!(after.status.workloads[0].epoch == epoch, "it moved for nothing");
    Ok(())
}

/// Both other voters lose their power: the server ends before its lease, the survivor says what is missing, nothing is
/// promoted; when they return, it heals alone.
async fn majority_lost(lab: &Lab) -> Result<()> {
    lab.healthy(LIMIT).await?;
    let primary = lab.primary().await?;
    let voters: Vec<&str> = NODES.iter().filter(|n| n.votes > 0 && n.name != primary).map(|n| n.name).collect();
    // With the primary on the node without a vote all three voters but one go.
    let off = &voters[..2];
    for host in off {
        apply(lab, Fault::PowerOff { host: (*host).into() })?;
    }
    // No lease can have been renewed after this.
    let at = boot_nanos();
    while !find::working_in(&lab.layout.data(&primary)).is_empty() {
        ensure!(boot_nanos() - at < 10_000_000_000, "a server without a majority goes on");
        tokio::time::sleep(Duration::from_millis(2)).await;
    }
    let after = Duration::from_nanos(boot_nanos() - at);
    ensure!(after < Duration::from_secs(2), "the server ended {after:?} after the majority was lost");
    let index = NODES.iter().position(|n| n.name == primary).context("the primary's place")?;
    let survivor = Client::new(&lab.layout.servers()[index..=index], &lab.layout.token()?, None)?;
    let begun = std::time::Instant::now();
    loop {
        let status = survivor.status().await?.status;
        let says = status.sentence.starts_with("No majority") && off.iter().all(|h| status.sentence.contains(h));
        let own =
            status.workloads[0].replicas.iter().find(|r| r.node.as_str() == primary).context("its own replica")?;
        if says && own.state == "stopped" {
            break;
        }
        ensure!(begun.elapsed() < LIMIT, "the survivor says: {}; {own:?}", status.sentence);
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    for host in off {
        apply(lab, Fault::PowerOn { host: (*host).into() })?;
    }
    lab.healthy(LIMIT).await?;
    Ok(())
}
