//! What changes, as it changes: server-sent events with the whole status (WHATWG HTML, section
//! 9.2). However many watch, the cluster is asked once.

use super::access::{By, let_in_by};
use super::now::status_now;
use super::problem::{Refusal, resource};
use super::service::Service;
use crate::tokens::User;
use actix_web::{HttpRequest, HttpResponse, web};
use bytes::Bytes;
use karst_api::ProblemType;
use std::time::{Duration, Instant};

/// How often it is looked for a change.
const LOOK: Duration = Duration::from_millis(150);
/// Something is said at least this often: a page whose node is gone says so within two seconds.
const SIGN_OF_LIFE: Duration = Duration::from_millis(500);
/// Each holds for three of these.
const TICKET_EVERY: Duration = Duration::from_secs(60);

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

/// Looks whether an open stream may go on, and gives browsers their tickets.
struct Desk {
    service: web::Data<Service>,
    by: By,
    due: Instant,
}

impl Desk {
    /// A token that was removed, or a session that was signed out, gets no further event.
    fn may_go_on(&self) -> bool {
        self.by.user(&self.service).is_some()
    }

    /// The next ticket, if it is time. Browsers alone have one: a program shows its token anywhere.
    fn ticket(&mut self) -> Option<Bytes> {
        let token = self.by.token_of_session(&self.service)?;
        if Instant::now() < self.due {
            return None;
        }
        self.due = Instant::now() + TICKET_EVERY;
        let ticket = self.service.tickets.issue(&token)?;
        Some(format!("event: ticket\ndata: {ticket}\n\n").into())
    }
}

/// The whole status whenever it has changed, as server-sent events: `status` with a StatusReply,
/// `alive` without anything where nothing changes, and for browsers now and then a `ticket`, with
/// which another node takes them in without a token if this one is gone.
#[utoipa::path(get, path = "/api/v1/live", responses((status = 200, body = String, content_type = "text/event-stream")))]
pub async fn live(
    service: web::Data<Service>,
    request: HttpRequest,
    user: User,
) -> Result<HttpResponse, Refusal> {
    let watching = service.live.join(&user.name).ok_or_else(|| {
        let what = format!(
            "`{}` has too many event streams open, or all users together have: close some",
            user.name
        );
        Refusal::new(ProblemType::TooMany, what)
    })?;
    let first = event(&status_now(&service).await?.json);
    let newest = service.live.newest.subscribe();
    let by =
        let_in_by(&request).ok_or_else(|| Refusal::unavailable("the request shows nothing"))?;
    let desk = Desk {
        service: service.clone(),
        by,
        due: Instant::now(),
    };
    let begin = (Some(first), newest, service.stopping.clone(), watching);
    let stream = futures_util::stream::unfold(
        (begin, desk),
        |((first, mut newest, mut stopping, watching), mut desk)| async move {
            let ticket = first.is_none().then(|| desk.ticket()).flatten();
            let block = match first.or(ticket) {
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
            if *stopping.borrow() || !desk.may_go_on() {
                return None;
            }
            Some((
                Ok::<_, actix_web::Error>(block),
                ((None, newest, stopping, watching), desk),
            ))
        },
    );
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        // Compression would hold events back.
        .insert_header(("Content-Encoding", "identity"))
        .streaming(stream))
}
