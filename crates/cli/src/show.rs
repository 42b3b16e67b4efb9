//! What is so: every command that changes nothing.

use crate::arguments::Until;
use crate::ending::Ending;
use crate::output::{Format, columns, print, say, size, span, utc};
use anyhow::{Context, Result, bail};
use karst_api::core::OperationId;
use karst_api::core::operation::{Mode, Outcome};
use karst_api::core::outage::{WorstCase, worst_cases};
use karst_api::core::progress::{PhaseTime, Progress};
use karst_api::core::spec::{Inequality, Severity};
use karst_api::core::steward::outlook::Writes;
use karst_api::core::view::{
    Condition, NeedView, NodeState, NodeView, PowerView, Status, WorkloadView, WritesView,
};
use karst_api::{Client, Record, StatusReply, specfile};
use std::collections::{BTreeSet, VecDeque};
use std::fmt::Write as _;
use std::path::Path;
use std::time::{Duration, Instant};

fn ending(status: &Status) -> Ending {
    if status.condition == Condition::Healthy {
        Ending::Done
    } else {
        Ending::NotWell
    }
}

pub async fn status(client: &Client, format: Format) -> Result<Ending> {
    let reply = client.status().await?;
    print(format, &reply, screen)?;
    Ok(ending(&reply.status))
}

pub async fn watch(client: &Client, format: Format) -> Result<Ending> {
    client
        .watch(|reply| {
            match format {
                // Home and clear below: the screen is drawn over, without a flicker.
                Format::Table => say(&format!("\x1b[H\x1b[2J{}", screen(&reply))),
                Format::Json => {
                    say(&serde_json::to_string(&reply).map_or(String::new(), |l| l + "\n"))
                }
                Format::Yaml => say(&serde_yaml_ng::to_string(&reply)
                    .map_or(String::new(), |d| format!("---\n{d}"))),
            }
            false
        })
        .await?;
    Ok(Ending::Done)
}

/// How often it is looked whether what is waited for has come.
const WAIT_LOOK: Duration = Duration::from_millis(200);

pub async fn wait(
    client: &Client,
    workload: Option<&str>,
    until: Until,
    timeout: Duration,
) -> Result<Ending> {
    let begun = Instant::now();
    loop {
        let said = match client.status().await {
            Ok(reply) => {
                let status = &reply.status;
                let chosen = pick(status, workload)?;
                let come = chosen.iter().all(|w| match until {
                    Until::Healthy => w.condition == Condition::Healthy,
                    Until::Writes => w.writes.state == Writes::Accepted,
                });
                let whole = workload.is_some() || status.condition == Condition::Healthy;
                let is_so = come && (whole || matches!(until, Until::Writes));
                if is_so && reply.complete {
                    return Ok(Ending::Done);
                }
                status.sentence.clone()
            }
            Err(error) => error.to_string(),
        };
        if begun.elapsed() >= timeout {
            bail!("not within {}: {said}", span(timeout));
        }
        tokio::time::sleep(WAIT_LOOK).await;
    }
}

/// The whole cluster on one screen.
pub fn screen(reply: &StatusReply) -> String {
    let s = &reply.status;
    let mut text = format!("{}  [{}]  {}\n", s.cluster, s.condition.word(), s.sentence);
    let _ = writeln!(
        text,
        "writes {}; needs you: {}",
        lasting(s.writes),
        needs_line(&s.needs_you)
    );
    let clock = reply.at.get(11..19).unwrap_or_default();
    let by = s
        .coordinator
        .as_ref()
        .map_or("no coordinator".to_string(), |c| {
            format!("coordinator {c}, term {}", s.term)
        });
    let partial = if reply.complete {
        ""
    } else {
        "  PARTIAL: only what this node knows by itself"
    };
    let _ = writeln!(
        text,
        "seen by {} at {clock} UTC; {by}{partial}\n",
        s.seen_by
    );
    let _ = writeln!(text, "quorum   {}", quorum_line(s));
    text += &node_table(&s.nodes);
    s.workloads.iter().for_each(|w| text += &workload_part(w));
    if let Some(operation) = s.operations.iter().find(|o| o.outcome.is_none()) {
        let _ = writeln!(text, "\nunder way: {}", operation_text(operation));
    } else if let Some(last) = s.operations.first() {
        let _ = writeln!(
            text,
            "\nlast: {} {}{}",
            last.id,
            last.what.kind,
            phase_line(last)
        );
    }
    if !reply.history.reachable {
        let _ = writeln!(
            text,
            "history delayed: {} events wait on {}",
            reply.history.waiting, s.seen_by
        );
    }
    let errors = s
        .findings
        .iter()
        .filter(|f| f.severity == Severity::Error)
        .count();
    if !s.findings.is_empty() {
        let _ = writeln!(
            text,
            "findings: {errors} errors, {} warnings (karst why)",
            s.findings.len() - errors
        );
    }
    text
}

fn workload_part(w: &WorkloadView) -> String {
    let mut text = String::new();
    let _ = writeln!(
        text,
        "\n\n{} [{}]  writes {}  mode {}  epoch {}  every write on: {}",
        w.workload,
        w.condition.word(),
        lasting(w.writes),
        mode_text(w),
        w.epoch,
        names(&w.sync.sure)
    );
    text += &replica_table(w);
    text += "\n";
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
    for g in &w.gates {
        let to = g
            .forwards_to
            .as_ref()
            .map_or("holds new connections".into(), |n| {
                format!("forwards to {n}")
            });
        let seen = g.seen.as_ref().map_or("not heard".to_string(), |seen| {
            format!(
                "{to}, {} connections, {} waiting",
                seen.connections, seen.waiting
            )
        });
        let _ = writeln!(text, "  gate {} {} {seen}", g.node, g.address);
    }
    text
}

/// With how long it has been so.
fn lasting(writes: WritesView) -> String {
    let time = writes.for_ms.map(Duration::from_millis);
    time.map_or(writes.state.to_string(), |time| {
        format!("{} for {}", writes.state, span(time))
    })
}

fn needs_line(needs: &[NeedView]) -> String {
    match needs {
        [] => "no".into(),
        [only] => format!("yes: {}", only.next),
        [first, rest @ ..] => format!("yes: {} (and {} more: karst why)", first.next, rest.len()),
    }
}

fn mode_text(w: &WorkloadView) -> String {
    let word = w.mode.word();
    let Some(set) = w.mode_set.as_ref().filter(|_| w.mode != Mode::Act) else {
        return word.into();
    };
    let until = set
        .until
        .map_or(String::new(), |until| format!(", until {}", utc(until)));
    let why = set
        .why
        .as_ref()
        .map_or(String::new(), |why| format!(": {why}"));
    format!("{word} (set by {} at {}{until}{why})", set.by, utc(set.at))
}

fn names(list: &[karst_api::core::NodeId]) -> String {
    if list.is_empty() {
        "nobody".into()
    } else {
        list.iter()
            .map(ToString::to_string)
            .collect::<Vec<_>>()
            .join(", ")
    }
}

fn quorum_line(s: &Status) -> String {
    let q = &s.quorum;
    let margin = if q.heard < q.needed {
        "NO MAJORITY: nothing is promoted".to_string()
    } else if q.cannot_lose.is_empty() {
        "the majority survives the loss of any one voter".to_string()
    } else {
        format!("losing {} loses the majority", names(&q.cannot_lose))
    };
    format!(
        "{} of {} votes heard, {} needed; {margin}",
        q.heard, q.total, q.needed
    )
}

fn node_table(nodes: &[NodeView]) -> String {
    let row = |n: &NodeView| {
        let deaf = if n.does_not_hear.is_empty() {
            String::new()
        } else {
            let hears_it = |other: &NodeView| !other.does_not_hear.contains(&n.node);
            let said = |from: &karst_api::core::NodeId| match nodes.iter().find(|o| o.node == *from)
            {
                Some(other) if other.state == NodeState::Up && hears_it(other) => {
                    format!("{from} (one way: {from} hears it)")
                }
                _ => from.to_string(),
            };
            format!(
                "does not hear {}",
                n.does_not_hear
                    .iter()
                    .map(said)
                    .collect::<Vec<_>>()
                    .join(", ")
            )
        };
        let mut remarks = vec![if n.state == NodeState::Up {
            deaf
        } else {
            format!("silent for {}", span(Duration::from_millis(n.silent_ms)))
        }];
        let missed: Vec<String> = n
            .misses
            .iter()
            .map(|(from, share)| format!("{share} % from {from}"))
            .collect();
        remarks.push(if missed.is_empty() {
            String::new()
        } else {
            format!("misses heartbeats: {}", missed.join(", "))
        });
        remarks.extend(n.fenced.as_ref().map(|why| format!("FENCED: {why}")));
        let remarks: Vec<String> = remarks.into_iter().filter(|r| !r.is_empty()).collect();
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
            remarks.join("; "),
        ]
    };
    columns(
        ["NODE", "ZONE", "VOTES", "KIND", "STATE", "POWER", ""],
        nodes.iter().map(row),
    )
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

pub async fn why(client: &Client, workload: Option<&str>, format: Format) -> Result<Ending> {
    let reply = client.status().await?;
    let chosen = pick(&reply.status, workload)?;
    print(format, &reply, |reply| {
        let mut text = format!(
            "{}\n{}\n",
            reply.status.sentence,
            quorum_line(&reply.status)
        );
        for w in &chosen {
            let _ = writeln!(
                text,
                "\n{} [{}]: {}",
                w.workload,
                w.condition.word(),
                w.sentence
            );
            let waits = match (&w.needs_you, w.condition) {
                (Some(_), _) => "Needs a person: it will not recover by itself.",
                (None, Condition::Recovering) => "This is on its way; nothing has to be done.",
                (None, Condition::Healthy) => "Nothing has to be done.",
                (None, Condition::Unknown) => "What is so now is not known here.",
                (None, Condition::Degraded | Condition::Down) => {
                    "It works. What is missing is named above, and why a standby cannot take over below."
                }
            };
            let _ = writeln!(text, "writes {}\n{waits}", lasting(w.writes));
            if let Some(next) = &w.next {
                let _ = writeln!(text, "next: {next}");
            }
            if let Some(need) = &w.needs_you {
                let _ = writeln!(text, "see:  {}", runbook(&need.kind));
            }
            for c in &w.candidates {
                let verdict = c
                    .excluded
                    .as_ref()
                    .map_or("may take over".to_string(), |why| {
                        format!("may not take over: {why}")
                    });
                let see = c
                    .exclusion
                    .map_or(String::new(), |kind| format!(" ({})", runbook(&kind)));
                let _ = writeln!(text, "  {} {verdict}{see}", c.node);
            }
        }
        for f in &reply.status.findings {
            let _ = writeln!(
                text,
                "\n{:?}{}: {}\n  {} ({})",
                f.severity,
                at(&f.path),
                f.what,
                f.remedy,
                runbook(&f.kind)
            );
        }
        text
    })?;
    Ok(ending(&reply.status))
}

/// Where it is explained.
fn runbook<T: serde::Serialize>(kind: &T) -> String {
    let name = serde_json::to_value(kind).ok();
    let name = name.as_ref().and_then(serde_json::Value::as_str);
    format!("runbook: {}", name.unwrap_or("all of it"))
}

fn at(path: &[String]) -> String {
    if path.is_empty() {
        String::new()
    } else {
        format!(" ({})", path.join("."))
    }
}

fn pick<'a>(status: &'a Status, name: Option<&str>) -> Result<Vec<&'a WorkloadView>> {
    let Some(name) = name else {
        return Ok(status.workloads.iter().collect());
    };
    let found: Vec<_> = status
        .workloads
        .iter()
        .filter(|w| w.workload.as_str() == name)
        .collect();
    if found.is_empty() {
        let known: Vec<&str> = status
            .workloads
            .iter()
            .map(|w| w.workload.as_str())
            .collect();
        bail!("there is no workload `{name}`; known: {}", known.join(", "));
    }
    Ok(found)
}

pub async fn nodes(client: &Client, name: Option<&str>, format: Format) -> Result<Ending> {
    let status = client.status().await?.status;
    let chosen: Vec<NodeView> = status
        .nodes
        .iter()
        .filter(|n| name.is_none_or(|m| n.node.as_str() == m))
        .cloned()
        .collect();
    if let (Some(name), true) = (name, chosen.is_empty()) {
        let known: Vec<&str> = status.nodes.iter().map(|n| n.node.as_str()).collect();
        bail!("there is no node `{name}`; known: {}", known.join(", "));
    }
    print(format, &chosen, |c| node_table(c))?;
    Ok(Ending::Done)
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

pub async fn workloads(client: &Client, name: Option<&str>, format: Format) -> Result<Ending> {
    let status = client.status().await?.status;
    let chosen: Vec<WorkloadView> = pick(&status, name)?.into_iter().cloned().collect();
    print(format, &chosen, |chosen| {
        let mut text = String::new();
        for w in chosen {
            let _ = writeln!(
                text,
                "{} [{}]  {}",
                w.workload,
                w.condition.word(),
                w.sentence
            );
            if name.is_some() {
                let _ = writeln!(text, "{}\n\ncandidates", replica_table(w));
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

/// `op-12` or `12`.
pub fn operation_id(text: &str) -> Result<OperationId> {
    let number = text.strip_prefix("op-").unwrap_or(text).parse();
    number
        .map(OperationId)
        .with_context(|| format!("`{text}` is not an operation: write it as op-12"))
}

pub async fn operations(client: &Client, format: Format) -> Result<Ending> {
    let status = client.status().await?.status;
    print(format, &status.operations, |list| {
        columns(
            ["ID", "WHAT", "WORKLOAD", "FROM", "TO", "BY", "OUTCOME"],
            list.iter().map(|o| {
                let name = |n: &Option<karst_api::core::NodeId>| {
                    n.as_ref().map_or("-".to_string(), ToString::to_string)
                };
                [
                    o.id.to_string(),
                    o.what.kind.to_string(),
                    o.what.workload.to_string(),
                    name(&o.what.from),
                    name(&o.target),
                    o.what.by.to_string(),
                    outcome(o),
                ]
            }),
        )
    })?;
    Ok(Ending::Done)
}

fn outcome(operation: &Progress) -> String {
    match &operation.outcome {
        None if operation.waits => "waits for approval".into(),
        None => "under way".into(),
        Some(Outcome::Done) => "done".into(),
        Some(Outcome::Undone(why)) => format!("not carried out: {why}"),
        Some(Outcome::Diverted(why)) => format!("finished otherwise: {why}"),
    }
}

fn phase_line(operation: &Progress) -> String {
    // The sum is of what is shown.
    let shown: Vec<u64> = operation
        .phases
        .iter()
        .map(|p| (p.took.as_secs_f64() * 1e3).round() as u64)
        .collect();
    let named = operation.phases.iter().zip(&shown);
    let parts: Vec<String> = named
        .map(|(p, ms)| format!("{} {ms}", p.phase.name()))
        .collect();
    let result = outcome(operation);
    if parts.is_empty() {
        format!(" {result}")
    } else {
        format!(
            " {result} in {} ms = {}",
            shown.iter().sum::<u64>(),
            parts.join(" + ")
        )
    }
}

fn operation_text(o: &Progress) -> String {
    let mut text = format!(
        "{} {} of {}: {}\n{}\n",
        o.id,
        o.what.kind,
        o.what.workload,
        outcome(o),
        o.what.why
    );
    let begin = o.steps.first().map(|s| s.at).unwrap_or_default();
    for step in &o.steps {
        let _ = writeln!(
            text,
            "  {:>7} ms  {}",
            step.at.since(begin).as_millis(),
            step.text
        );
    }
    let longest = o
        .phases
        .iter()
        .map(|p| p.took)
        .max()
        .unwrap_or_default()
        .as_secs_f64()
        .max(1e-9);
    for PhaseTime { phase, took } in &o.phases {
        let bar = "#".repeat((took.as_secs_f64() / longest * 40.0).round() as usize);
        let _ = writeln!(
            text,
            "  {:<12}{:>7.1} ms  {bar}",
            phase.name(),
            took.as_secs_f64() * 1e3
        );
    }
    text
}

pub async fn operation(client: &Client, id: &str, format: Format) -> Result<Ending> {
    let id = operation_id(id)?;
    let status = client.status().await?.status;
    let found = status.operations.iter().find(|o| o.id == id);
    let found = found.with_context(|| {
        format!(
            "{id} is not among the newest operations; try `karst history --operation {}`",
            id.0
        )
    })?;
    print(format, found, operation_text)?;
    Ok(Ending::Done)
}

pub async fn endpoints(client: &Client, workload: Option<&str>, format: Format) -> Result<Ending> {
    let status = client.status().await?.status;
    let mut list = Vec::new();
    for workload in pick(&status, workload)? {
        list.extend(client.endpoints(workload.workload.as_str()).await?);
    }
    print(format, &list, |list| {
        columns(
            ["WORKLOAD", "PURPOSE", "CONNECTION STRING", "ROUTED TO"],
            list.iter().map(|e| {
                let reaches = e.reaches.as_ref().map_or(
                    "no primary, connections wait".to_string(),
                    ToString::to_string,
                );
                [
                    e.workload.clone(),
                    e.purpose.clone(),
                    e.text.clone(),
                    reaches,
                ]
            }),
        )
    })?;
    Ok(Ending::Done)
}

pub async fn spec(client: &Client, format: Format) -> Result<Ending> {
    let reply = client.spec().await?;
    print(format, &reply, |r| {
        format!("# SHA-256 {}\n{}", r.digest, r.text)
    })?;
    Ok(Ending::Done)
}

#[derive(serde::Serialize)]
struct Checked {
    findings: Vec<specfile::Located>,
    inequalities: Vec<Inequality>,
    worst_cases: Vec<WorstCase>,
}

pub fn check_spec(file: &Path, format: Format) -> Result<Ending> {
    let text = std::fs::read_to_string(file).with_context(|| format!("spec {}", file.display()))?;
    let read = specfile::read(&text);
    let refused = read.spec.is_none();
    let timings = read.spec.map(|s| s.timings);
    let checked = Checked {
        findings: read.findings,
        inequalities: timings
            .as_ref()
            .map(|t| t.inequalities())
            .unwrap_or_default(),
        worst_cases: timings.as_ref().map(worst_cases).unwrap_or_default(),
    };
    print(format, &checked, |c| {
        let mut text = String::new();
        for f in &c.findings {
            let _ = writeln!(text, "{}:{f}", file.display());
        }
        for i in &c.inequalities {
            let _ = writeln!(
                text,
                "{} ms > {} ms: {}",
                i.left.as_millis(),
                i.right.as_millis(),
                i.rule
            );
        }
        for w in &c.worst_cases {
            let _ = writeln!(
                text,
                "\nworst-case outage, {}: {} ms",
                w.case,
                w.total().as_millis()
            );
            for share in &w.terms {
                let _ = writeln!(text, "  {:>6} ms  {}", share.took.as_millis(), share.what);
            }
        }
        let verdict = if refused {
            "This spec is refused."
        } else {
            "This spec can be used."
        };
        format!("{text}\n{verdict}")
    })?;
    Ok(if refused {
        Ending::NotWell
    } else {
        Ending::Done
    })
}

pub async fn history(
    client: &Client,
    follow: bool,
    workload: Option<String>,
    operation: Option<u64>,
    limit: u32,
    format: Format,
) -> Result<Ending> {
    let mut query = String::new();
    if let Some(workload) = &workload {
        query += &format!("&workload={workload}");
    }
    if let Some(operation) = operation {
        query += &format!("&operation={operation}");
    }
    let reply = client.history(&format!("limit={limit}{query}")).await?;
    if reply.own_only {
        eprintln!("history store not reachable: these are the asked node's own waiting events");
    }
    print(format, &reply.records, |r| r.iter().map(line).collect())?;
    if !follow {
        return Ok(Ending::Done);
    }
    let mut shown = Shown::default();
    for record in &reply.records {
        shown.is_new(record);
    }
    let mut latest = reply.latest;
    loop {
        tokio::time::sleep(Duration::from_millis(500)).await;
        let since = latest.as_ref().map_or(String::new(), |at| {
            format!("&arrived_after={}", at.replace('+', "%2B"))
        });
        // Whoever follows wants all that has come, however much.
        let Ok(reply) = client.history(&format!("limit=10000{query}{since}")).await else {
            continue;
        };
        latest = reply.latest.or(latest);
        for record in reply.records.iter().filter(|r| shown.is_new(r)) {
            match format {
                Format::Table => say(&line(record)),
                _ => say(&format!("{}\n", serde_json::to_string(record)?)),
            }
        }
    }
}

/// The lines that were shown last: what has come meanwhile is asked for with an overlap, as a node
/// may bring late what happened before.
#[derive(Default)]
struct Shown {
    known: BTreeSet<(Option<u64>, String, u64, String)>,
    order: VecDeque<(Option<u64>, String, u64, String)>,
}

impl Shown {
    const KEPT: usize = 20_000;

    /// A committed decision is the same line whoever tells it.
    fn is_new(&mut self, record: &Record) -> bool {
        let key = match record.index {
            Some(index) => (Some(index), String::new(), 0, String::new()),
            None => (
                None,
                record.node.to_string(),
                record.number,
                record.at.clone(),
            ),
        };
        if !self.known.insert(key.clone()) {
            return false;
        }
        self.order.push_back(key);
        if self.order.len() > Self::KEPT
            && let Some(oldest) = self.order.pop_front()
        {
            self.known.remove(&oldest);
        }
        true
    }
}

fn line(r: &Record) -> String {
    let clock = r.at.get(..23).unwrap_or(&r.at).replace('T', " ");
    let operation = r.operation.map_or(String::new(), |o| format!(" op-{o}"));
    format!(
        "{clock}  {:<7} {:<15}{operation} {}\n",
        r.node, r.kind, r.text
    )
}
