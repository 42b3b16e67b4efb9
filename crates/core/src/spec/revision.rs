//! A version of the spec, as it was written and what it says. The value is the truth; the text is
//! what people get back.

use super::Spec;
use crate::author::Author;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Revision {
    /// 1 for the one that the cluster was formed with.
    pub number: u64,
    pub text: Arc<str>,
    pub spec: Arc<Spec>,
    pub by: Author,
    /// In seconds since the Unix epoch; 0 where nobody said.
    pub at: u64,
    pub why: Option<String>,
}

impl Revision {
    /// What a cluster is formed with.
    pub fn first(spec: Spec, text: impl Into<Arc<str>>) -> Self {
        Self {
            number: 1,
            text: text.into(),
            spec: Arc::new(spec),
            by: Author::Cluster,
            at: 0,
            why: None,
        }
    }
}
