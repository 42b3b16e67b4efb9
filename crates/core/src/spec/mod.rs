//! The cluster described: zones, nodes, votes, workloads, replicas and gates, and the timings.
//!
//! Parsing is done outside (the file format belongs to the service's interface); what the
//! description means, and whether it is sound, is decided here. See [`check`].

mod change;
mod check;
mod endpoints;
mod finding;
mod judged;
mod model;
mod reach;
mod revision;
mod steps;
mod timings;
mod url;

pub use change::{Change, Fixed, fixed};
pub use check::check;
pub use finding::{Finding, FindingKind, KeyPath, Severity, nearest};
pub use judged::Judged;
pub(crate) use judged::standbys;
pub use model::{
    AddressSpec, After, Algorithm, Alone, Clock, Follows, Leads, Loss, MARK_OF_NAME, NameSpec,
    NodeSpec, PowerSpec, Readmit, Reads, ReplicaSpec, Rules, Spec, Subnet, WorkloadSpec,
};
pub use reach::{Reach, Reached, newly_reached, reached, secret_files};
pub use revision::Revision;
pub use timings::{COMMIT_ALLOWANCE, Inequality, Timings};
pub use url::may_carry_secrets;
