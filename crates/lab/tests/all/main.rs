//! All integration tests of this crate, in one program: each test program that is linked costs as much
//! as all of them.

mod access;
mod address;
mod adopting;
mod change;
mod console;
mod descriptors;
mod doors;
mod each_step;
mod failover;
mod faults;
mod gate;
mod hosts;
mod hour;
mod joining;
mod leaving;
mod lines;
mod name;
mod ordinary_user;
mod power;
mod reads;
mod renewal;
mod rig;
mod safety_point;
mod steps;
mod trouble;
mod truth;
mod units;
mod way_home;
mod ways;
