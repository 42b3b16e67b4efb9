//! What the service, its clients and the console share: the spec file's format, the HTTP
//! interface's types, and a typed client.
//!
//! The types of the cluster itself come from [`karst_core`] and are re-exported as [`core`].

pub mod client;
mod problem;
pub mod specfile;
mod types;

pub use client::{Client, ClientError};
pub use karst_core as core;
pub use problem::{Problem, ProblemType};
pub use types::*;
