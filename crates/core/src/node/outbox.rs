//! What leaves a node: effects in order, writes among them, and what is held back until a write is
//! durable.
//!
//! - What says that something is durable leaves behind every write that was ordered before it (A5,
//!   F5).
//! - Everything else leaves at once: what takes authority away waits for no disk.

use super::inout::{Effect, Write};
use crate::consensus::LogId;
use crate::ids::{NodeId, Term, WorkloadId};
use crate::planted::Planted;
use std::collections::VecDeque;

/// What becomes true once a write is durable.
#[derive(Clone, Debug)]
pub(super) enum Mark {
    Log { last: LogId, term: Term },
    Kept(WorkloadId),
}

#[derive(Debug)]
pub(super) struct Outbox {
    planted: Option<Planted>,
    /// They leave together under `next_persist`.
    writes: Vec<Write>,
    next_persist: u64,
    persisted: u64,
    marks: VecDeque<(u64, Mark)>,
    held: VecDeque<(u64, Effect)>,
    effects: VecDeque<Effect>,
}

impl Outbox {
    pub fn new(planted: Option<Planted>) -> Self {
        Self {
            planted,
            writes: Vec::new(),
            next_persist: 1,
            persisted: 0,
            marks: VecDeque::new(),
            held: VecDeque::new(),
            effects: VecDeque::new(),
        }
    }

    /// The next effect that may leave.
    pub fn poll(&mut self) -> Option<Effect> {
        self.effects.pop_front()
    }

    /// It leaves at once, whatever is being written.
    pub fn emit_now(&mut self, effect: Effect) {
        self.effects.push_back(effect);
    }

    /// It leaves behind every write that was ordered before it, if it says what is durable.
    pub fn emit(&mut self, effect: Effect) {
        let waits = self.persisted + 1 < self.next_persist || !self.writes.is_empty();
        if !(waits && self.depends_on_writes(&effect))
            || self.planted == Some(Planted::SendBeforeDurable)
        {
            self.effects.push_back(effect);
            return;
        }
        // The pending writes leave under the next number.
        let number = if self.writes.is_empty() {
            self.next_persist - 1
        } else {
            self.next_persist
        };
        // A disk that hangs must not make this grow with each heartbeat: of two acknowledgements of
        // the same the later counts.
        if let Effect::Send { to, message } = &effect
            && let Some((_, Effect::Send { message: held, .. })) = self
                .held
                .iter_mut()
                .rev()
                .find(|(n, e)| *n == number && is_to(e, to))
            && held.is_replaced_by(message)
        {
            held.clone_from(message);
            return;
        }
        self.held.push_back((number, effect));
    }

    fn depends_on_writes(&self, effect: &Effect) -> bool {
        match effect {
            Effect::Send { message, .. } => message.says_what_is_durable(),
            Effect::Act { .. } | Effect::Gate { .. } | Effect::Address { .. } => {
                self.planted == Some(Planted::HoldBackStops)
            }
            _ => false,
        }
    }

    /// To be written with the others of this step; `mark` comes true when it is durable.
    pub fn write(&mut self, write: Write, mark: Mark) {
        self.writes.push(write);
        self.marks.push_back((self.next_persist, mark));
    }

    /// To be written with the others of this step; nobody waits for it.
    pub fn write_only(&mut self, write: Write) {
        self.writes.push(write);
    }

    /// Sends the writes of this step on their way.
    pub fn flush(&mut self) {
        if !self.writes.is_empty() {
            let writes = std::mem::take(&mut self.writes);
            self.effects.push_back(Effect::Persist {
                number: self.next_persist,
                writes,
            });
            self.next_persist += 1;
        }
    }

    /// Writes up to this number are durable: what has come true, and whatever waited for it may
    /// leave.
    #[must_use]
    pub fn on_persisted(&mut self, number: u64) -> Vec<Mark> {
        self.persisted = self.persisted.max(number);
        let mut marks = Vec::new();
        while let Some((_, mark)) = self.marks.pop_front_if(|(n, _)| *n <= number) {
            marks.push(mark);
        }
        while let Some((_, effect)) = self.held.pop_front_if(|(n, _)| *n <= number) {
            self.effects.push_back(effect);
        }
        marks
    }
}

fn is_to(effect: &Effect, node: &NodeId) -> bool {
    matches!(effect, Effect::Send { to, .. } if to == node)
}
