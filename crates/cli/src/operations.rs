//! Operations: what was done, by whom, and where the time went.

use crate::arguments::ReportAs;
use crate::ending::Ending;
use crate::intents;
use crate::output::{Format, columns, print, say};
use anyhow::{Context, Result};
use karst_api::Client;
use karst_api::core::author::Author;
use karst_api::core::operation::Outcome;
use karst_api::core::progress::{PhaseTime, Progress};
use karst_api::core::text::utc;
use karst_api::core::{NodeId, OperationId, Time};
use std::fmt::Write as _;
use std::time::SystemTime;

/// `op-12` or `12`.
pub fn id(text: &str) -> Result<OperationId> {
    let number = text.strip_prefix("op-").unwrap_or(text).parse();
    number
        .map(OperationId)
        .with_context(|| format!("`{text}` is not an operation: write it as op-12"))
}

pub async fn list(client: &Client, format: Format) -> Result<Ending> {
    let reply = client.status().await?;
    let (now, status) = (seconds(&reply.at), reply.status);
    let wanted = status.intents.iter().map(|intent| {
        let done = intent.steps.iter().filter(|step| step.done).count();
        let so = format!("{done} of {} steps done", intent.steps.len());
        wish((intent.id, intent.at), &intent.title, &intent.by, so)
    });
    let over = status.intents_over.iter().map(|over| {
        let so = match &over.outcome {
            Outcome::Done => "done".to_string(),
            Outcome::Undone(why) | Outcome::Diverted(why) => why.clone(),
        };
        wish((over.id, over.at), &over.title, &over.by, so)
    });
    let mut rows: Vec<Row> = wanted.chain(over).collect();
    print(format, &status.operations, |list| {
        rows.extend(list.iter().map(|o| operation(o, begun(o, now, status.at))));
        // Each has the index of its log entry for a number.
        rows.sort_by_key(|(id, _)| std::cmp::Reverse(*id));
        columns(
            [
                "ID", "BEGAN", "WHAT", "WORKLOAD", "FROM", "TO", "BY", "OUTCOME",
            ],
            rows.into_iter().map(|(_, row)| row),
        )
    })?;
    Ok(Ending::Done)
}

type Row = (OperationId, [String; 8]);

/// In seconds since the Unix epoch; none where it is no moment of RFC 3339.
fn seconds(moment: &str) -> Option<u64> {
    let moment = humantime::parse_rfc3339(moment).ok()?;
    let since = moment.duration_since(SystemTime::UNIX_EPOCH).ok()?;
    Some(since.as_secs())
}

/// The moment of the first step, by the clock of the node that answered: `now`, which is `at` on its steady
/// clock.
fn begun(o: &Progress, now: Option<u64>, at: Time) -> Option<u64> {
    let first = o.steps.first()?;
    Some(now?.saturating_sub(at.since(first.at).as_secs()))
}

fn operation(o: &Progress, begun: Option<u64>) -> Row {
    let name = |n: &Option<NodeId>| n.as_ref().map_or("-".to_string(), ToString::to_string);
    let row = [
        o.id.to_string(),
        begun.map_or("-".into(), utc),
        o.what.kind.to_string(),
        o.what.workload.to_string(),
        name(&o.what.from),
        name(&o.target),
        o.what.by.to_string(),
        outcome(o),
    ];
    (o.id, row)
}

/// A wish about the cluster as a whole, among the rest.
fn wish((id, at): (OperationId, u64), title: &str, by: &Author, so: String) -> Row {
    let none = || "-".to_string();
    let row = [
        id.to_string(),
        utc(at),
        title.into(),
        none(),
        none(),
        none(),
        by.to_string(),
        so,
    ];
    (id, row)
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

pub fn phase_line(operation: &Progress) -> String {
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

pub fn text(o: &Progress) -> String {
    let mut lines = format!(
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
            lines,
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
            lines,
            "  {:<12}{:>7.1} ms  {bar}",
            phase.name(),
            took.as_secs_f64() * 1e3
        );
    }
    lines
}

pub async fn show(client: &Client, wanted: &str, format: Format) -> Result<Ending> {
    let id = id(wanted)?;
    let status = client.status().await?.status;
    if let Some(intent) = status.intents.iter().find(|intent| intent.id == id) {
        print(format, intent, intents::show)?;
        return Ok(Ending::Done);
    }
    let found = status.operations.iter().find(|o| o.id == id);
    let found = found.with_context(|| {
        format!(
            "{id} is not among the newest operations; try `karst history --operation {}`",
            id.0
        )
    })?;
    print(format, found, text)?;
    Ok(Ending::Done)
}

/// For whoever was asleep.
pub async fn report(
    client: &Client,
    wanted: &str,
    form: ReportAs,
    format: Format,
) -> Result<Ending> {
    let report = client.report(id(wanted)?).await?;
    match (format, form) {
        (Format::Table, ReportAs::Svg) => say(&report.svg()),
        (Format::Table, ReportAs::Json) => print(Format::Json, &report, |_| String::new())?,
        _ => print(format, &report, |report| report.markdown())?,
    }
    Ok(Ending::Done)
}
