//! Another revision of the spec, planned, submitted and waited for.

use super::LIMIT;
use anyhow::{Context, Result, bail, ensure};
use karst_api::core::OperationId;
use karst_api::core::operation::Outcome;
use karst_api::core::request::IntentPlan;
use karst_api::{SpecBody, StatusReply};
use karst_lab::Lab;
use karst_lab::cluster::is_well;
use toml_edit::DocumentMut;

/// An edit of the spec in force.
pub type Edit<'a> = &'a dyn Fn(&mut DocumentMut);

pub async fn edited(lab: &Lab, edit: Edit<'_>) -> Result<(SpecBody, u64)> {
    let now = lab.client.spec().await?;
    let mut document: DocumentMut = now.text.parse()?;
    edit(&mut document);
    let body = SpecBody {
        text: document.to_string(),
        ..SpecBody::default()
    };
    Ok((body, now.revision))
}

/// Plans it, submits the plan that was seen, and waits until it is done.
pub async fn change(lab: &Lab, edit: Edit<'_>) -> Result<IntentPlan> {
    let (body, based_on) = edited(lab, edit).await?;
    let plan = lab.client.spec_plan(&body).await?;
    ensure!(plan.unmet.is_empty(), "{:?}", plan.unmet);
    let body = SpecBody {
        seen: Some(plan.seen.clone()),
        ..body
    };
    let started = lab.client.submit(&body, based_on).await?;
    done(lab, started.operation).await?;
    ensure!(
        lab.client.spec().await?.revision == based_on + 1,
        "another revision is in force"
    );
    Ok(plan)
}

pub async fn done(lab: &Lab, id: OperationId) -> Result<()> {
    let over = |r: &StatusReply| r.status.intents_over.iter().any(|over| over.id == id);
    let reply = lab.wait(&format!("{id} is done"), LIMIT, over).await?;
    let over = reply
        .status
        .intents_over
        .into_iter()
        .find(|over| over.id == id);
    match over.context("it is over")?.outcome {
        Outcome::Done => lab.wait("all is well", LIMIT, is_well).await.map(drop),
        other => bail!("{id}: {other:?}"),
    }
}
