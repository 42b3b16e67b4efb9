//! What changes, as it changes: server-sent events with the whole status (WHATWG HTML, section 9.2).

use super::Service;
use super::access::User;
use super::api::status_now;
use actix_web::{HttpResponse, web};
use bytes::Bytes;
use std::time::Duration;

/// How often a stream looks for a change.
const LOOK: Duration = Duration::from_millis(150);
/// Something is said at least this often, in looks, so that a broken stream is noticed at both ends.
const SIGN_OF_LIFE: u32 = 10;

pub fn routes(config: &mut web::ServiceConfig) {
    config.route("/api/v1/live", web::get().to(live));
}

async fn live(service: web::Data<Service>, _user: User) -> HttpResponse {
    let stream = futures_util::stream::unfold((service, None, 0u32), |(service, mut last, mut quiet)| async move {
        let mut stopping = service.stopping.clone();
        loop {
            if *stopping.borrow() {
                return None;
            }
            if let Ok(mut reply) = status_now(&service).await {
                let (at, clock) = (std::mem::take(&mut reply.at), std::mem::take(&mut reply.status.at));
                if last.as_ref() != Some(&reply) {
                    last = Some(reply.clone());
                    (reply.at, reply.status.at) = (at, clock);
                    let data = serde_json::to_string(&reply).unwrap_or_default();
                    let block = Bytes::from(format!("event: status\ndata: {data}\n\n"));
                    pause(&mut stopping).await;
                    return Some((Ok::<_, actix_web::Error>(block), (service, last, 0)));
                }
            }
            quiet += 1;
            pause(&mut stopping).await;
            if quiet >= SIGN_OF_LIFE {
                return Some((Ok(Bytes::from_static(b"event: alive\ndata:\n\n")), (service, last, 0)));
            }
        }
    });
    HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("Cache-Control", "no-store"))
        // Compression would hold events back.
        .insert_header(("Content-Encoding", "identity"))
        .streaming(stream)
}

async fn pause(stopping: &mut tokio::sync::watch::Receiver<bool>) {
    tokio::select! {
        () = tokio::time::sleep(LOOK) => {}
        _ = stopping.changed() => {}
    }
}
