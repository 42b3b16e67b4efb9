//! Who watches the status, and what they were shown last.

use crate::lock::lock;
use bytes::Bytes;
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use tokio::sync::watch;

/// Streams of one user, and of all: a console has one for each of its pages.
const PER_USER: usize = 24;
const STREAMS: usize = 400;

/// The newest status, and who watches it.
#[derive(Debug)]
pub struct Live {
    pub newest: watch::Sender<Bytes>,
    watching: Arc<Mutex<BTreeMap<String, usize>>>,
}

impl Default for Live {
    fn default() -> Self {
        Self {
            newest: watch::Sender::new(Bytes::new()),
            watching: Arc::default(),
        }
    }
}

/// One stream, as long as it lives.
pub struct Watching(Arc<Mutex<BTreeMap<String, usize>>>, String);

impl Live {
    pub fn join(&self, user: &str) -> Option<Watching> {
        let mut watching = lock(&self.watching);
        let own = watching.get(user).copied().unwrap_or(0);
        if own >= PER_USER || watching.values().sum::<usize>() >= STREAMS {
            return None;
        }
        watching.insert(user.into(), own + 1);
        Some(Watching(self.watching.clone(), user.into()))
    }
}

impl Drop for Watching {
    fn drop(&mut self) {
        let mut watching = lock(&self.0);
        let left = watching.get(&self.1).map_or(0, |own| own - 1);
        if left == 0 {
            watching.remove(&self.1);
        } else {
            watching.insert(self.1.clone(), left);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nobody_takes_all_the_streams() {
        let live = Live::default();
        let own: Vec<Watching> = (0..300).filter_map(|_| live.join("mate")).collect();
        assert_eq!(own.len(), PER_USER);
        let others: Vec<Watching> = (0..300)
            .filter_map(|n| live.join(&format!("u{}", n / 20)))
            .collect();
        assert_eq!(others.len(), 300);
        drop(own);
        assert!(live.join("mate").is_some());
    }
}
