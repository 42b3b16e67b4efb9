//! The audit trail: who asked this node to change something, from where, and how it was answered; in the history with
//! everything else. Neither tokens nor what a request carries are written down.

use super::Service;
use super::access::User;
use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::middleware::Next;
use actix_web::{Error, HttpMessage, web};
use karst_core::event::{Event, Level};
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// A path is no longer than this in any honest request.
const PATH_LIMIT: usize = 120;
/// Whoever has no token can fill no store: one line in this time, with the number of those left out.
const STRANGERS_EVERY: Duration = Duration::from_secs(10);

/// When a request of a stranger was recorded last, and how many were not since.
#[derive(Debug, Default)]
pub struct Strangers(Mutex<(Option<Instant>, u64)>);

impl Strangers {
    /// How many were left out before this one, if this one is to be recorded.
    fn next(&self) -> Option<u64> {
        let mut seen = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if seen.0.is_some_and(|at| at.elapsed() < STRANGERS_EVERY) {
            seen.1 += 1;
            return None;
        }
        Some(std::mem::replace(&mut *seen, (Some(Instant::now()), 0)).1)
    }
}

/// Around every call; those that change nothing pass by.
pub async fn trail(
    service: web::Data<Service>, request: ServiceRequest, next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, Error> {
    if request.method().is_safe() {
        return next.call(request).await;
    }
    let what = format!("{} {}", request.method(), request.path().chars().take(PATH_LIMIT).collect::<String>());
    let from = request.peer_addr().map_or("the host itself".into(), |a| a.ip().to_string());
    let response = next.call(request).await?;
    let status = response.status();
    let user = response.request().extensions().get::<User>().cloned();
    let (who, left_out) = match &user {
        Some(user) => (format!("{} ({})", user.name, user.level.word()), Some(0)),
        None => ("somebody without a valid token".into(), service.strangers.next()),
    };
    let Some(left_out) = left_out else { return Ok(response) };
    let level = if status.is_success() { Level::Info } else { Level::Notice };
    let more = if left_out > 0 { format!("; {left_out} more since the last such line") } else { String::new() };
    let text = format!("{who} asked {} from {from}: {what}: answered {}{more}", service.me, status.as_u16());
    let event = Event::new(level, "asked", text).with("from", from).with("status", status.as_u16());
    service.store.record(user.iter().fold(event, |e, u| e.with("user", &u.name)));
    Ok(response)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn strangers_get_one_line_and_are_counted() {
        let strangers = Strangers::default();
        assert_eq!(strangers.next(), Some(0));
        assert_eq!((strangers.next(), strangers.next()), (None, None));
        strangers.0.lock().unwrap().0 = None;
        assert_eq!(strangers.next(), Some(2));
    }
}
