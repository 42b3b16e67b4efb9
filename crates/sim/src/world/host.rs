//! One host: its clock, its disk, its daemon, and per workload a server, a gate, a share of the
//! deadman.

use crate::server::Server;
use karst_core::authority::Deadline;
use karst_core::consensus::Stored;
use karst_core::gate::ReadOrder;
use karst_core::node::Write;
use karst_core::replica::GateReport;
use karst_core::replica::agent::Kept;
use karst_core::spec::{Loss, Revision};
use karst_core::{Input, Node, Time, WorkloadId};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// What is on a host's disk, synced.
#[derive(Clone, Default)]
pub struct Disk {
    pub stored: Stored,
    pub kept: BTreeMap<WorkloadId, Kept>,
}

impl Disk {
    pub fn write(&mut self, write: Write) {
        match write {
            Write::Log(durable) => self.stored.take(durable),
            Write::Forgotten { workload } => drop(self.kept.remove(&workload)),
            Write::Kept { workload, kept } => {
                self.kept.insert(workload, kept);
            }
        }
    }
}

/// A steady clock that may run a little fast or slow, and may stand still.
pub struct Clock {
    true_base: u64,
    local_base: u64,
    /// Of a million in true time.
    rate: u64,
    stopped: Option<u64>,
}

const MILLION: u64 = 1_000_000;

/// `number * by / of` rounded down, without a step in between that is larger than both.
fn scaled(number: u64, by: u64, of: u64) -> u64 {
    let whole = (number / of).saturating_mul(by);
    whole.saturating_add(number % of * by / of)
}

impl Clock {
    pub fn new(offset: u64, ppm: i64) -> Self {
        Self {
            true_base: 0,
            local_base: offset,
            rate: MILLION.saturating_add_signed(ppm),
            stopped: None,
        }
    }

    pub fn at(&self, now: u64) -> Time {
        let passed = self.stopped.unwrap_or(now).saturating_sub(self.true_base);
        Time(self.local_base + scaled(passed, self.rate, MILLION))
    }

    /// True time at which it shows `t`, rounded up.
    pub fn true_time(&self, t: Time) -> u64 {
        let local = t.0.saturating_sub(self.local_base);
        let passed = scaled(local, MILLION, self.rate).saturating_add(1);
        self.true_base.saturating_add(passed)
    }

    pub fn set_rate(&mut self, ppm: i64, now: u64) {
        let rate = MILLION.saturating_add_signed(ppm);
        (self.local_base, self.true_base, self.rate) = (self.at(now).0, now, rate);
    }

    pub fn stop(&mut self, now: u64) {
        self.stopped.get_or_insert(now);
    }

    pub fn go_on(&mut self, now: u64) {
        self.local_base = self.at(now).0;
        (self.true_base, self.stopped) = (now, None);
    }
}

/// A workload on a host.
#[derive(Default)]
pub struct Slot {
    pub server: Server,
    /// The point that it has gone up to, and where that is.
    pub stood: Option<(String, usize)>,
    /// Whether its daemon looks at the server all the time, or now and then.
    pub closely: bool,
    /// The deadman's deadline on the host's clock, and how often it was moved.
    pub deadline: Option<Deadline>,
    pub moved: u64,
    /// Until when the kernel lets packets to the server pass; none: no guard was ever set (C3).
    pub guard: Option<Time>,
    pub has_address: bool,
    /// The daemon's run and turn of the last order about it that was carried out: the hands do one
    /// thing at a time.
    pub address_turn: (u64, u64),
    pub address_deadline: Option<Deadline>,
    pub acting: BTreeSet<u64>,
    /// The loss that the primary has taken.
    pub loss: Option<Loss>,
    /// A clean stop began while no write waited for the standby.
    pub stops_unwaited: bool,
    pub gate: GateReport,
    /// What the gate for readers was told.
    pub readers: ReadOrder,
}

/// A store's thread has one sync under way; all that comes meanwhile goes into the next.
#[derive(Clone, Copy, Default)]
pub struct Syncs {
    under_way: u64,
    next: u64,
}

impl Syncs {
    /// When what is written now is durable, a sync taking `delay`.
    pub fn end_of(&mut self, now: u64, delay: u64) -> u64 {
        if self.under_way <= now && self.next > now {
            self.under_way = self.next;
        }
        if self.under_way <= now {
            self.under_way = now + delay;
            return self.under_way;
        }
        if self.next <= self.under_way {
            self.next = self.under_way + delay;
        }
        self.next
    }

    /// When all that was written is durable.
    pub fn last(self) -> u64 {
        self.under_way.max(self.next)
    }
}

pub struct Host {
    pub node: Option<Node>,
    /// Of the daemon's run: happenings meant for an earlier run are dropped.
    pub run: u64,
    pub boot: u64,
    pub stores: u64,
    pub disk: Disk,
    /// An earlier state of the disk.
    pub backup: Option<Disk>,
    /// What was on a node store that was lost: whoever acknowledged it was right to.
    pub lost: Option<Stored>,
    pub sync_ms: u64,
    pub syncs: Syncs,
    /// By which other hosts what it says to these goes as well.
    pub ways: BTreeMap<usize, usize>,
    pub waiting: Vec<Input>,
    /// Of the daemon alone.
    pub paused: u32,
    /// Of everything but the kernel.
    pub frozen: u32,
    /// Of the machine.
    pub suspended: u32,
    /// What its daemon is started with where that is not what the world was formed with: whoever
    /// joins is given the spec of then.
    pub given: Option<Arc<Revision>>,
    pub deadman_dead: u32,
    pub deadman_late: u32,
    /// After a thaw it is scheduled again a little later than the server.
    pub deadman_from: u64,
    pub has_power: bool,
    pub clock: Clock,
    pub hanging: u32,
    pub slow_standby: u32,
    /// A checkpoint takes so long there; 0 where chance decides.
    pub checkpoint_ms: u64,
    /// Its servers take no setting up.
    pub stalled: u32,
    /// The error of its wall clock, in seconds.
    pub wall_off: i64,
    /// When something was the matter with it last.
    pub ill_at: u64,
    pub wake: u64,
    pub wakes: (u64, u32),
    pub isolated: u32,
    pub slots: Vec<Slot>,
}

impl Host {
    /// Its daemon does nothing at present.
    pub fn is_still(&self) -> bool {
        self.paused > 0 || self.stands()
    }

    /// Its processes do nothing at present.
    pub fn stands(&self) -> bool {
        self.frozen > 0 || self.suspended > 0
    }

    /// Somebody can write to the workload's server here, or read from it.
    pub fn serves(&self, workload: usize, now: u64, guarded: bool) -> bool {
        let slot = &self.slots[workload];
        let open = || !guarded || slot.guard.is_none_or(|until| self.clock.at(now) < until);
        slot.server.is_primary() && self.has_power && !self.stands() && !slot.server.hung && open()
    }
}
