//! What happened, and what happens.

use crate::arguments::{Asked, Past};
use crate::ending::Ending;
use crate::output::{Format, print, print_next, say};
use anyhow::Result;
use karst_api::{Client, Record};
use std::collections::{BTreeSet, VecDeque};
use std::time::Duration;

/// How often it is asked what has come since.
const FOLLOW: Duration = Duration::from_millis(500);

impl Past {
    /// As the HTTP interface has it, without the limit.
    fn query(&self) -> String {
        let level = self.level.map(|level| level.word().to_string());
        let audit = match self.audit {
            Asked::With => None,
            Asked::Without => Some("without".to_string()),
            Asked::Only => Some("only".to_string()),
        };
        let pairs = [
            ("workload", self.workload.clone()),
            ("operation", self.operation.map(|id| id.0.to_string())),
            ("node", self.recorded_by.clone()),
            (
                "kind",
                (!self.kinds.is_empty()).then(|| self.kinds.join(",")),
            ),
            ("level", level),
            ("audit", audit),
            ("after", self.after.clone()),
            ("before", self.before.clone()),
        ];
        let pair =
            |(key, value): (&str, Option<String>)| Some(format!("&{key}={}", escaped(&value?)));
        pairs.into_iter().filter_map(pair).collect()
    }
}

/// Percent-encoded (RFC 3986, section 2.1).
fn escaped(text: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~,:".contains(&byte);
    let one = |byte: u8| match plain(byte) {
        true => char::from(byte).to_string(),
        false => format!("%{byte:02X}"),
    };
    text.bytes().map(one).collect()
}

pub async fn show(client: &Client, past: &Past, format: Format) -> Result<Ending> {
    let query = past.query();
    if let Some(form) = past.export {
        say(&client.export(form.word(), &query).await?);
        return Ok(Ending::Done);
    }
    let mut reply = client
        .history(&format!("limit={}{query}", past.limit))
        .await?;
    if reply.own_only {
        eprintln!("history store not reachable: these are the asked node's own waiting events");
    }
    let mut shown = Shown::default();
    for record in &reply.records {
        shown.is_new(record);
    }
    if past.newest_first {
        reply.records.reverse();
    }
    if !past.follow {
        print(format, &reply.records, |r| r.iter().map(line).collect())?;
        return Ok(Ending::Done);
    }
    for record in &reply.records {
        print_next(format, record, line)?;
    }
    follow(client, &query, reply.latest, shown, format).await
}

async fn follow(
    client: &Client,
    query: &str,
    mut latest: Option<String>,
    mut shown: Shown,
    format: Format,
) -> Result<Ending> {
    loop {
        tokio::time::sleep(FOLLOW).await;
        let since = latest.as_ref().map_or(String::new(), |at| {
            format!("&arrived_after={}", escaped(at))
        });
        // Whoever follows wants all that has come, however much.
        let Ok(reply) = client.history(&format!("limit=10000{query}{since}")).await else {
            continue;
        };
        latest = reply.latest.or(latest);
        for record in reply.records.iter().filter(|r| shown.is_new(r)) {
            print_next(format, record, line)?;
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
