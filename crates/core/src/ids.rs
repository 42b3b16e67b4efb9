//! Names and numbers, each saying where it is unique.

use serde::{Deserialize, Serialize};
use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

/// Of a name, in letters.
const NAME: usize = 200;

/// Whether something can be called so: what comes from outside goes into logs and onto screens.
pub fn is_name(name: &str) -> bool {
    name.len() <= NAME && !name.chars().any(char::is_control)
}

macro_rules! name {
    ($(#[$doc:meta])* $id:ident) => {
        $(#[$doc])*
        #[derive(Clone, Eq, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(value_type = String))]
        #[serde(transparent)]
        pub struct $id(Arc<str>);

        // Most names that are compared are copies of the spec's own: then no letter has to be
        // looked at.
        impl PartialEq for $id {
            fn eq(&self, other: &Self) -> bool {
                Arc::ptr_eq(&self.0, &other.0) || self.0 == other.0
            }
        }
        impl Hash for $id {
            fn hash<H: Hasher>(&self, state: &mut H) {
                self.0.hash(state);
            }
        }
        impl PartialOrd for $id {
            fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
                Some(self.cmp(other))
            }
        }
        impl Ord for $id {
            fn cmp(&self, other: &Self) -> Ordering {
                if Arc::ptr_eq(&self.0, &other.0) { Ordering::Equal } else { self.0.cmp(&other.0) }
            }
        }

        impl $id {
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }
        impl From<&str> for $id {
            fn from(name: &str) -> Self {
                Self(name.into())
            }
        }
        impl From<String> for $id {
            fn from(name: String) -> Self {
                Self(name.into())
            }
        }
        impl fmt::Display for $id {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }
        // Quoted: a name may come from anybody, and goes into logs.
        impl fmt::Debug for $id {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Debug::fmt(&self.0, f)
            }
        }
    };
}

name!(
    /// A node's name in the spec; unique in the cluster.
    NodeId
);
name!(
    /// A workload's name in the spec; unique in the cluster.
    WorkloadId
);
name!(
    /// One node store; a new one, and one that went back in time, never has it again (A6).
    StoreId
);
name!(
    /// One start of one host; two starts never share it. A surrender is bound to it (C5).
    BootId
);
name!(
    /// One run of a server, as its host tells one from the next; two runs never share it.
    RunId
);
name!(
    /// One line of writes, as its server names it; a promotion begins a new one.
    History
);

macro_rules! number {
    ($(#[$doc:meta])* $id:ident) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        #[serde(transparent)]
        pub struct $id(pub u64);

        impl $id {
            pub fn next(self) -> Self {
                Self(self.0.saturating_add(1))
            }
        }
        impl fmt::Display for $id {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Display::fmt(&self.0, f)
            }
        }
    };
}

number!(
    /// A term of leadership; at most one coordinator in each (S1).
    Term
);
number!(
    /// A place in the replicated log; the first entry is 1, and 0 means "before the log".
    Index
);
number!(
    /// One tenure of one primary; strictly increasing per workload (S4). 0 means "never had a
    /// primary".
    Epoch
);

/// The log index of the entry that began the operation; unique in the cluster.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(transparent)]
pub struct OperationId(pub u64);

impl fmt::Display for OperationId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "op-{}", self.0)
    }
}
