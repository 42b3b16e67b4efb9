//! The oracle: what is possible at best.
