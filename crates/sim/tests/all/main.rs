//! All integration tests of this crate, in one program: each test program that is linked costs as much
//! as all of them.

mod changing;
mod door;
mod each_step;
mod planted;
mod plants;
mod points;
mod seeds;
mod shown;
mod wishes;
mod worst_case;
