//! What changes, as it changes: server-sent events with the whole status (WHATWG HTML, section
//! 9.2). However many watch, the cluster is asked once.

use super::api::status_now;
use super::problem::{Refusal, resource};
use super::service::Service;
use super::tokens::User;
use actix_web::{HttpResponse, web};
use bytes::Bytes;
use karst_api::ProblemType;
use std::time::Duration;

/// How often it is looked for a change.
const LOOK: Duration = Duration::from_millis(150);
/// Something is said at least this often, so that a broken stream is noticed at both ends.
const SIGN_OF_LIFE: Duration = Duration::from_millis(1_500);
pub fn routes(config: &mut web::ServiceConfig) {
    config.service(resource("/api/v1/live", "GET").route(web::get().to(live)));
}

/// Looks for changes while anybody watches; until the daemon stops.
pub async fn watch_status(service: web::Data<Service>) {
    let (mut last, mut stopping) = (None, service.stopping.clone());
    while !*stopping.borrow() {
        if service.live.newest.receiver_count() == 0 {
            last = None;
        } else if let Ok(answered) = status_now(&service).await {
            let mut still = answered.reply.clone();
            (still.at, still.status.at) = Default::default();
            if last.as_ref() != Some(&still) {
                last = Some(still);
                service.live.newest.send_replace(event(&answered.json));
            }
        }
        tokio::select! {
            () = tokio::time::sleep(LOOK) => {}
            _ = stopping.changed() => {}
        }
    }
}

fn event(json: &Bytes) -> Bytes {
    [b"event: status\ndata: ", &json[..], b"\n\n"]
        .concat()
        .into()
}

/// The whole status whenever it has changed, as server-sent events: `status` with a StatusReply,
/// and `alive` without anything where nothing changes.
#[utoipa::path(get, path = "/api/v1/live", responses((status = 200, body = String, content_type = "text/event-stream")))]
pub async fn live(service: web::Data<Service>, user: User) -> Result<HttpResponse, Refusal> {
    let watching = service.live.join(&user.name).ok_or_else(|| {
        let what = format!(
            "`{}` has too many event streams open, or all users together have: close some",
            user.name
        );
        Refusal::new(ProblemType::TooMany, what)
    })?;
    let first = event(&status_now(&service).await?.json);
    let newest = service.live.newest.subscribe();
    let begin = (Some(first), newest, service.stopping.clone(), watching);
    let stream = futures_util::stream::unfold(
        begin,
        |(first, mut newest, mut stopping, watching)| async move {
            if *stopping.borrow() {
                return None;
            }
            let block = match first {
                Some(first) => first,
                None => tokio::select! {
                    changed = newest.changed() => {
                        changed.ok()?;
                        newest.borrow_and_update().clone()
                    }
                    () = tokio::time::sleep(SIGN_OF_LIFE) => Bytes::from_static(b"event: alive\ndata:\n\n"),
                    _ = stopping.changed() => return None,
                },
            };
            Some((
                Ok::<_, actix_web::Error>(block),
                (None, newest, stopping, watching),
            ))
        },
    );
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        // Compression would hold events back.
        .insert_header(("Content-Encoding", "identity"))
        .streaming(stream))
}
