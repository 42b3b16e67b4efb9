//! A workload's name in DNS, as it is ordered and as the name server has it.
//!
//! Whoever coordinates keeps it, and two may do so at the same time: one that is deposed and does
//! not know it yet, and the next. So the record has a mark beside it with the entry of the log by
//! which it was written, and is swapped only against the mark that was read (RFC 2136, 2.4): what is
//! late changes nothing.

use crate::ids::Index;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::net::IpAddr;

/// What a name is to lead to; its present is looked at first.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NameOrder {
    /// How much of the log whoever orders it had applied.
    pub entry: Index,
    /// None: it is only looked at.
    pub to: Option<BTreeSet<IpAddr>>,
}

/// What the name server has.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct NameSeen {
    pub to: BTreeSet<IpAddr>,
    /// By which entry it was written; none before this cluster has written any.
    pub entry: Option<Index>,
}
