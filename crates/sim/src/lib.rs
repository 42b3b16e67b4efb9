//! A virtual world around the core: time, a network, disks, servers, hosts and faults, all from one
//! seed.
//!
//! Many [`karst_core::Node`]s run in it exactly as they run in the daemon. After every step the
//! guarantees are checked; a failing seed replays the same way and tells its story, and [`shrink`]
//! finds the fewest faults that tell it.
//!
//! ```
//! use karst_sim::{Script, World};
//! let mut world = World::new(karst_sim::ferry_spec(), 1, None);
//! world.run(&Script::calm(30)).unwrap_or_else(|failure| panic!("{failure}"));
//! ```
//!
//! What it does not do: real servers, real sockets, real disks. Those are the lab's.

mod check;
mod cluster;
pub mod dice;
mod edit;
mod fault;
mod random;
mod script;
mod server;
mod world;

pub use check::Failure;
pub use cluster::{Shape, ferry_spec, five_by_three, powered_spec};
pub use edit::Edit;
pub use fault::Fault;
pub use random::{Lively, Run, shrink};
pub use script::Script;
pub use world::{Slow, World};
