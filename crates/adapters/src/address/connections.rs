//! Clients' connections over a floating address, and what becomes of them when it moves. A client
//! that waits for an answer of the old holder sends nothing, and so would never learn that nobody
//! knows its connection any more.

use karst_core::address::Connection;
use netlink_packet_sock_diag::SockDiagMessage;
use netlink_packet_sock_diag::constants::{AF_INET, AF_INET6, IPPROTO_TCP};
use netlink_packet_sock_diag::inet::{ExtensionFlags, InetRequest, SocketId, StateFlags};
use pnet_packet::tcp::{MutableTcpPacket, TcpFlags, ipv4_checksum, ipv6_checksum};
use rtnetlink::packet_core::{
    NLM_F_DUMP, NLM_F_REQUEST, NetlinkHeader, NetlinkMessage, NetlinkPayload,
};
use rtnetlink::sys::Socket;
use rtnetlink::sys::protocols::NETLINK_SOCK_DIAG;
use rustix::net::{
    AddressFamily, SendFlags, SocketFlags, SocketType, bind, ipproto, sendto, socket_with,
};
use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::os::fd::OwnedFd;

/// More of them are not told to others: a list is one message between peers.
pub const MOST: usize = 2_000;

/// The established TCP connections to these addresses of this host, in order; at most [`MOST`].
///
/// # Errors
/// If the kernel does not list its sockets (sock_diag(7)).
pub fn established(to: &[IpAddr]) -> io::Result<Vec<Connection>> {
    let mut connections = Vec::new();
    // A listener for both families has IPv4's connections among those of IPv6.
    for (family, any) in [
        (AF_INET, SocketId::new_v4()),
        (AF_INET6, SocketId::new_v6()),
    ] {
        dump(family, any, |id| {
            let [here, client] =
                [id.source_address, id.destination_address].map(|ip| ip.to_canonical());
            if to.contains(&here) {
                connections.push(Connection {
                    client: SocketAddr::new(client, id.destination_port),
                    here: SocketAddr::new(here, id.source_port),
                });
            }
        })?;
    }
    connections.sort_unstable();
    connections.truncate(MOST);
    Ok(connections)
}

fn dump(family: u8, socket_id: SocketId, mut each: impl FnMut(&SocketId)) -> io::Result<()> {
    let mut header = NetlinkHeader::default();
    header.flags = NLM_F_REQUEST | NLM_F_DUMP;
    let states = StateFlags::ESTABLISHED;
    let request = InetRequest {
        family,
        protocol: IPPROTO_TCP,
        extensions: ExtensionFlags::empty(),
        states,
        socket_id,
    };
    let mut request = NetlinkMessage::new(header, SockDiagMessage::InetRequest(request).into());
    request.finalize();
    let mut bytes = vec![0; request.buffer_len()];
    request.serialize(&mut bytes);
    let mut socket = Socket::new(NETLINK_SOCK_DIAG)?;
    socket.bind_auto()?;
    socket.send(&bytes, 0)?;
    loop {
        let mut said = Vec::with_capacity(1 << 16);
        socket.recv(&mut said, 0)?;
        let mut rest = said.as_slice();
        while !rest.is_empty() {
            let message =
                NetlinkMessage::<SockDiagMessage>::deserialize(rest).map_err(io::Error::other)?;
            match message.payload {
                NetlinkPayload::Done(_) => return Ok(()),
                NetlinkPayload::Error(error) => return Err(error.to_io()),
                NetlinkPayload::InnerMessage(SockDiagMessage::InetResponse(found)) => {
                    each(&found.header.socket_id)
                }
                _ => {}
            }
            let length = (message.header.length as usize).next_multiple_of(4);
            rest = &rest[length.clamp(4, rest.len())..];
        }
    }
}

/// Has each of these clients say something to the address, which is here by now. A segment outside
/// of its window has to be answered by an acknowledgement (RFC 9293, section 3.10.7.4); that
/// arrives here, where nobody knows the connection, and is answered by a reset (section 3.10.7.1)
/// that the client believes. A connection that lives on here stays as it is.
///
/// # Errors
/// Without the right to raw sockets. A client that cannot be reached is passed over.
pub fn rouse(connections: &[Connection]) -> io::Result<()> {
    let mut sockets = BTreeMap::new();
    for connection in connections {
        let socket = match sockets.entry(connection.here.ip()) {
            Entry::Occupied(open) => open.into_mut(),
            Entry::Vacant(none) => none.insert(speaks_for(connection.here.ip())?),
        };
        // The window may be anywhere, and is smaller than half of all numbers: one of the two is
        // outside (RFC 7323, 2.3).
        for number in [0, 1 << 31] {
            let client = SocketAddr::new(connection.client.ip(), 0);
            let _ = sendto(
                &*socket,
                &segment(connection, number),
                SendFlags::empty(),
                &client,
            );
        }
    }
    Ok(())
}

/// A raw socket whose segments come from this address.
fn speaks_for(ip: IpAddr) -> io::Result<OwnedFd> {
    let family = if ip.is_ipv4() {
        AddressFamily::INET
    } else {
        AddressFamily::INET6
    };
    let socket = socket_with(
        family,
        SocketType::RAW,
        SocketFlags::CLOEXEC,
        Some(ipproto::TCP),
    )?;
    bind(&socket, &SocketAddr::new(ip, 0))?;
    Ok(socket)
}

/// A bare acknowledgement, without data.
fn segment(connection: &Connection, number: u32) -> [u8; 20] {
    let mut bytes = [0; 20];
    let mut segment = MutableTcpPacket::new(&mut bytes).expect("a TCP header has 20 bytes");
    segment.set_source(connection.here.port());
    segment.set_destination(connection.client.port());
    segment.set_sequence(number);
    segment.set_data_offset(5);
    segment.set_flags(TcpFlags::ACK);
    let sum = match (connection.here.ip(), connection.client.ip()) {
        (IpAddr::V4(from), IpAddr::V4(to)) => ipv4_checksum(&segment.to_immutable(), &from, &to),
        (IpAddr::V6(from), IpAddr::V6(to)) => ipv6_checksum(&segment.to_immutable(), &from, &to),
        _ => 0,
    };
    segment.set_checksum(sum);
    bytes
}
