//! Daemons under hostile input: none ends, none grows, and a coordinator is known all the time.

use crate::cluster::Lab;
use crate::find;
use anyhow::{Context, Result, ensure};
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// Bytes by which a daemon may be larger at the end than after the first minute.
const GROWS: u64 = 48 << 20;
const SETTLED: Duration = Duration::from_secs(60);
/// For so long in a row no coordinator may be known: a hand-over that was asked for takes less.
const WITHOUT: Duration = Duration::from_secs(5);
const LOOK: Duration = Duration::from_millis(250);

struct Daemon {
    process: i32,
    /// Resident bytes once it has settled.
    settled: u64,
}

pub struct Steady(BTreeMap<&'static str, Daemon>);

impl Steady {
    /// Those of these nodes.
    ///
    /// # Errors
    /// If one does not run.
    pub fn of(lab: &Lab, nodes: impl IntoIterator<Item = &'static str>) -> Result<Self> {
        let daemon = |node| {
            let process = find::daemon(&lab.layout, node, "run")?;
            let settled = resident(process)?;
            Ok((node, Daemon { process, settled }))
        };
        nodes
            .into_iter()
            .map(daemon)
            .collect::<Result<_>>()
            .map(Self)
    }

    /// # Errors
    /// If a daemon ended, or no coordinator was known.
    pub async fn watch(&mut self, lab: &Lab, time: Duration) -> Result<()> {
        let (begun, mut known, mut settled) = (Instant::now(), Instant::now(), false);
        while begun.elapsed() < time {
            let status = lab.client.status().await;
            if status.is_ok_and(|reply| reply.status.coordinator.is_some()) {
                known = Instant::now();
            }
            ensure!(known.elapsed() < WITHOUT, "no coordinator is known");
            let now = self.resident(lab);
            let now = now.with_context(|| format!("after {:?}", begun.elapsed()))?;
            if !settled && begun.elapsed() >= SETTLED.min(time / 2) {
                settled = true;
                for (node, size) in now {
                    self.0.get_mut(node).context("a node")?.settled = size;
                }
            }
            tokio::time::sleep(LOOK).await;
        }
        Ok(())
    }

    /// # Errors
    /// If a daemon ended or grew.
    pub fn end(&self, lab: &Lab) -> Result<()> {
        for (node, has) in self.resident(lab)? {
            let had = self.0[node].settled;
            println!("{node:<11} {} MiB, {} MiB at the end", had >> 20, has >> 20);
            ensure!(has < had + GROWS, "the daemon of {node} grew");
        }
        Ok(())
    }

    fn resident(&self, lab: &Lab) -> Result<Vec<(&'static str, u64)>> {
        let one = |(node, daemon): (&&'static str, &Daemon)| {
            let process = find::daemon(&lab.layout, node, "run")?;
            ensure!(process == daemon.process, "the daemon of {node} ended");
            Ok((*node, resident(process)?))
        };
        self.0.iter().map(one).collect()
    }
}

/// In bytes (proc_pid_statm(5)).
pub fn resident(process: i32) -> Result<u64> {
    let text = std::fs::read_to_string(format!("/proc/{process}/statm"))?;
    let pages: u64 = text.split_whitespace().nth(1).context("statm")?.parse()?;
    Ok(pages * 4096)
}
