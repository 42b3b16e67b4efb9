//! Bounds on connections, in all and for each client address, so that whoever opens many takes
//! nobody else's place, and the daemon keeps the descriptors that it needs itself: without one it
//! cannot see what runs (C1).

use rustix::process::{Resource, getrlimit};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};

/// Descriptors that are kept for the daemon's own work: peers, servers, stores, looking about.
const OWN: usize = 160;
/// Of those that are left, in per cent, what all gates may have; the HTTP service has the rest.
const FOR_GATES: usize = 70;
/// However many descriptors there are.
const MOST: usize = 20_000;

/// So many connections at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Bounds {
    pub all: usize,
    pub per_client: usize,
}

impl Bounds {
    /// Half of them for one client at most: another can always come.
    fn of(all: usize) -> Self {
        let all = all.clamp(4, MOST);
        Self {
            all,
            per_client: (all / 2).max(2),
        }
    }

    /// For one of so many gates; each of its connections takes two descriptors.
    pub fn of_gate(gates: usize) -> Self {
        Self::of(spare() * FOR_GATES / 100 / 2 / gates.max(1))
    }

    pub fn of_http() -> Self {
        Self::of(spare() * (100 - FOR_GATES) / 100)
    }
}

fn spare() -> usize {
    let limit = getrlimit(Resource::Nofile)
        .current
        .map_or(usize::MAX, |n| usize::try_from(n).unwrap_or(usize::MAX));
    limit.min(4 * MOST).saturating_sub(OWN)
}

#[derive(Debug, Default)]
struct Taken {
    all: usize,
    by_client: BTreeMap<IpAddr, usize>,
}

/// The places of one service.
#[derive(Clone, Debug)]
pub struct Seats {
    bounds: Bounds,
    taken: Arc<Mutex<Taken>>,
}

/// One of them, as long as this lives.
#[derive(Debug)]
pub struct Seat(Seats, IpAddr);

impl Seats {
    pub fn new(bounds: Bounds) -> Self {
        Self {
            bounds,
            taken: Arc::default(),
        }
    }

    /// A place for a client; none if there is none left for it.
    pub fn take(&self, client: IpAddr) -> Option<Seat> {
        let client = client.to_canonical();
        let mut taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        let own = taken.by_client.get(&client).copied().unwrap_or(0);
        if taken.all >= self.bounds.all || own >= self.bounds.per_client {
            return None;
        }
        taken.all += 1;
        taken.by_client.insert(client, own + 1);
        Some(Seat(self.clone(), client))
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        let mut taken = self.0.taken.lock().unwrap_or_else(PoisonError::into_inner);
        taken.all = taken.all.saturating_sub(1);
        let left = taken
            .by_client
            .get(&self.1)
            .map_or(0, |own| own.saturating_sub(1));
        if left == 0 {
            taken.by_client.remove(&self.1);
        } else {
            taken.by_client.insert(self.1, left);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_client_takes_half_and_all_of_them_no_more_than_there_are() {
        let seats = Seats::new(Bounds::of(8));
        let client = |n: u8| IpAddr::from([192, 0, 2, n]);
        let mut first: Vec<Seat> = (0..9).filter_map(|_| seats.take(client(1))).collect();
        assert_eq!(first.len(), 4);
        assert!(
            seats
                .take(IpAddr::from(
                    std::net::Ipv4Addr::new(192, 0, 2, 1).to_ipv6_mapped()
                ))
                .is_none(),
            "the same"
        );
        let second: Vec<Seat> = (0..9).filter_map(|_| seats.take(client(2))).collect();
        assert_eq!((second.len(), seats.take(client(3)).is_none()), (4, true));
        first.pop();
        assert!(seats.take(client(3)).is_some() && seats.take(client(1)).is_some());
    }
}
