//! What is due by the mere passing of time, and whether anything else calls for a step.

use crate::consensus::LogId;
use crate::ids::{Index, NodeId, Term};
use crate::time::Time;
use std::time::Duration;

/// What consensus has come to: who leads in which term, how far the log goes, and how much of it is
/// committed.
pub(super) type Known = (Term, Option<NodeId>, LogId, Index);

pub(super) struct Timers {
    /// The next heartbeat.
    pub beat: Time,
    /// The next look at whom this node hears.
    pub health: Time,
    /// When this node last did anything, and since when it has not stood still.
    moved: Time,
    pub awake_since: Time,
    /// When the last whole step was taken: what was due by then has been acted on.
    pub stepped: Time,
    /// Something that somebody acts on may have changed since the last whole step; see
    /// [`Node::advance`](super::Node::advance).
    pub stirred: bool,
    /// What consensus said at the last whole step.
    pub known: Option<Known>,
    /// What the host's clock said last, in seconds since the Unix epoch, and when.
    pub wall: Option<(Time, u64)>,
}

impl Timers {
    pub fn new(now: Time) -> Self {
        Self {
            beat: now,
            health: now,
            moved: now,
            awake_since: now,
            stepped: Time::ZERO,
            stirred: true,
            known: None,
            wall: None,
        }
    }

    /// Seconds since the Unix epoch.
    pub fn wall(&self, now: Time) -> Option<u64> {
        let (at, unix) = self.wall?;
        Some(unix + now.since(at).as_secs())
    }

    /// It does something now. It is woken each heartbeat: whoever was silent for longer than that
    /// may have been heard by nobody here.
    pub fn on_move(&mut self, now: Time, heartbeat: Duration) {
        if now.since(self.moved) > heartbeat * 2 {
            self.awake_since = now;
        }
        self.moved = now;
    }
}
