//! All integration tests of this crate, in one program: each test program that is linked costs as much
//! as all of them.

mod documents;
mod specfile;
mod wrong_specs;

/// Tests look how much memory a hostile input takes.
#[global_allocator]
static MEMORY: peak_alloc::PeakAlloc = peak_alloc::PeakAlloc;
