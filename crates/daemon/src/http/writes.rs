//! Has it looked how far primaries' logs go, and tells what came of it.

use super::problem::Refusal;
use super::service::Service;
use crate::heart::Glance;
use crate::tokens::User;
use actix_web::{HttpResponse, web};
use karst_api::{ProblemType, WrittenReply};
use karst_core::{Epoch, NodeId, WorkloadId};
use std::time::{Duration, Instant};

/// Between two looks while nothing happens, and for a while after a workload has got another
/// primary, or none.
const CALM: Duration = Duration::from_secs(5);
const CLOSE: Duration = Duration::from_millis(200);
const CLOSELY_FOR: Duration = Duration::from_secs(15);

/// Looks on, whether or not anybody asks; closely where something happens.
pub async fn record_written(service: web::Data<Service>) {
    let mut glance = service.heart.glance.clone();
    let primaries = |glance: &Glance| -> Vec<(Epoch, Option<NodeId>)> {
        let all = glance.workloads.values();
        all.map(|w| (w.epoch, w.primary.clone())).collect()
    };
    let mut known = primaries(&glance.borrow());
    let mut closely_until = Instant::now();
    loop {
        if let Some(reached) = service.heart.heads().await {
            let glance = glance.borrow().clone();
            service.written.note(&reached, &glance);
            let kept = service.clone();
            let _ = tokio::task::spawn_blocking(move || kept.written.keep()).await;
        }
        let every = if Instant::now() < closely_until {
            CLOSE
        } else {
            CALM
        };
        let looked = Instant::now();
        while let Some(left) = every.checked_sub(looked.elapsed()) {
            tokio::select! {
                () = tokio::time::sleep(left) => break,
                changed = glance.changed() => if changed.is_err() { return },
            }
            let now = primaries(&glance.borrow_and_update());
            if now != known {
                (known, closely_until) = (now, Instant::now() + CLOSELY_FOR);
                break;
            }
        }
    }
}

/// What clients wrote in the last hour, as the asked node saw it.
#[utoipa::path(get, path = "/api/v1/workloads/{workload}/written", params(("workload" = String, Path)),
    responses((status = 200, body = WrittenReply)))]
pub async fn written(
    service: web::Data<Service>,
    _user: User,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    let id = WorkloadId::from(path.into_inner());
    if !service.spec().workloads.contains_key(&id) {
        let what = format!("there is no workload `{id}`");
        return Err(Refusal::new(ProblemType::NotFound, what));
    }
    Ok(HttpResponse::Ok().json(WrittenReply {
        spans: service.written.of(&id),
    }))
}
