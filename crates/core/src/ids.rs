//! Names and numbers, each saying where it is unique.

use serde::{Deserialize, Deserializer, Serialize, Serializer};
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

/// A name, with its first eight letters as a number that orders names as they do: two that differ in
/// it are in its order, since a shorter one has zeros there. Most names that are compared differ in it,
/// or are copies of the spec's own: then no other letter has to be looked at.
#[derive(Clone, Eq)]
struct Name {
    head: u64,
    text: Arc<str>,
}

impl From<Arc<str>> for Name {
    fn from(text: Arc<str>) -> Self {
        let mut first = [0; 8];
        let count = text.len().min(first.len());
        first[..count].copy_from_slice(&text.as_bytes()[..count]);
        let head = u64::from_be_bytes(first);
        Self { head, text }
    }
}
impl PartialEq for Name {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}
impl PartialOrd for Name {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for Name {
    fn cmp(&self, other: &Self) -> Ordering {
        self.head.cmp(&other.head).then_with(|| {
            if Arc::ptr_eq(&self.text, &other.text) {
                Ordering::Equal
            } else {
                self.text.cmp(&other.text)
            }
        })
    }
}
impl Hash for Name {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.text.hash(state);
    }
}
impl Serialize for Name {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        self.text.serialize(to)
    }
}
impl<'de> Deserialize<'de> for Name {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        Arc::<str>::deserialize(from).map(Self::from)
    }
}

macro_rules! name {
    ($(#[$doc:meta])* $id:ident) => {
        $(#[$doc])*
        #[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(value_type = String))]
        #[serde(transparent)]
        pub struct $id(Name);

        impl $id {
            pub fn as_str(&self) -> &str {
                &self.0.text
            }
        }
        impl From<&str> for $id {
            fn from(name: &str) -> Self {
                Self(Name::from(Arc::from(name)))
            }
        }
        impl From<String> for $id {
            fn from(name: String) -> Self {
                Self(Name::from(Arc::from(name)))
            }
        }
        impl fmt::Display for $id {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(self.as_str())
            }
        }
        // Quoted: a name may come from anybody, and goes into logs.
        impl fmt::Debug for $id {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Debug::fmt(self.as_str(), f)
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

#[cfg(test)]
mod tests {
    use super::NodeId;
    use proptest::prelude::*;

    proptest! {
        /// Names are in the order of their letters, whatever these are.
        #[test]
        fn names_are_ordered_as_text(a in "[\\x00ab]{0,11}", b in "[\\x00ab]{0,11}") {
            let (x, y) = (NodeId::from(a.as_str()), NodeId::from(b.as_str()));
            prop_assert_eq!(x.cmp(&y), a.cmp(&b));
            prop_assert_eq!(x == y, a == b);
        }
    }
}
