//! What can happen in the world.

use super::names::Swap;
use crate::fault::Fault;
use karst_core::Input;
use karst_core::address::AddressOrder;
use karst_core::message::Message;
use karst_core::node::Write;
use karst_core::ownstep::Occasion;
use karst_core::power::{PowerOrder, PowerSeen};
use karst_core::replica::Action;

/// What happens; hosts and workloads by their place in the spec.
pub(super) enum Happening {
    Input(usize, u64, Input),
    Wake(usize, u64, u64),
    Durable(usize, u64, u64, Vec<Write>),
    Act(usize, u64, usize, u64, Action),
    Deadman(usize, usize, u64),
    Address(usize, u64, usize, AddressOrder),
    AddressLook(usize, u64, usize, u64),
    Device(usize, u64, usize, PowerOrder, Step),
    Swap(Box<Swap>),
    /// Tried again by that run of a daemon.
    Steps(usize, u64, Box<Occasion>),
    Fault(Fault),
    /// Of a fault that was begun in this run and boot of its host.
    End(Fault, (u64, u64)),
    Resume(usize, (u64, u64)),
    /// On its way round a broken link: which host passes it on, in which of its runs, whose word it
    /// is, and for whom.
    Pass {
        via: usize,
        run: u64,
        speaker: usize,
        to: usize,
        message: Message,
    },
    /// A host that says whatever it likes, until then.
    Hostile(usize, u64),
    Tick,
}

/// A request on its way, and its answer on the way back.
pub(super) enum Step {
    /// The request arrives at the device.
    Arrives,
    /// The state is read.
    Read,
    /// What was read arrives.
    Answers(PowerSeen),
}
