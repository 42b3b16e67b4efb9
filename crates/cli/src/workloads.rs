//! Workloads: their replicas, gates, address, and who may take over.

use crate::ending::Ending;
use crate::output::{Format, columns, print, size, state, utc};
use crate::safety_points::age;
use crate::words::{lasting, mode_text, names, pick};
use anyhow::Result;
use karst_api::Client;
use karst_api::core::text::span;
use karst_api::core::view::{
    GateCounts, NameView, ReaderView, ReadsView, SafetyPointView, WorkloadView,
};
use std::fmt::Write as _;
use std::net::IpAddr;
use std::time::Duration;

pub async fn show(client: &Client, name: Option<&str>, format: Format) -> Result<Ending> {
    let status = client.status().await?.status;
    let chosen: Vec<WorkloadView> = pick(&status, name)?.into_iter().cloned().collect();
    print(format, &chosen, |chosen| {
        let mut text = String::new();
        for w in chosen {
            let _ = writeln!(
                text,
                "{} {}  {}",
                w.workload,
                state(w.condition),
                w.sentence
            );
            if name.is_some() {
                let _ = writeln!(text, "{}\ncandidates", workload_part(w));
                for c in &w.candidates {
                    let verdict = c
                        .excluded
                        .as_ref()
                        .map_or("may take over".to_string(), |why| format!("may not: {why}"));
                    let _ = writeln!(text, "  {} (rank {}) {verdict}", c.node, c.rank);
                }
            }
        }
        text
    })?;
    Ok(Ending::Done)
}

pub fn workload_part(w: &WorkloadView) -> String {
    let mut text = String::new();
    let _ = writeln!(
        text,
        "\n\n{} {}  writes {}  mode {}  epoch {}  every write on: {}",
        w.workload,
        state(w.condition),
        lasting(w.writes),
        mode_text(w),
        w.epoch,
        names(&w.sync.sure)
    );
    text += &replica_table(w);
    let _ = writeln!(text, "\n  {}", w.sync.sentence);
    if let Some(a) = &w.address {
        let place = match (&a.holder, a.held) {
            (Some(holder), true) => format!("is on {holder}, {} connections", a.connections),
            (Some(holder), false) => format!("goes to {holder}"),
            (None, _) => "is not assigned".into(),
        };
        let remark = a
            .remark
            .as_ref()
            .map_or(String::new(), |r| format!("; {r}"));
        let _ = writeln!(text, "  address {} {place}{remark}", a.on.join(", "));
    }
    w.name.iter().for_each(|name| dns_name(&mut text, name));
    let point = w.safety_point.as_ref();
    point.into_iter().for_each(|p| safety_point(&mut text, p));
    for g in &w.gates {
        let to = g
            .forwards_to
            .as_ref()
            .map_or("holds new connections".into(), |n| {
                format!("forwards to {n}")
            });
        let seen = g.seen.as_ref().map_or("not heard".to_string(), |seen| {
            let to = match (seen.unreachable.as_slice(), &g.forwards_to) {
                ([], _) => to,
                (lost, None) => format!("does not reach {}, holds new connections", names(lost)),
                (lost, Some(_)) => format!(
                    "does not reach {}, forwards by way of another gate",
                    names(lost)
                ),
            };
            clients(&to, seen)
        });
        let _ = writeln!(text, "  gate {} {} {seen}", g.node, g.address);
    }
    w.reads.iter().for_each(|reads| readers(&mut text, reads));
    text
}

fn safety_point(text: &mut String, point: &SafetyPointView) {
    let so = if point.stands {
        "stands there"
    } else {
        "is on its way there"
    };
    let written = point.written_since.map_or("not known".into(), size);
    let until = point.until.map_or("it is dropped".into(), utc);
    let _ = writeln!(
        text,
        "  safety point {}: {} {so}, age {}, {written} of log written since, kept until {until}",
        point.name,
        point.node,
        age(point)
    );
}

/// Where its name leads, and what is against it.
fn dns_name(text: &mut String, name: &NameView) {
    let list = |to: &[IpAddr]| {
        let all: Vec<String> = to.iter().map(ToString::to_string).collect();
        all.join(", ")
    };
    let leads = match name.to.as_deref() {
        Some([]) => "leads nowhere yet".to_string(),
        Some(to) => format!("leads to {}", list(to)),
        None => "was not read yet".to_string(),
    };
    let wanted = name.wanted.as_ref().filter(|w| name.to.as_ref() != Some(w));
    let wanted = wanted.map_or(String::new(), |w| format!(", is to lead to {}", list(w)));
    let remark = name
        .remark
        .as_ref()
        .map_or(String::new(), |r| format!("; {r}"));
    let ttl = span(Duration::from_millis(name.ttl_ms));
    let _ = writeln!(
        text,
        "  name {} {leads}{wanted}, remembered for {ttl}{remark}",
        name.record
    );
}

/// Who serves readers, who does not and why, and what comes through their gates.
fn readers(text: &mut String, reads: &ReadsView) {
    let serving = |r: &ReaderView| match (r.serves, &r.why) {
        (Some(true), _) => r.node.to_string(),
        (Some(false), Some(why)) => format!("not {} ({why})", r.node),
        _ => format!("{} unknown", r.node),
    };
    let (serve, others): (Vec<&ReaderView>, Vec<_>) =
        reads.readers.iter().partition(|r| r.serves == Some(true));
    let all = serve.into_iter().chain(others).map(serving);
    let all: Vec<String> = all.collect();
    let _ = writeln!(text, "  readers {}", all.join(", "));
    for g in &reads.gates {
        let seen = g.seen.as_ref().map_or("not heard".to_string(), |seen| {
            let to = match g.forwards_to.as_slice() {
                [] => "holds new connections".to_string(),
                some => format!("forwards to {}", names(some)),
            };
            let to = match seen.unreachable.as_slice() {
                [] => to,
                lost => format!("{to}, does not reach {}", names(lost)),
            };
            clients(&to, seen)
        });
        let _ = writeln!(text, "  read gate {} {} {seen}", g.node, g.address);
    }
}

fn clients(to: &str, seen: &GateCounts) -> String {
    let GateCounts {
        connections,
        waiting,
        ..
    } = seen;
    format!("{to}, {connections} connections, {waiting} waiting")
}

/// How far the furthest standby is behind; none where nobody knows.
pub fn lag(w: &WorkloadView) -> Option<u64> {
    let standbys = w
        .replicas
        .iter()
        .filter(|r| w.primary.as_ref() != Some(&r.node));
    standbys.filter_map(|r| r.lag).max()
}

fn replica_table(w: &WorkloadView) -> String {
    let row = |r: &karst_api::core::view::ReplicaView| {
        let sync = if r.in_sync_set {
            "yes"
        } else if w.primary.as_ref() == Some(&r.node) {
            ""
        } else {
            "no"
        };
        let running = r.server.as_ref().filter(|server| server.runs);
        let position = running.map_or(String::new(), |server| {
            server.place.clone().unwrap_or("unknown".into())
        });
        let lag = r.lag.map_or("?".into(), size);
        [
            r.node.to_string(),
            r.state.to_string(),
            sync.into(),
            position,
            lag,
            r.rank.to_string(),
            r.detail.clone(),
        ]
    };
    columns(
        [
            "REPLICA",
            "STATE",
            "EVERY WRITE",
            "POSITION",
            "BEHIND",
            "RANK",
            "DETAIL",
        ],
        w.replicas.iter().map(row),
    )
}
