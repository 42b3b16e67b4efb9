//! What a spec is made of.

use super::timings::Timings;
use crate::author::Level;
use crate::ids::{NodeId, WorkloadId};
use crate::ownstep::{OwnStep, Point, StepTimes};
use crate::votes::Votes;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

/// The whole cluster. Every node has the same one; nodes with different ones refuse each other.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Spec {
    /// The cluster's name, shown on every screen. 1 to 40 letters, digits and dashes.
    pub cluster: String,
    pub timings: Timings,
    pub zones: Vec<String>,
    pub nodes: BTreeMap<NodeId, NodeSpec>,
    pub workloads: BTreeMap<WorkloadId, WorkloadSpec>,
    /// The site's own programs, run at named points.
    #[serde(default)]
    pub steps: BTreeMap<String, OwnStep>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodeSpec {
    pub zone: String,
    /// Weight in the quorum; 0 to 7, default 1 (0 for a member that only replicates the log).
    pub votes: u32,
    /// Votes and keeps the log, never runs a workload.
    pub witness: bool,
    /// Where other nodes reach it (UDP).
    pub peer: SocketAddr,
    /// Where its HTTP service listens with TLS.
    pub api: Option<SocketAddr>,
    /// Where people's browsers reach that service, if it is another URL than `https://` and `api`:
    /// behind a proxy, or by a name. Scheme, host and port alone.
    pub console: Option<String>,
    /// What can cut its power, on a network of its own; without one only its lease's end proves
    /// that it is gone.
    pub power: Option<PowerSpec>,
    /// How it comes back after it was fenced (S6).
    pub readmit: Readmit,
    /// Whether its clock may stand still while the host is suspended (C4).
    pub clock: Clock,
    /// A person at this host may ask another host for so much without a token. A holder of this node's
    /// key may do the same.
    #[serde(default)]
    pub local: Level,
}

/// What is known of a host's steady clock.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Clock {
    /// Nothing was said: it is taken for steady, and a finding says what is risked.
    #[default]
    Unsaid,
    /// It goes on while the host is suspended or stands still, as bare metal's does: its lease's
    /// end proves that it has stopped.
    Steady,
    /// A virtual machine that is suspended may not notice: only its power read as off, or its own
    /// word, proves that it has stopped.
    MayStop,
}

/// A power device and how to reach it; the settings are the adapter's.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PowerSpec {
    /// `redfish` or `command`.
    pub driver: String,
    pub settings: BTreeMap<String, String>,
    pub after: After,
}

/// What becomes of a host whose power the cluster has cut, once others hold what it held.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum After {
    /// It is turned on, and comes back as a standby.
    #[default]
    On,
    /// It stays off until a person turns it on.
    Off,
}

/// Who takes a fenced node back.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Readmit {
    /// The cluster, once the host has booted anew and nothing runs there.
    Auto,
    /// A person.
    #[default]
    Ask,
}

/// What may be lost when a primary dies.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Loss {
    /// Nothing that a client saw acknowledged as replicated (S5). Commits wait for every member of
    /// the sync set.
    None,
    /// Up to this many bytes of write-ahead log.
    Bytes(u64),
}

/// What a `loss = "none"` primary does with an empty sync set (D3).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Alone {
    /// Writes wait until a standby is back.
    #[default]
    Block,
    /// Writes go on unprotected; no automatic failover until the set is filled again.
    Continue,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct WorkloadSpec {
    /// The kind of program: `postgres`.
    pub driver: String,
    pub loss: Loss,
    pub alone: Alone,
    /// There are data already, and maybe servers that run on them and that Karst did not start: each
    /// is stopped once, and started by Karst. Default false: such a server is left alone.
    #[serde(default)]
    pub adopt: bool,
    /// Restart a dead primary where it died before looking elsewhere. Default false.
    pub restart: bool,
    pub replicas: BTreeMap<NodeId, ReplicaSpec>,
    /// Where clients connect for writes.
    pub gates: BTreeMap<NodeId, SocketAddr>,
    /// Where clients connect that only read.
    #[serde(default)]
    pub reads: Option<Reads>,
    /// The one address that clients keep.
    pub address: Option<AddressSpec>,
    /// The name in DNS that clients keep.
    #[serde(default)]
    pub name: Option<NameSpec>,
    /// Settings of the driver, as the spec file gives them.
    pub settings: BTreeMap<String, String>,
    /// What the cluster keeps to where it decides by itself.
    #[serde(default)]
    pub rules: Rules,
}

/// Reads, spread over the standbys whose view is not too old.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reads {
    pub gates: BTreeMap<NodeId, SocketAddr>,
    /// So old may be what a reader sees; 2 s to 1 h, default 10 s.
    pub age: Duration,
    /// Bytes of the log that a standby may lack; none: as many as that age allows.
    pub behind: Option<u64>,
    /// The primary serves readers while no standby may; default false: they wait.
    pub primary: bool,
    /// Replicas that serve no readers.
    pub except: BTreeSet<NodeId>,
}

/// Where a workload may go by itself, and beside which others.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rules {
    /// Standbys that run besides the new primary, or nobody takes over by itself; default 0.
    pub keep: u32,
    /// Replicas that never become primary by themselves.
    pub never: BTreeSet<NodeId>,
    /// Workloads whose primaries are to be on other nodes, among equally safe candidates.
    pub spread: BTreeSet<WorkloadId>,
    /// Workloads whose primaries are to be on the same node, among equally safe candidates.
    pub together: BTreeSet<WorkloadId>,
    /// Workloads that have their primary first, where both are without one.
    pub needs: BTreeSet<WorkloadId>,
}

/// A floating address, one for each subnet that its holders are in: a holder has those of its own
/// subnets, and at least one of each family.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AddressSpec {
    pub on: Vec<Subnet>,
    pub follows: Follows,
}

impl AddressSpec {
    /// As people read it.
    pub fn listed(&self) -> String {
        let ips: Vec<String> = self.on.iter().map(|subnet| subnet.ip.to_string()).collect();
        ips.join(", ")
    }
}

/// A name in DNS whose addresses are those of where writes are taken, kept by updates that are
/// signed (RFC 2136, RFC 8945).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NameSpec {
    /// The whole name, `sailings.ferries.example`; 1 to 246 characters, so that its mark has
    /// a name as well ([`MARK_OF_NAME`]).
    pub record: String,
    /// The zone that it is in, as the name server has it.
    pub zone: String,
    /// The zone's primary name server, by TCP.
    pub server: SocketAddr,
    /// For how long others may remember what it said; whole seconds, 1 s to 1 h, default 5 s.
    pub ttl: Duration,
    pub leads: Leads,
    /// The name of the key that signs, and where it is: a reference, as for every secret.
    pub key: String,
    pub secret: String,
    pub algorithm: Algorithm,
}

/// What is put before a name for the name of its mark, which says who wrote it and by which entry.
pub const MARK_OF_NAME: &str = "_karst.";

/// Where a name leads.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Leads {
    /// To the floating address, of each subnet that its holder is in.
    Address,
    /// To every gate that listens.
    Gates,
    /// To the primary itself.
    Primary,
}

/// How a name's updates are signed (RFC 8945, 6).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Algorithm {
    #[default]
    HmacSha256,
    HmacSha384,
    HmacSha512,
}

/// An address with the length of its subnet's prefix, `10.30.0.50/24`. A node's interface is the
/// one that has an address of the same subnet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Subnet {
    pub ip: IpAddr,
    /// 0 to 32, or 128.
    pub prefix: u8,
}

impl Subnet {
    /// Whether another address is in the same subnet.
    pub fn has(self, other: IpAddr) -> bool {
        let bits = |ip: IpAddr| match ip {
            IpAddr::V4(v4) => (u128::from(v4.to_bits()) << 96, true),
            IpAddr::V6(v6) => (v6.to_bits(), false),
        };
        let ((a, four), (b, other_four)) = (bits(self.ip), bits(other));
        four == other_four && (self.prefix == 0 || (a ^ b) >> (128 - u32::from(self.prefix)) == 0)
    }
}

impl std::fmt::Display for Subnet {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}/{}", self.ip, self.prefix)
    }
}

impl std::str::FromStr for Subnet {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        let (ip, prefix) = text.split_once('/').ok_or(())?;
        let (ip, prefix) = (ip.parse().map_err(|_| ())?, prefix.parse().map_err(|_| ())?);
        let most = if matches!(ip, IpAddr::V4(_)) { 32 } else { 128 };
        if prefix <= most {
            Ok(Self { ip, prefix })
        } else {
            Err(())
        }
    }
}

/// Where a floating address belongs.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Follows {
    /// A node whose gate listens.
    #[default]
    Gate,
    /// The open primary itself.
    Primary,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReplicaSpec {
    /// Lower is preferred among equally safe candidates; 1 to 100, default 50.
    pub rank: u32,
    /// Where the server listens for clients, gates and standbys.
    pub address: SocketAddr,
    /// The server's data directory on that node.
    pub data: String,
    /// A directory on another volume for its write-ahead log; none for one within its data.
    pub log: Option<String>,
    /// Whose data are copied here, as long as that standby has every write; else the primary's are.
    #[serde(default)]
    pub copy_from: Option<NodeId>,
    /// A directory of that node with a base backup: where there are no data yet they are made from
    /// it, if it is of the primary's history.
    #[serde(default)]
    pub base_backup: Option<String>,
}

impl WorkloadSpec {
    /// Whether this node may ever hold the floating address.
    pub fn may_hold_address(&self, node: &NodeId) -> bool {
        self.address.as_ref().is_some_and(|a| match a.follows {
            Follows::Gate => self.gates.contains_key(node),
            Follows::Primary => self.replicas.contains_key(node),
        })
    }
}

impl NodeSpec {
    /// Where a browser reaches its HTTP service, if one can.
    pub fn console_url(&self) -> Option<String> {
        let own = || Some(format!("https://{}", self.api?));
        self.console.clone().or_else(own)
    }
}

impl Spec {
    /// The steps that run at this point on that node, in the order of their names.
    pub fn steps_at<'a>(
        &'a self,
        at: Point,
        workload: Option<&'a WorkloadId>,
        node: &'a NodeId,
    ) -> impl Iterator<Item = (&'a String, &'a OwnStep)> {
        self.steps
            .iter()
            .filter(move |(_, step)| step.runs(at, workload, node))
    }

    /// What those may take in all.
    pub fn time_of_steps(
        &self,
        at: Point,
        workload: Option<&WorkloadId>,
        node: &NodeId,
    ) -> Duration {
        let all = self.steps_at(at, workload, node);
        all.map(|(_, step)| step.limit).sum()
    }

    pub(crate) fn step_times(&self, workload: &WorkloadId, node: &NodeId) -> StepTimes {
        let time = |at| self.time_of_steps(at, Some(workload), node);
        StepTimes {
            switchover: time(Point::BeforeSwitchover),
            promotion: time(Point::BeforePromotion),
            clone: time(Point::BeforeClone) + time(Point::AfterClone),
        }
    }

    pub fn votes(&self) -> Votes {
        Votes::new(self.nodes.iter().map(|(id, node)| (id.clone(), node.votes)))
    }
}
