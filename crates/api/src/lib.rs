//! What the service, its clients and the console share: the spec file's format, the HTTP
//! interface's types, and a typed client.
//!
//! The types of the cluster itself come from [`karst_core`] and are re-exported as [`core`].

pub mod client;
pub mod firstspec;
pub mod invitation;
pub mod pki;
mod problem;
mod report;
mod serversettings;
pub mod specfile;
mod types;

pub use client::{Client, ClientError, date_of};
pub use karst_core as core;
pub use problem::{Problem, ProblemType};
pub use report::{Around, Line, OperationReport};
pub use types::*;
