//! Changes that the cluster makes at once, without steps. The status tells what each would do, so that
//! they can be planned and agreed to like all others.

use crate::act::{approved, watch};
use crate::arguments::Consent;
use crate::ending::Ending;
use crate::findings;
use crate::output::{Format, print, remark};
use crate::steps;
use anyhow::{Result, bail};
use karst_api::core::operation::Mode;
use karst_api::core::view::{NodeView, Status};
use karst_api::core::{NodeId, OperationId};
use karst_api::{Client, ModeBody};
use serde::Serialize;
use std::fmt::Write as _;

/// The effect that a change would have.
#[derive(Serialize)]
pub struct Foreseen {
    would: Vec<String>,
    unmet: Option<String>,
}

impl Foreseen {
    fn new(would: impl Into<String>, unmet: Option<String>) -> Self {
        let would = vec![would.into()];
        Self { would, unmet }
    }

    fn text(&self) -> String {
        let mut text = String::from("Plan:\n");
        for would in &self.would {
            let _ = writeln!(text, "  {would}");
        }
        if let Some(why) = &self.unmet {
            let _ = writeln!(text, "  NOT MET: {why}");
        }
        text
    }
}

/// How the command ends where a plan is all that was asked for.
async fn planned(
    client: &Client,
    consent: &Consent,
    format: Format,
    foresee: impl FnOnce(&Status) -> Foreseen,
) -> Result<Option<Ending>> {
    if !consent.plan {
        return Ok(None);
    }
    let foreseen = foresee(&client.status().await?.status);
    print(format, &foreseen, Foreseen::text)?;
    Ok(Some(match foreseen.unmet {
        None => Ending::Done,
        Some(_) => Ending::NotWell,
    }))
}

fn known<'a>(status: &'a Status, node: &str) -> Result<&'a NodeView, String> {
    let found = status.nodes.iter().find(|n| n.node.as_str() == node);
    found.ok_or_else(|| format!("there is no node `{node}`"))
}

/// Takes all authority from a node; typed, since it may cut its power.
pub async fn fence(
    client: &Client,
    node: &str,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let foresee = |status: &Status| fencing(status, node);
    if let Some(ending) = planned(client, consent, format, foresee).await? {
        return Ok(ending);
    }
    if !consent.yes && !approved("node", node)? {
        bail!("nothing was changed: not approved");
    }
    let reply = client.node(node, "fence").await?;
    print(format, &reply, |r| {
        format!("{}\n`karst node readmit {node}` takes it back.", r.text)
    })?;
    Ok(Ending::Done)
}

fn fencing(status: &Status, node: &str) -> Foreseen {
    let found = known(status, node);
    let fenced = found.as_ref().ok().and_then(|n| n.fenced.as_ref());
    let already = fenced.map(|why| format!("{node} is fenced already: {why}"));
    let mut plan = Foreseen::new(
        format!("take all authority from {node}: it holds no primary and no address any more"),
        found.as_ref().err().cloned().or(already),
    );
    let holds = |primary: &Option<NodeId>| primary.as_ref().is_some_and(|p| p.as_str() == node);
    for workload in status.workloads.iter().filter(|w| holds(&w.primary)) {
        let next = format!("have another node take {} over from it", workload.workload);
        plan.would.push(next);
    }
    if found.is_ok_and(|n| n.power.is_some()) {
        plan.would.push(format!("cut the power of {node}"));
    }
    plan
}

pub async fn readmit(
    client: &Client,
    node: &str,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let foresee = |status: &Status| {
        let unmet = match known(status, node) {
            Err(why) => Some(why),
            Ok(found) if found.fenced.is_none() => Some(format!("{node} is not fenced")),
            Ok(_) => None,
        };
        Foreseen::new(
            format!("let {node} hold primaries and addresses again"),
            unmet,
        )
    };
    if let Some(ending) = planned(client, consent, format, foresee).await? {
        return Ok(ending);
    }
    let reply = client.node(node, "readmit").await?;
    print(format, &reply, |r| r.text.clone())?;
    Ok(Ending::Done)
}

/// Which workloads a mode is for.
pub struct Which {
    pub workload: Option<String>,
    pub all: bool,
}

pub async fn mode(
    client: &Client,
    body: &ModeBody,
    which: &Which,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let status = client.status().await?.status;
    let known: Vec<String> = status
        .workloads
        .iter()
        .map(|w| w.workload.to_string())
        .collect();
    let chosen = match (&which.workload, known.as_slice()) {
        (Some(one), _) => vec![one.clone()],
        (None, [_]) => known,
        (None, _) if which.all => known,
        _ => bail!(
            "which workload? name one of {}, or use --all",
            known.join(", ")
        ),
    };
    let foresee = |status: &Status| modes(status, body.mode, &chosen);
    if let Some(ending) = planned(client, consent, format, foresee).await? {
        return Ok(ending);
    }
    if which.all && body.mode != Mode::Act && !consent.yes {
        remark(
            format,
            &format!(
                "No lost primary is replaced by itself from then on: {}.\n",
                chosen.join(", ")
            ),
        );
        if !approved("cluster", &status.cluster)? {
            bail!("nothing was changed: not approved");
        }
    }
    for workload in &chosen {
        let reply = client.set_mode(workload, body).await?;
        print(format, &reply, |r| format!("{workload}: {}", r.text))?;
    }
    Ok(Ending::Done)
}

fn modes(status: &Status, mode: Mode, chosen: &[String]) -> Foreseen {
    let mut would = Vec::new();
    let mut unmet = None;
    for name in chosen {
        let workloads = &mut status.workloads.iter();
        match workloads.find(|w| w.workload.as_str() == name) {
            Some(w) => {
                let (now, then) = (w.mode.word(), mode.word());
                would.push(format!("set the mode of {name} to {then}; it is {now}"));
            }
            None => unmet = Some(format!("there is no workload `{name}`")),
        }
    }
    Foreseen { would, unmet }
}

/// Approves, and shows what follows.
pub async fn approve(
    client: &Client,
    id: OperationId,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let foresee = |status: &Status| {
        let found = status.operations.iter().find(|o| o.id == id && o.waits);
        match found {
            Some(o) => Foreseen::new(
                format!(
                    "let the {} of {} go on: {}",
                    o.what.kind, o.what.workload, o.what.why
                ),
                None,
            ),
            None => Foreseen::new(
                format!("let {id} go on"),
                Some(format!("{id} does not wait for approval")),
            ),
        }
    };
    if let Some(ending) = planned(client, consent, format, foresee).await? {
        return Ok(ending);
    }
    let reply = client.approve(id).await?;
    remark(format, &format!("{id} {}\n", reply.text));
    watch(client, id, format).await
}

pub async fn end(
    client: &Client,
    id: OperationId,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let foresee = |status: &Status| ending(status, &[id]);
    if let Some(ending) = planned(client, consent, format, foresee).await? {
        return Ok(ending);
    }
    let reply = client.end(id).await?;
    print(format, &reply, |r| r.text.clone())?;
    Ok(Ending::Done)
}

fn ending(status: &Status, ids: &[OperationId]) -> Foreseen {
    let (mut would, mut unmet) = (Vec::new(), None);
    for id in ids {
        match status.intents.iter().find(|intent| intent.id == *id) {
            Some(intent) => would.push(format!("end {id}: {}", intent.title)),
            None => {
                unmet = Some(format!(
                    "{id} is nothing that is under way and can be ended"
                ))
            }
        }
    }
    Foreseen { would, unmet }
}

/// Ends what these nodes rest for.
pub async fn end_all(
    client: &Client,
    ids: Vec<OperationId>,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let foresee = |status: &Status| ending(status, &ids);
    if let Some(ending) = planned(client, consent, format, foresee).await? {
        return Ok(ending);
    }
    let mut ending = Ending::Done;
    for id in ids {
        let reply = client.end(id).await?;
        remark(format, &format!("{}\n", reply.text));
        ending = watch(client, id, format).await?;
    }
    Ok(ending)
}

pub async fn hand_over(
    client: &Client,
    to: Option<String>,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let foresee = |status: &Status| handing_over(status, to.as_deref());
    if let Some(ending) = planned(client, consent, format, foresee).await? {
        return Ok(ending);
    }
    let reply = client.hand_over(to.map(Into::into)).await?;
    print(format, &reply, |r| r.text.clone())?;
    Ok(Ending::Done)
}

fn handing_over(status: &Status, to: Option<&str>) -> Foreseen {
    let Some(now) = &status.coordinator else {
        let unmet = Some("no node coordinates".into());
        return Foreseen::new("have another node coordinate", unmet);
    };
    let unmet = to.and_then(|to| match known(status, to) {
        Err(why) => Some(why),
        Ok(_) if now.as_str() == to => Some(format!("{to} coordinates already")),
        Ok(node) if node.votes == 0 => Some(format!("{to} has no vote")),
        Ok(_) => None,
    });
    let to = to.unwrap_or("another node with a vote");
    Foreseen::new(format!("have {to} coordinate in place of {now}"), unmet)
}

pub async fn acknowledge(
    client: &Client,
    finding: &str,
    note: Option<String>,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let foresee = |status: &Status| knowing(status, finding, "show it last, as known by name:");
    if let Some(ending) = planned(client, consent, format, foresee).await? {
        return Ok(ending);
    }
    findings::acknowledge(client, finding, note, format).await
}

pub async fn forget(
    client: &Client,
    finding: &str,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let foresee = |status: &Status| knowing(status, finding, "show it among the first again:");
    if let Some(ending) = planned(client, consent, format, foresee).await? {
        return Ok(ending);
    }
    findings::forget(client, finding, format).await
}

fn knowing(status: &Status, finding: &str, would: &str) -> Foreseen {
    let found = status.findings.iter().find(|f| f.name == finding);
    let text = found.map_or(finding, |f| f.finding.what.as_str());
    let unmet = || format!("there is no finding `{finding}` now");
    Foreseen::new(format!("{would} {text}"), found.is_none().then(unmet))
}

/// Where one of the site's steps is tried, and with what.
pub struct Trial {
    pub step: String,
    pub on: Option<String>,
    pub workload: Option<String>,
}

pub async fn try_step(
    client: &Client,
    trial: Trial,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    if consent.plan {
        let all = client.steps().await?;
        let found = all.iter().find(|step| step.name == trial.step);
        let on = trial.on.as_deref().unwrap_or("the node that answers");
        let foreseen = match found {
            Some(step) => Foreseen::new(format!("run {} on {on}", step.program), None),
            None => Foreseen::new(
                format!("run the step {} on {on}", trial.step),
                Some(format!("the spec has no step `{}`", trial.step)),
            ),
        };
        print(format, &foreseen, Foreseen::text)?;
        return Ok(match foreseen.unmet {
            None => Ending::Done,
            Some(_) => Ending::NotWell,
        });
    }
    let Trial { step, on, workload } = trial;
    steps::try_one(client, &step, on.as_deref(), workload, format).await
}
