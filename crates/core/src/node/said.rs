//! What a node remembers of its check-ins, and a coordinator of those that it has not answered.

use crate::authority::Claim;
use crate::ids::{Epoch, NodeId, Term};
use crate::replica::Parts;
use crate::time::Time;

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
    /// The coordinator answered it, so it has it.
    pub is_there: bool,
}

/// A check-in that is to be answered once a majority has answered something later.
pub(super) struct Waiting {
    pub from: NodeId,
    pub number: u64,
    pub sent: Time,
    pub wants: Vec<(Claim, Epoch)>,
    pub news: bool,
    pub at: Time,
}
