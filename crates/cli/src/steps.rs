//! The site's own steps: what there is, and one of them tried.

use crate::ending::Ending;
use crate::output::{Format, columns, print};
use anyhow::{Context, Result};
use karst_api::core::text::span;
use karst_api::{Client, StepView, TriedReply, TryBody};
use std::fmt::Write as _;
use std::time::Duration;

pub async fn list(client: &Client, format: Format) -> Result<Ending> {
    let steps = client.steps().await?;
    print(format, &steps, |steps| {
        if steps.is_empty() {
            return "no steps: the spec has no [step.NAME] table\n".into();
        }
        columns(
            [
                "STEP",
                "WHEN",
                "PROGRAM",
                "LIMIT",
                "IF IT FAILS",
                "OF",
                "ON",
            ],
            steps.iter().map(row),
        )
    })?;
    Ok(Ending::Done)
}

fn row(step: &StepView) -> [String; 7] {
    let some = |list: Vec<&str>, all: &str| match list.as_slice() {
        [] => all.to_string(),
        some => some.join(", "),
    };
    let workloads = step.workloads.iter().map(|id| id.as_str()).collect();
    let program = std::iter::once(&step.program).chain(&step.args);
    [
        step.name.clone(),
        step.at.word().into(),
        program.cloned().collect::<Vec<_>>().join(" "),
        span(Duration::from_millis(step.limit_ms)),
        match step.if_fails {
            karst_api::core::ownstep::IfFails::GoOn => "go on".into(),
            karst_api::core::ownstep::IfFails::Stop => "stop".into(),
        },
        if step.at.is_of_workload() {
            some(workloads, "every workload")
        } else {
            "nodes".into()
        },
        some(
            step.nodes.iter().map(|n| n.as_str()).collect(),
            "every node",
        ),
    ]
}

/// On the node that is named, else on the one that answers.
pub async fn try_one(
    client: &Client,
    step: &str,
    on: Option<&str>,
    workload: Option<String>,
    format: Format,
) -> Result<Ending> {
    let body = TryBody { workload };
    let tried = match on {
        None => client.try_step(step, &body).await?,
        Some(node) => {
            let nodes = client.status().await?.status.nodes;
            let known: Vec<&str> = nodes.iter().map(|n| n.node.as_str()).collect();
            let there = nodes.iter().find(|n| n.node.as_str() == node);
            let there = there.with_context(|| {
                format!("there is no node `{node}`; nodes: {}", known.join(", "))
            })?;
            let url = there.console.as_deref();
            let url =
                url.with_context(|| format!("the spec gives {node} no address for people"))?;
            client.at(url)?.try_step(step, &body).await?
        }
    };
    let well = tried.well;
    print(format, &tried, text)?;
    Ok(if well { Ending::Done } else { Ending::NotWell })
}

fn text(tried: &TriedReply) -> String {
    let mut text = String::new();
    let so = tried.why.as_deref().unwrap_or("done");
    let took = span(Duration::from_millis(tried.took_ms));
    let _ = writeln!(text, "{} on {}: {so} ({took})", tried.step, tried.node);
    let _ = writeln!(text, "\nit was told");
    for (name, value) in tried.told.iter().filter(|(_, value)| !value.is_empty()) {
        let _ = writeln!(text, "  {name}={value}");
    }
    let said = if tried.output.is_empty() {
        " nothing"
    } else {
        ""
    };
    let _ = writeln!(text, "\nit wrote{said}");
    for line in tried.output.lines() {
        let _ = writeln!(text, "  {line}");
    }
    text
}
