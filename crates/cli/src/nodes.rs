//! Nodes, and who of them votes.

use crate::ending::Ending;
use crate::output::{Format, columns, facts, print, size, span, utc};
use crate::words::quorum_line;
use anyhow::{Result, bail};
use karst_api::Client;
use karst_api::core::view::{NodeState, NodeView, PowerView, Status};
use karst_api::pki::short;
use std::collections::BTreeSet;
use std::time::Duration;

pub async fn list(client: &Client, format: Format) -> Result<Ending> {
    let status = client.status().await?.status;
    print(format, &status.nodes, |nodes| node_table(nodes))?;
    Ok(Ending::Done)
}

/// One node in full.
pub async fn show(client: &Client, name: &str, format: Format) -> Result<Ending> {
    let status = client.status().await?.status;
    let Some(node) = status.nodes.iter().find(|n| n.node.as_str() == name) else {
        let known: Vec<&str> = status.nodes.iter().map(|n| n.node.as_str()).collect();
        bail!("there is no node `{name}`; known: {}", known.join(", "));
    };
    print(format, node, |node| in_full(node, &status))?;
    Ok(Ending::Done)
}

fn in_full(node: &NodeView, status: &Status) -> String {
    let mut rows = vec![
        ("zone", node.zone.clone()),
        ("state", state_of(node)),
        ("votes", votes_of(node)),
        ("power", power_of(node)),
        ("fenced", node.fenced.clone().unwrap_or_else(|| "no".into())),
        ("has", duties(node, status)),
    ];
    match &node.about {
        None => rows.push(("of itself", "it has said nothing yet".into())),
        Some(about) => {
            let servers: Vec<String> = about
                .servers
                .iter()
                .map(|(workload, version)| format!("{version} ({workload})"))
                .collect();
            let guard = about.unguarded.as_ref();
            let watchdog = about.watchdog.clone();
            let end = about.certificate_until.map(utc);
            rows.extend([
                ("karst", about.version.clone()),
                ("servers", servers.join(", ")),
                ("daemon runs since", utc(about.since)),
                ("boot", about.boot.clone()),
                (
                    "packet guard",
                    guard.map_or("works".into(), |why| format!("not in force: {why}")),
                ),
                ("watchdog", watchdog.unwrap_or_else(|| "none".into())),
                (
                    "certificate ends",
                    end.unwrap_or_else(|| "cannot be read".into()),
                ),
                ("certificate of", prints(&about.authorities.signed_by)),
                ("believes", prints(&about.authorities.trusted)),
            ]);
        }
    }
    let console = node.console.clone();
    rows.push(("console", console.unwrap_or_else(|| "none".into())));
    format!(
        "{}\n{}\n{}{}",
        node.node,
        facts(&rows),
        links(node, status),
        rooms(node)
    )
}

/// Of CAs.
fn prints(all: &[String]) -> String {
    match all {
        [] => "not known".into(),
        all => {
            let all: Vec<&str> = all.iter().map(|print| short(print)).collect();
            format!("CA {}", all.join(" and "))
        }
    }
}

/// Of Karst, and of the servers there.
fn versions(node: &NodeView) -> String {
    let Some(about) = &node.about else {
        return "?".into();
    };
    let servers: BTreeSet<&str> = about.servers.values().map(String::as_str).collect();
    let mut all = vec![about.version.as_str()];
    all.extend(servers);
    all.join(", ")
}

fn state_of(node: &NodeView) -> String {
    match node.state {
        NodeState::Up => "up".into(),
        other => format!(
            "{other} for {}",
            span(Duration::from_millis(node.silent_ms))
        ),
    }
}

fn votes_of(node: &NodeView) -> String {
    let counted = match node.votes_count {
        Some(false) if node.votes > 0 => ", not counted: its node store is new",
        _ => "",
    };
    let witness = if node.witness { ", witness" } else { "" };
    format!("{}{counted}{witness}", node.votes)
}

fn power_of(node: &NodeView) -> String {
    let power = node.power.as_ref();
    power.map_or("no device".into(), ToString::to_string)
}

fn duties(node: &NodeView, status: &Status) -> String {
    let mut all = Vec::new();
    if status.coordinator.as_ref() == Some(&node.node) {
        all.push("the coordinator".to_string());
    }
    for w in &status.workloads {
        if let Some(replica) = w.replicas.iter().find(|r| r.node == node.node) {
            all.push(format!("{} of {}", replica.state, w.workload));
        }
        if w.gates.iter().any(|gate| gate.node == node.node) {
            all.push(format!("gate of {}", w.workload));
        }
        if let Some(address) = &w.address
            && address.holder.as_ref() == Some(&node.node)
        {
            all.push(address.on.join(" and "));
        }
    }
    if all.is_empty() {
        "nothing but the log".into()
    } else {
        all.join(", ")
    }
}

/// Each way of each link, as the end that hears says.
fn links(node: &NodeView, status: &Status) -> String {
    let word = |to: &NodeView, from: &NodeView| {
        if to.state != NodeState::Up {
            return "not known".to_string();
        }
        if to.does_not_hear.contains(&from.node) {
            return "NOTHING ARRIVES".into();
        }
        let lost = to.misses.get(&from.node);
        lost.map_or("works".into(), |share| format!("loses {share} %"))
    };
    let others = status.nodes.iter().filter(|other| other.node != node.node);
    columns(
        ["LINK", "TO IT", "FROM IT"],
        others.map(|other| [other.node.to_string(), word(other, node), word(node, other)]),
    )
}

fn rooms(node: &NodeView) -> String {
    let rooms = node.about.as_ref().map_or(&[][..], |about| &about.rooms);
    if rooms.is_empty() {
        return String::new();
    }
    let row = |room: &karst_api::core::view::RoomView| {
        [
            room.of.clone(),
            size(room.free),
            size(room.total),
            room.path.clone(),
        ]
    };
    format!(
        "\n\n{}",
        columns(
            ["ROOM FOR", "FREE", "OF", "DIRECTORY"],
            rooms.iter().map(row)
        )
    )
}

pub async fn quorum(client: &Client, format: Format) -> Result<Ending> {
    let status = client.status().await?.status;
    print(format, &status.quorum, |_| {
        let voters = status
            .nodes
            .iter()
            .filter(|n| n.votes > 0)
            .cloned()
            .collect::<Vec<_>>();
        format!("{}\n{}", quorum_line(&status), node_table(&voters))
    })?;
    Ok(if status.quorum.heard >= status.quorum.needed {
        Ending::Done
    } else {
        Ending::NotWell
    })
}

/// What is to be said of a node beside its state.
fn remarks(n: &NodeView, nodes: &[NodeView]) -> String {
    let mut remarks = Vec::new();
    if n.state == NodeState::Up {
        remarks.extend(deafness(n, nodes));
    } else {
        let silent = span(Duration::from_millis(n.silent_ms));
        remarks.push(format!("silent for {silent}"));
    }
    let missed = n.misses.iter();
    let missed = missed.map(|(from, share)| format!("{share} % from {from}"));
    let missed: Vec<String> = missed.collect();
    if !missed.is_empty() {
        remarks.push(format!("misses heartbeats: {}", missed.join(", ")));
    }
    if n.maintenance {
        remarks.push("in maintenance".into());
    }
    remarks.extend(n.fenced.as_ref().map(|why| format!("FENCED: {why}")));
    remarks.join("; ")
}

/// Whom it does not hear of those who are up: that nobody hears a lost host says nothing of links.
fn deafness(n: &NodeView, nodes: &[NodeView]) -> Option<String> {
    let others = nodes.iter().filter(|other| other.state == NodeState::Up);
    let unheard = others.filter(|other| n.does_not_hear.contains(&other.node));
    let said = |other: &NodeView| match other.does_not_hear.contains(&n.node) {
        true => other.node.to_string(),
        false => format!("{0} (one way: {0} hears it)", other.node),
    };
    let all: Vec<String> = unheard.map(said).collect();
    (!all.is_empty()).then(|| format!("does not hear {}", all.join(", ")))
}

pub fn node_table(nodes: &[NodeView]) -> String {
    let row = |n: &NodeView| {
        // Words, not the whole reason: `karst why` has that.
        let power = match &n.power {
            None => "-".into(),
            Some(PowerView::Unknown { .. }) => "unknown".into(),
            Some(known) => known.to_string(),
        };
        [
            n.node.to_string(),
            n.zone.clone(),
            if n.votes > 0 && n.votes_count == Some(false) {
                "not counted".into()
            } else {
                n.votes.to_string()
            },
            if n.witness { "witness" } else { "" }.into(),
            n.state.to_string(),
            power,
            versions(n),
            remarks(n, nodes),
        ]
    };
    columns(
        [
            "NODE", "ZONE", "VOTES", "KIND", "STATE", "POWER", "KARST", "",
        ],
        nodes.iter().map(row),
    )
}
