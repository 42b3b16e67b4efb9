//! Clients' connections over a floating address, against the kernel's own TCP, in a network
//! namespace of its own.

use crate::namespace::{in_own_network, run};
use karst_adapters::Address;
use karst_core::address::Connection;
use std::io::{ErrorKind, Read, Write};
use std::net::{IpAddr, Ipv6Addr, TcpListener, TcpStream};
use std::time::{Duration, Instant};
use tokio::net::TcpSocket;

const FLOATING: [&str; 2] = ["10.9.8.7/24", "fd00::7/64"];
const CLIENTS: [&str; 2] = ["10.9.8.1/24", "fd00::1/64"];
/// Longer than a client limits its answers for.
const LOOK: Duration = Duration::from_millis(200);

fn ip(on: &str) -> IpAddr {
    on.split('/')
        .next()
        .and_then(|ip| ip.parse().ok())
        .expect("an address with its prefix")
}

/// A client that has an address of its own, though all is on one host.
async fn connect(from: &str, to: &str, port: u16) -> TcpStream {
    let socket = if ip(from).is_ipv4() {
        TcpSocket::new_v4()
    } else {
        TcpSocket::new_v6()
    }
    .expect("a socket");
    socket.bind((ip(from), 0).into()).expect("its own address");
    let connected = socket
        .connect((ip(to), port).into())
        .await
        .and_then(tokio::net::TcpStream::into_std);
    let client = connected.expect("connected");
    client.set_nonblocking(false).expect("it may wait");
    client
}

#[tokio::test]
async fn a_client_whose_connection_nobody_knows_is_told_and_one_that_lives_on_is_not_disturbed() {
    if !in_own_network(
        "a_client_whose_connection_nobody_knows_is_told_and_one_that_lives_on_is_not_disturbed",
    ) {
        return;
    }
    run("ip", "link set lo up");
    for other in CLIENTS.iter().chain(&FLOATING) {
        run("ip", &format!("address add {other} dev lo nodad"));
    }
    // Where nobody's resets leave, a connection can end here without its client's knowing.
    run("nft", "add table inet silent");
    run(
        "nft",
        "add chain inet silent leaving { type filter hook output priority 0 ; }",
    );
    let address =
        Address::new(FLOATING.map(|on| on.parse().expect("a subnet")).to_vec()).expect("netlink");
    // One listener for both families, as a gate may have it.
    let listener = TcpListener::bind((Ipv6Addr::UNSPECIFIED, 0)).expect("a port");
    let port = listener.local_addr().expect("its address").port();
    let _elsewhere = connect(CLIENTS[1], CLIENTS[1], port).await;
    let _served_elsewhere = listener.accept().expect("accepted");
    for (on, from) in FLOATING.into_iter().zip(CLIENTS) {
        let mut client = connect(from, on, port).await;
        let (mut served, _) = listener.accept().expect("accepted");
        let here = client.peer_addr().expect("connected");
        let connections = address.connections().expect("the kernel lists its sockets");
        assert_eq!(
            connections,
            [Connection {
                client: client.local_addr().expect("connected"),
                here
            }]
        );

        Address::rouse(&connections).expect("raw sockets");
        let mut said = [0; 5];
        client
            .write_all(b"there")
            .and_then(|()| served.read_exact(&mut said))
            .expect("the server hears its client");
        served
            .write_all(b"again")
            .and_then(|()| client.read_exact(&mut said))
            .expect("the client hears its server");
        assert_eq!(&said, b"again");

        run(
            "nft",
            "add rule inet silent leaving tcp flags & rst == rst drop",
        );
        run(
            "ss",
            &format!("--kill --tcp state established sport = :{port}"),
        );
        run("nft", "flush chain inet silent leaving");
        client.set_read_timeout(Some(LOOK)).expect("a timeout");
        let waits = client.read(&mut said).expect_err("nobody answers");
        assert_eq!(
            waits.kind(),
            ErrorKind::WouldBlock,
            "it knows without being told: {waits}"
        );
        let begun = Instant::now();
        let told = loop {
            Address::rouse(&connections).expect("raw sockets");
            match client.read(&mut said) {
                Err(error) if error.kind() == ErrorKind::WouldBlock => {
                    assert!(begun.elapsed() < Duration::from_secs(10), "it still waits");
                }
                other => break other,
            }
        };
        assert_eq!(
            told.expect_err("its connection is gone").kind(),
            ErrorKind::ConnectionReset
        );
    }
}
