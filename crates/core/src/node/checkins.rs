//! What a node remembers of its own check-ins.

use crate::authority::Claim;
use crate::ids::{Epoch, NodeId, Term};
use crate::replica::Parts;
use crate::time::Time;

#[derive(Default)]
pub(super) struct Checkins {
    /// How many there were; the last one's number.
    pub count: u64,
    pub said: Option<Said>,
    pub essence: Option<Essence>,
}

/// Whom a node checks in with, what it wants, and what others act on in its report.
pub(super) type Essence = (NodeId, Vec<(Claim, Epoch)>, Parts);

/// The last check-in.
pub(super) struct Said {
    pub to: NodeId,
    pub term: Term,
    pub number: u64,
    pub sent: Time,
    /// Without what the mere passing of time changes.
    pub parts: Parts,
    /// What it said of its store, which no part of a report carries.
    pub counts: bool,
    /// When it was last said how peers are heard.
    pub heard_at: Time,
    /// Which of the accounts of its host it has given.
    pub about: u64,
    /// The coordinator answered it, so it has it.
    pub is_there: bool,
}

impl Checkins {
    /// The coordinator of `term` has what the check-in of that number said, and not one that an
    /// earlier run of this daemon gave the same number.
    pub fn on_answer(&mut self, number: u64, sent: Time, term: Term) {
        let said = self.said.as_mut();
        let is_it = |s: &&mut Said| (s.number, s.sent, s.term) == (number, sent, term);
        if let Some(said) = said.filter(is_it) {
            said.is_there = true;
        }
    }
}
