//! The ways from this host to the others: whether whole packets pass to their daemons, and every port
//! of theirs that something here connects to. Each node looks from its own side, so that a way which
//! is closed in one direction is seen.

use super::{better, no, yes};
use crate::peers::Links;
use futures_util::future::join_all;
use karst_api::HostNeed;
use karst_core::spec::{Spec, WorkloadSpec};
use karst_core::{NodeId, WorkloadId};
use std::net::SocketAddr;
use std::time::Duration;

const ANSWERS_WITHIN: Duration = Duration::from_secs(3);
/// What an Ethernet bears, less the headers of IPv6 and UDP (RFC 8200, RFC 768) and a tunnel's: where
/// less passes, something in between is set up otherwise, and long messages are slow.
const WHOLE: u16 = 1_400;

/// To all others at the same time. `links` are a running daemon's own.
pub(super) async fn look(spec: &Spec, me: &NodeId, links: Option<&Links>) -> Vec<HostNeed> {
    let others = spec.nodes.iter().filter(|(node, _)| *node != me);
    let packets = links.into_iter().flat_map(|links| {
        let others = others.clone();
        others.map(move |(node, of)| whole_packets(node, of.peer, links.packet_to(node)))
    });
    let mut needs: Vec<HostNeed> = packets.collect();
    let mine = spec.workloads.iter().filter(|(_, w)| connects(w, me));
    let servers = mine.flat_map(|(id, workload)| {
        let others = workload.replicas.iter().filter(|(node, _)| *node != me);
        others.map(move |(node, replica)| server(id, node, replica.address))
    });
    needs.extend(join_all(servers).await);
    needs
}

/// Whether something of a workload here connects to its servers elsewhere.
fn connects(workload: &WorkloadSpec, me: &NodeId) -> bool {
    let reads = workload.reads.as_ref();
    workload.replicas.contains_key(me)
        || workload.gates.contains_key(me)
        || reads.is_some_and(|reads| reads.gates.contains_key(me))
}

fn whole_packets(node: &NodeId, at: SocketAddr, largest: Option<u16>) -> HostNeed {
    let what = format!("the way to {node} at {at} (UDP)");
    match largest {
        None => no(
            what,
            "nothing gets there, or nothing comes back",
            "start its daemon; then look at routes and packet filters between the two (UDP to this port, both ways)",
        ),
        Some(largest) if largest < WHOLE => better(
            what,
            format!("packets of {largest} bytes pass, and larger ones do not"),
            "give all interfaces between the two the same MTU, 1500 as a rule, and let ICMP 'too big' pass",
        ),
        Some(largest) => yes(what, format!("packets of {largest} bytes pass")),
    }
}

async fn server(id: &WorkloadId, node: &NodeId, at: SocketAddr) -> HostNeed {
    let what = format!("the server of {id} on {node} at {at} (TCP)");
    let remedy = "look at routes and packet filters between the two (TCP to this port)";
    let connected = tokio::net::TcpStream::connect(at);
    match tokio::time::timeout(ANSWERS_WITHIN, connected).await {
        Ok(Ok(_)) => yes(what, "can be connected to"),
        Ok(Err(error)) if error.kind() == std::io::ErrorKind::ConnectionRefused => better(
            what,
            "its host refuses: no server runs there now, or a packet filter says so",
            remedy,
        ),
        Ok(Err(error)) => no(what, error.to_string(), remedy),
        Err(_) => no(what, "no answer: packets get lost on the way", remedy),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_api::Met;

    #[test]
    fn a_way_that_bears_no_whole_packets_is_named() {
        let at = "10.20.0.12:7600".parse().unwrap();
        let look = |largest| whole_packets(&"polje".into(), at, largest);
        assert_eq!(look(None).met, Met::No);
        assert_eq!(look(Some(1_452)).met, Met::Yes);
        let small = look(Some(1_200));
        assert_eq!(small.met, Met::Better);
        assert!(small.why.unwrap().contains("1200 bytes"));
    }

    #[tokio::test]
    async fn a_port_without_a_server_is_no_closed_way() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let at = listener.local_addr().unwrap();
        let (id, node) = ("sailings".into(), "polje".into());
        assert_eq!(server(&id, &node, at).await.met, Met::Yes);
        drop(listener);
        assert_eq!(server(&id, &node, at).await.met, Met::Better);
    }
}
