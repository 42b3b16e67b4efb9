//! Those who show no valid token: they fill no store, and who guesses waits.

use crate::lock::lock;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// Whoever has no token can fill no store: one line in this time, with the number of those left
/// out.
const STRANGERS_EVERY: Duration = Duration::from_secs(10);
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
    pub fn next(&self) -> Option<u64> {
        let mut seen = self.seen();
        if seen
            .recorded
            .is_some_and(|at| at.elapsed() < STRANGERS_EVERY)
        {
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
            seen.by_address
                .retain(|_, (_, last)| last.is_some_and(|at| now - at < FORGOTTEN));
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
