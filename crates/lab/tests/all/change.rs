//! A cluster that changes while clients write: timings, votes, replicas, nodes in and out, hosts that
//! rest and are switched off meanwhile, another coordinator. No row is missing, no connection is
//! refused, and whatever is wanted is done, also where its coordinators are killed.

use crate::rig::browser::until;
use crate::rig::changes::{Edit, change, done, edited};
use crate::rig::own::{on, own_place, run};
use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::core::event::FactKind;
use karst_api::core::spec::FindingKind;
use karst_api::core::view::{Condition, NodeState};
use karst_api::core::{NodeId, OperationId};
use karst_api::{MaintenanceBody, SpecBody, StatusReply, WishBody};
use karst_lab::drill::{Running, compare, start_load};
use karst_lab::fault::{self, Fault};
use karst_lab::journal::{Ending, longest_pause};
use karst_lab::layout::WORKLOAD;
use karst_lab::shape::Shape;
use karst_lab::{Lab, find};
use rustix::process::Signal;
use std::time::Duration;
use toml_edit::{DocumentMut, value};

/// What a planned move may cost clients, on a machine that others share.
const LONGEST: Duration = Duration::from_millis(1_500);
const WRITERS: u32 = 4;

#[tokio::test(flavor = "multi_thread")]
async fn everything_changes_and_no_row_is_lost() {
    let lab = TestLab::start("test-change", 9640).await.unwrap();
    let load = start_load(&lab.layout, "change", WRITERS, 2).unwrap();
    timings(&lab).await.unwrap();
    settings(&lab).await.unwrap();
    votes(&lab).await.unwrap();
    replicas(&lab).await.unwrap();
    nodes(&lab).await.unwrap();
    rest(&lab).await.unwrap();
    wrong_ones_are_refused(&lab).await.unwrap();
    finish(&lab, load).await.unwrap();
}

async fn timings(lab: &Lab) -> Result<()> {
    for (name, lease) in [("brisk", 800), ("default", 2_000)] {
        change(lab, &|spec| spec["timings"] = value(name)).await?;
        ensure!(
            lab.timings().await?.lease == Duration::from_millis(lease),
            "{name}"
        );
    }
    Ok(())
}

/// What a server on that host says that a setting is.
async fn in_force(lab: &Lab, host: &str, name: &str) -> Result<String> {
    let server = lab.administrator(host).await?;
    let row = server.query_one(&format!("show {name}"), &[]).await?;
    Ok(row.get(0))
}

/// One setting by a reload; one by a restart of all servers, one after the other; and one that no
/// server would take, which is seen on the hosts before anything is in force.
async fn settings(lab: &Lab) -> Result<()> {
    let set = |name: &'static str, to: &'static str| {
        move |spec: &mut DocumentMut| {
            spec["workload"][WORKLOAD]["settings"]["set"][name] = value(to);
        }
    };
    let (body, based_on) = edited(lab, &set("work_mem", "plenty")).await?;
    let id = lab.client.submit(&body, based_on).await?.operation;
    let waits = |r: &StatusReply| {
        let mut steps = r.status.intents.iter().flat_map(|i| &i.steps);
        steps.any(|s| {
            let why = s.waits.as_deref().unwrap_or_default();
            [
                "doline: ",
                "polje: ",
                "invalid value for parameter \"work_mem\": \"plenty\"",
            ]
            .iter()
            .all(|part| why.contains(part))
        })
    };
    lab.wait("each host says that it is refused", LIMIT, waits)
        .await?;
    lab.client.end(id).await?;
    change(lab, &set("work_mem", "6MB")).await?;
    change(lab, &set("max_connections", "230")).await?;
    let needed = |so: bool| {
        move |r: &StatusReply| {
            let mut all = r.status.findings.iter();
            all.any(|f| f.finding.kind == FindingKind::RestartNeeded) == so
        }
    };
    lab.wait("a restart is needed", LIMIT, needed(true)).await?;
    let workload = lab.workload().await?;
    for replica in &workload.replicas {
        let host = replica.node.as_str();
        // Each server reads it when it is told to.
        let has = async || Ok(in_force(lab, host, "work_mem").await? == "6MB");
        until(&format!("{host} has it"), has).await?;
        ensure!(
            in_force(lab, host, "max_connections").await? == "200",
            "{host}"
        );
    }
    let plan = WishBody {
        plan_only: true,
        ..WishBody::default()
    };
    let plan = lab.client.restart_plan(WORKLOAD, &plan).await?;
    ensure!(plan.unmet.is_empty() && plan.steps.len() == 3, "{plan:?}");
    let restart = WishBody {
        seen: Some(plan.seen),
        ..WishBody::default()
    };
    let id = lab.client.restart(WORKLOAD, &restart).await?.operation;
    done(lab, id).await?;
    lab.wait("all have it", LIMIT, needed(false)).await?;
    for replica in &workload.replicas {
        let host = replica.node.as_str();
        ensure!(
            in_force(lab, host, "max_connections").await? == "230",
            "{host}"
        );
    }
    Ok(())
}

/// Three voters, four, another three, and back. Whoever coordinates may lose its vote.
async fn votes(lab: &Lab) -> Result<()> {
    // A witness votes as long as it is one.
    lab.client.hand_over(Some("polje".into())).await.ok();
    let polje = |r: &StatusReply| {
        let leader = r.status.coordinator.as_ref();
        leader.is_some_and(|leader| leader.as_str() == "polje")
    };
    lab.wait("polje coordinates", LIMIT, polje).await?;
    let leader = lab
        .status()
        .await?
        .status
        .coordinator
        .context("a coordinator")?;
    let set = |node: &'static str, votes: i64| {
        move |spec: &mut DocumentMut| spec["node"][node]["votes"] = value(votes)
    };
    change(lab, &set("uvala", 1)).await?;
    ensure!(lab.status().await?.status.quorum.total == 4, "uvala votes");
    let name = leader.to_string();
    change(lab, &|spec| spec["node"][name.as_str()]["votes"] = value(0)).await?;
    let quorum = lab.status().await?.status;
    ensure!(
        quorum.quorum.total == 3 && quorum.coordinator != Some(leader),
        "{quorum:?}"
    );
    change(lab, &|spec| {
        spec["node"][name.as_str()]["votes"] = value(1);
        spec["node"]["uvala"]["votes"] = value(0);
    })
    .await?;
    Ok(())
}

/// The primary's own replica is taken out, and comes back as a copy.
async fn replicas(lab: &Lab) -> Result<()> {
    let primary = lab.primary().await?;
    let text = lab.client.spec().await?.text;
    let plan = change(lab, &|spec| {
        let replicas = spec["workload"][WORKLOAD]["replica"].as_table_mut();
        replicas.expect("it has replicas").remove(&primary);
    })
    .await?;
    let moves = plan
        .steps
        .iter()
        .any(|s| s.text.contains(&format!("moves away from {primary}")));
    ensure!(moves, "{plan:?}");
    ensure!(lab.primary().await? != primary, "it moved");
    ensure!(
        find::postmaster(&lab.layout, &primary).is_err(),
        "its server is stopped"
    );
    // Its data are gone: they are copied, from the standby that the spec names for that.
    let from = lab.workload().await?.sync.sure;
    let from = from.first().context("a standby has every write")?.clone();
    let document: DocumentMut = text.parse()?;
    remove_data(lab, &document, &primary)?;
    change(lab, &|spec| {
        *spec = document.clone();
        spec["workload"][WORKLOAD]["replica"][&primary]["copy_from"] = value(from.as_str());
    })
    .await?;
    is_done(lab, &format!("copied anew from {from}")).await?;
    change(lab, &|spec| *spec = document.clone()).await?;
    Ok(())
}

fn remove_data(lab: &Lab, spec: &DocumentMut, node: &str) -> Result<()> {
    let data = spec["workload"][WORKLOAD]["replica"][node]["data"].as_str();
    let (inside, data) = (find::inside(&lab.layout)?, data.context("its directory")?);
    Ok(std::fs::remove_dir_all(format!(
        "/proc/{inside}/root{data}"
    ))?)
}

/// It is on record that a server did this.
async fn is_done(lab: &Lab, what: &str) -> Result<()> {
    let begun = std::time::Instant::now();
    loop {
        let done = lab.records(FactKind::ActionDone).await?;
        if done.iter().any(|record| record.text.contains(what)) {
            return Ok(());
        }
        // Records take a while to arrive.
        ensure!(begun.elapsed() < LIMIT, "nothing was {what}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// A base backup that somebody makes by the primary's socket, in a directory of that host.
async fn base_backup(lab: &Lab, node: &str) -> Result<String> {
    let primary = lab.primary().await?;
    own_place(lab, node)?;
    let into = lab.layout.host(node).join("own/backup");
    let mut backup = on(lab, &primary, "pg_basebackup")?;
    backup
        .args(["--username=postgres", "--checkpoint=fast"])
        .arg("--host")
        .arg(lab.layout.server_socket(&primary))
        .arg("--pgdata")
        .arg(&into);
    run(&mut backup)?;
    Ok(into.display().to_string())
}

/// A node goes with its gate, and comes back with them and with data from a base backup.
async fn nodes(lab: &Lab) -> Result<()> {
    let text = lab.client.spec().await?.text;
    change(lab, &|spec| {
        spec["node"]
            .as_table_mut()
            .expect("there are nodes")
            .remove("uvala");
        for part in ["replica", "gate"] {
            let part = spec["workload"][WORKLOAD][part].as_table_mut();
            part.expect("it has them").remove("uvala");
        }
        let gates = spec["workload"][WORKLOAD]["reads"]["gate"].as_table_mut();
        gates.expect("it has them").remove("uvala");
    })
    .await?;
    ensure!(lab.status().await?.status.nodes.len() == 3, "uvala is out");
    let backup = base_backup(lab, "uvala").await?;
    remove_data(lab, &text.parse()?, "uvala")?;
    change(lab, &|spec| {
        *spec = text.parse().expect("it was in force");
        spec["workload"][WORKLOAD]["replica"]["uvala"]["base_backup"] = value(&backup);
    })
    .await?;
    is_done(lab, &format!("made from the base backup in {backup}")).await?;
    change(lab, &|spec| *spec = text.parse().expect("it was in force")).await?;
    lab.healthy(LIMIT).await?;
    Ok(())
}

/// The primary's host is switched off and on as planned, and the primary comes back to it; then a
/// zone with the address rests.
async fn rest(lab: &Lab) -> Result<()> {
    let primary = lab.primary().await?;
    let body = MaintenanceBody {
        nodes: vec![NodeId::from(primary.as_str())],
        back: true,
        ..MaintenanceBody::default()
    };
    let id = rested(lab, body).await?;
    ensure!(lab.primary().await? != primary, "it moved away");
    let left_alone = |r: &StatusReply| {
        let w = &r.status.workloads[0];
        let mut replicas = w.replicas.iter();
        let is_out = replicas.any(|r| r.node.as_str() == primary && r.leaving.is_some());
        is_out && w.condition == Condition::Degraded
    };
    lab.wait("it is not said to come", LIMIT, left_alone)
        .await?;
    let host = || primary.clone();
    fault::apply(&lab.layout, &Fault::PowerOff { host: host() })?;
    let is = |state: NodeState| {
        let name = primary.clone();
        move |r: &StatusReply| {
            let mut nodes = r.status.nodes.iter();
            nodes.any(|n| {
                n.node.as_str() == name && (n.state == NodeState::Up) == (state == NodeState::Up)
            })
        }
    };
    let off = lab
        .wait("it is off", LIMIT, is(NodeState::Suspected))
        .await?;
    ensure!(
        off.status.needs_you.is_empty(),
        "nobody is alarmed: {:?}",
        off.status.needs_you
    );
    fault::apply(&lab.layout, &Fault::PowerOn { host: host() })?;
    lab.wait("it is back", LIMIT, is(NodeState::Up)).await?;
    lab.client.end(id).await?;
    done(lab, id).await?;
    ensure!(lab.primary().await? == primary, "it moved back");
    let zone = MaintenanceBody {
        zone: Some("lighthouse".into()),
        ..MaintenanceBody::default()
    };
    let id = rested(lab, zone).await?;
    lab.client.end(id).await?;
    done(lab, id).await
}

/// Until nothing is held there.
async fn rested(lab: &Lab, body: MaintenanceBody) -> Result<OperationId> {
    let started = lab.client.maintenance(&body).await?;
    let id = started.operation;
    let empty = |r: &StatusReply| r.status.intents.iter().any(|i| i.id == id && i.empty);
    lab.wait("nothing is held there", LIMIT, empty).await?;
    Ok(id)
}

/// What cannot be, or is not what was seen, changes nothing and says so.
async fn wrong_ones_are_refused(lab: &Lab) -> Result<()> {
    let revision = lab.client.spec().await?.revision;
    let refused = async |edit: Edit<'_>, says: &str| -> Result<()> {
        let (body, based_on) = edited(lab, edit).await?;
        let answer = lab.client.submit(&body, based_on).await;
        let why = answer.err().context("it is taken")?.to_string();
        ensure!(why.contains(says), "{why} does not say `{says}`");
        Ok(())
    };
    refused(&|_| (), "nothing is different").await?;
    refused(
        &|s| s["cluster"] = value("other"),
        "cluster cannot change while",
    )
    .await?;
    refused(&|s| s["timings"] = value("fast"), "the spec is refused").await?;
    refused(
        &|s| s["node"]["doline"]["peer"] = value("10.20.0.99:26700"),
        "node.doline.peer cannot change while",
    )
    .await?;
    let no_votes = |s: &mut DocumentMut| {
        for node in ["doline", "polje", "ponor"] {
            s["node"][node]["votes"] = value(0);
        }
    };
    refused(&no_votes, "nobody votes").await?;
    let (body, _) = edited(lab, &|s| s["timings"] = value("brisk")).await?;
    let old = lab.client.submit(&body, revision - 1).await;
    let why = old.err().context("an old one is taken")?.to_string();
    ensure!(
        why.contains(&format!("revision {revision} is in force")),
        "{why}"
    );
    let other = SpecBody {
        seen: Some("another plan".into()),
        ..body
    };
    let why = lab.client.submit(&other, revision).await;
    let why = why.err().context("another plan is taken")?.to_string();
    ensure!(why.contains("the plan is another one"), "{why}");
    let all = MaintenanceBody {
        nodes: ["doline", "polje", "ponor"].map(NodeId::from).into(),
        ..MaintenanceBody::default()
    };
    let why = lab.client.maintenance(&all).await;
    let why = why.err().context("nobody is left")?.to_string();
    ensure!(why.contains("0 of 3 votes are heard outside"), "{why}");
    ensure!(
        lab.client.spec().await?.revision == revision,
        "something was changed"
    );
    Ok(())
}

async fn finish(lab: &Lab, load: Running) -> Result<()> {
    let lines = load.finish()?;
    let (acknowledged, missing) = compare(lab, &lines).await?;
    let lost: usize = missing.iter().map(|(_, rows)| rows).sum();
    let refused = lines.iter().filter(|l| l.ending == Ending::Refused).count();
    let pause = longest_pause(&lines);
    eprintln!("{acknowledged} rows, {lost} missing, {refused} refused, longest pause {pause:?}");
    ensure!(acknowledged > 1_000 && lost == 0, "{missing:?}");
    ensure!(refused == 0, "{refused} connections were refused");
    ensure!(pause < LONGEST, "writes paused for {pause:?}");
    Ok(())
}

/// Other timings and back, three voters, five and three again, the primary's replica removed and there
/// again. Each change loses its coordinator on its way, at another moment each time; it is done all the
/// same.
#[tokio::test(flavor = "multi_thread")]
async fn coordinators_are_killed_between_the_steps() {
    let shape = Shape {
        fifth: true,
        ..Shape::default()
    };
    let lab = TestLab::shaped("test-killed", 9660, shape).await.unwrap();
    let load = start_load(&lab.layout, "killed", WRITERS, 2).unwrap();
    let seeds = std::env::var("KARST_KILLS")
        .ok()
        .and_then(|n| n.parse().ok());
    for seed in 0..seeds.unwrap_or(1) {
        one_script(&lab, seed).await.unwrap();
    }
    let lines = load.finish().unwrap();
    let (acknowledged, missing) = compare(&lab, &lines).await.unwrap();
    let lost: usize = missing.iter().map(|(_, rows)| rows).sum();
    eprintln!("{acknowledged} rows, {lost} missing");
    assert!(acknowledged > 1_000 && lost == 0, "{missing:?}");
}

async fn one_script(lab: &Lab, seed: u64) -> Result<()> {
    let text = lab.client.spec().await?.text;
    let primary = lab.primary().await?;
    let edits: [Edit; 4] = [
        &|spec| spec["timings"] = value("brisk"),
        &|spec| {
            for node in ["cenote", "uvala"] {
                spec["node"][node]["votes"] = value(1);
            }
        },
        &|spec| {
            let replicas = spec["workload"][WORKLOAD]["replica"].as_table_mut();
            replicas.expect("it has replicas").remove(&primary);
        },
        &|spec| *spec = text.parse().expect("it was in force"),
    ];
    for (step, edit) in edits.into_iter().enumerate() {
        let (body, based_on) = edited(lab, edit).await?;
        let started = lab.client.submit(&body, based_on).await?;
        // From at once to after the longest of them.
        let moment = Duration::from_millis((seed * 37 + step as u64 * 61) % 400);
        tokio::time::sleep(moment).await;
        let leader = lab.status().await?.status.coordinator;
        if let Some(leader) = leader {
            find::signal(
                find::daemon(&lab.layout, leader.as_str(), "run")?,
                Signal::KILL,
            )?;
        }
        done(lab, started.operation).await?;
    }
    lab.healthy(LIMIT).await.map(drop)
}
