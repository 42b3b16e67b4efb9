//! All integration tests of this crate, in one program: each test program that is linked costs as much
//! as all of them.

mod addresses;
mod agent;
mod alone;
mod batches;
mod candidates;
mod charter;
mod consensus;
mod copies;
mod desk;
mod fencing;
mod holders;
mod keeper;
mod lone;
mod net;
mod outlook;
mod ownsteps;
mod rules;
mod state;
mod wanted;
