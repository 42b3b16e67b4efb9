//! Hands on the outside world: real servers and the drivers that know their programs, the gate that
//! clients dial, their floating address, power devices, and the ending of whole process trees.
//!
//! Nothing is decided here. A driver carries out a [`karst_core::replica::Action`] and says what it
//! sees; a gate carries out a [`karst_core::gate::GateOrder`]. Which ones, and when, is the core's
//! business.

pub mod address;
pub mod driver;
mod files;
pub mod gate;
pub mod guard;
mod host;
mod lines;
pub mod name;
pub mod postgres;
pub mod power;
pub mod process;
pub mod seats;
mod secret;
pub mod server;
pub mod site;
pub mod step;
pub mod trouble;

pub use address::Address;
pub use gate::{Gate, Order};
pub use guard::Guard;
pub use name::Name;
pub use power::Power;
pub use seats::{Bounds, Seat, Seats};
pub use server::Server;
pub use site::Placed;
pub use step::Steps;
