//! Which findings a person knows of, by their names.

use crate::author::Author;
use crate::command::ClusterAct;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// So many are kept; nobody reads more.
const MOST: usize = 500;

#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Acknowledgements(BTreeMap<String, Acknowledged>);

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Acknowledged {
    pub by: Author,
    /// In seconds since the Unix epoch.
    pub at: u64,
    pub note: String,
}

impl Acknowledgements {
    pub fn get(&self, finding: &str) -> Option<&Acknowledged> {
        self.0.get(finding)
    }

    pub fn findings(&self) -> impl Iterator<Item = &String> {
        self.0.keys()
    }

    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether there is room for one of this finding.
    pub fn takes(&self, finding: &str) -> bool {
        self.0.len() < MOST || self.0.contains_key(finding)
    }

    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Some of them, for a piece of a snapshot.
    pub fn part(&self, skip: usize, most: usize) -> Self {
        let part = self.0.iter().skip(skip).take(most);
        Self(part.map(|(k, v)| (k.clone(), v.clone())).collect())
    }

    pub fn extend(&mut self, more: Self) {
        self.0.extend(more.0);
    }

    pub(super) fn apply(&mut self, act: &ClusterAct) -> bool {
        match act {
            ClusterAct::Forget { finding, .. } => self.0.remove(finding).is_some(),
            ClusterAct::Acknowledge {
                finding,
                by,
                at,
                note,
            } => {
                if !self.takes(finding) {
                    return false;
                }
                let acknowledged = Acknowledged {
                    by: by.clone(),
                    at: *at,
                    note: note.clone(),
                };
                self.0.insert(finding.clone(), acknowledged);
                true
            }
            _ => false,
        }
    }
}
