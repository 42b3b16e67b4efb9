//! What clients were told is there, against what is there.

use crate::cluster::Lab;
use crate::journal::{self, Line};
use crate::layout::NODES;
use anyhow::Result;
use std::collections::BTreeSet;
use std::time::Duration;

/// Every acknowledged row against every replica, after the last heal.
pub async fn compare(lab: &Lab, lines: &[Line]) -> Result<(usize, Vec<(String, usize)>)> {
    let acknowledged = journal::acknowledged(lines);
    lab.healthy(Duration::from_secs(180)).await?;
    let mut missing = Vec::new();
    for node in NODES.iter().filter(|n| n.rank.is_some()) {
        let have = rows_on(lab, node.name, &acknowledged).await?;
        missing.push((
            node.name.to_string(),
            acknowledged.difference(&have).count(),
        ));
    }
    Ok((acknowledged.len(), missing))
}

async fn rows_on(lab: &Lab, node: &str, wanted: &BTreeSet<i64>) -> Result<BTreeSet<i64>> {
    let client = lab.administrator(node).await?;
    // What was acknowledged is replicated, but a standby may still be replaying it.
    for _ in 0..200 {
        let rows = client.query("select id from drill_row", &[]).await?;
        let have: BTreeSet<i64> = rows.iter().map(|r| r.get(0)).collect();
        if wanted.is_subset(&have) {
            return Ok(have);
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let rows = client.query("select id from drill_row", &[]).await?;
    Ok(rows.iter().map(|r| r.get(0)).collect())
}
