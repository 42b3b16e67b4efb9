//! What clients paste, and where it leads now.

use crate::ending::Ending;
use crate::output::{Format, columns, print};
use crate::words::{names, pick};
use anyhow::{Result, bail};
use karst_api::Client;

/// For one kind of client: the first that there is, unless another is asked for.
pub async fn show(
    client: &Client,
    workload: Option<&str>,
    kind: Option<&str>,
    format: Format,
) -> Result<Ending> {
    let status = client.status().await?.status;
    let mut list = Vec::new();
    for workload in pick(&status, workload)? {
        let all = client.endpoints(workload.workload.as_str()).await?;
        let known: Vec<String> = all.iter().map(|e| e.client.clone()).collect();
        let wanted = kind.map_or_else(|| known.first().cloned(), |kind| Some(kind.to_string()));
        let fitting = all
            .into_iter()
            .filter(|e| Some(&e.client) == wanted.as_ref());
        let fitting: Vec<_> = fitting.collect();
        if let (Some(kind), true) = (kind, fitting.is_empty()) {
            let mut known = known;
            known.dedup();
            bail!("no string is made for `{kind}`; for: {}", known.join(", "));
        }
        list.extend(fitting);
    }
    print(format, &list, |list| {
        columns(
            ["WORKLOAD", "PURPOSE", "LEADS TO", "STRING"],
            list.iter().map(|e| {
                let reaches = match e.reaches.as_slice() {
                    [] => "nobody, connections wait".to_string(),
                    some => names(some),
                };
                [
                    e.workload.clone(),
                    e.purpose.clone(),
                    reaches,
                    e.text.clone(),
                ]
            }),
        )
    })?;
    Ok(Ending::Done)
}
