//! What changes something: the plan first, then consent, then the steps as they happen. Ending the
//! client ends nothing else.

use crate::arguments::Consent;
use crate::ending::Ending;
use crate::intents;
use crate::output::{Format, at_stake, print, print_next, remark, span};
use anyhow::{Result, bail};
use karst_api::core::OperationId;
use karst_api::core::operation::Outcome;
use karst_api::core::progress::Step;
use karst_api::core::request::{Plan, PowerWish};
use karst_api::{Client, MoveBody};
use std::fmt::Write as _;
use std::io::{BufRead, IsTerminal};
use std::time::Duration;

pub async fn change(
    client: &Client,
    what: &str,
    workload: &str,
    body: MoveBody,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let plan = client.plan(workload, what, &body).await?;
    print(format, &plan, text_of)?;
    if consent.plan {
        return Ok(if plan.unmet().is_none() {
            Ending::Done
        } else {
            Ending::NotWell
        });
    }
    if let Some(why) = plan.unmet() {
        bail!("nothing was changed: {why}");
    }
    if !consent.yes && !approved("workload", workload)? {
        bail!("nothing was changed: not approved");
    }
    // What was approved is what is done: the target is named even if it was chosen for the caller.
    let body = MoveBody {
        to: plan.to.clone(),
        ..body
    };
    let started = client.begin(workload, what, &body).await?;
    remark(
        format,
        &format!(
            "{0} has begun; it goes on if this client ends (karst operation watch {0})\n",
            started.operation
        ),
    );
    watch(client, started.operation, format).await
}

fn text_of(plan: &Plan) -> String {
    let name = |n: &Option<karst_api::core::NodeId>| {
        n.as_ref().map_or("?".to_string(), ToString::to_string)
    };
    let mut text = format!(
        "Plan: {} of {} from {} to {}\n",
        plan.kind,
        plan.workload,
        name(&plan.from),
        name(&plan.to)
    );
    for p in &plan.preconditions {
        let verdict = p
            .unmet
            .as_ref()
            .map_or("met".to_string(), |why| format!("NOT MET: {why}"));
        let _ = writeln!(text, "  needs   {}: {verdict}", p.text);
    }
    for (i, step) in plan.steps.iter().enumerate() {
        let _ = writeln!(text, "  step {}  {step}", i + 1);
    }
    let pause = |ms| span(Duration::from_millis(ms));
    let (usual, most) = (pause(plan.pause.usual_ms), pause(plan.pause.longest_ms));
    let _ = writeln!(
        text,
        "  writes pause for about {usual}, {most} at most; data at risk: {}",
        at_stake(plan.data_at_risk)
    );
    for c in plan.candidates.iter().filter(|c| c.excluded.is_some()) {
        let _ = writeln!(
            text,
            "  {} may not take over: {}",
            c.node,
            c.excluded.as_deref().unwrap_or_default()
        );
    }
    text
}

/// Turns a host on or off, after its plan.
pub async fn power(
    client: &Client,
    node: &str,
    what: PowerWish,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let plan = client.power_plan(node, what).await?;
    print(format, &plan, |plan| {
        let mut text = format!("Plan: power {} of {node}\n", what.word());
        if let Some(why) = &plan.unmet {
            let _ = writeln!(text, "  NOT MET: {why}");
        }
        for (i, step) in plan.steps.iter().enumerate() {
            let _ = writeln!(text, "  step {}  {step}", i + 1);
        }
        text
    })?;
    if consent.plan {
        return Ok(if plan.unmet.is_none() {
            Ending::Done
        } else {
            Ending::NotWell
        });
    }
    if let Some(why) = plan.unmet {
        bail!("nothing was changed: {why}");
    }
    if !consent.yes && !approved("node", node)? {
        bail!("nothing was changed: not approved");
    }
    let reply = client.power(node, what).await?;
    print(format, &reply, |r| {
        format!(
            "{}\n`karst node show {node}` says what its device reads.",
            r.text
        )
    })?;
    Ok(Ending::Done)
}

pub fn approved(what: &str, name: &str) -> Result<bool> {
    if !std::io::stdin().is_terminal() {
        bail!("nothing was changed: there is no terminal to ask; use --yes");
    }
    eprint!("Type the {what}'s name to approve: ");
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer)?;
    Ok(answer.trim() == name)
}

/// Prints the steps of an operation as they happen, until it ends; for programs a line or document
/// for each.
pub async fn watch(client: &Client, id: OperationId, format: Format) -> Result<Ending> {
    if intents::is_intent(&client.status().await?.status, id) {
        return intents::watch(client, id, format).await;
    }
    let mut shown = 0;
    let (mut result, mut printed) = (None, Ok(()));
    while result.is_none() {
        // A stream may end with its server; another server goes on where it was.
        let watched = client.watch(|reply| {
            let Some(operation) = reply.status.operations.iter().find(|o| o.id == id) else {
                return false;
            };
            let begin = operation.steps.first().map(|s| s.at).unwrap_or_default();
            for step in operation.steps.iter().skip(shown) {
                let ms = step.at.since(begin).as_millis();
                let line = |step: &Step| format!("  {ms:>7} ms  {}\n", step.text);
                if printed.is_ok() {
                    printed = print_next(format, step, line);
                }
            }
            shown = shown.max(operation.steps.len());
            if let Some(outcome) = &operation.outcome {
                result = Some(outcome.clone());
            }
            result.is_some() || printed.is_err()
        });
        let ended = watched.await;
        std::mem::replace(&mut printed, Ok(()))?;
        if let Err(error) = ended
            && client.status().await.is_err()
        {
            return Err(error.into());
        }
    }
    match result {
        Some(Outcome::Undone(why)) => bail!("{id} was not carried out: {why}"),
        Some(Outcome::Diverted(why)) => {
            remark(format, &format!("{id} finished otherwise: {why}\n"));
            Ok(Ending::NotWell)
        }
        _ => Ok(Ending::Done),
    }
}
