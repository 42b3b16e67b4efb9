//! No code: one set of features for each third-party crate. Without it the tests of one crate would
//! build dozens of crates anew, as it asks for fewer features of them than the workspace as a whole.
