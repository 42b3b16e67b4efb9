//! Hands on the outside world: the driver of real PostgreSQL servers, the gate that clients dial,
//! their floating address, power devices, and the ending of whole process trees.
//!
//! Nothing is decided here. A driver carries out a [`karst_core::replica::Action`] and says what it
//! sees; a gate carries out a [`karst_core::gate::GateOrder`]. Which ones, and when, is the core's
//! business.

pub mod address;
pub mod gate;
pub mod guard;
pub mod postgres;
pub mod power;
pub mod process;
pub mod seats;
mod secret;

pub use address::Address;
pub use gate::Gate;
pub use guard::Guard;
pub use postgres::Postgres;
pub use power::Power;
pub use seats::{Bounds, Seat, Seats};
