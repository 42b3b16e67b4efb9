//! The audit trail: who asked this node to change something, from where, and how it was answered; in the history with
//! everything else. Neither tokens nor what a request carries are written down.

use super::Service;
use super::access::User;
use crate::lock::lock;
use crate::store::Store;
use actix_web::dev::ServiceRequest;
use karst_core::NodeId;
use karst_core::event::{Event, FactKind, Level};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// A path is no longer than this in any honest request.
const PATH_LIMIT: usize = 120;
/// Whoever has no token can fill no store: one line in this time, with the number of those left out.
const STRANGERS_EVERY: Duration = Duration::from_secs(10);
/// A change waits so long for its line to be durable. A disk that hangs must not keep a person from moving a workload away from it.
const DURABLE_WITHIN: Duration = Duration::from_secs(1);
/// Wrong tokens from one address that cost nothing; a person may have the wrong file at hand.
const FREE_TRIES: u32 = 5;
/// What each further one waits longer than the one before, and at most.
const WAIT_STEP: Duration = Duration::from_millis(250);
const LONGEST_WAIT: Duration = Duration::from_secs(2);
/// After so long without one an address begins anew.
const FORGOTTEN: Duration = Duration::from_secs(60);
/// Addresses that are remembered.
const ADDRESSES: usize = 1_000;

/// Those who show no valid token.
#[derive(Debug, Default)]
pub struct Strangers(Mutex<Seen>);

#[derive(Debug, Default)]
struct Seen {
    recorded: Option<Instant>,
    left_out: u64,
    /// Wrong tokens and sessions, since the start.
    wrong: u64,
    by_address: BTreeMap<Option<IpAddr>, (u32, Option<Instant>)>,
}

impl Strangers {
    fn seen(&self) -> std::sync::MutexGuard<'_, Seen> {
        lock(&self.0)
    }

    /// How many were left out before this one, if this one is to be recorded.
    fn next(&self) -> Option<u64> {
        let mut seen = self.seen();
        if seen.recorded.is_some_and(|at| at.elapsed() < STRANGERS_EVERY) {
            seen.left_out += 1;
            return None;
        }
        seen.recorded = Some(Instant::now());
        Some(std::mem::take(&mut seen.left_out))
    }

    /// A wrong token was shown: how long its answer waits.
    pub fn wrong(&self, from: Option<IpAddr>) -> Duration {
        let mut seen = self.seen();
        seen.wrong += 1;
        let now = Instant::now();
        if seen.by_address.len() >= ADDRESSES && !seen.by_address.contains_key(&from) {
            seen.by_address.retain(|_, (_, last)| last.is_some_and(|at| now - at < FORGOTTEN));
            if seen.by_address.len() >= ADDRESSES {
                seen.by_address.pop_first();
            }
        }
        let (tries, last) = seen.by_address.entry(from).or_default();
        if last.is_some_and(|at| now - at >= FORGOTTEN) {
            *tries = 0;
        }
        (*tries, *last) = (tries.saturating_add(1), Some(now));
        (WAIT_STEP * tries.saturating_sub(FREE_TRIES).min(100)).min(LONGEST_WAIT)
    }

    /// Wrong tokens since the start.
    pub fn count(&self) -> u64 {
        self.seen().wrong
    }
}

/// A change that was asked for and is on record, until it is on record how it was answered.
pub struct Asked {
    store: Store,
    node: NodeId,
    who: String,
    what: String,
    answered: bool,
}

impl Asked {
    /// Durable before this returns, unless the disk hangs. None for those strangers who are only counted.
    pub async fn record(service: &Service, request: &ServiceRequest, user: Option<&User>) -> Option<Self> {
        let path: String = request.path().chars().take(PATH_LIMIT).collect();
        let what = format!("{} {}", request.method(), path.escape_debug());
        let from = request.peer_addr().map_or("the host itself".into(), |a| a.ip().to_string());
        let (who, left_out) = match user {
            Some(user) => (described(user), 0),
            None => ("somebody without a valid token".into(), service.strangers.next()?),
        };
        let more = if left_out > 0 { format!("; {left_out} more since the last such line") } else { String::new() };
        let text = format!("{who} asks {} from {from}: {what}{more}", service.me);
        let event = Event::new(Level::Info, FactKind::Asked, text).with("from", from);
        let durable = service.store.record_durably(user.iter().fold(event, |e, u| e.with("user", &u.name)));
        if tokio::time::timeout(DURABLE_WITHIN, durable).await.is_err() {
            tracing::warn!(%who, %what, "the node store is late: this goes on before it is on record");
        }
        Some(Self { store: service.store.clone(), node: service.me.clone(), who, what, answered: false })
    }

    /// Whoever signed in is known by now.
    pub fn answered(mut self, status: u16, user: Option<&User>) {
        self.answered = true;
        if let Some(user) = user {
            self.who = described(user);
        }
        let level = if (200..300).contains(&status) { Level::Info } else { Level::Notice };
        let text = format!("{} answered {status} to {}: {}", self.node, self.who, self.what);
        self.store.record(Event::new(level, FactKind::Answered, text).with("status", status));
    }
}

fn described(user: &User) -> String {
    format!("{} ({})", user.name, user.level.word())
}

impl Drop for Asked {
    fn drop(&mut self) {
        if !self.answered {
            let text = format!("{} hung up before {} had answered: {}", self.who, self.node, self.what);
            self.store.record(Event::new(Level::Notice, FactKind::Answered, text));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn strangers_get_one_line_and_are_counted() {
        let strangers = Strangers::default();
        assert_eq!(strangers.next(), Some(0));
        assert_eq!((strangers.next(), strangers.next()), (None, None));
        strangers.seen().recorded = None;
        assert_eq!(strangers.next(), Some(2));
    }

    /// Ten thousand guesses from one address take hours, and hold up nobody else.
    #[test]
    fn who_guesses_waits() {
        let strangers = Strangers::default();
        let from = |n: u8| Some(IpAddr::from([192, 0, 2, n]));
        let waits: Vec<Duration> = (0..10_000).map(|_| strangers.wrong(from(1))).collect();
        assert_eq!(waits[4], Duration::ZERO);
        assert_eq!((waits[5], waits[9_999]), (WAIT_STEP, LONGEST_WAIT));
        assert!(waits.iter().sum::<Duration>() > Duration::from_secs(5 * 3_600));
        assert_eq!(strangers.wrong(from(2)), Duration::ZERO);
        assert_eq!(strangers.count(), 10_001);
        for n in 0..5_000u32 {
            strangers.wrong(Some(IpAddr::from(n.to_be_bytes())));
        }
        assert!(strangers.seen().by_address.len() <= ADDRESSES);
    }
}
