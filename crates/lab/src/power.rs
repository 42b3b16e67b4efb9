//! The lab's hosts lose their power and get it back.

use crate::find;
use crate::layout::{Layout, NODES};
use crate::network::{NETWORKS, SWITCH, port};
use anyhow::{Result, ensure};
use rustix::process::Signal;
use std::time::{Duration, Instant};

pub fn power_off(layout: &Layout, host: &str) -> Result<()> {
    std::fs::write(layout.host(host).join("off"), "")?;
    links(layout, host, "down")?;
    let Ok(first) = find::host_init(layout, host) else {
        return Ok(());
    };
    find::signal(first, Signal::KILL)?;
    let begun = Instant::now();
    while find::host_init(layout, host).is_ok() {
        ensure!(
            begun.elapsed() < Duration::from_secs(10),
            "{host} does not lose its power"
        );
        std::thread::sleep(Duration::from_millis(5));
    }
    Ok(())
}

pub fn power_on(layout: &Layout, host: &str) -> Result<()> {
    links(layout, host, "up")?;
    unless_missing(std::fs::remove_file(layout.host(host).join("off")))
}

/// There may have been nothing to remove.
pub fn unless_missing(removed: std::io::Result<()>) -> Result<()> {
    match removed {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error.into()),
        _ => Ok(()),
    }
}

/// Gives back its power to every host that has had none for this long: what an operator does after
/// a fence.
pub fn power_on_all(layout: &Layout, after: Duration) -> Result<()> {
    for node in NODES {
        let since =
            std::fs::metadata(layout.host(node.name).join("off")).and_then(|m| m.modified());
        if since.is_ok_and(|at| at.elapsed().is_ok_and(|off| off >= after)) {
            power_on(layout, node.name)?;
        }
    }
    Ok(())
}

fn links(layout: &Layout, host: &str, state: &str) -> Result<()> {
    for network in NETWORKS {
        let status = find::enter(layout, SWITCH)?
            .args(["ip", "link", "set", &port(host, network), state])
            .status()?;
        ensure!(
            status.success(),
            "the port of {host} on the {network} network does not go {state}"
        );
    }
    Ok(())
}
