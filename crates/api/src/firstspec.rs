//! A first spec file, with comments, from a few answers. What it writes can be used as it is.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::net::{IpAddr, SocketAddr};

/// Unregistered with IANA, and each of its own; any other will do.
const PEER: u16 = 26_700;
const API: u16 = 26_780;
const GATE: u16 = 26_900;
const POSTGRES: u16 = 5_432;

#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answers {
    pub cluster: String,
    pub nodes: Vec<AnsweredNode>,
    pub workload: Option<AnsweredWorkload>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AnsweredNode {
    pub name: String,
    pub address: IpAddr,
    pub zone: String,
    /// It votes, and runs no server.
    pub witness: bool,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AnsweredWorkload {
    pub name: String,
    /// Of its servers' data, on every host.
    pub data: String,
    /// `10.30.0.50/24`
    pub floating: Option<String>,
}

impl std::str::FromStr for AnsweredNode {
    type Err = String;

    /// `doline=10.20.0.11@northquay`; without a zone, one of its own name.
    fn from_str(text: &str) -> Result<Self, String> {
        let how = "write it as NAME=ADDRESS or NAME=ADDRESS@ZONE";
        let (name, rest) = text.split_once('=').ok_or(how)?;
        let (address, zone) = rest.split_once('@').unwrap_or((rest, name));
        let address = address.parse();
        Ok(Self {
            name: name.into(),
            address: address.map_err(|_| format!("`{rest}` begins with no IP address; {how}"))?,
            zone: zone.into(),
            witness: false,
        })
    }
}

impl Answers {
    pub fn spec(&self) -> String {
        let mut text = format!(
            "# The spec of one Karst cluster, the same file on every node. `karst spec check FILE` reads it\n\
             # without any server: findings with their line, and for how long writes may pause at the most.\n\
             cluster = \"{}\"\n\n\
             # `default`: a lost host is noticed within a second. `brisk`: sooner, where hosts and network never\n\
             # stand still for long.\ntimings = \"default\"\n",
            self.cluster
        );
        text += "\n# Where hosts fail together: a room, a rack, a site.\n";
        let zones: BTreeSet<&str> = self.nodes.iter().map(|n| n.zone.as_str()).collect();
        for zone in zones {
            let _ = writeln!(text, "[zone.{zone}]");
        }
        text += "\n# The hosts. An odd number of votes is best: a majority of them decides everything.\n";
        let first = self.nodes.iter().position(|node| !node.witness);
        for (i, node) in self.nodes.iter().enumerate() {
            text += &node_text(node, Some(i) == first);
        }
        if let Some(workload) = &self.workload {
            text += &self.workload_text(workload);
        }
        text
    }

    fn workload_text(&self, w: &AnsweredWorkload) -> String {
        let name = &w.name;
        let mut text = format!(
            "\n[workload.{name}]\ndriver = \"postgres\"\n\
             # What a failover may lose of what clients saw acknowledged: nothing, or a size such as \"16MiB\".\n\
             loss = \"none\"\n\
             # With no standby left: \"block\" writes, or \"continue\" unprotected.\nalone = \"block\"\n\n\
             [workload.{name}.settings]\nprograms = \"/usr/lib/postgresql/15/bin\"\n\
             # A file with the password of the replication role, at least 32 characters, on every host.\n\
             secret = \"file:/etc/karst/secrets/replication\"\n\n\
             # Where its servers are. The lower the rank, the sooner one is chosen among equals.\n",
        );
        let servers = self.nodes.iter().filter(|node| !node.witness);
        for (i, node) in servers.clone().enumerate() {
            let at = SocketAddr::new(node.address, POSTGRES);
            let _ = writeln!(
                text,
                "[workload.{name}.replica.{}]\naddress = \"{at}\"\ndata = \"{}\"\nrank = {}",
                node.name,
                w.data,
                i + 1
            );
        }
        let first = servers.clone().next().map(|node| &node.name);
        let mut gates: Vec<&AnsweredNode> = self.nodes.iter().collect();
        if gates.len() > 1 {
            // A gate is lost with its host: better not with the primary's.
            gates.retain(|node| Some(&node.name) != first);
        }
        let _ = writeln!(
            text,
            "\n# Where clients connect: a gate leads to whoever is primary, and holds them while nobody is.\n[workload.{name}.gate]"
        );
        for node in gates {
            let at = SocketAddr::new(node.address, GATE);
            let _ = writeln!(text, "{} = \"{at}\"", node.name);
        }
        if let Some(floating) = &w.floating {
            let _ = writeln!(
                text,
                "\n# The one address that clients keep; it is on a host whose gate listens.\n[workload.{name}.address]\non = [\"{floating}\"]"
            );
        }
        text
    }
}

/// `karst init` is run on the first one.
fn node_text(node: &AnsweredNode, is_first: bool) -> String {
    let (peer, api) = (
        SocketAddr::new(node.address, PEER),
        SocketAddr::new(node.address, API),
    );
    let witness = if node.witness { "witness = true\n" } else { "" };
    let local = if is_first {
        "# What root of this host may ask the other hosts for without a token. The first host has the key of the\n\
         # cluster's CA: root there could make any certificate.\nlocal = \"administer\"\n"
    } else {
        "# What root of this host may ask the other hosts for without a token: \"observe\", \"operate\" or \"administer\".\n\
         # local = \"operate\"\n"
    };
    format!(
        "[node.{}]\nzone = \"{}\"\n{witness}votes = 1\npeer = \"{peer}\"\napi = \"{api}\"\n\
         # A host that was fenced is taken back once it has booted anew; \"ask\" leaves that to a person.\n\
         readmit = \"auto\"\n\
         # \"may-stop\" for a virtual machine that may be suspended without noticing (it then needs a power device).\n\
         clock = \"steady\"\n{local}\
         # What can cut its power, on a network of its own: without one only the end of its lease proves that it is gone.\n\
         # [node.{0}.power]\n# driver = \"redfish\"\n# url = \"https://...\"\n# user = \"karst\"\n# secret = \"file:/etc/karst/secrets/power\"\n\n",
        node.name, node.zone
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::specfile;
    use karst_core::spec::Severity;

    fn answers(floating: Option<&str>) -> Answers {
        let node = |text: &str| text.parse::<AnsweredNode>().unwrap();
        Answers {
            cluster: "skerry".into(),
            nodes: vec![
                node("doline=10.20.0.11@northquay"),
                node("polje=fd20::12@southquay"),
                AnsweredNode {
                    witness: true,
                    ..node("ponor=10.20.0.13")
                },
            ],
            workload: Some(AnsweredWorkload {
                name: "sailings".into(),
                data: "/var/lib/karst/sailings".into(),
                floating: floating.map(Into::into),
            }),
        }
    }

    #[test]
    fn what_is_written_first_can_be_used() {
        for floating in [None, Some("10.20.0.50/24")] {
            let read = specfile::read(&answers(floating).spec());
            let errors = read
                .findings
                .iter()
                .filter(|f| f.finding.severity == Severity::Error);
            assert_eq!(errors.count(), 0, "{:?}", read.findings);
            let spec = read.spec.unwrap();
            let w = &spec.workloads[&"sailings".into()];
            assert_eq!((w.replicas.len(), w.gates.len()), (2, 2));
            assert!(spec.nodes[&"ponor".into()].witness && spec.zones.len() == 3);
        }
    }

    #[test]
    fn an_answer_that_cannot_be_read_says_how_to_write_it() {
        for wrong in ["doline", "doline=quay", "doline=10.0.0@x"] {
            let why = wrong.parse::<AnsweredNode>().unwrap_err();
            assert!(why.contains("NAME=ADDRESS"), "{why}");
        }
    }
}
