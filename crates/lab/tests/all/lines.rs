//! Another kind of program than PostgreSQL: a workload of numbered lines goes through a kill and a
//! planned move, and nothing that was acknowledged is missing on any replica.

use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::core::view::WorkloadView;
use karst_api::{MoveBody, StatusReply};
use karst_lab::layout::{CLIENT, GATES, LINES, LINES_PORT, host};
use karst_lab::shape::Shape;
use karst_lab::{Lab, find};
use rustix::process::Signal;
use std::collections::BTreeSet;
use std::path::PathBuf;
use std::process::{Child, Stdio};

/// Clients are cut off for no longer, on a machine that others share.
const LONGEST: u64 = 5_000;

#[tokio::test(flavor = "multi_thread")]
async fn lines_move_and_none_is_lost() {
    let shape = Shape {
        lines: true,
        ..Shape::default()
    };
    let lab = TestLab::shaped("test-lines", 9240, shape).await.unwrap();
    let load = Load::start(&lab).unwrap();
    load.goes_on(&lab).await.unwrap();
    let killed = kill(&lab).await.unwrap();
    load.goes_on(&lab).await.unwrap();
    move_to(&lab, &killed).await.unwrap();
    load.goes_on(&lab).await.unwrap();
    lab.healthy(LIMIT).await.unwrap();
    let acknowledged = load.finish().unwrap();
    nothing_is_missing(&lab, &acknowledged).unwrap();
}

fn logbook(reply: &StatusReply) -> Option<&WorkloadView> {
    let mut all = reply.status.workloads.iter();
    all.find(|w| w.workload.as_str() == LINES)
}

fn primary(reply: &StatusReply) -> Option<String> {
    Some(logbook(reply)?.primary.as_ref()?.to_string())
}

/// One client on its own host, through the gates.
struct Load {
    child: Child,
    journal: PathBuf,
}

impl Load {
    fn start(lab: &Lab) -> Result<Self> {
        let journal = lab.layout.dir.join("lines.journal");
        let gates: Vec<String> = GATES
            .into_iter()
            .filter_map(host)
            .map(|gate| format!("{}:{}", gate.client(), LINES_PORT + 1))
            .collect();
        let child = find::enter(&lab.layout, CLIENT)?
            .arg(lab.layout.lines_program())
            .args(["load", &gates.join(",")])
            .arg(&journal)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()?;
        Ok(Self { child, journal })
    }

    /// Number, and when it was acknowledged.
    fn acknowledged(&self) -> Vec<(u64, u64)> {
        let text = std::fs::read_to_string(&self.journal).unwrap_or_default();
        let line = |line: &str| {
            let (number, at) = line.split_once(' ')?;
            Some((number.parse().ok()?, at.parse().ok()?))
        };
        text.lines().filter_map(line).collect()
    }

    async fn goes_on(&self, lab: &Lab) -> Result<()> {
        let before = self.acknowledged().len();
        let more = |_: &StatusReply| self.acknowledged().len() > before + 100;
        lab.wait("more lines", LIMIT, more).await.map(drop)
    }

    fn finish(mut self) -> Result<BTreeSet<u64>> {
        let all = self.acknowledged();
        std::fs::remove_file(&self.journal)?;
        self.child.wait()?;
        let pauses = all.windows(2).map(|pair| pair[1].1 - pair[0].1);
        let longest = pauses.max().context("nothing was acknowledged")?;
        println!(
            "{} lines, {longest} ms without one at the longest",
            all.len()
        );
        ensure!(longest < LONGEST, "clients were cut off for {longest} ms");
        Ok(all.into_iter().map(|(number, _)| number).collect())
    }
}

/// Whoever was primary, and is a copy of the new one now.
async fn kill(lab: &Lab) -> Result<String> {
    let old = primary(&lab.healthy(LIMIT).await?).context("a primary")?;
    let data = lab.layout.host(&old).join("data").join(LINES);
    let server = find::working_in(&data);
    ensure!(server.len() == 1, "one process: {server:?}");
    find::signal(server[0], Signal::KILL)?;
    let elsewhere = |r: &StatusReply| primary(r).is_some_and(|p| p != old);
    lab.wait("another primary", LIMIT, elsewhere).await?;
    let well = lab.healthy(LIMIT).await?;
    let replica = logbook(&well).and_then(|w| w.replicas.iter().find(|r| r.node.as_str() == old));
    ensure!(
        replica.is_some_and(|r| r.in_sync_set),
        "{old} is not back: {replica:?}"
    );
    Ok(old)
}

async fn move_to(lab: &Lab, to: &str) -> Result<()> {
    let body = MoveBody {
        to: Some(to.into()),
        ..MoveBody::default()
    };
    lab.client.begin(LINES, "switchover", &body).await?;
    let there = |r: &StatusReply| {
        primary(r).is_some_and(|p| p == to) && logbook(r).is_some_and(|w| w.operation.is_none())
    };
    lab.wait("the planned move", LIMIT, there).await?;
    Ok(())
}

fn nothing_is_missing(lab: &Lab, acknowledged: &BTreeSet<u64>) -> Result<()> {
    for node in ["doline", "polje", "uvala"] {
        let address = host(node).context("a host")?.client();
        let output = find::enter(&lab.layout, CLIENT)?
            .arg(lab.layout.lines_program())
            .args(["read", &format!("{address}:{LINES_PORT}")])
            .output()?;
        ensure!(output.status.success(), "{node}: {output:?}");
        let text = String::from_utf8(output.stdout)?;
        let list: Vec<u64> = text.lines().map(str::parse).collect::<Result<_, _>>()?;
        let has: BTreeSet<u64> = list.iter().copied().collect();
        ensure!(has.len() == list.len(), "{node} has lines twice");
        let missing = acknowledged.difference(&has).count();
        ensure!(
            missing == 0,
            "{missing} acknowledged lines are missing on {node}"
        );
    }
    Ok(())
}
