//! Who decided something: the cluster by itself, or a person. No name that a person can have stands
//! for the cluster.

use crate::ids::NodeId;
use serde::{Deserialize, Serialize};
use std::fmt;

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Author {
    Cluster,
    Person {
        name: String,
        /// The node that passed the request on, where that was not the coordinator itself.
        through: Option<NodeId>,
    },
}

impl Author {
    /// Somebody who asked the coordinator itself.
    pub fn person(name: &str) -> Self {
        Author::Person {
            name: name.into(),
            through: None,
        }
    }

    pub fn is_person(&self) -> bool {
        matches!(self, Author::Person { .. })
    }
}

impl fmt::Display for Author {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Author::Cluster => f.pad("cluster"),
            Author::Person {
                name,
                through: None,
            } => f.pad(name),
            Author::Person {
                name,
                through: Some(node),
            } => f.pad(&format!("{name} through {node}")),
        }
    }
}

/// A person shows this in order to be believed. It goes to the coordinator, which looks it up by
/// itself, and into no log or record.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Token(String);

impl Token {
    pub fn new(secret: impl Into<String>) -> Self {
        Self(secret.into())
    }

    pub fn secret(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Token {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Token(not shown)")
    }
}

/// A person or a host may ask for so much.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Level {
    #[default]
    Observe,
    Operate,
    Administer,
}

impl Level {
    pub const ALL: [Level; 3] = [Level::Observe, Level::Operate, Level::Administer];

    pub fn word(self) -> &'static str {
        match self {
            Level::Observe => "observe",
            Level::Operate => "operate",
            Level::Administer => "administer",
        }
    }
}
