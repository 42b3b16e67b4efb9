//! What may be committed together. Decisions of one look rest on one scene; a command that changes
//! that scene makes the others decisions about something that is no more. So it is alone in its
//! batch (G1): the others are decided on anew when it is applied.

use crate::command::Command;
use crate::planted::Planted;

/// The commands to commit now. Where both wait, failovers go first, and then the ground: neither keeps
/// the other waiting for longer than one commit, even if it is refused for ever. `ground_waits` says from
/// one look to the next whose turn it is.
pub fn batch(
    commands: Vec<Command>,
    ground_waits: &mut bool,
    planted: Option<Planted>,
) -> Vec<Command> {
    if planted == Some(Planted::GroundInBatch) {
        return commands;
    }
    let (mut ground, others): (Vec<_>, Vec<_>) = commands.into_iter().partition(Command::is_ground);
    ground.truncate(1);
    let first = others.is_empty() || *ground_waits;
    *ground_waits = !first && !ground.is_empty();
    if ground.is_empty() || !first {
        others
    } else {
        ground
    }
}
