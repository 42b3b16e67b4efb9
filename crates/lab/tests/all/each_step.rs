//! The daemon of a node is killed right after each step of each plan, while clients write: whatever was
//! under way is done, and no row is missing. Of each plan one node's, another each time; with
//! `KARST_EACH_STEP=1` every node's in turn.

use crate::rig::changes::{done, edited};
use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::core::OperationId;
use karst_api::core::spec::FindingKind;
use karst_api::{MaintenanceBody, SafetyPointBody, StatusReply, WishBody};
use karst_lab::cluster::is_well;
use karst_lab::drill::{compare, start_load};
use karst_lab::fault::{self, Fault};
use karst_lab::layout::WORKLOAD;
use karst_lab::shape::Shape;
use karst_lab::{Lab, find};
use rustix::process::Signal;
use std::time::{Duration, Instant};
use toml_edit::{DocumentMut, value};

pub const NODES: [&str; 5] = ["doline", "polje", "ponor", "uvala", "cenote"];

/// What people do on calm days.
#[derive(Clone, Copy, Debug)]
pub enum Plan {
    /// Timings `brisk`, and the default ones.
    Timings,
    /// Three voters, five, and three again.
    Votes,
    /// The primary's own replica goes, and comes back.
    Replica,
    /// A node goes, and comes back.
    Node,
    Restart,
    /// The primary's host rests, and what it held comes back.
    Rest,
    SafetyPoint,
    /// A voter's store is lost, and its new one taken in.
    Enrolment,
}

pub const PLANS: [Plan; 8] = [
    Plan::Timings,
    Plan::Votes,
    Plan::Replica,
    Plan::Node,
    Plan::Restart,
    Plan::Rest,
    Plan::SafetyPoint,
    Plan::Enrolment,
];

#[tokio::test(flavor = "multi_thread")]
async fn a_daemon_is_killed_at_each_step_of_each_plan() {
    let shape = Shape {
        fifth: true,
        ..Shape::default()
    };
    let lab = TestLab::shaped("test-each-step", 10_160, shape)
        .await
        .unwrap();
    let text = lab.client.spec().await.unwrap().text;
    let load = start_load(&lab.layout, "each-step", 4, 2).unwrap();
    let all = std::env::var("KARST_EACH_STEP").is_ok();
    let mut kills = 0;
    for (number, plan) in PLANS.into_iter().enumerate() {
        let one = &NODES[number % NODES.len()..][..1];
        let mut of_plan = 0;
        for victim in if all { &NODES[..] } else { one } {
            for step in 0.. {
                let killed = played(&lab, plan, &text, (victim, step)).await;
                let at = format!("{plan:?}, {victim} killed after {step} steps");
                if !killed.context(at).unwrap() {
                    break;
                }
                of_plan += 1;
            }
        }
        assert!(of_plan > 0, "{plan:?} was over before anybody was killed");
        kills += of_plan;
    }
    let lines = load.finish().unwrap();
    let (acknowledged, missing) = compare(&lab, &lines).await.unwrap();
    let lost: usize = missing.iter().map(|(_, rows)| rows).sum();
    eprintln!("{kills} daemons killed, {acknowledged} rows, {lost} missing");
    assert!(acknowledged > 1_000 && lost == 0, "{missing:?}");
}

/// One plan, and what takes it back where it is an edit. Whether it had so many steps that somebody was
/// killed.
async fn played(lab: &Lab, plan: Plan, text: &str, at: (&str, usize)) -> Result<bool> {
    lab.wait("all is well before", LIMIT, is_well).await?;
    let started = begun(lab, plan).await?;
    let mut killed = followed(lab, started, at).await?;
    caught_up(lab).await?;
    if lab.client.spec().await?.text != text {
        let back = edit(lab, &|spec| *spec = text.parse().expect("it was in force")).await?;
        killed |= followed(lab, back, at).await?;
    }
    Ok(killed)
}

pub async fn begun(lab: &Lab, plan: Plan) -> Result<OperationId> {
    let primary = lab.primary().await?;
    let started = match plan {
        Plan::Timings => return edit(lab, &|spec| spec["timings"] = value("brisk")).await,
        Plan::Votes => {
            let five = |spec: &mut DocumentMut| {
                for node in ["cenote", "uvala"] {
                    spec["node"][node]["votes"] = value(1);
                }
            };
            return edit(lab, &five).await;
        }
        Plan::Replica => {
            let fewer = |spec: &mut DocumentMut| {
                let replicas = spec["workload"][WORKLOAD]["replica"].as_table_mut();
                replicas.expect("it has replicas").remove(&primary);
            };
            return edit(lab, &fewer).await;
        }
        Plan::Node => {
            let fewer = |spec: &mut DocumentMut| {
                let nodes = spec["node"].as_table_mut();
                nodes.expect("there are nodes").remove("cenote");
            };
            return edit(lab, &fewer).await;
        }
        Plan::Restart => lab.client.restart(WORKLOAD, &WishBody::default()).await?,
        Plan::Rest => {
            let body = MaintenanceBody {
                nodes: vec![primary.as_str().into()],
                back: true,
                ..MaintenanceBody::default()
            };
            lab.client.maintenance(&body).await?
        }
        Plan::SafetyPoint => {
            let body = SafetyPointBody {
                name: "before-fares".into(),
                ..SafetyPointBody::default()
            };
            lab.client.safety_point(WORKLOAD, &body).await?
        }
        Plan::Enrolment => {
            let host = "ponor".to_string();
            fault::apply(&lab.layout, &Fault::LoseStore { host })?;
            let is_new = |r: &StatusReply| {
                let mut findings = r.status.findings.iter();
                let new = findings.any(|f| f.finding.kind == FindingKind::VoteNotCounted);
                new && r.complete
            };
            lab.wait("ponor's store is new", LIMIT, is_new).await?;
            lab.client.enrol("ponor", &WishBody::default()).await?
        }
    };
    Ok(started.operation)
}

/// Whoever was killed last may not know yet what is in force: then it is refused, and asked for anew.
pub async fn edit(lab: &Lab, edit: crate::rig::changes::Edit<'_>) -> Result<OperationId> {
    let begun = Instant::now();
    loop {
        caught_up(lab).await?;
        let (body, based_on) = edited(lab, edit).await?;
        match lab.client.submit(&body, based_on).await {
            Ok(started) => return Ok(started.operation),
            Err(error) if error.to_string().contains("is in force, by") => {
                ensure!(begun.elapsed() < LIMIT, "{error}");
            }
            Err(error) => return Err(error.into()),
        }
    }
}

pub async fn caught_up(lab: &Lab) -> Result<()> {
    let begun = Instant::now();
    loop {
        let (status, spec) = (lab.status().await, lab.client.spec().await);
        if let (Ok(status), Ok(spec)) = (status, spec)
            && status.status.revision == spec.revision
        {
            return Ok(());
        }
        ensure!(begun.elapsed() < LIMIT, "the node that is asked is current");
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

/// Until it is done. What lasts is ended once nothing is held any more.
pub async fn followed(lab: &Lab, id: OperationId, (victim, step): (&str, usize)) -> Result<bool> {
    let (begun, mut killed, mut ended) = (Instant::now(), false, false);
    // A short one may be over before anybody has looked at it.
    while step == 0 && !killed {
        // The daemon that was killed a moment ago is started again first.
        if let Ok(daemon) = find::daemon(&lab.layout, victim, "run") {
            find::signal(daemon, Signal::KILL)?;
            killed = true;
        }
        ensure!(begun.elapsed() < LIMIT, "{victim} has a daemon");
        tokio::time::sleep(Duration::from_millis(2)).await;
    }
    loop {
        ensure!(begun.elapsed() < LIMIT, "{id} is done");
        // Whoever was asked may have been killed just now.
        let Ok(reply) = lab.status().await else {
            tokio::time::sleep(Duration::from_millis(5)).await;
            continue;
        };
        let status = reply.status;
        if status.intents_over.iter().any(|over| over.id == id) {
            break;
        }
        let Some(intent) = status.intents.iter().find(|intent| intent.id == id) else {
            tokio::time::sleep(Duration::from_millis(5)).await;
            continue;
        };
        let so_far = intent.steps.iter().filter(|step| step.done).count();
        // One that was killed a moment ago is started again first.
        let daemon = find::daemon(&lab.layout, victim, "run");
        if !killed
            && so_far >= step
            && let Ok(daemon) = daemon
        {
            find::signal(daemon, Signal::KILL)?;
            killed = true;
        } else if intent.empty && !intent.turned && !ended {
            ended = lab.client.end(id).await.is_ok();
        }
        tokio::time::sleep(Duration::from_millis(2)).await;
    }
    done(lab, id).await?;
    Ok(killed)
}
