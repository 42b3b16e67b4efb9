//! What stands against a guarantee or an expectation, and who knows of it.

use crate::ending::Ending;
use crate::output::{Format, print, utc};
use crate::words::runbook;
use anyhow::Result;
use karst_api::core::spec::Severity;
use karst_api::core::view::FindingView;
use karst_api::{AcknowledgeBody, Client};
use std::fmt::Write as _;

pub async fn list(client: &Client, format: Format) -> Result<Ending> {
    let findings = client.status().await?.status.findings;
    print(format, &findings, |list| {
        if list.is_empty() {
            return "Nothing stands against anything.".into();
        }
        list.iter().map(text).collect()
    })?;
    Ok(Ending::Done)
}

pub fn text(view: &FindingView) -> String {
    let f = &view.finding;
    let severity = match f.severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
    };
    let mut text = format!(
        "{severity}  {}\n  {}\n  to mend it: {} ({})\n",
        view.name,
        f.what,
        f.remedy,
        runbook(&f.kind)
    );
    if let Some(known) = &view.acknowledged {
        let note = if known.note.is_empty() {
            String::new()
        } else {
            format!(": {}", known.note)
        };
        let _ = writeln!(
            text,
            "  {} knows of it since {}{note}",
            known.by,
            utc(known.at)
        );
    }
    text
}

pub async fn acknowledge(
    client: &Client,
    finding: &str,
    note: Option<String>,
    format: Format,
) -> Result<Ending> {
    let body = AcknowledgeBody {
        note: note.unwrap_or_default(),
    };
    let reply = client.acknowledge(finding, &body).await?;
    print(format, &reply, |reply| reply.text.clone())?;
    Ok(Ending::Done)
}

pub async fn forget(client: &Client, finding: &str, format: Format) -> Result<Ending> {
    let reply = client.forget(finding).await?;
    print(format, &reply, |reply| reply.text.clone())?;
    Ok(Ending::Done)
}
