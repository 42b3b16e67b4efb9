//! The site's own steps: what the spec has, and one of them run by hand here.

use super::problem::{Body, Refusal};
use super::service::Service;
use crate::tokens::User;
use actix_web::{HttpResponse, web};
use karst_api::{ProblemType, StepView, TriedReply, TryBody};
use karst_core::WorkloadId;
use karst_core::author::Level;
use karst_core::ownstep::{Occasion, OwnStep};

#[utoipa::path(get, path = "/api/v1/steps", responses((status = 200, body = Vec<StepView>)))]
pub async fn list(service: web::Data<Service>, _user: User) -> HttpResponse {
    let spec = service.spec();
    let view = |(name, step): (&String, &OwnStep)| StepView {
        name: name.clone(),
        at: step.at,
        program: step.program.clone(),
        args: step.args.clone(),
        user: step.user.clone(),
        limit_ms: step.limit.as_millis() as u64,
        if_fails: step.if_fails,
        workloads: step.workloads.iter().cloned().collect(),
        nodes: step.nodes.iter().cloned().collect(),
    };
    HttpResponse::Ok().json(spec.steps.iter().map(view).collect::<Vec<_>>())
}

/// Runs it on the asked node, whatever point it is for; it is told that it is tried.
#[utoipa::path(post, path = "/api/v1/steps/{step}/try", params(("step" = String, Path)), request_body = TryBody,
    responses((status = 200, body = TriedReply)))]
pub async fn try_one(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
    body: Body<TryBody>,
) -> Result<HttpResponse, Refusal> {
    user.needs(Level::Administer)?;
    let (name, spec) = (path.into_inner(), service.spec());
    let Some(step) = spec.steps.get(&name) else {
        let what = format!("there is no step `{name}` in the spec in force");
        return Err(Refusal::new(ProblemType::NotFound, what));
    };
    let workload = body.0.workload.map(WorkloadId::from);
    if let Some(id) = workload
        .as_ref()
        .filter(|id| !spec.workloads.contains_key(*id))
    {
        let what = format!("there is no workload `{id}` in the spec in force");
        return Err(Refusal::new(ProblemType::NotFound, what));
    }
    // What it would be told of, where it is about one workload alone.
    let only = || {
        step.workloads
            .iter()
            .chain(spec.workloads.keys())
            .next()
            .cloned()
    };
    let workload = workload.or_else(only).filter(|_| step.at.is_of_workload());
    let occasion = Occasion::of(step.at, workload, service.me.clone());
    let ran = service.steps.run(&name, step, &occasion, true).await;
    let told = service.steps.told(&name, &occasion, true).into_iter();
    Ok(HttpResponse::Ok().json(TriedReply {
        node: service.me.clone(),
        step: name.clone(),
        well: ran.ended.is_well(),
        why: (!ran.ended.is_well()).then(|| ran.ended.to_string()),
        took_ms: ran.took.as_millis() as u64,
        output: ran.output,
        told: told
            .map(|(name, value)| (name.to_string(), value))
            .collect(),
    }))
}
