//! The spec: checked without any server, or as a node has it.

use crate::ending::Ending;
use crate::output::{Format, print, remark};
use anyhow::{Context, Result};
use karst_api::core::outage::{WorstCase, worst_cases};
use karst_api::core::spec::Inequality;
use karst_api::{Client, specfile};
use std::fmt::Write as _;
use std::path::Path;

/// The one in force, or an earlier one.
pub async fn show(client: &Client, revision: Option<u64>, format: Format) -> Result<Ending> {
    if let Some(number) = revision {
        let reply = client.revision(number).await?;
        let of = format!(
            "# revision {}, by {}\n",
            reply.revision.number, reply.revision.by
        );
        remark(format, &of);
        print(format, &reply, |r| r.text.clone())?;
        return Ok(Ending::Done);
    }
    let reply = client.spec().await?;
    // Not among the text: that goes into a file, and comes back.
    let of = format!(
        "# revision {}, by {}; SHA-256 {}\n",
        reply.revision, reply.by, reply.digest
    );
    remark(format, &of);
    print(format, &reply, |r| r.text.clone())?;
    Ok(Ending::Done)
}

#[derive(serde::Serialize)]
struct Checked {
    findings: Vec<specfile::Located>,
    inequalities: Vec<Inequality>,
    worst_cases: Vec<WorstCase>,
}

pub fn check(file: &Path, format: Format) -> Result<Ending> {
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
