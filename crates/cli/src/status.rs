//! The whole cluster on one screen, as it is or as it changes; and waiting for what it should be.

use crate::arguments::Until;
use crate::ending::Ending;
use crate::intents;
use crate::nodes::node_table;
use crate::operations;
use crate::output::{Format, columns, harmless, loud, print, print_next, say, size, span, state};
use crate::words::{ending, lasting, needs_line, pick, quorum_line};
use crate::workloads::{lag, workload_part};
use anyhow::{Result, bail};
use karst_api::core::operation::Mode;
use karst_api::core::spec::Severity;
use karst_api::core::steward::outlook::Writes;
use karst_api::core::view::{Condition, Status, WorkloadView};
use karst_api::{Client, StatusReply};
use std::fmt::Write as _;
use std::time::{Duration, Instant};

/// So many workloads are shown with their replicas; more of them have a line each.
const IN_FULL: usize = 2;

pub async fn show(client: &Client, format: Format) -> Result<Ending> {
    let reply = client.status().await?;
    print(format, &reply, screen)?;
    Ok(ending(&reply.status))
}

pub async fn watch(client: &Client, format: Format) -> Result<Ending> {
    let mut trouble = Ok(());
    let seen = |reply: StatusReply| {
        trouble = match format {
            // Home and clear below: the screen is drawn over, without a flicker.
            Format::Table => {
                say(&format!("\x1b[H\x1b[2J{}", harmless(&screen(&reply))));
                Ok(())
            }
            _ => print_next(format, &reply, screen),
        };
        trouble.is_err()
    };
    client.watch(seen).await?;
    trouble.map(|()| Ending::Done)
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

fn screen(reply: &StatusReply) -> String {
    let s = &reply.status;
    let mut text = head(reply);
    let _ = writeln!(text, "quorum   {}", quorum_line(s));
    text += &node_table(&s.nodes);
    if s.workloads.len() <= IN_FULL {
        s.workloads.iter().for_each(|w| text += &workload_part(w));
    } else {
        let _ = writeln!(text, "\n\n{}", workload_table(&s.workloads));
        text += "  `karst workload show NAME` shows one with its replicas, gates and address\n";
    }
    for intent in &s.intents {
        let _ = writeln!(text, "\nwanted: {}", intents::brief(intent));
    }
    if let Some(operation) = s.operations.iter().find(|o| o.outcome.is_none()) {
        let _ = writeln!(text, "\nunder way: {}", operations::text(operation));
    } else if let Some(last) = s.operations.first() {
        let _ = writeln!(
            text,
            "\nlast: {} {}{}",
            last.id,
            last.what.kind,
            operations::phase_line(last)
        );
    }
    if !reply.history.reachable {
        let _ = writeln!(
            text,
            "history delayed: {} events wait on {}",
            reply.history.waiting, s.seen_by
        );
    }
    text + &findings_line(s)
}

fn head(reply: &StatusReply) -> String {
    let s = &reply.status;
    let mut text = format!("{}  {}  {}\n", s.cluster, state(s.condition), s.sentence);
    let needs = match (s.needs_you.is_empty(), reply.complete) {
        (true, true) => needs_line(&s.needs_you),
        (true, false) => "not known here".into(),
        (false, _) => loud(&needs_line(&s.needs_you)),
    };
    let _ = writeln!(text, "writes {}; needs you: {needs}", lasting(s.writes));
    let clock = reply.at.get(11..19).unwrap_or_default();
    let by = s
        .coordinator
        .as_ref()
        .map_or("no coordinator".to_string(), |c| {
            format!("coordinator {c}, term {}", s.term)
        });
    let partial = if reply.complete {
        String::new()
    } else {
        loud("  PARTIAL: only what this node knows by itself")
    };
    let _ = writeln!(
        text,
        "seen by {} at {clock} UTC; {by}{partial}\n",
        s.seen_by
    );
    text
}

fn findings_line(s: &Status) -> String {
    let known = s.findings.iter().filter(|f| f.acknowledged.is_some());
    let known = known.count();
    let open = s.findings.iter().filter(|f| f.acknowledged.is_none());
    let errors = open
        .clone()
        .filter(|f| f.finding.severity == Severity::Error);
    match (open.clone().count(), errors.count()) {
        (0, _) => String::new(),
        (all, errors) => format!(
            "findings: {errors} errors, {} warnings, {known} acknowledged (karst finding list)\n",
            all - errors
        ),
    }
}

/// One line each, worst first.
fn workload_table(workloads: &[WorkloadView]) -> String {
    let mut all: Vec<&WorkloadView> = workloads.iter().collect();
    all.sort_by_key(|w| std::cmp::Reverse((w.needs_you.is_some(), w.condition)));
    let row = |w: &WorkloadView| {
        let primary = w.primary.as_ref();
        let standbys = w.replicas.len().saturating_sub(1);
        let mode = match w.mode {
            Mode::Act => String::new(),
            other => other.word().into(),
        };
        let what = match (&w.needs_you, w.condition) {
            (Some(need), _) => format!("needs you: {}", need.next),
            (None, Condition::Healthy) => String::new(),
            (None, _) => w.sentence.clone(),
        };
        [
            w.workload.to_string(),
            w.condition.word().into(),
            lasting(w.writes),
            primary.map_or("nobody".into(), ToString::to_string),
            format!("{} of {standbys}", w.sync.sure.len()),
            lag(w).map_or("?".into(), size),
            mode,
            what,
        ]
    };
    columns(
        [
            "WORKLOAD",
            "STATE",
            "WRITES",
            "PRIMARY",
            "EVERY WRITE ON",
            "BEHIND",
            "MODE",
            "",
        ],
        all.into_iter().map(row),
    )
}
