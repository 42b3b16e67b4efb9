//! A safety point on real servers: it is kept while clients write, through a loss of its host's power
//! and a failover, and a workload goes back to exactly what was there; dropped, its standby follows
//! again.

use crate::rig::browser::until;
use crate::rig::changes::done;
use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::core::OperationId;
use karst_api::core::request::IntentPlan;
use karst_api::core::view::SafetyPointView;
use karst_api::{SafetyPointBody, StatusReply, WishBody};
use karst_lab::drill::start_load;
use karst_lab::fault::{self, Fault};
use karst_lab::layout::WORKLOAD;
use karst_lab::{Lab, find};
use rustix::process::Signal;
use std::time::Instant;

const HELD: &str = "uvala";

#[tokio::test(flavor = "multi_thread")]
async fn a_workload_goes_back_to_exactly_what_was_there() {
    let lab = TestLab::start("test-safety-point", 9960).await.unwrap();
    let load = start_load(&lab.layout, "safety", 2, 2).unwrap();
    let kept = taken(&lab, "before-fares").await.unwrap();
    what_is_refused(&lab).await.unwrap();
    stays(&lab, &kept).await.unwrap();
    drop(load.finish().unwrap());
    goes_back(&lab, &kept).await.unwrap();
    // Where no history of the same name is in between, everybody else is rewound.
    let kept = taken(&lab, "before-quays").await.unwrap();
    written_and_gone(&lab, &kept).await.unwrap();
    dropped(&lab).await.unwrap();
}

/// What is on the server that is held back.
struct Kept {
    point: OperationId,
    node: String,
    rows: i64,
}

async fn rows(lab: &Lab, host: &str) -> Result<i64> {
    let server = lab.administrator(host).await?;
    let row = server
        .query_one("select count(*) from drill_row", &[])
        .await?;
    Ok(row.get(0))
}

fn point_of(reply: &StatusReply) -> Option<&SafetyPointView> {
    reply.status.workloads[0].safety_point.as_ref()
}

fn stands(reply: &StatusReply) -> bool {
    point_of(reply).is_some_and(|point| point.stands)
}

async fn taken(lab: &Lab, name: &str) -> Result<Kept> {
    let primary = lab.primary().await?;
    let node = if primary == HELD { "doline" } else { HELD };
    let body = SafetyPointBody {
        name: name.into(),
        node: Some(node.into()),
        plan_only: true,
        ..SafetyPointBody::default()
    };
    let before = rows(lab, &primary).await?;
    let plan = lab.client.safety_point_plan(WORKLOAD, &body).await?;
    ensure!(plan.unmet.is_empty(), "{:?}", plan.unmet);
    let body = SafetyPointBody {
        seen: Some(plan.seen),
        plan_only: false,
        ..body
    };
    let begun = Instant::now();
    let point = lab.client.safety_point(WORKLOAD, &body).await?.operation;
    lab.wait("it stands", LIMIT, stands).await?;
    let took = begun.elapsed().as_millis();
    let after = rows(lab, &primary).await?;
    let here = rows(lab, node).await?;
    println!("{name} on {node} after {took} ms, with {here} rows");
    ensure!(
        (before..=after).contains(&here),
        "{here} rows at the point, and from {before} to {after} were there"
    );
    let node = node.to_string();
    let rows = here;
    Ok(Kept { point, node, rows })
}

async fn what_is_refused(lab: &Lab) -> Result<()> {
    let plan = |name: &str, node: &str| SafetyPointBody {
        name: name.into(),
        node: Some(node.into()),
        plan_only: true,
        ..SafetyPointBody::default()
    };
    let second = plan("second", "polje");
    let second = lab.client.safety_point_plan(WORKLOAD, &second).await?;
    let unmet = second.unmet.join("; ");
    for why in [
        "before-fares of sailings is kept already, on uvala",
        "would be left without a standby that has every write",
    ] {
        ensure!(unmet.contains(why), "{unmet}");
    }
    for (name, node, why) in [
        ("Before", HELD, "lower-case letters"),
        ("before", "ponor", "has no replica on ponor"),
    ] {
        let refused = lab
            .client
            .safety_point_plan(WORKLOAD, &plan(name, node))
            .await;
        let text = refused.err().map(|e| e.to_string()).unwrap_or_default();
        ensure!(text.contains(why), "{name} on {node}: {text}");
    }
    Ok(())
}

async fn is_as_it_was(lab: &Lab, kept: &Kept) -> Result<()> {
    let here = rows(lab, &kept.node).await?;
    ensure!(
        here == kept.rows,
        "{} has {here} rows, and had {} at the point",
        kept.node,
        kept.rows
    );
    Ok(())
}

/// Its host loses its power; the primary's server dies; nothing of that moves it, and nobody takes it
/// for one that may take over.
async fn stays(lab: &Lab, kept: &Kept) -> Result<()> {
    let boot = |r: &StatusReply| {
        let mut nodes = r.status.nodes.iter();
        let held = nodes.find(|n| n.node.as_str() == HELD)?;
        Some(held.about.as_ref()?.boot.clone())
    };
    let first = boot(&lab.status().await?).context("its boot")?;
    fault::apply(&lab.layout, &Fault::PowerOff { host: HELD.into() })?;
    let gone = |r: &StatusReply| !stands(r);
    lab.wait("its host is gone", LIMIT, gone).await?;
    fault::apply(&lab.layout, &Fault::PowerOn { host: HELD.into() })?;
    // What it said before it lost its power is believed until it is too old.
    let again = |r: &StatusReply| stands(r) && boot(r).is_some_and(|boot| boot != first);
    lab.wait("it stands there again", LIMIT, again).await?;
    is_as_it_was(lab, kept).await?;
    let before = lab.primary().await?;
    let server = find::postmaster(&lab.layout, &before)?;
    find::signal(server, Signal::KILL)?;
    let moved = |r: &StatusReply| {
        let workload = &r.status.workloads[0];
        let primary = workload.primary.as_ref().map(|n| n.as_str());
        primary.is_some_and(|now| now != before && now != HELD) && workload.operation.is_none()
    };
    lab.wait("another is primary", LIMIT, moved).await?;
    is_as_it_was(lab, kept).await
}

async fn back_plan(lab: &Lab) -> Result<IntentPlan> {
    let body = WishBody {
        plan_only: true,
        ..WishBody::default()
    };
    Ok(lab.client.go_back_plan(WORKLOAD, &body).await?)
}

async fn goes_back(lab: &Lab, kept: &Kept) -> Result<()> {
    let plan = back_plan(lab).await?;
    ensure!(
        plan.unmet.is_empty() && plan.given_up.is_some_and(|bytes| bytes > 0),
        "{plan:?}"
    );
    let body = WishBody {
        seen: Some(plan.seen),
        ..WishBody::default()
    };
    let begun = Instant::now();
    let id = lab.client.go_back(WORKLOAD, &body).await?.operation;
    done(lab, id).await?;
    println!("gone back after {} ms", begun.elapsed().as_millis());
    ensure!(lab.primary().await? == kept.node, "it is primary");
    for replica in &lab.workload().await?.replicas {
        // A standby that follows replays what it was sent a moment later.
        let node = replica.node.as_str();
        let has = async || Ok(rows(lab, node).await? == kept.rows);
        until(&format!("{node} has the rows of the point"), has).await?;
    }
    let reply = lab.status().await?;
    ensure!(point_of(&reply).is_none(), "nothing is kept any more");
    let over = reply
        .status
        .intents_over
        .iter()
        .find(|o| o.id == kept.point);
    over.context("the point is over").map(drop)
}

async fn written_and_gone(lab: &Lab, kept: &Kept) -> Result<()> {
    let primary = lab.administrator(&lab.primary().await?).await?;
    primary
        .batch_execute("create table wrong as select generate_series(1, 1000) as n")
        .await?;
    goes_back(lab, kept).await?;
    let primary = lab.administrator(&kept.node).await?;
    let table = primary
        .query_one("select to_regclass('wrong') is null", &[])
        .await?;
    ensure!(table.get::<_, bool>(0), "what was made since is gone");
    Ok(())
}

/// Its standby follows again, and confirms writes.
async fn dropped(lab: &Lab) -> Result<()> {
    let kept = taken(lab, "before-winter").await?;
    lab.client.end(kept.point).await?;
    done(lab, kept.point).await?;
    let workload = lab.workload().await?;
    ensure!(workload.safety_point.is_none(), "it is not kept any more");
    // It follows again, and joins the set once its node has said so.
    let what = format!("{} confirms writes", kept.node);
    let joins = |r: &StatusReply| {
        let mut replicas = r.status.workloads.iter().flat_map(|w| &w.replicas);
        replicas.any(|r| r.node.as_str() == kept.node && r.in_sync_set)
    };
    lab.wait(&what, LIMIT, joins).await?;
    Ok(())
}
