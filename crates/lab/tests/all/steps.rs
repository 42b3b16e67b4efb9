//! The site's own steps on real hosts: each at its point, told what for; those that may keep something
//! from being done do, and the others do not.

use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::core::event::FactKind;
use karst_api::core::operation::Outcome;
use karst_api::{MaintenanceBody, MoveBody, StatusReply, TryBody};
use karst_lab::fault::{self, Fault};
use karst_lab::layout::{NODES, WORKLOAD};
use karst_lab::{Lab, find};
use rustix::process::Signal;
use std::fs::Permissions;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use toml_edit::{DocumentMut, Item, Table, value};

#[tokio::test(flavor = "multi_thread")]
async fn each_step_runs_at_its_point() {
    let lab = TestLab::start("test-steps", 9920).await.unwrap();
    put_there(&lab).await.unwrap();
    moved(&lab).await.unwrap();
    failed_over_and_copied(&lab).await.unwrap();
    fenced(&lab).await.unwrap();
    rested(&lab).await.unwrap();
}

fn diary(lab: &Lab) -> PathBuf {
    lab.layout.dir.join("diary")
}

/// What steps wrote since the last look: each its point, host, node and workload.
fn since(lab: &Lab, seen: &mut usize) -> Result<Vec<String>> {
    let text = std::fs::read_to_string(diary(lab)).unwrap_or_default();
    let new = text.lines().skip(*seen).map(String::from).collect();
    *seen = text.lines().count();
    Ok(new)
}

async fn diary_has(lab: &Lab, line: &str) -> Result<()> {
    let has = |lines: &[&str]| lines.contains(&line);
    diary_says(lab, &format!("`{line}`"), has).await
}

async fn diary_says(lab: &Lab, what: &str, is_so: impl Fn(&[&str]) -> bool) -> Result<()> {
    let begun = std::time::Instant::now();
    loop {
        let text = std::fs::read_to_string(diary(lab)).unwrap_or_default();
        if is_so(&text.lines().collect::<Vec<_>>()) {
            return Ok(());
        }
        ensure!(
            begun.elapsed() < LIMIT,
            "{what} is not in the diary:\n{text}"
        );
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
}

/// The same on each host, before the spec names it: else the spec is not in force (R8).
async fn put_there(lab: &Lab) -> Result<()> {
    let points = [
        "before-switchover",
        "after-switchover",
        "before-promotion",
        "after-promotion",
        "before-fence",
        "after-fence",
        "before-clone",
        "after-clone",
        "before-maintenance",
        "after-maintenance",
    ];
    let edit = |spec: &mut DocumentMut| {
        for point in points {
            let mut step = Table::new();
            step["at"] = value(point);
            step["program"] = value("note");
            if point == "before-switchover" || point == "before-maintenance" {
                step["if_fails"] = value("stop");
            }
            let steps = spec.entry("step").or_insert(Item::Table(Table::new()));
            steps[point] = Item::Table(step);
        }
    };
    let (body, based_on) = crate::rig::changes::edited(lab, &edit).await?;
    let id = lab.client.submit(&body, based_on).await?.operation;
    let waits = |r: &StatusReply| {
        let mut steps = r.status.intents.iter().flat_map(|i| &i.steps);
        steps.any(|s| s.waits.as_ref().is_some_and(|w| w.contains("is not there")))
    };
    lab.wait("the spec waits for the programs", LIMIT, waits)
        .await?;
    // It says no while there is a file of its point's name.
    let dir = lab.layout.dir.display();
    let script = format!(
        "#!/bin/sh\n[ ! -e '{dir}/no-'$KARST_POINT ] || {{ echo not now; exit 1; }}\n\
         echo $KARST_POINT $KARST_HOST $KARST_NODE $KARST_WORKLOAD >>'{dir}/diary'\necho noted by $KARST_STEP\n"
    );
    for node in lab.layout.nodes() {
        let steps = lab.layout.host(node.name).join("steps");
        std::fs::create_dir(&steps)?;
        std::fs::write(steps.join("note"), &script)?;
        for path in [steps.clone(), steps.join("note")] {
            std::fs::set_permissions(path, Permissions::from_mode(0o755))?;
        }
    }
    crate::rig::changes::done(lab, id).await?;
    let tried = lab
        .client
        .try_step("after-promotion", &TryBody::default())
        .await?;
    ensure!(
        tried.well && tried.output == "noted by after-promotion",
        "{tried:?}"
    );
    ensure!(tried.told["KARST_TRY"] == "1" && tried.told["KARST_WORKLOAD"] == WORKLOAD);
    Ok(())
}

/// A step that says no leaves everything as it was; otherwise it comes before the move, and others
/// after it.
async fn moved(lab: &Lab) -> Result<()> {
    let no = lab.layout.dir.join("no-before-switchover");
    std::fs::write(&no, "")?;
    let (from, mut seen) = (lab.primary().await?, 0);
    since(lab, &mut seen)?;
    let body = MoveBody::default();
    let id = lab
        .client
        .begin(WORKLOAD, "switchover", &body)
        .await?
        .operation;
    let over = |r: &StatusReply| {
        let operation = r.status.operations.iter().find(|o| o.id == id);
        operation.is_some_and(|o| o.outcome.is_some())
    };
    let reply = lab.wait("it is undone", LIMIT, over).await?;
    let operation = reply.status.operations.into_iter().find(|o| o.id == id);
    let outcome = operation.and_then(|o| o.outcome).context("its outcome")?;
    let says = matches!(&outcome, Outcome::Undone(why) if why.contains("before-switchover"));
    ensure!(says, "{outcome:?}");
    ensure!(lab.primary().await? == from, "it was moved");
    ensure!(since(lab, &mut seen)?.is_empty());
    std::fs::remove_file(no)?;

    let plan = lab.client.plan(WORKLOAD, "switchover", &body).await?;
    let to = plan.to.clone().context("its target")?;
    let named = plan.steps.iter().filter(|s| s.starts_with("own steps on"));
    ensure!(named.count() == 4, "{:?}", plan.steps);
    lab.client.begin(WORKLOAD, "switchover", &body).await?;
    for at in ["after-promotion", "after-switchover"] {
        diary_has(lab, &format!("{at} {to} {to} {WORKLOAD}")).await?;
    }
    lab.healthy(LIMIT).await?;
    let mut noted = since(lab, &mut seen)?;
    let expected = [
        format!("before-switchover {from} {from} {WORKLOAD}"),
        format!("before-promotion {to} {to} {WORKLOAD}"),
    ];
    ensure!(noted[..2] == expected, "{noted:?}");
    noted.drain(..2);
    noted.sort();
    let after = ["after-promotion", "after-switchover"];
    let after = after.map(|at| format!("{at} {to} {to} {WORKLOAD}"));
    ensure!(noted == after, "{noted:?}");
    lab.first_record(FactKind::StepFailed, 0).await?;
    let failed = lab.records(FactKind::StepFailed).await?;
    let said = failed.iter().any(|r| r.data["output"] == "not now");
    ensure!(said, "{failed:?}");
    Ok(())
}

/// A failover runs those of a promotion; data that are gone are copied between two others.
async fn failed_over_and_copied(lab: &Lab) -> Result<()> {
    let (from, mut seen) = (lab.primary().await?, 0);
    since(lab, &mut seen)?;
    find::signal(find::postmaster(&lab.layout, &from)?, Signal::KILL)?;
    let moved = |r: &StatusReply| {
        let primary = r.status.workloads[0].primary.as_ref();
        primary.is_some_and(|p| p.as_str() != from)
    };
    lab.wait("another is primary", LIMIT, moved).await?;
    lab.healthy(LIMIT).await?;
    let to = lab.primary().await?;
    diary_has(lab, &format!("after-promotion {to} {to} {WORKLOAD}")).await?;
    let noted = since(lab, &mut seen)?;
    let expected = ["before-promotion", "after-promotion"];
    let expected = expected.map(|at| format!("{at} {to} {to} {WORKLOAD}"));
    ensure!(
        noted
            .iter()
            .filter(|l| l.contains("promotion"))
            .eq(&expected),
        "{noted:?}"
    );
    ensure!(!noted.iter().any(|l| l.contains("switchover")), "{noted:?}");

    // The old primary may have been copied anew, too: the steps of that are over before the next copy.
    let count = |lines: &[&str], at: &str| lines.iter().filter(|l| l.starts_with(at)).count();
    let all_over = |l: &[&str]| count(l, "before-clone") == count(l, "after-clone");
    diary_says(lab, "the end of each copy", all_over).await?;
    since(lab, &mut seen)?;

    // A standby's data are gone.
    let standby = NODES.iter().filter_map(|n| n.rank.map(|_| n.name));
    let standby = standby
        .into_iter()
        .find(|n| *n != to)
        .context("a standby")?;
    fault::apply(
        &lab.layout,
        &Fault::PowerOff {
            host: standby.into(),
        },
    )?;
    // Its disk is mounted inside the lab alone.
    let root = format!("/proc/{}/root", find::inside(&lab.layout)?);
    let data = lab.layout.data(standby);
    std::fs::remove_dir_all(Path::new(&root).join(data.strip_prefix("/")?))?;
    fault::apply(
        &lab.layout,
        &Fault::PowerOn {
            host: standby.into(),
        },
    )?;
    let [before, after] =
        ["before-clone", "after-clone"].map(|at| format!("{at} {standby} {standby} {WORKLOAD}"));
    let copied = |lines: &[&str]| lines[seen..].contains(&after.as_str());
    diary_says(lab, "the end of the new copy", copied).await?;
    let noted = since(lab, &mut seen)?;
    let clone: Vec<&String> = noted.iter().filter(|l| l.contains("clone")).collect();
    // A copy that its source broke off is begun again.
    let begun = clone.iter().take_while(|l| **l == &before).count();
    ensure!(begun > 0 && clone[begun..] == [&after], "{noted:?}");
    lab.healthy(LIMIT).await.map(drop)
}

/// Around a cut of a host's power, on whoever coordinates, once each.
async fn fenced(lab: &Lab) -> Result<()> {
    fault::apply(&lab.layout, &Fault::ControllerStart)?;
    let reply = lab.status().await?;
    let leader = reply.status.coordinator.context("a coordinator")?;
    let mut seen = 0;
    since(lab, &mut seen)?;
    let primary = lab.primary().await?;
    let ours = |n: &&str| *n != leader.as_str() && *n != primary;
    let node = ["doline", "polje", "uvala"].into_iter().find(|n| ours(n));
    let node = node.context("somebody else")?;
    lab.client.node(node, "fence").await?;
    diary_has(lab, &format!("after-fence {leader} {node}")).await?;
    let off = |r: &StatusReply| {
        let view = r.status.nodes.iter().find(|n| n.node.as_str() == node);
        view.is_some_and(|n| n.fenced.is_some())
    };
    lab.wait("it is fenced", LIMIT, off).await?;
    let noted = since(lab, &mut seen)?;
    let fences: Vec<&String> = noted.iter().filter(|l| l.contains("fence")).collect();
    let expected = ["before-fence", "after-fence"].map(|at| format!("{at} {leader} {node}"));
    ensure!(fences.into_iter().eq(&expected), "{noted:?}");
    fault::apply(&lab.layout, &Fault::PowerOn { host: node.into() })?;
    lab.healthy(LIMIT).await.map(drop)
}

/// No primary leaves its node while a step says no; once it says nothing any more it does.
async fn rested(lab: &Lab) -> Result<()> {
    let no = lab.layout.dir.join("no-before-maintenance");
    std::fs::write(&no, "")?;
    let node = lab.primary().await?;
    let body = MaintenanceBody {
        nodes: vec![node.as_str().into()],
        ..MaintenanceBody::default()
    };
    let id = lab.client.maintenance(&body).await?.operation;
    let waits = |r: &StatusReply| {
        let mut steps = r.status.intents.iter().flat_map(|i| &i.steps);
        steps.any(|s| s.waits.as_ref().is_some_and(|w| w.contains("code 1")))
    };
    lab.wait("it waits for its step", LIMIT, waits).await?;
    ensure!(lab.primary().await? == node, "its primary has left");
    std::fs::remove_file(no)?;
    diary_has(lab, &format!("before-maintenance {node} {node}")).await?;
    let rests = |r: &StatusReply| {
        let primary = r.status.workloads[0].primary.as_ref();
        let empty = r.status.intents.iter().any(|i| i.id == id && i.empty);
        empty && primary.is_some_and(|p| p.as_str() != node)
    };
    lab.wait("nothing is held there", LIMIT, rests).await?;
    lab.client.end(id).await?;
    diary_has(lab, &format!("after-maintenance {node} {node}")).await?;
    lab.healthy(LIMIT).await.map(drop)
}
