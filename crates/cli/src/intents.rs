//! What people want of the cluster as a whole: another spec, nodes that rest, another coordinator.
//! The plan first, then consent, then the steps as they are done.

use crate::act::approved;
use crate::arguments::{Consent, Rest};
use crate::at_once;
use crate::difference;
use crate::ending::Ending;
use crate::output::{Format, at_stake, columns, facts, print, print_next, remark, utc};
use anyhow::{Context, Result, bail};
use karst_api::core::OperationId;
use karst_api::core::operation::Outcome;
use karst_api::core::request::IntentPlan;
use karst_api::core::view::{IntentKind, IntentView, Status, TodoView};
use karst_api::{Client, ClientError, MaintenanceBody, SpecBody, StartedReply, WishBody, specfile};
use std::fmt::Write as _;
use std::path::Path;
use toml_edit::{DocumentMut, Item};

pub fn plan_text(plan: &IntentPlan) -> String {
    let mut text = format!("Plan: {}\n", plan.title);
    for why in &plan.unmet {
        let _ = writeln!(text, "  NOT MET: {why}");
    }
    for (i, step) in plan.steps.iter().enumerate() {
        let so = if step.done { " (is so)" } else { "" };
        let _ = writeln!(text, "  step {}  {}{so}", i + 1, step.text);
    }
    for consequence in &plan.consequences {
        let _ = writeln!(text, "  note    {consequence}");
    }
    if let Some(bytes) = plan.given_up {
        let _ = writeln!(text, "  GIVES UP  {} of log, as of now", at_stake(bytes));
    }
    text
}

/// Whether to go on after a plan was shown.
fn goes_on(plan: &IntentPlan, consent: &Consent, name: (&str, &str)) -> Result<Option<Ending>> {
    if consent.plan {
        let ending = if plan.unmet.is_empty() {
            Ending::Done
        } else {
            Ending::NotWell
        };
        return Ok(Some(ending));
    }
    if !plan.unmet.is_empty() {
        bail!("nothing was changed: {}", plan.unmet.join("; "));
    }
    if !consent.yes && !approved(name.0, name.1)? {
        bail!("nothing was changed: not approved");
    }
    Ok(None)
}

fn read(file: &Path) -> Result<String> {
    let text = std::fs::read_to_string(file).with_context(|| format!("spec {}", file.display()))?;
    let found = specfile::read(&text);
    let errors: Vec<String> = found
        .errors()
        .map(|e| format!("{}:{e}", file.display()))
        .collect();
    if found.spec.is_none() {
        bail!(
            "nothing was changed: the spec is refused:\n{}",
            errors.join("\n")
        );
    }
    Ok(text)
}

/// In which lines a file differs from a revision, and what it would take to have it in force.
pub async fn diff(
    client: &Client,
    file: &Path,
    from: Option<u64>,
    format: Format,
) -> Result<Ending> {
    let text = read(file)?;
    let old = match from {
        Some(number) => client.revision(number).await?.text,
        None => client.spec().await?.text,
    };
    let different = difference::lines(&old, &text);
    if different.is_empty() {
        remark(format, "nothing is different\n");
        return Ok(Ending::Done);
    }
    let body = SpecBody {
        text,
        ..SpecBody::default()
    };
    let plan = client.spec_plan(&body).await?;
    print(format, &plan, |plan| {
        format!("{different}\n{}", plan_text(plan))
    })?;
    Ok(Ending::Done)
}

pub async fn submit(
    client: &Client,
    text: String,
    why: Option<String>,
    consent: &Consent,
    typed: (&str, &str),
    format: Format,
) -> Result<Ending> {
    match begun(client, text, why, consent, typed, format).await? {
        Begun::Not(ending) => Ok(ending),
        Begun::As(id) => watch(client, id, format).await,
    }
}

/// What came of a request: it has begun, or there was nothing to begin.
pub enum Begun {
    Not(Ending),
    As(OperationId),
}

/// Shows the plan, asks, and has it begun.
pub async fn begun(
    client: &Client,
    text: String,
    why: Option<String>,
    consent: &Consent,
    typed: (&str, &str),
    format: Format,
) -> Result<Begun> {
    let now = client.spec().await?;
    if format == Format::Table {
        remark(format, &difference::lines(&now.text, &text));
    }
    let body = SpecBody {
        text,
        why,
        seen: None,
    };
    let plan = client.spec_plan(&body).await?;
    print(format, &plan, plan_text)?;
    if let Some(ending) = goes_on(&plan, consent, typed)? {
        return Ok(Begun::Not(ending));
    }
    let body = SpecBody {
        seen: Some(plan.seen),
        ..body
    };
    let started = client.submit(&body, now.revision).await?;
    said(format, started.operation);
    Ok(Begun::As(started.operation))
}

fn said(format: Format, id: OperationId) {
    let text =
        format!("{id} has begun; it goes on if this client ends (karst operation watch {id})\n");
    remark(format, &text);
}

pub async fn submit_file(
    client: &Client,
    file: &Path,
    why: Option<String>,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let text = read(file)?;
    let cluster = client.myself().await?.cluster;
    submit(client, text, why, consent, ("cluster", &cluster), format).await
}

/// Back to what was in force then.
pub async fn revert(
    client: &Client,
    number: u64,
    why: Option<String>,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let text = client.revision(number).await?.text;
    let cluster = client.myself().await?.cluster;
    let why = why.or_else(|| Some(format!("back to revision {number}")));
    submit(client, text, why, consent, ("cluster", &cluster), format).await
}

pub async fn log(client: &Client, format: Format) -> Result<Ending> {
    let all = client.revisions().await?;
    print(format, &all, |all| {
        columns(
            ["REVISION", "IN FORCE", "BY", "AT", "WHY"],
            all.iter().map(|revision| {
                let at = match revision.at {
                    0 => "when the cluster was formed".into(),
                    at => utc(at),
                };
                [
                    revision.number.to_string(),
                    if revision.in_force { "yes" } else { "" }.into(),
                    revision.by.clone(),
                    at,
                    revision.why.clone().unwrap_or_default(),
                ]
            }),
        )
    })?;
    Ok(Ending::Done)
}

/// What `karst node remove` and its like take out of the spec's text.
pub enum Removed<'a> {
    Node(&'a str),
    Workload(&'a str),
    Replica(&'a str, &'a str),
}

/// Takes something out of the spec, by its text, which keeps everybody's comments.
pub async fn remove(
    client: &Client,
    what: &Removed<'_>,
    why: Option<String>,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let text = client.spec().await?.text;
    let text = without(&text, what)?;
    let typed = match what {
        Removed::Node(name) => ("node", *name),
        Removed::Workload(name) => ("workload", *name),
        Removed::Replica(_, node) => ("node", *node),
    };
    submit(client, text, why, consent, typed, format).await
}

fn without(text: &str, what: &Removed) -> Result<String> {
    let mut document: DocumentMut = text.parse().context("the spec in force")?;
    let gone = match what {
        Removed::Node(node) => {
            if let Some(workloads) = document
                .get_mut("workload")
                .and_then(Item::as_table_like_mut)
            {
                for (_, workload) in workloads.iter_mut() {
                    for part in ["replica", "gate"] {
                        let part = below(workload, &[part]).and_then(Item::as_table_like_mut);
                        part.map(|part| part.remove(node));
                    }
                    without_reader(workload, node);
                    without_source(workload, node);
                    without_read_gate(workload, node);
                }
            }
            without_in_steps(document.get_mut("step"), "nodes", node);
            let nodes = document.get_mut("node").and_then(Item::as_table_like_mut);
            nodes.and_then(|nodes| nodes.remove(node)).is_some()
        }
        Removed::Workload(name) => {
            without_in_steps(document.get_mut("step"), "workloads", name);
            let all = document
                .get_mut("workload")
                .and_then(Item::as_table_like_mut);
            all.and_then(|all| all.remove(name)).is_some()
        }
        Removed::Replica(name, node) => {
            let all = document.get_mut("workload");
            let mut workload = all.and_then(|all| below(all, &[name]));
            if let Some(workload) = &mut workload {
                without_reader(workload, node);
                without_source(workload, node);
            }
            let replicas = workload.and_then(|w| below(w, &["replica"]));
            let replicas = replicas.and_then(Item::as_table_like_mut);
            replicas.and_then(|r| r.remove(node)).is_some()
        }
    };
    if !gone {
        let what = match what {
            Removed::Node(node) => format!("node `{node}`"),
            Removed::Workload(name) => format!("workload `{name}`"),
            Removed::Replica(name, node) => format!("replica of `{name}` on `{node}`"),
        };
        bail!("nothing was changed: the spec in force has no {what}");
    }
    Ok(document.to_string())
}

/// What is there: an index by itself would make what is not.
fn below<'a>(item: &'a mut Item, path: &[&str]) -> Option<&'a mut Item> {
    let mut at = item;
    for key in path {
        at = at.as_table_like_mut()?.get_mut(key)?;
    }
    Some(at)
}

/// What is said of a node or a workload as one of some that an own step is about; a step that was about
/// nothing else goes as well, since without a list it would be about all.
fn without_in_steps(steps: Option<&mut Item>, list: &str, name: &str) {
    let Some(steps) = steps.and_then(Item::as_table_like_mut) else {
        return;
    };
    let names: Vec<String> = steps.iter().map(|(step, _)| step.to_string()).collect();
    for step in names {
        let of = steps.get_mut(&step).and_then(|step| below(step, &[list]));
        let Some(of) = of.and_then(Item::as_array_mut) else {
            continue;
        };
        let before = of.len();
        of.retain(|of| of.as_str() != Some(name));
        if of.is_empty() && before > 0 {
            steps.remove(&step);
        }
    }
}

/// What is said of a replica as one for readers.
fn without_reader(workload: &mut Item, node: &str) {
    let except = below(workload, &["reads", "except"]);
    if let Some(except) = except.and_then(Item::as_array_mut) {
        except.retain(|name| name.as_str() != Some(node));
    }
}

/// Others are copied from somebody else from then on.
fn without_source(workload: &mut Item, node: &str) {
    let replicas = below(workload, &["replica"]).and_then(Item::as_table_like_mut);
    for (_, replica) in replicas.into_iter().flat_map(|all| all.iter_mut()) {
        let names_it = replica.get("copy_from").and_then(Item::as_str) == Some(node);
        if let (true, Some(replica)) = (names_it, replica.as_table_like_mut()) {
            replica.remove("copy_from");
        }
    }
}

/// With its last gate the readers have none, and go as others do.
fn without_read_gate(workload: &mut Item, node: &str) {
    let reads = below(workload, &["reads", "gate"]);
    let Some(gates) = reads.and_then(Item::as_table_like_mut) else {
        return;
    };
    gates.remove(node);
    if let (true, Some(workload)) = (gates.is_empty(), workload.as_table_like_mut()) {
        workload.remove("reads");
    }
}

/// Nodes are to hold nothing for a while.
pub async fn rest(client: &Client, rest: &Rest, format: Format) -> Result<Ending> {
    let body = MaintenanceBody {
        nodes: rest.nodes.iter().map(|n| n.as_str().into()).collect(),
        zone: rest.zone.clone(),
        back: rest.back,
        bare: rest.bare.iter().map(|w| w.as_str().into()).collect(),
        cut_off: rest.cut_off.iter().map(|w| w.as_str().into()).collect(),
        for_seconds: rest.time.map(|time| time.as_secs()),
        why: rest.why.clone(),
        seen: None,
        plan_only: true,
    };
    let plan = client.maintenance_plan(&body).await?;
    print(format, &plan, plan_text)?;
    let name = rest.nodes.first().or(rest.zone.as_ref());
    let typed = name.map(String::as_str).unwrap_or_default();
    let kind = if rest.nodes.is_empty() {
        "zone"
    } else {
        "node"
    };
    let begin = async |seen| {
        let body = MaintenanceBody {
            seen: Some(seen),
            plan_only: false,
            ..body
        };
        client.maintenance(&body).await
    };
    after_plan(client, plan, &rest.consent, (kind, typed), format, begin).await
}

/// The servers of a workload are to be restarted, one after the other.
pub async fn restart(
    client: &Client,
    workload: &str,
    why: Option<String>,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let plan = async |body: &WishBody| client.restart_plan(workload, body).await;
    let begin = async |body: &WishBody| client.restart(workload, body).await;
    let typed = ("workload", workload);
    wished(client, (why, consent), typed, format, plan, begin).await
}

/// A node's new store takes the place of the one that was lost.
pub async fn enrol(
    client: &Client,
    node: &str,
    why: Option<String>,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let plan = async |body: &WishBody| client.enrol_plan(node, body).await;
    let begin = async |body: &WishBody| client.enrol(node, body).await;
    wished(client, (why, consent), ("node", node), format, plan, begin).await
}

/// What is wanted in one word: its plan, consent, and how it goes.
pub async fn wished(
    client: &Client,
    (why, consent): (Option<String>, &Consent),
    typed: (&str, &str),
    format: Format,
    plan: impl AsyncFnOnce(&WishBody) -> Result<IntentPlan, ClientError>,
    begin: impl AsyncFnOnce(&WishBody) -> Result<StartedReply, ClientError>,
) -> Result<Ending> {
    let asked = |seen: Option<String>| WishBody {
        why: why.clone(),
        plan_only: seen.is_none(),
        seen,
    };
    let shown = plan(&asked(None)).await?;
    print(format, &shown, plan_text)?;
    let begin = async |seen| begin(&asked(Some(seen))).await;
    after_plan(client, shown, consent, typed, format, begin).await
}

/// Asks, has it begun with what was seen, and shows how it goes.
pub async fn after_plan(
    client: &Client,
    plan: IntentPlan,
    consent: &Consent,
    typed: (&str, &str),
    format: Format,
    begin: impl AsyncFnOnce(String) -> Result<StartedReply, ClientError>,
) -> Result<Ending> {
    if let Some(ending) = goes_on(&plan, consent, typed)? {
        return Ok(ending);
    }
    let started = begin(plan.seen).await?;
    said(format, started.operation);
    watch(client, started.operation, format).await
}

/// Ends what these nodes, or a zone's, rest for.
pub async fn end_rest(client: &Client, rest: &Rest, format: Format) -> Result<Ending> {
    let status = client.status().await?.status;
    let zone: Vec<String> = match &rest.zone {
        Some(zone) => {
            let inside = status.nodes.iter().filter(|n| n.zone == *zone);
            inside.map(|n| n.node.to_string()).collect()
        }
        None => Vec::new(),
    };
    let wanted = |name: &str| rest.nodes.iter().chain(&zone).any(|n| n == name);
    let rests = |intent: &&IntentView| {
        !intent.turned
            && intent.kind == IntentKind::Maintenance
            && intent.nodes.iter().any(|node| wanted(node.as_str()))
    };
    let ids: Vec<OperationId> = status.intents.iter().filter(rests).map(|i| i.id).collect();
    if ids.is_empty() {
        bail!("nothing was changed: nobody of these is in maintenance");
    }
    at_once::end_all(client, ids, &rest.consent, format).await
}

fn outcome(status: &Status, id: OperationId) -> Option<Outcome> {
    let over = status.intents_over.iter().find(|over| over.id == id)?;
    Some(over.outcome.clone())
}

/// Whether such an operation is somebody's wish of the cluster as a whole.
pub fn is_intent(status: &Status, id: OperationId) -> bool {
    status.intents.iter().any(|intent| intent.id == id) || outcome(status, id).is_some()
}

/// Prints each step when it is done and each thing that is waited for, until all is done; a
/// maintenance is left when everything has left those nodes, and a safety point when its standby
/// stands there.
pub async fn watch(client: &Client, id: OperationId, format: Format) -> Result<Ending> {
    let mut shown: Vec<String> = Vec::new();
    let (mut result, mut printed, mut rests) = (None, Ok(()), None);
    while result.is_none() && rests.is_none() {
        let watched = client.watch(|reply| {
            let status = &reply.status;
            result = outcome(status, id);
            let intent = status.intents.iter().find(|intent| intent.id == id);
            let done = intent.into_iter().flat_map(|intent| &intent.steps);
            for step in done.filter(|step| step.done || step.waits.is_some()) {
                let line = line_of(step);
                if !shown.contains(&line) && printed.is_ok() {
                    printed = print_next(format, step, |_| format!("{line}\n"));
                    shown.push(line);
                }
            }
            rests = intent.filter(|i| i.empty).map(ends_by);
            result.is_some() || rests.is_some() || printed.is_err()
        });
        let ended = watched.await;
        std::mem::replace(&mut printed, Ok(()))?;
        if let Err(error) = ended
            && client.status().await.is_err()
        {
            return Err(error.into());
        }
    }
    if let Some(ends_by) = rests {
        remark(format, &format!("`{ends_by}` ends it\n"));
        return Ok(Ending::Done);
    }
    match result {
        Some(Outcome::Undone(why)) => bail!("{id} is over: {why}"),
        Some(Outcome::Diverted(why)) => {
            remark(format, &format!("{id} finished otherwise: {why}\n"));
            Ok(Ending::NotWell)
        }
        _ => {
            remark(format, &format!("{id} is done\n"));
            Ok(Ending::Done)
        }
    }
}

/// The command that ends what lasts.
fn ends_by(intent: &IntentView) -> String {
    match (intent.kind, &intent.workload) {
        (IntentKind::SafetyPoint, Some(workload)) => format!("karst safety-point drop {workload}"),
        _ => {
            let names: Vec<&str> = intent.nodes.iter().map(|node| node.as_str()).collect();
            format!("karst node maintenance {} --end", names.join(" "))
        }
    }
}

fn line_of(step: &TodoView) -> String {
    match &step.waits {
        Some(why) if !step.done => format!("  waits  {}: {why}", step.text),
        _ => format!("  done   {}", step.text),
    }
}

/// What it is, and what it is at.
pub fn brief(intent: &IntentView) -> String {
    let open = intent.steps.iter().find(|step| !step.done);
    let at = open.map_or("all steps are done".into(), |step| {
        step_text(step).trim().to_string()
    });
    format!("{} {}, by {}: {at}", intent.id, intent.title, intent.by)
}

pub fn show(intent: &IntentView) -> String {
    let mut rows = vec![("by", intent.by.to_string()), ("since", utc(intent.at))];
    rows.extend(intent.why.iter().map(|why| ("why", why.clone())));
    rows.extend(intent.until.iter().map(|until| ("until", utc(*until))));
    let steps: Vec<String> = intent.steps.iter().map(step_text).collect();
    format!(
        "{} {}\n{}\n{}",
        intent.id,
        intent.title,
        facts(&rows),
        steps.join("\n")
    )
}

fn step_text(step: &TodoView) -> String {
    match (step.done, &step.waits) {
        (true, _) => format!("  done   {}", step.text),
        (false, Some(why)) => format!("  waits  {}: {why}", step.text),
        (false, None) => format!("  to do  {}", step.text),
    }
}

#[cfg(test)]
mod tests {
    use super::{Removed, without};

    /// Everything of it goes, and everybody's comments stay.
    #[test]
    fn what_is_taken_out_leaves_the_rest_as_it_was_written() {
        let text = "cluster = \"skerry\" # ours\n[node.doline]\nzone = \"a\"\n[node.polje]\nzone = \"b\"\n\
                    [workload.sailings]\ndriver = \"lines\"\n[workload.sailings.replica.doline]\ndata = \"/d\"\n\
                    copy_from = \"polje\"\n\
                    [workload.sailings.replica.polje]\ndata = \"/d\"\n[workload.sailings.gate]\npolje = \"x\"\n\
                    [workload.sailings.reads]\nexcept = [\"polje\"]\n[workload.sailings.reads.gate]\npolje = \"y\"\n";
        let less = without(text, &Removed::Node("polje")).unwrap();
        assert!(!less.contains("polje") && less.contains("# ours"), "{less}");
        assert!(
            !less.contains("reads"),
            "nobody reads without a gate: {less}"
        );
        let less = without(text, &Removed::Replica("sailings", "polje")).unwrap();
        assert!(
            less.contains("[node.polje]") && !less.contains("replica.polje"),
            "{less}"
        );
        assert!(less.contains("except = []"), "{less}");
        let less = without(text, &Removed::Workload("sailings")).unwrap();
        assert!(!less.contains("sailings"), "{less}");
        // What it is not said of stays as it is, to the letter.
        let other = "[node.doline]\n[workload.fares]\ndriver = \"lines\"\n";
        let plain = format!("[node.polje]\n{other}");
        assert_eq!(without(&plain, &Removed::Node("polje")).unwrap(), other);
        let steps =
            "[step.a]\nnodes = [\"polje\"]\n[step.b]\nnodes = [\"doline\", \"polje\"]\n[step.c]\n";
        let less = without(&format!("{plain}{steps}"), &Removed::Node("polje")).unwrap();
        assert!(
            !less.contains("[step.a]") && less.contains("[step.c]"),
            "{less}"
        );
        assert!(less.contains("nodes = [\"doline\"]"), "{less}");
        let wrong = without(text, &Removed::Replica("fares", "polje")).unwrap_err();
        assert!(
            wrong
                .to_string()
                .contains("no replica of `fares` on `polje`"),
            "{wrong}"
        );
    }
}
