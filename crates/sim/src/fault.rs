//! Faults as data: what happens when, and for how long.

use crate::edit::Edit;
use karst_core::request::{Plea, Request};
use karst_core::{NodeId, WorkloadId};

/// One fault; times in milliseconds of true time.
#[derive(Clone, Debug, PartialEq)]
pub enum Fault {
    /// The daemon dies and is started again; the server and the deadman live on.
    KillDaemon { node: NodeId, down_ms: u64 },
    /// The daemon stands still, then goes on.
    PauseDaemon { node: NodeId, for_ms: u64 },
    /// The deadman is gone, and confirms and ends nothing until it is started again.
    KillDeadman { node: NodeId, for_ms: u64 },
    /// The deadman acts late, by at most its kill bound.
    LateDeadman { node: NodeId, for_ms: u64 },
    /// The whole host loses power: what was not yet synced is gone.
    PowerCut { node: NodeId, down_ms: u64 },
    /// The host loses power and boots with an empty node store.
    LoseStore { node: NodeId, down_ms: u64 },
    /// The daemon dies and is started again on an earlier state of its node store.
    RestoreStore { node: NodeId, down_ms: u64 },
    /// Everything on the host stands still but its kernel, which goes on answering.
    FreezeHost { node: NodeId, for_ms: u64 },
    /// The machine stands still, its kernel and, where the spec says that it may, its clock.
    Suspend { node: NodeId, for_ms: u64 },
    /// The first process of each server exits; what it left behind serves for so long.
    KillServer { node: NodeId, lingers_ms: u64 },
    /// The servers run and answer nobody.
    HangServer { node: NodeId, for_ms: u64 },
    /// Nothing gets in or out.
    Isolate { node: NodeId, for_ms: u64 },
    /// Nothing gets from one to the other; the way back works.
    OneWay {
        from: NodeId,
        to: NodeId,
        for_ms: u64,
    },
    /// These hear each other, and the others each other.
    Partition { inside: Vec<NodeId>, for_ms: u64 },
    /// Every message may be lost, and may come late, by up to so much, or twice.
    Lossy {
        percent: u32,
        late_ms: u64,
        for_ms: u64,
    },
    /// Syncs of that node take this long.
    SlowDisk {
        node: NodeId,
        sync_ms: u64,
        for_ms: u64,
    },
    /// Its clock runs so much faster or slower, in millionths.
    ClockRate { node: NodeId, ppm: i64 },
    /// No power device answers.
    DeadDevices { for_ms: u64 },
    /// Every power device answers that much later.
    LateDevices { by_ms: u64, for_ms: u64 },
    /// So many per cent of all actions on servers fail; half of these were carried out all the
    /// same.
    Flaky { percent: u32, for_ms: u64 },
    /// No action on a server of that node ends.
    HangActions { node: NodeId, for_ms: u64 },
    /// A standby falls behind: it receives next to nothing.
    SlowStandby { node: NodeId, for_ms: u64 },
    /// Checkpoints of that node's servers take so long.
    SlowCheckpoint {
        node: NodeId,
        takes_ms: u64,
        for_ms: u64,
    },
    /// The servers of that node do not take a setting up until it is over: the process that decides
    /// whether commits wait stands still.
    StalledSetting { node: NodeId, for_ms: u64 },
    /// The clock by which people live goes forward or back on that node, by so many seconds.
    WallClock { node: NodeId, by_s: i64 },
    /// A person switches off the nodes that this node's screen allows to be switched off.
    SwitchOff { of: NodeId, down_ms: u64 },
    /// It says whatever it likes to everybody, besides what it is meant to say.
    Hostile { node: NodeId, for_ms: u64 },
    /// Somebody asks this, of that node.
    Ask { of: NodeId, request: Request },
    /// Somebody submits the spec in force with an edit, to that node.
    Submit { of: NodeId, edit: Edit },
    /// Somebody asks that node that these rest; or that all that is wanted ends.
    Rest {
        of: NodeId,
        nodes: Vec<NodeId>,
        end: bool,
    },
    /// Somebody asks that node that the servers of a workload are restarted, one after the other.
    Restart { of: NodeId, workload: WorkloadId },
}

impl Fault {
    /// Its kind, in a word.
    pub fn kind(&self) -> &'static str {
        match self {
            Fault::KillDaemon { .. } => "daemon killed",
            Fault::PauseDaemon { .. } => "daemon paused",
            Fault::KillDeadman { .. } => "deadman killed",
            Fault::LateDeadman { .. } => "deadman late",
            Fault::PowerCut { .. } => "power cut",
            Fault::LoseStore { .. } => "store lost",
            Fault::RestoreStore { .. } => "store restored",
            Fault::FreezeHost { .. } => "host frozen",
            Fault::Suspend { .. } => "machine suspended",
            Fault::KillServer { .. } => "server killed",
            Fault::HangServer { .. } => "server hung",
            Fault::Isolate { .. } => "host cut off",
            Fault::OneWay { .. } => "one way cut",
            Fault::Partition { .. } => "partition",
            Fault::Lossy { .. } => "loss and delay",
            Fault::SlowDisk { .. } => "slow disk",
            Fault::ClockRate { .. } => "clock rate",
            Fault::DeadDevices { .. } => "devices dead",
            Fault::LateDevices { .. } => "devices late",
            Fault::Flaky { .. } => "actions fail",
            Fault::HangActions { .. } => "actions hang",
            Fault::SlowStandby { .. } => "standby slow",
            Fault::SlowCheckpoint { .. } => "checkpoint slow",
            Fault::StalledSetting { .. } => "setting stalled",
            Fault::WallClock { .. } => "wall clock moved",
            Fault::SwitchOff { .. } => "switched off by the screen",
            Fault::Hostile { .. } => "node hostile",
            Fault::Submit { .. } => "edit submitted",
            Fault::Rest { end: false, .. } => "maintenance asked",
            Fault::Rest { end: true, .. } => "maintenance ended",
            Fault::Restart { .. } => "restart asked",
            Fault::Ask { request, .. } => match request {
                Request::Switchover { .. } => "switchover asked",
                Request::Failover { .. } => "failover asked",
                Request::Mode { .. } => "mode asked",
                Request::Approve { .. } => "approval asked",
                Request::Fence { .. } => "fence asked",
                Request::Readmit { .. } => "readmission asked",
                Request::Power { .. } => "power asked",
                Request::Acknowledge { .. } => "acknowledgement asked",
                Request::Intend { plea, .. } => match plea {
                    Plea::SafetyPoint { .. } => "safety point asked",
                    Plea::GoBack { .. } => "going back asked",
                    Plea::Enrol { .. } => "enrolment asked",
                    Plea::Revision { .. } | Plea::Maintenance { .. } | Plea::Restart { .. } => {
                        "intent asked"
                    }
                },
                Request::EndIntent { .. } => "end of an intent asked",
                Request::HandOver { .. } => "hand-over asked",
                Request::Invite { .. } => "invitation asked",
                Request::Join { .. } => "join asked",
                Request::Status | Request::OwnStatus => "status asked",
            },
        }
    }

    /// How long it lasts, if it ends by itself.
    pub(crate) fn lasts(&self) -> Option<u64> {
        match self {
            Fault::KillDaemon { down_ms: ms, .. }
            | Fault::PowerCut { down_ms: ms, .. }
            | Fault::LoseStore { down_ms: ms, .. }
            | Fault::RestoreStore { down_ms: ms, .. }
            | Fault::KillServer { lingers_ms: ms, .. }
            | Fault::PauseDaemon { for_ms: ms, .. }
            | Fault::KillDeadman { for_ms: ms, .. }
            | Fault::LateDeadman { for_ms: ms, .. }
            | Fault::FreezeHost { for_ms: ms, .. }
            | Fault::Suspend { for_ms: ms, .. }
            | Fault::HangServer { for_ms: ms, .. }
            | Fault::Isolate { for_ms: ms, .. }
            | Fault::OneWay { for_ms: ms, .. }
            | Fault::Partition { for_ms: ms, .. }
            | Fault::Lossy { for_ms: ms, .. }
            | Fault::SlowDisk { for_ms: ms, .. }
            | Fault::DeadDevices { for_ms: ms }
            | Fault::LateDevices { for_ms: ms, .. }
            | Fault::Flaky { for_ms: ms, .. }
            | Fault::HangActions { for_ms: ms, .. }
            | Fault::SlowStandby { for_ms: ms, .. }
            | Fault::SlowCheckpoint { for_ms: ms, .. }
            | Fault::StalledSetting { for_ms: ms, .. }
            | Fault::Hostile { for_ms: ms, .. } => Some(*ms),
            Fault::ClockRate { .. }
            | Fault::WallClock { .. }
            | Fault::SwitchOff { .. }
            | Fault::Ask { .. }
            | Fault::Submit { .. }
            | Fault::Rest { .. }
            | Fault::Restart { .. } => None,
        }
    }
}
