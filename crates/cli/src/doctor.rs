//! What this host needs to be a node. The daemon's own program looks: it knows what it will ask of
//! the host, and this shows what it says.

use crate::arguments::Doctor;
use crate::ending::Ending;
use crate::output::{Format, loud, print};
use anyhow::{Context, Result, bail};
use karst_api::{Client, HostNeed, Met};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::Command;

pub fn run(doctor: &Doctor, format: Format) -> Result<Ending> {
    let program = daemon();
    let mut command = Command::new(&program);
    command.arg("examine").arg("--spec").arg(&doctor.spec);
    if let Some(node) = &doctor.node {
        command.args(["--node", node]);
    }
    let output = command
        .args(&doctor.rest)
        .output()
        .with_context(|| format!("{} does not start", program.display()))?;
    if !output.status.success() {
        let said = String::from_utf8_lossy(&output.stderr);
        bail!("{}", said.trim().trim_start_matches("Error: "));
    }
    let needs: Vec<HostNeed> = serde_json::from_slice(&output.stdout)
        .with_context(|| format!("what {} says", program.display()))?;
    print(format, &needs, |needs| needs.iter().map(text).collect())?;
    let all = needs.iter().all(|need| need.met != Met::No);
    Ok(if all { Ending::Done } else { Ending::NotWell })
}

/// Every node looks at its own host and at the ways to the others; what is met is only counted.
pub async fn check(client: &Client, format: Format) -> Result<Ending> {
    let nodes = client.status().await?.status.nodes;
    let mut found = BTreeMap::new();
    for node in nodes {
        let needs = match &node.console {
            None => Err("its spec gives it no address for people".to_string()),
            Some(url) => match client.at(url) {
                Ok(client) => client.examination().await.map_err(|e| e.to_string()),
                Err(error) => Err(error.to_string()),
            },
        };
        let needs = needs.unwrap_or_else(|why| {
            vec![HostNeed {
                what: "an answer of its daemon".into(),
                met: Met::No,
                why: Some(why),
                remedy: Some("run `karst doctor` on that host".into()),
            }]
        });
        found.insert(node.node, needs);
    }
    print(format, &found, |found| {
        let mut text = String::new();
        for (node, needs) in found {
            let open: Vec<&HostNeed> = needs.iter().filter(|n| n.met != Met::Yes).collect();
            let met = needs.len() - open.len();
            text += &format!("{node}: {met} of {} met\n", needs.len());
            text.extend(open.into_iter().map(self::text));
        }
        text
    })?;
    let all = found.values().flatten().all(|need| need.met != Met::No);
    Ok(if all { Ending::Done } else { Ending::NotWell })
}

/// Beside this program, as they are installed together; else on the path.
fn daemon() -> PathBuf {
    let beside = std::env::current_exe().ok();
    let beside = beside.and_then(|me| Some(me.parent()?.join("karstd")));
    beside
        .filter(|path| path.exists())
        .unwrap_or("karstd".into())
}

fn text(need: &HostNeed) -> String {
    let word = match need.met {
        Met::Yes => "met    ".to_string(),
        Met::No => loud("NOT MET"),
        Met::Better => "better ".into(),
    };
    let why = need
        .why
        .as_deref()
        .map_or(String::new(), |why| format!(": {why}"));
    let remedy = need.remedy.as_deref();
    let remedy = remedy.map_or(String::new(), |remedy| format!("\n           {remedy}"));
    format!("  {word}  {}{why}{remedy}\n", need.what)
}
