//! What a power device is asked, and what it says. A request alone proves nothing: only a state
//! that was read counts (C7).

use crate::ids::Index;
use serde::{Deserialize, Serialize};

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PowerOrder {
    /// Only read the state.
    Look,
    /// Cut the power under this committed entry, and read the state until it is off.
    Off { fence: Index },
    /// Turn it on, as this committed entry asks, and read the state until it is on.
    On { asked: Index },
}

/// The state as it was read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PowerSeen {
    pub on: bool,
    /// Which hardware the device says it powers, as a UUID.
    pub system: Option<String>,
}
