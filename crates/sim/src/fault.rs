//! Faults as data: what happens when, and for how long.

use karst_core::NodeId;
use rand::Rng;
use rand_pcg::Pcg64Mcg;

/// One fault; times in milliseconds of true time.
#[derive(Clone, Debug, PartialEq)]
pub enum Fault {
    /// The daemon dies and is started again; the server and the deadman live on.
    KillDaemon {
        node: NodeId,
        down_ms: u64,
    },
    /// The daemon stands still, then goes on.
    PauseDaemon {
        node: NodeId,
        for_ms: u64,
    },
    /// The whole host loses power: what was not yet synced is gone.
    PowerCut {
        node: NodeId,
        down_ms: u64,
    },
    KillServer {
        node: NodeId,
    },
    /// Nothing gets in or out.
    Isolate {
        node: NodeId,
        for_ms: u64,
    },
    /// Nothing gets from one to the other; the way back works.
    OneWay {
        from: NodeId,
        to: NodeId,
        for_ms: u64,
    },
    /// Every message may be lost, and may come late or twice.
    Lossy {
        percent: u32,
        for_ms: u64,
    },
    /// Syncs of that node take this long.
    SlowDisk {
        node: NodeId,
        sync_ms: u64,
        for_ms: u64,
    },
    /// No power device answers.
    DeadDevices {
        for_ms: u64,
    },
    /// An operator asks for a planned move.
    Switchover {
        to: NodeId,
    },
}

/// A schedule of faults.
#[derive(Clone, Debug, Default)]
pub struct Script {
    /// When each begins, in milliseconds of true time.
    pub faults: Vec<(u64, Fault)>,
    /// When the run ends.
    pub until_ms: u64,
    /// The last of this many milliseconds are free of faults, and the cluster has to be whole at the end (L1).
    pub calm_ms: u64,
}

impl Script {
    /// Nothing happens for so many seconds.
    pub fn calm(seconds: u64) -> Self {
        Self { faults: Vec::new(), until_ms: seconds * 1000, calm_ms: seconds * 1000 }
    }

    /// Up to `count` random faults over half a minute, from the formation on, then calm.
    pub fn random(chance: &mut Pcg64Mcg, nodes: &[NodeId], replicas: &[NodeId], count: usize) -> Self {
        let mut faults = Vec::new();
        for _ in 0..chance.random_range(1..=count) {
            let node = nodes[chance.random_range(0..nodes.len())].clone();
            let other = nodes[chance.random_range(0..nodes.len())].clone();
            let replica = replicas[chance.random_range(0..replicas.len())].clone();
            let for_ms = *[50u64, 300, 900, 2_500, 6_000].get(chance.random_range(0..5)).expect("in range");
            let fault = match chance.random_range(0..11) {
                0 => Fault::KillDaemon { node, down_ms: for_ms },
                1 => Fault::PauseDaemon { node, for_ms },
                2 => Fault::PowerCut { node, down_ms: for_ms },
                3 | 4 => Fault::KillServer { node: replica },
                5 => Fault::Isolate { node, for_ms },
                6 => Fault::OneWay { from: node, to: other, for_ms },
                7 => Fault::Lossy { percent: chance.random_range(5..40), for_ms: for_ms * 2 },
                8 => Fault::SlowDisk { node, sync_ms: chance.random_range(5..200), for_ms },
                9 => Fault::DeadDevices { for_ms: for_ms * 2 },
                _ => Fault::Switchover { to: replica },
            };
            faults.push((chance.random_range(300..30_000), fault));
        }
        faults.sort_by_key(|(at, _)| *at);
        Self { faults, until_ms: 70_000, calm_ms: 25_000 }
    }
}
