//! What a coordinator remembers of power devices.

use crate::ids::{Index, NodeId};
use crate::power::{PowerOrder, PowerSeen};
use crate::time::Time;
use std::collections::BTreeMap;

/// The devices as this node knows them; nothing that a next coordinator could not find out.
#[derive(Debug, Default)]
pub(super) struct Devices {
    /// Fences whose power was read as off.
    pub off: BTreeMap<NodeId, Index>,
    /// Entries that asked for power which was then read as on.
    pub on: BTreeMap<NodeId, Index>,
    pub devices: BTreeMap<NodeId, Device>,
}

#[derive(Debug, Default)]
pub(super) struct Device {
    pub asked: Option<PowerOrder>,
    /// The last cut that was ordered.
    pub ordered: Option<Index>,
    /// The last entry for which it was to be turned on at once.
    pub tried_on: Option<Index>,
    /// Since when it is to be turned on.
    pub wanted_on: Option<(Index, Time)>,
    pub due: Time,
    pub seen: Option<Result<PowerSeen, String>>,
    pub seen_at: Time,
    /// The last failure that was recorded, so that a retry says something only when it is news.
    pub said: Option<String>,
}
