//! What is waiting or broken: the evidence, what blocks, and what can safely be done next.

use crate::ending::Ending;
use crate::findings;
use crate::output::{Format, print, state};
use crate::words::{ending, lasting, pick, quorum_line, runbook};
use anyhow::Result;
use karst_api::Client;
use karst_api::core::view::Condition;
use std::fmt::Write as _;

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
                "\n{} {}: {}",
                w.workload,
                state(w.condition),
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
        for finding in &reply.status.findings {
            text += "\n";
            text += &findings::text(finding);
        }
        text
    })?;
    Ok(ending(&reply.status))
}
