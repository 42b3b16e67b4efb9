//! What the exit code says of a command that was carried out.

/// How a command ended well.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ending {
    Done,
    NotWell,
}
