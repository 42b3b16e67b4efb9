//! A whole cluster on this machine: hosts as network namespaces, real daemons, real servers, a real
//! client load, faults, drills and measurements.
//!
//! The lab knows nothing about the daemons' inside: it starts the built programs, signals processes
//! by number, and looks at the cluster through the HTTP interface like anyone else.

pub mod bench;
pub mod capture;
pub mod certs;
pub mod cluster;
pub mod controller;
pub mod crowd;
pub mod demo;
pub mod dial;
pub mod disk;
pub mod drill;
pub mod fault;
pub mod find;
pub mod floor;
pub mod hang;
pub mod idle;
pub mod inside;
pub mod journal;
pub mod keep;
pub mod layout;
pub mod named;
pub mod network;
pub mod power;
mod prepare;
pub mod quantile;
pub mod scale;
pub mod shape;
mod spec;
pub mod steal;
pub mod thief;
pub mod unit;
pub mod waiting;
pub mod watchdogs;
pub mod writer;

pub use cluster::Lab;
pub use layout::Layout;
