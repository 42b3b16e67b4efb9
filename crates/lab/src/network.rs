//! Three networks, each a bridge in a switch of its own kind: peers, clients, management. Hosts are
//! network namespaces.

use crate::layout::{
    ARCHIVE, CLIENT, CLIENT_ADDRESS, CONTROLLER, CONTROLLER_ADDRESS, Host, Layout,
};
use anyhow::{Context, Result, bail};
use std::fmt::Write as _;
use std::io::Write as _;
use std::process::{Command, Stdio};

/// The namespace that holds the bridges.
pub const SWITCH: &str = "switch";
pub const NETWORKS: [&str; 3] = ["peer", "client", "mgmt"];

/// The switch's port of a host on a network.
pub fn port(host: &str, network: &str) -> String {
    format!("{host}-{network}")
}

struct Port {
    host: &'static str,
    network: &'static str,
    address: String,
}

fn ports(nodes: &[Host]) -> Vec<Port> {
    let mut ports = Vec::new();
    for node in nodes {
        let networks = [
            ("peer", node.peer()),
            ("client", node.client()),
            ("mgmt", node.management()),
        ];
        ports.extend(networks.map(|(network, address)| Port {
            host: node.name,
            network,
            address,
        }));
    }
    ports.push(Port {
        host: CLIENT,
        network: "client",
        address: CLIENT_ADDRESS.into(),
    });
    ports.push(Port {
        host: ARCHIVE,
        network: "mgmt",
        address: "10.40.0.100".into(),
    });
    ports.push(Port {
        host: CONTROLLER,
        network: "mgmt",
        address: CONTROLLER_ADDRESS.into(),
    });
    ports
}

/// Where the history store listens.
pub const ARCHIVE_ADDRESS: &str = "10.40.0.100";

/// Makes everything. Runs inside the lab's own network namespace.
pub fn build(layout: &Layout) -> Result<()> {
    let nodes = layout.nodes();
    for name in nodes
        .iter()
        .map(|n| n.name)
        .chain([SWITCH, CLIENT, ARCHIVE, CONTROLLER])
    {
        run(
            Command::new("ip").args(["netns", "add", name]),
            "ip netns add",
        )?;
    }
    let mut switch = String::new();
    for network in NETWORKS {
        let _ = writeln!(
            switch,
            "link add {network} type bridge stp_state 0 forward_delay 0\nlink set {network} up"
        );
    }
    batch(SWITCH, &switch)?;
    let mut links = String::new();
    for Port { host, network, .. } in ports(&nodes) {
        let _ = writeln!(
            links,
            "link add {} netns {SWITCH} type veth peer name {network} netns {host}",
            self::port(host, network)
        );
    }
    batch(SWITCH, &links)?;
    let mut switch = String::new();
    for Port {
        host,
        network,
        address,
    } in ports(&nodes)
    {
        let _ = writeln!(
            switch,
            "link set {} master {network} up",
            port(host, network)
        );
        let six = address.strip_prefix("10.30.0.").map_or(String::new(), |n| {
            format!("addr add fd30::{n}/64 dev {network} nodad\n")
        });
        let up = format!(
            "link set lo up\naddr add {address}/24 dev {network}\nlink set {network} up\n{six}"
        );
        batch(host, &up)?;
    }
    batch(SWITCH, &switch)
}

fn batch(netns: &str, commands: &str) -> Result<()> {
    let mut ip = Command::new("ip")
        .args(["-netns", netns, "-batch", "-"])
        .stdin(Stdio::piped())
        .spawn()
        .context("ip")?;
    ip.stdin
        .take()
        .context("ip's input")?
        .write_all(commands.as_bytes())?;
    let status = ip.wait()?;
    anyhow::ensure!(status.success(), "ip in {netns} failed on:\n{commands}");
    Ok(())
}

fn run(command: &mut Command, what: &str) -> Result<()> {
    let output = command.output().with_context(|| what.to_string())?;
    if !output.status.success() {
        bail!("{what}: {}", String::from_utf8_lossy(&output.stderr).trim());
    }
    Ok(())
}
