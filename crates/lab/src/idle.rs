//! What the daemons of a cluster cost in which nothing happens, as the kernel counts it.

use crate::cluster::Lab;
use crate::find;
use crate::layout::Host;
use anyhow::{Context, Result};
use serde::Serialize;
use std::time::{Duration, Instant};

/// One host's daemon.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Idle {
    pub node: String,
    /// Of one core, in per cent; children do not count.
    pub daemon: f64,
    pub deadman: f64,
    /// Of the daemon, resident, in MiB.
    pub resident: f64,
}

/// Watches every host for `time`. Whoever measures asks the daemons nothing meanwhile.
///
/// # Errors
/// If a daemon ends.
pub async fn measure(lab: &Lab, time: Duration) -> Result<Vec<Idle>> {
    let nodes = lab.layout.nodes();
    let spent = |what: &str| -> Result<Vec<f64>> {
        nodes
            .iter()
            .map(|n| cpu_seconds(find::daemon(&lab.layout, n.name, what)?))
            .collect()
    };
    let (daemons, deadmen, begun) = (spent("run")?, spent("deadman")?, Instant::now());
    tokio::time::sleep(time).await;
    let (daemons_then, deadmen_then, took) = (
        spent("run")?,
        spent("deadman")?,
        begun.elapsed().as_secs_f64(),
    );
    let of = |(i, node): (usize, &Host)| {
        Ok(Idle {
            node: node.name.into(),
            daemon: 100.0 * (daemons_then[i] - daemons[i]) / took,
            deadman: 100.0 * (deadmen_then[i] - deadmen[i]) / took,
            resident: resident_mib(find::daemon(&lab.layout, node.name, "run")?)?,
        })
    };
    nodes.iter().enumerate().map(of).collect()
}

/// proc_pid_stat(5): user and system time are the 14th and 15th fields, in ticks of a hundredth of
/// a second.
fn cpu_seconds(pid: i32) -> Result<f64> {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat"))?;
    let after_name = stat.rsplit(')').next().unwrap_or_default();
    let ticks = after_name
        .split_whitespace()
        .skip(11)
        .take(2)
        .filter_map(|t| t.parse::<f64>().ok());
    Ok(ticks.sum::<f64>() / 100.0)
}

fn resident_mib(pid: i32) -> Result<f64> {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status"))?;
    let line = status
        .lines()
        .find_map(|l| l.strip_prefix("VmRSS:"))
        .context("VmRSS")?;
    Ok(line.trim().trim_end_matches(" kB").parse::<f64>()? / 1024.0)
}
