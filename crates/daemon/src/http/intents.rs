//! What people want of the cluster as a whole: the spec and its revisions, maintenance, who
//! coordinates.

use super::api::change;
use super::problem::{Body, Refusal};
use super::service::Service;
use crate::judge::Case;
use crate::tokens::User;
use actix_web::http::header::{ETAG, IF_MATCH};
use actix_web::{HttpRequest, HttpResponse, web};
use karst_api::{
    ChangedReply, HandOverBody, MaintenanceBody, PastRevision, ProblemType, RevisionReply,
    SafetyPointBody, SpecBody, SpecReply, StartedReply, WishBody,
};
use karst_core::author::Level;
use karst_core::request::{IntentPlan, LONGEST_NOTE, Plea, Request};
use karst_core::spec::check;
use karst_core::{NodeId, OperationId, outage};
use sha2::{Digest, Sha256};
use std::collections::BTreeSet;
use std::time::Duration;

/// Seconds for which nodes may rest.
const LONGEST_REST: u64 = 90 * 24 * 3_600;

/// For so long a person waits for those who asked before.
const BUSY: Duration = Duration::from_secs(5);

fn digest(text: &str) -> String {
    let bytes = Sha256::digest(text.as_bytes());
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// The spec in force, as the asked node knows it. Its number is the entity tag.
#[utoipa::path(get, path = "/api/v1/spec", responses((status = 200, body = SpecReply, headers(("ETag" = String)))))]
pub async fn spec(service: web::Data<Service>, _user: User) -> HttpResponse {
    let revision = service.revision();
    HttpResponse::Ok()
        .insert_header((ETAG, format!("\"{}\"", revision.number)))
        .json(SpecReply {
            revision: revision.number,
            by: revision.by.to_string(),
            at: revision.at,
            why: revision.why.clone(),
            digest: digest(&revision.text),
            text: revision.text.to_string(),
            findings: check(&revision.spec),
            worst_cases: outage::worst_cases_of(&revision.spec),
        })
}

/// Submits another spec, written for the revision that `If-Match` names (RFC 9110, section 13.1.1).
#[utoipa::path(put, path = "/api/v1/spec", request_body = SpecBody, params(("If-Match" = String, Header, description = "`\"3\"`: the revision that it was written for")),
    responses((status = 202, body = StartedReply)))]
pub async fn submit(
    service: web::Data<Service>,
    user: User,
    request: HttpRequest,
    body: Body<SpecBody>,
) -> Result<HttpResponse, Refusal> {
    let tag = request
        .headers()
        .get(IF_MATCH)
        .and_then(|v| v.to_str().ok());
    let Some(tag) = tag else {
        let what = "send `If-Match` with the number of the revision that this was written for, as GET /api/v1/spec said it";
        return Err(Refusal::new(ProblemType::NotConditional, what));
    };
    let number = tag.trim().trim_matches('"').parse::<u64>();
    let Ok(number) = number else {
        let what = format!("`If-Match`: {tag:?} is not the number of a revision");
        return Err(Refusal::unusable(what));
    };
    let now = service.revision();
    if number != now.number {
        let what = format!(
            "it was written for revision {number}, and revision {} is in force, by {}: look at what that changed, and write it anew",
            now.number, now.by
        );
        return Err(Refusal::new(ProblemType::OtherRevision, what));
    }
    revise(&service, &user, body.0, Some(number), false).await
}

/// What a spec would take to be in force, and what that costs.
#[utoipa::path(post, path = "/api/v1/spec/plan", request_body = SpecBody, responses((status = 200, body = IntentPlan)))]
pub async fn plan(
    service: web::Data<Service>,
    user: User,
    body: Body<SpecBody>,
) -> Result<HttpResponse, Refusal> {
    // The coordinator works for it.
    user.needs(Level::Operate)?;
    revise(&service, &user, body.0, None, true).await
}

async fn revise(
    service: &Service,
    user: &User,
    body: SpecBody,
    based_on: Option<u64>,
    plan_only: bool,
) -> Result<HttpResponse, Refusal> {
    let SpecBody { text, why, seen } = body;
    let case = tokio::time::timeout(BUSY, service.judge.read(text)).await;
    let Ok(case) = case else {
        let what = format!(
            "{} reads other specs just now: ask again in a moment",
            service.me
        );
        return Err(Refusal::unavailable(what));
    };
    let Case { text, spec, judged } = case.map_err(Refusal::unusable)?;
    let plea = Plea::Revision {
        text,
        spec,
        based_on,
        judged: Some(judged),
    };
    wish(service, user, plea, (why, seen), plan_only).await
}

async fn wish(
    service: &Service,
    user: &User,
    plea: Plea,
    (why, seen): (Option<String>, Option<String>),
    plan_only: bool,
) -> Result<HttpResponse, Refusal> {
    let long = |why: &String| why.chars().count() > LONGEST_NOTE;
    if why.as_ref().is_some_and(long) {
        let what = format!("`why` has at most {LONGEST_NOTE} characters");
        return Err(Refusal::bad(what));
    }
    let request = Request::Intend {
        plea,
        by: user.name.clone(),
        at: crate::clock::unix(),
        why,
        seen,
        plan_only,
    };
    change(service, user, request).await
}

/// Every revision that is known, the newest first.
#[utoipa::path(get, path = "/api/v1/spec/revisions", responses((status = 200, body = Vec<PastRevision>)))]
pub async fn revisions(service: web::Data<Service>, _user: User) -> Result<HttpResponse, Refusal> {
    let all = all(&service).await?;
    let list = all.into_iter().map(|(revision, _)| revision);
    Ok(HttpResponse::Ok().json(list.collect::<Vec<_>>()))
}

/// One of them, as it was written.
#[utoipa::path(get, path = "/api/v1/spec/revisions/{number}", params(("number" = u64, Path)), responses((status = 200, body = RevisionReply)))]
pub async fn revision(
    service: web::Data<Service>,
    _user: User,
    path: web::Path<u64>,
) -> Result<HttpResponse, Refusal> {
    let number = path.into_inner();
    let all = all(&service).await?;
    let oldest = all.last().map_or(0, |(revision, _)| revision.number);
    let found = all
        .into_iter()
        .find(|(revision, _)| revision.number == number);
    let Some((revision, text)) = found else {
        let what =
            format!("there is no revision {number} here; the oldest that is kept is {oldest}");
        return Err(Refusal::new(ProblemType::NotFound, what));
    };
    Ok(HttpResponse::Ok().json(RevisionReply { revision, text }))
}

async fn all(service: &Service) -> Result<Vec<(PastRevision, String)>, Refusal> {
    let Some(past) = service.heart.past_revisions().await else {
        return Err(Refusal::unavailable("this node is too busy to say"));
    };
    let now = service.revision();
    let now = PastRevision {
        number: now.number,
        by: now.by.to_string(),
        at: now.at,
        why: now.why.clone(),
        in_force: true,
    };
    let text = service.revision().text.to_string();
    let past = past.into_iter().rev().map(|past| {
        let revision = PastRevision {
            number: past.number,
            by: past.by.to_string(),
            at: past.at,
            why: past.why,
            in_force: false,
        };
        (revision, past.text.to_string())
    });
    Ok(std::iter::once((now, text)).chain(past).collect())
}

/// Nodes are to hold nothing, so that their hosts may be worked on.
#[utoipa::path(post, path = "/api/v1/maintenance", request_body = MaintenanceBody,
    responses((status = 200, description = "With plan_only: what would be done", body = IntentPlan), (status = 202, body = StartedReply)))]
pub async fn maintenance(
    service: web::Data<Service>,
    user: User,
    body: Body<MaintenanceBody>,
) -> Result<HttpResponse, Refusal> {
    let body = body.0;
    let spec = service.spec();
    let mut nodes: BTreeSet<NodeId> = body.nodes.into_iter().collect();
    if let Some(zone) = &body.zone {
        if !spec.zones.contains(zone) {
            let known = spec.zones.join(", ");
            let what = format!("there is no zone `{zone}`; known: {known}");
            return Err(Refusal::new(ProblemType::NotFound, what));
        }
        let inside = spec.nodes.iter().filter(|(_, node)| node.zone == *zone);
        nodes.extend(inside.map(|(name, _)| name.clone()));
    }
    if nodes.is_empty() {
        return Err(Refusal::unusable("`nodes` or `zone`: name what is to rest"));
    }
    let until = until(body.for_seconds)?;
    let plea = Plea::Maintenance {
        nodes,
        back: body.back,
        bare: body.bare.into_iter().collect(),
        cut_off: body.cut_off.into_iter().collect(),
        until,
    };
    wish(&service, &user, plea, (body.why, body.seen), body.plan_only).await
}

/// When what lasts so long ends by itself.
fn until(seconds: Option<u64>) -> Result<Option<u64>, Refusal> {
    let unlikely = |time: u64| time == 0 || time > LONGEST_REST;
    if seconds.is_some_and(unlikely) {
        let what = format!("`for_seconds` is a number from 1 to {LONGEST_REST} (90 days)");
        return Err(Refusal::bad(what));
    }
    Ok(seconds.map(|time| crate::clock::unix() + time))
}

/// A place in a workload's writes is kept, and a standby stays there, so that it can go back to it.
#[utoipa::path(post, path = "/api/v1/workloads/{workload}/safety-point", params(("workload" = String, Path)), request_body = SafetyPointBody,
    responses((status = 200, description = "With plan_only: what would be done", body = IntentPlan), (status = 202, body = StartedReply)))]
pub async fn safety_point(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
    body: Body<SafetyPointBody>,
) -> Result<HttpResponse, Refusal> {
    let body = body.0;
    let plea = Plea::SafetyPoint {
        workload: path.into_inner().into(),
        name: body.name,
        node: body.node,
        bare: body.bare,
        until: until(body.for_seconds)?,
    };
    wish(&service, &user, plea, (body.why, body.seen), body.plan_only).await
}

/// A workload goes on from its safety point: what was written since is given up on every node.
#[utoipa::path(post, path = "/api/v1/workloads/{workload}/safety-point/go-back", params(("workload" = String, Path)), request_body = WishBody,
    responses((status = 200, description = "With plan_only: what would be done, and given up", body = IntentPlan), (status = 202, body = StartedReply)))]
pub async fn go_back(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
    body: Body<WishBody>,
) -> Result<HttpResponse, Refusal> {
    let body = body.0;
    let workload = path.into_inner().into();
    let plea = Plea::GoBack { workload };
    wish(&service, &user, plea, (body.why, body.seen), body.plan_only).await
}

/// The servers of a workload are restarted, one after the other, so that settings are in force that
/// wait for that.
#[utoipa::path(post, path = "/api/v1/workloads/{workload}/restart", params(("workload" = String, Path)), request_body = WishBody,
    responses((status = 200, description = "With plan_only: what would be done", body = IntentPlan), (status = 202, body = StartedReply)))]
pub async fn restart(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
    body: Body<WishBody>,
) -> Result<HttpResponse, Refusal> {
    let body = body.0;
    let plea = Plea::Restart {
        workload: path.into_inner().into(),
    };
    wish(&service, &user, plea, (body.why, body.seen), body.plan_only).await
}

/// A node's new store is taken in, after its old one was lost: from then on it votes again.
#[utoipa::path(post, path = "/api/v1/nodes/{node}/enrol", params(("node" = String, Path)), request_body = WishBody,
    responses((status = 200, description = "With plan_only: what would be done", body = IntentPlan), (status = 202, body = StartedReply)))]
pub async fn enrol(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
    body: Body<WishBody>,
) -> Result<HttpResponse, Refusal> {
    let body = body.0;
    let node = path.into_inner().into();
    let plea = Plea::Enrol { node };
    wish(&service, &user, plea, (body.why, body.seen), body.plan_only).await
}

/// Ends a maintenance, drops a safety point, or takes back a revision that is not in force yet.
#[utoipa::path(post, path = "/api/v1/operations/{operation}/end", params(("operation" = u64, Path)),
    responses((status = 200, body = ChangedReply)))]
pub async fn end(
    service: web::Data<Service>,
    user: User,
    path: web::Path<u64>,
) -> Result<HttpResponse, Refusal> {
    let (intent, by) = (OperationId(path.into_inner()), user.name.clone());
    change(&service, &user, Request::EndIntent { intent, by }).await
}

/// Another node is to coordinate.
#[utoipa::path(post, path = "/api/v1/quorum/hand-over", request_body = HandOverBody,
    responses((status = 200, body = ChangedReply)))]
pub async fn hand_over(
    service: web::Data<Service>,
    user: User,
    body: Body<HandOverBody>,
) -> Result<HttpResponse, Refusal> {
    let (to, by) = (body.0.to, user.name.clone());
    change(&service, &user, Request::HandOver { to, by }).await
}
