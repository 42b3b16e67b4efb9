//! The JSON calls.

use super::access::{close_session, open_session};
use super::document::Common;
use super::intents;
use super::join;
use super::now::status_now;
use super::problem::{Body, Refusal, json_config, resource};
use super::records;
use super::reports::report;
use super::service::Service;
use super::steps;
use super::writes::written;
use crate::tokens::User;
use actix_web::{HttpResponse, web};
use karst_api::{
    AcknowledgeBody, ChangedReply, Endpoint, FailoverBody, HostNeed, ModeBody, PowerBody,
    PowerReply, Problem, ProblemType, SelfReply, SessionBody, StartedReply, StatusReply,
    SwitchoverBody,
};
use karst_core::author::{Level, Token};
use karst_core::request::{Answer, LONGEST_NOTE, Plan, Request};
use karst_core::{OperationId, WorkloadId};
use std::time::Duration;
use utoipa::OpenApi;

/// How long a change may take to be committed before the caller is told that it is not known.
const CHANGE_PATIENCE: Duration = Duration::from_secs(5);

#[derive(OpenApi)]
#[openapi(
    modifiers(&Common),
    security(("token" = []), ("session" = [])),
    info(
        title = "Karst",
        description = "Keeps replicated programs available. Any node answers; what only the coordinator can do is passed on to it."
    ),
    paths(
        status,
        super::live::live,
        intents::spec,
        intents::submit,
        intents::plan,
        intents::revisions,
        intents::revision,
        intents::maintenance,
        intents::restart,
        intents::enrol,
        intents::safety_point,
        intents::go_back,
        intents::end,
        intents::hand_over,
        join::invite,
        join::join,
        join::renew,
        myself,
        endpoints,
        super::writes::written,
        examination,
        steps::list,
        steps::try_one,
        acknowledge,
        forget,
        super::reports::report,
        super::records::history,
        super::records::history_csv,
        super::records::history_jsonl,
        switchover,
        failover,
        mode,
        approve,
        fence,
        power,
        readmit,
        role,
        super::metrics::metrics,
        session_doc,
        sign_out_doc
    ),
    components(schemas(Problem))
)]
pub struct Document;

pub fn routes(config: &mut web::ServiceConfig) {
    let document = || async { HttpResponse::Ok().json(Document::openapi()) };
    let at = |path: &str, allowed| resource(&format!("/api/v1{path}"), allowed);
    // A spec in JSON: every line's end takes two letters there.
    let large = json_config().limit(karst_api::specfile::LONGEST * 2);
    let session = at("/session", "POST, DELETE").route(web::post().to(open_session));
    config
        .service(resource("/openapi.json", "GET").route(web::get().to(document)))
        .service(session.route(web::delete().to(close_session)))
        .service(at("/self", "GET").route(web::get().to(myself)))
        .service(at("/status", "GET").route(web::get().to(status)))
        .service(
            at("/spec", "GET, PUT")
                .app_data(large.clone())
                .route(web::get().to(intents::spec))
                .route(web::put().to(intents::submit)),
        )
        .service(
            at("/spec/plan", "POST")
                .app_data(large)
                .route(web::post().to(intents::plan)),
        )
        .service(at("/spec/revisions", "GET").route(web::get().to(intents::revisions)))
        .service(at("/spec/revisions/{number}", "GET").route(web::get().to(intents::revision)))
        .service(at("/maintenance", "POST").route(web::post().to(intents::maintenance)))
        .service(at("/operations/{operation}/end", "POST").route(web::post().to(intents::end)))
        .service(at("/invitations", "POST").route(web::post().to(join::invite)))
        .service(at("/join", "POST").route(web::post().to(join::join)))
        .service(at("/quorum/hand-over", "POST").route(web::post().to(intents::hand_over)))
        .service(at("/examination", "GET").route(web::get().to(examination)))
        .service(at("/history", "GET").route(web::get().to(records::history)))
        .service(at("/history.csv", "GET").route(web::get().to(records::history_csv)))
        .service(at("/history.jsonl", "GET").route(web::get().to(records::history_jsonl)))
        .service(at("/workloads/{workload}/written", "GET").route(web::get().to(written)))
        .service(at("/operations/{operation}/report", "GET").route(web::get().to(report)))
        .service(
            at("/findings/{finding}/acknowledgement", "PUT, DELETE")
                .route(web::put().to(acknowledge))
                .route(web::delete().to(forget)),
        )
        .service(at("/workloads/{workload}/switchover", "POST").route(web::post().to(switchover)))
        .service(at("/workloads/{workload}/failover", "POST").route(web::post().to(failover)))
        .service(
            at("/workloads/{workload}/restart", "POST").route(web::post().to(intents::restart)),
        )
        .service(
            at("/workloads/{workload}/safety-point", "POST")
                .route(web::post().to(intents::safety_point)),
        )
        .service(
            at("/workloads/{workload}/safety-point/go-back", "POST")
                .route(web::post().to(intents::go_back)),
        )
        .service(at("/workloads/{workload}/endpoints", "GET").route(web::get().to(endpoints)))
        .service(at("/workloads/{workload}/mode", "PUT").route(web::put().to(mode)))
        .service(at("/operations/{operation}/approve", "POST").route(web::post().to(approve)))
        .service(at("/nodes/{node}/fence", "POST").route(web::post().to(fence)))
        .service(at("/nodes/{node}/power", "POST").route(web::post().to(power)))
        .service(at("/nodes/{node}/readmit", "POST").route(web::post().to(readmit)))
        .service(at("/nodes/{node}/certificates", "POST").route(web::post().to(join::renew)))
        .service(at("/steps", "GET").route(web::get().to(steps::list)))
        .service(at("/steps/{step}/try", "POST").route(web::post().to(steps::try_one)))
        .service(at("/nodes/{node}/enrol", "POST").route(web::post().to(intents::enrol)))
        .service(resource("/role/{workload}/{role}", "GET").route(web::get().to(role)));
}

/// A token for a cookie.
#[utoipa::path(post, path = "/api/v1/session", request_body = SessionBody, security(()), responses((status = 204)))]
#[expect(dead_code, reason = "documents `open_session`")]
fn session_doc() {}

/// Signs out.
#[utoipa::path(delete, path = "/api/v1/session", responses((status = 204)))]
#[expect(dead_code, reason = "documents `close_session`")]
fn sign_out_doc() {}

#[utoipa::path(get, path = "/api/v1/status", responses((status = 200, body = StatusReply)))]
async fn status(service: web::Data<Service>, _user: User) -> Result<HttpResponse, Refusal> {
    let answered = status_now(&service).await?;
    Ok(HttpResponse::Ok()
        .content_type("application/json")
        .body(answered.json.clone()))
}

/// What the asked node's host has and lacks to be a node, looked at now; it takes some seconds.
#[utoipa::path(get, path = "/api/v1/examination", responses((status = 200, body = Vec<HostNeed>)))]
async fn examination(service: web::Data<Service>, _user: User) -> Result<HttpResponse, Refusal> {
    // It asks the power device, among others: one at a time.
    let Ok(_alone) = service.examining.clone().try_lock_owned() else {
        let what = "this host is being examined just now: ask again in a moment";
        return Err(Refusal::new(ProblemType::TooMany, what));
    };
    // Some of what it asks the host for blocks.
    let looked = web::block(move || (service.examine)());
    let unavailable = |error: String| Refusal::unavailable(error);
    let needs = looked.await.map_err(|e| unavailable(e.to_string()))?;
    let needs = needs.map_err(|e| unavailable(e.to_string()))?;
    Ok(HttpResponse::Ok().json(needs))
}

#[utoipa::path(get, path = "/api/v1/self", responses((status = 200, body = SelfReply)))]
async fn myself(service: web::Data<Service>, user: User) -> HttpResponse {
    HttpResponse::Ok().json(SelfReply {
        node: service.me.clone(),
        cluster: service.spec().cluster.clone(),
        version: env!("CARGO_PKG_VERSION").into(),
        user: user.name,
        level: user.level.word().into(),
    })
}

#[utoipa::path(post, path = "/api/v1/workloads/{workload}/switchover", params(("workload" = String, Path)), request_body = SwitchoverBody,
    responses((status = 200, description = "With plan_only: what would be done", body = Plan), (status = 202, body = StartedReply)))]
async fn switchover(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
    body: Body<SwitchoverBody>,
) -> Result<HttpResponse, Refusal> {
    let body = body.0;
    let (workload, by, plan_only) = (path.into_inner().into(), user.name.clone(), body.plan_only);
    change(
        &service,
        &user,
        Request::Switchover {
            workload,
            to: body.to,
            by,
            plan_only,
        },
    )
    .await
}

#[utoipa::path(post, path = "/api/v1/workloads/{workload}/failover", params(("workload" = String, Path)), request_body = FailoverBody,
    responses((status = 200, description = "With plan_only: what would be done", body = Plan), (status = 202, body = StartedReply)))]
async fn failover(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
    body: Body<FailoverBody>,
) -> Result<HttpResponse, Refusal> {
    let body = body.0;
    let accept_loss = match body.accept_loss.as_deref() {
        None => 0,
        Some("all") => u64::MAX,
        Some(text) => karst_core::text::read_size(text).ok_or_else(|| {
            Refusal::bad(format!(
                "`accept_loss`: `{text}` is not a size; write `16MiB`, `300B` or `all`"
            ))
        })?,
    };
    let (workload, by, plan_only) = (path.into_inner().into(), user.name.clone(), body.plan_only);
    change(
        &service,
        &user,
        Request::Failover {
            workload,
            to: body.to,
            by,
            accept_loss,
            plan_only,
        },
    )
    .await
}

/// What clients paste, and whom each string reaches now.
#[utoipa::path(get, path = "/api/v1/workloads/{workload}/endpoints", params(("workload" = String, Path)),
    responses((status = 200, body = Vec<Endpoint>)))]
async fn endpoints(
    service: web::Data<Service>,
    _user: User,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    let (name, answered) = (path.into_inner(), status_now(&service).await?);
    let found = answered
        .reply
        .status
        .workloads
        .iter()
        .find(|w| w.workload.as_str() == name);
    let workload = found.ok_or_else(|| {
        Refusal::new(
            ProblemType::NotFound,
            format!("there is no workload `{name}`"),
        )
    })?;
    let spec = service.spec();
    let spec = spec.workloads.get(&workload.workload);
    let driver = spec.map_or("", |w| w.driver.as_str());
    Ok(HttpResponse::Ok().json(super::endpoints::of(workload, driver)))
}

#[utoipa::path(put, path = "/api/v1/workloads/{workload}/mode", params(("workload" = String, Path)), request_body = ModeBody,
    responses((status = 200, body = ChangedReply)))]
async fn mode(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
    body: Body<ModeBody>,
) -> Result<HttpResponse, Refusal> {
    let (workload, body) = (path.into_inner().into(), body.0);
    if body
        .for_seconds
        .is_some_and(|time| time == 0 || time > LONGEST_MODE)
    {
        return Err(Refusal::bad(format!(
            "`for_seconds` is a number from 1 to {LONGEST_MODE} (a year)"
        )));
    }
    if body
        .why
        .as_ref()
        .is_some_and(|why| why.chars().count() > LONGEST_NOTE)
    {
        return Err(Refusal::bad(format!(
            "`why` has at most {LONGEST_NOTE} characters"
        )));
    }
    let at = crate::clock::unix();
    let request = Request::Mode {
        workload,
        mode: body.mode,
        by: user.name.clone(),
        at,
        why: body.why,
        until: body.for_seconds.map(|time| at + time),
    };
    change(&service, &user, request).await
}

/// Seconds for which a mode may be set.
const LONGEST_MODE: u64 = 365 * 24 * 3_600;

/// A person knows of a finding, which is shown last from then on; until it has gone for good.
#[utoipa::path(put, path = "/api/v1/findings/{finding}/acknowledgement", params(("finding" = String, Path)), request_body = AcknowledgeBody,
    responses((status = 200, body = ChangedReply)))]
async fn acknowledge(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
    body: Body<AcknowledgeBody>,
) -> Result<HttpResponse, Refusal> {
    let note = body.0.note;
    if note.chars().count() > LONGEST_NOTE {
        let what = format!("`note` has at most {LONGEST_NOTE} characters");
        return Err(Refusal::bad(what));
    }
    acknowledged(&service, &user, path.into_inner(), Some(note)).await
}

/// Takes that back.
#[utoipa::path(delete, path = "/api/v1/findings/{finding}/acknowledgement", params(("finding" = String, Path)),
    responses((status = 200, body = ChangedReply)))]
async fn forget(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    acknowledged(&service, &user, path.into_inner(), None).await
}

async fn acknowledged(
    service: &Service,
    user: &User,
    finding: String,
    note: Option<String>,
) -> Result<HttpResponse, Refusal> {
    let request = Request::Acknowledge {
        finding,
        note,
        by: user.name.clone(),
        at: crate::clock::unix(),
    };
    change(service, user, request).await
}

#[utoipa::path(post, path = "/api/v1/operations/{operation}/approve", params(("operation" = u64, Path)),
    responses((status = 200, body = ChangedReply)))]
async fn approve(
    service: web::Data<Service>,
    user: User,
    path: web::Path<u64>,
) -> Result<HttpResponse, Refusal> {
    let (operation, by) = (OperationId(path.into_inner()), user.name.clone());
    change(&service, &user, Request::Approve { operation, by }).await
}

#[utoipa::path(post, path = "/api/v1/nodes/{node}/fence", params(("node" = String, Path)),
    responses((status = 200, body = ChangedReply)))]
async fn fence(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    let (node, by) = (path.into_inner().into(), user.name.clone());
    change(&service, &user, Request::Fence { node, by }).await
}

#[utoipa::path(post, path = "/api/v1/nodes/{node}/readmit", params(("node" = String, Path)),
    responses((status = 200, body = ChangedReply)))]
async fn readmit(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    let (node, by) = (path.into_inner().into(), user.name.clone());
    change(&service, &user, Request::Readmit { node, by }).await
}

/// Turns a host on or off, or off and on again. Off is a fence.
#[utoipa::path(post, path = "/api/v1/nodes/{node}/power", params(("node" = String, Path)), request_body = PowerBody,
    responses((status = 200, body = PowerReply)))]
async fn power(
    service: web::Data<Service>,
    user: User,
    path: web::Path<String>,
    body: Body<PowerBody>,
) -> Result<HttpResponse, Refusal> {
    let (node, by, PowerBody { what, plan_only }) =
        (path.into_inner().into(), user.name.clone(), body.0);
    change(
        &service,
        &user,
        Request::Power {
            node,
            what,
            by,
            plan_only,
        },
    )
    .await
}

pub async fn change(
    service: &Service,
    user: &User,
    request: Request,
) -> Result<HttpResponse, Refusal> {
    user.needs(request.needs())?;
    // A revision is too long for a log, and is kept as what it is.
    if matches!(&request, Request::Intend { .. }) {
        tracing::info!(user = %user.name, level = user.level.word(), "something is wanted");
    } else {
        tracing::info!(user = %user.name, level = user.level.word(), ?request, "asked");
    }
    Ok(
        match ask_cluster(service, request, (user.level, user.token.clone())).await? {
            Answer::Plan(plan) => HttpResponse::Ok().json(plan),
            Answer::IntentPlan(plan) => HttpResponse::Ok().json(plan),
            Answer::NodePlan(plan) => HttpResponse::Ok().json(PowerReply::Plan(plan)),
            Answer::Started { operation } => {
                HttpResponse::Accepted().json(StartedReply { operation })
            }
            Answer::Done { index, text } => HttpResponse::Ok().json(ChangedReply { index, text }),
            Answer::Status(_) | Answer::Refused { .. } | Answer::NoCoordinator => {
                return Err(Refusal::unavailable("an answer to another question"));
            }
        },
    )
}

/// What the coordinator says to it, if it does not refuse.
pub async fn ask_cluster(
    service: &Service,
    request: Request,
    shown: (Level, Option<Token>),
) -> Result<Answer, Refusal> {
    if let Some(name) = request.strange_name() {
        // Passed on, it would be taken for a forgery.
        let what = format!(
            "nothing is called {name:?}: a name has no control characters and is at most 200 letters long"
        );
        return Err(Refusal::new(ProblemType::NotFound, what));
    }
    let answer = service.heart.ask(request, shown, CHANGE_PATIENCE).await;
    // Whoever changed something sees it.
    service.recent.0.lock().await.take();
    match answer {
        Some(Answer::Refused { why }) => Err(Refusal::new(ProblemType::Refused, why)),
        Some(Answer::NoCoordinator) => Err(Refusal::unavailable(format!(
            "no coordinator is known to {}; try again or ask another node",
            service.me
        ))),
        Some(answer) => Ok(answer),
        None => Err(Refusal::unavailable(format!(
            "not confirmed within {CHANGE_PATIENCE:?}: look at the status before asking again"
        ))),
    }
}

/// For load balancers: 200 if this node has that role now, else 503.
#[utoipa::path(get, path = "/role/{workload}/{role}", params(("workload" = String, Path), ("role" = String, Path, description = "primary, standby, or reader: a server that readers may go to now")),
    security(()), responses((status = 200, body = String, content_type = "text/plain")))]
async fn role(
    service: web::Data<Service>,
    path: web::Path<(String, String)>,
) -> Result<HttpResponse, Refusal> {
    use karst_core::replica::Role;
    let (workload, role) = path.into_inner();
    let glance = service.heart.glance.borrow().clone();
    let known = glance.workloads.get(&WorkloadId::from(workload.clone()));
    let own = known.ok_or_else(|| {
        let what = format!("there is no workload `{workload}`");
        Refusal::new(ProblemType::NotFound, what)
    })?;
    let has = match role.as_str() {
        "primary" => own.role == Some(Role::Primary),
        "standby" => own.role == Some(Role::Standby),
        "reader" => own.reads,
        _ => {
            return Err(Refusal::new(
                ProblemType::NotFound,
                format!("there is no role `{role}`: primary, standby, reader"),
            ));
        }
    };
    if has {
        return Ok(HttpResponse::Ok()
            .content_type("text/plain")
            .body(format!("{} is {role}\n", service.me)));
    }
    Err(Refusal::unavailable(format!(
        "{} is not {role} of {workload} now",
        service.me
    )))
}
