//! The spec file that a lab's daemons get.

use crate::layout::{
    CLIENT_ADDRESS, CLIENT_ROLE, CONTROLLER_ADDRESS, CONTROLLER_USER, DATABASE, FLEET, FLOATING,
    FLOATING6, GATES, Host, LINES, LINES_PORT, Layout, RunAs, SERVER_PROGRAMS, WORKLOAD, host,
};
use crate::named;
use std::fmt::Write as _;

/// The port of the servers of a workload: each has its own, as on a host that several share.
fn server_port(workload: &str) -> usize {
    5432 + FLEET
        .iter()
        .position(|w| *w == workload)
        .map_or(0, |i| i + 1)
}

/// Where a workload's replicas are, and their rank: the demo's on its three hosts, the others on
/// three hosts in turn.
fn replicas(layout: &Layout, workload: &str) -> Vec<(Host, u32)> {
    let nodes = layout.nodes();
    let Some(i) = FLEET.iter().position(|w| *w == workload) else {
        return nodes
            .into_iter()
            .filter_map(|n| Some((n, n.rank?)))
            .collect();
    };
    let able: Vec<Host> = nodes.into_iter().filter(|n| !n.witness).collect();
    (0..3)
        .filter_map(|k| Some((*able.get((i + k) % able.len())?, k as u32 + 1)))
        .collect()
}

/// The same on every node.
pub fn spec_text(layout: &Layout, run_as: RunAs) -> String {
    let shape = &layout.shape;
    let mut text = format!(
        "# Skerry Coast Ferries (made up). The same on every node.\ncluster = \"skerry\"\ntimings = \"{}\"\n",
        if shape.brisk { "brisk" } else { "default" }
    );
    for zone in ["northquay", "southquay", "lighthouse"] {
        let _ = write!(text, "\n[zone.{zone}]");
    }
    text += "\n";
    for (i, node) in layout.nodes().into_iter().enumerate() {
        let _ = write!(
            text,
            "\n[node.{}]\nzone = \"{}\"\nvotes = {}\npeer = \"{}:26700\"\napi = \"{}:26780\"\nconsole = \"http://127.0.0.1:{}\"\n{}",
            node.name,
            node.zone,
            node.votes,
            node.peer(),
            node.management(),
            layout.api_port(i),
            if node.witness { "witness = true\n" } else { "" }
        );
        // It has the key of the CA.
        if i == 0 {
            text += "local = \"administer\"\n";
        }
        let _ = write!(
            text,
            "readmit = \"auto\"\nclock = \"steady\"\n[node.{}.power]\ndriver = \"redfish\"\nurl = \"https://{}\"\nuser = \"{}\"\n\
             secret = \"file:{}\"\nca = \"{}\"\nafter = \"off\"\n",
            node.name,
            CONTROLLER_ADDRESS,
            CONTROLLER_USER,
            layout.secret("power").display(),
            layout.dir.join("ca.pem").display()
        );
    }
    text += &workload_text(layout, WORKLOAD, run_as);
    let follows = if shape.address_on_primary {
        "primary"
    } else {
        "gate"
    };
    let _ = writeln!(text, "\n[workload.{WORKLOAD}.gate]");
    for node in GATES.into_iter().filter_map(host) {
        let _ = writeln!(text, "{} = \"{}:26900\"", node.name, node.client());
    }
    let _ = write!(
        text,
        "\n[workload.{WORKLOAD}.reads]\nage = \"5s\"\n\n[workload.{WORKLOAD}.reads.gate]\n"
    );
    for node in GATES.into_iter().filter_map(host) {
        let _ = writeln!(text, "{} = \"{}:26950\"", node.name, node.client());
    }
    let _ = write!(
        text,
        "\n[workload.{WORKLOAD}.address]\non = [\"{FLOATING}/24\", \"{FLOATING6}/64\"]\nfollows = \"{follows}\"\n"
    );
    if shape.name {
        let secret = layout.secret("dns");
        let _ = write!(
            text,
            "\n[workload.{WORKLOAD}.name]\nrecord = \"{}\"\nzone = \"{}\"\nserver = \"{CLIENT_ADDRESS}:53\"\nleads = \"gates\"\nkey = \"{}\"\nsecret = \"file:{}\"\n",
            named::RECORD,
            named::ZONE,
            named::KEY,
            secret.display()
        );
    }
    if shape.lines {
        text += &lines_text(layout, run_as);
    }
    if shape.fleet {
        FLEET
            .iter()
            .for_each(|workload| text += &workload_text(layout, workload, run_as));
    }
    text
}

/// Where the demo's replicas and gates are.
fn lines_text(layout: &Layout, run_as: RunAs) -> String {
    let mut text = format!(
        "\n[workload.{LINES}]\ndriver = \"lines\"\nloss = \"none\"\nalone = \"block\"\n\
         \n[workload.{LINES}.settings]\nprogram = \"{}\"\n{}",
        layout.lines_program().display(),
        run_as.spec_line()
    );
    for (node, rank) in replicas(layout, LINES) {
        let _ = write!(
            text,
            "\n[workload.{LINES}.replica.{}]\nrank = {rank}\naddress = \"{}:{LINES_PORT}\"\ndata = \"{}\"\n",
            node.name,
            node.client(),
            layout.host(node.name).join("data").join(LINES).display(),
        );
    }
    let _ = writeln!(text, "\n[workload.{LINES}.gate]");
    for node in GATES.into_iter().filter_map(host) {
        let _ = writeln!(
            text,
            "{} = \"{}:{}\"",
            node.name,
            node.client(),
            LINES_PORT + 1
        );
    }
    text
}

fn workload_text(layout: &Layout, workload: &str, run_as: RunAs) -> String {
    let mut text = format!(
        "\n[workload.{workload}]\ndriver = \"postgres\"\nloss = \"none\"\nalone = \"block\"\n\
         \n[workload.{workload}.settings]\nprograms = \"{SERVER_PROGRAMS}\"\nsecret = \"file:{}\"\n{}",
        layout.secret("replication").display(),
        run_as.spec_line()
    );
    if workload == WORKLOAD {
        let client = layout.secret("client");
        let _ = write!(
            text,
            "database = \"{DATABASE}\"\nclient = \"{CLIENT_ROLE}\"\nclient-secret = \"file:{}\"\n",
            client.display()
        );
    }
    for (name, value) in layout
        .shape
        .settings
        .iter()
        .filter_map(|s| s.split_once('='))
    {
        let _ = writeln!(text, "set.{name} = \"{value}\"");
    }
    for (node, rank) in replicas(layout, workload) {
        let _ = write!(
            text,
            "\n[workload.{workload}.replica.{}]\nrank = {rank}\naddress = \"{}:{}\"\ndata = \"{}\"\n\
             log = \"{}\"\n",
            node.name,
            node.client(),
            server_port(workload),
            layout.host(node.name).join("data").join(workload).display(),
            layout.host(node.name).join("wal").join(workload).display()
        );
    }
    text
}
