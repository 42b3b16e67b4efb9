//! A node that is removed while it is away: once it can be heard it is told, lets go of everything, and
//! takes part again when it is wanted again.

use crate::rig::command::karst;
use crate::rig::{LIMIT, TestLab, own_status};
use anyhow::{Result, ensure};
use karst_api::StatusReply;
use karst_api::core::spec::FindingKind;
use karst_api::core::view::NodeState;
use karst_lab::cluster::is_well;
use karst_lab::fault::{self, Fault, Held};
use karst_lab::{Lab, find};
use rustix::process::Signal;
use std::process::Command;
use std::time::{Duration, Instant};

#[tokio::test(flavor = "multi_thread")]
async fn whoever_was_removed_is_told_and_can_be_had_back() {
    let lab = TestLab::start("test-leaving", 10_120).await.unwrap();
    removed_while_here(&lab).await.unwrap();
    let revision = lab.client.spec().await.unwrap().revision;
    removed_while_away(&lab).await.unwrap();
    let was_told = |r: &StatusReply| {
        let findings = r.status.findings.iter();
        let mut kinds = findings.map(|f| f.finding.kind);
        kinds.any(|kind| kind == FindingKind::Removed)
    };
    assert!(runs(&lab).unwrap(), "its standby knows nothing of it");
    let host = "uvala".into();
    fault::apply(&lab.layout, &Fault::Release { host }).unwrap();
    let told = own_status(&lab, "it is told", was_told).await.unwrap();
    let sentence = "uvala is no node of this cluster any more, by entry";
    assert!(
        told.status.sentence.contains(sentence),
        "{}",
        told.status.sentence
    );
    ended(&lab).unwrap();
    lab.wait("the others go on", LIMIT, is_well).await.unwrap();
    started_again(&lab).await.unwrap();

    here(&lab, &["spec", "revert", &revision.to_string(), "--yes"]).unwrap();
    let back = |r: &StatusReply| {
        let w = r.status.workloads.first();
        w.is_some_and(|w| w.sync.sure.iter().any(|n| n.as_str() == "uvala"))
    };
    lab.wait("it has every write again", LIMIT, back)
        .await
        .unwrap();
    own_status(&lab, "it is a node", |r| !was_told(r))
        .await
        .unwrap();
}

fn here(lab: &Lab, words: &[&str]) -> Result<()> {
    let socket = lab.layout.runtime("doline").join("api.sock");
    let node = format!("unix:{}", socket.display());
    let (done, said) = karst(&[&["--node", &node], words].concat())?;
    ensure!(done, "{words:?}: {said}");
    Ok(())
}

async fn removed_while_away(lab: &Lab) -> Result<()> {
    let (host, what) = ("uvala".into(), Held::Daemon);
    fault::apply(&lab.layout, &Fault::Hold { host, what })?;
    let silent = |r: &StatusReply| {
        let mut nodes = r.status.nodes.iter();
        nodes.any(|n| n.node.as_str() == "uvala" && n.state != NodeState::Up)
    };
    lab.wait("it is not heard", LIMIT, silent).await?;
    here(lab, &["node", "remove", "uvala", "--yes"])?;
    let gone = |r: &StatusReply| r.status.nodes.iter().all(|n| n.node.as_str() != "uvala");
    lab.wait("it is out", LIMIT, gone).await.map(drop)
}

/// It is no node in the spec that it knows, and is told all the same.
async fn started_again(lab: &Lab) -> Result<()> {
    let daemon = find::daemon(&lab.layout, "uvala", "run")?;
    find::signal(daemon, Signal::KILL)?;
    let again = |r: &StatusReply| {
        let told = r.status.sentence.contains("is no node of this cluster");
        told && find::daemon(&lab.layout, "uvala", "run").is_ok_and(|now| now != daemon)
    };
    own_status(lab, "it is told once more", again)
        .await
        .map(drop)
}

/// Its own log says so, and it is started again by that.
async fn removed_while_here(lab: &Lab) -> Result<()> {
    let revision = lab.client.spec().await?.revision;
    here(lab, &["node", "remove", "uvala", "--yes"])?;
    let gone = |r: &StatusReply| r.status.nodes.iter().all(|n| n.node.as_str() != "uvala");
    lab.wait("it is out", LIMIT, gone).await?;
    ended(lab)?;
    started_again(lab).await?;
    here(lab, &["spec", "revert", &revision.to_string(), "--yes"])?;
    lab.healthy(LIMIT).await.map(drop)
}

/// Whether its server runs.
fn runs(lab: &Lab) -> Result<bool> {
    let data = lab.layout.data("uvala").display().to_string();
    let found = Command::new("pgrep").args(["-f", &data]).output()?;
    let code = found.status.code();
    ensure!(matches!(code, Some(0 | 1)), "pgrep: {found:?}");
    Ok(code == Some(0))
}

fn ended(lab: &Lab) -> Result<()> {
    let begun = Instant::now();
    while runs(lab)? {
        ensure!(begun.elapsed() < LIMIT, "its server is stopped");
        std::thread::sleep(Duration::from_millis(20));
    }
    Ok(())
}
