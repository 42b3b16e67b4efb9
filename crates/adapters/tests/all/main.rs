//! All integration tests of this crate, in one program: each test program that is linked costs as much
//! as all of them.

mod connections;
mod guard;
mod name;
mod namespace;
mod postgres;
mod power;
mod step;
