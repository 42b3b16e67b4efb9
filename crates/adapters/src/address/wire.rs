//! What an address says on the wire: probes and announcements, ARP for IPv4 (RFC 826, RFC 5227),
//! neighbour discovery for IPv6 (RFC 4861, RFC 4862).

use pnet_datalink::{Channel, ChannelType, Config, MacAddr, NetworkInterface};
use pnet_packet::icmpv6::{Icmpv6Packet, checksum};
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::time::{Duration, Instant};

const EVERYONE: [u8; 6] = [0xff; 6];
const ARP: u16 = 0x0806;
const IPV6: u16 = 0x86dd;
const SOLICITATION: u8 = 135;
const ADVERTISEMENT: u8 = 136;
const ALL_NODES: Ipv6Addr = Ipv6Addr::new(0xff02, 0, 0, 0, 0, 0, 0, 1);

fn open(
    on: &NetworkInterface,
) -> io::Result<(
    Box<dyn pnet_datalink::DataLinkSender>,
    Box<dyn pnet_datalink::DataLinkReceiver>,
)> {
    let read_timeout = Some(Duration::from_millis(2));
    let config = Config {
        read_timeout,
        promiscuous: false,
        channel_type: ChannelType::Layer2,
        ..Config::default()
    };
    match pnet_datalink::channel(on, config)? {
        Channel::Ethernet(send, receive) => Ok((send, receive)),
        _ => Err(io::Error::other("not an Ethernet interface")),
    }
}

/// Asks who has the address, and gives the hardware address of the first other one that answers in
/// time. RFC 5227, section 2.1.1, waits for seconds; here the lease says already that no member of
/// the cluster has it, and clients wait.
///
/// Blocks for up to `patience`.
///
/// # Errors
/// If the interface takes no frames.
pub fn who_else_has(
    ip: IpAddr,
    on: &NetworkInterface,
    patience: Duration,
) -> io::Result<Option<MacAddr>> {
    let mac = own(on)?;
    let (mut send, mut receive) = open(on)?;
    let probe = match ip {
        IpAddr::V4(ip) => arp_request(mac, Ipv4Addr::UNSPECIFIED, ip),
        IpAddr::V6(ip) => solicitation(mac, ip),
    };
    let begun = Instant::now();
    let mut sent = 0;
    while begun.elapsed() < patience {
        // Three times, as one may be lost.
        if sent < 3 && begun.elapsed() >= patience / 4 * sent {
            send.send_to(&probe, None)
                .unwrap_or_else(|| Err(io::Error::other("the frame was not taken")))?;
            sent += 1;
        }
        match receive.next() {
            Ok(frame) => {
                if let Some(other) = claimed_by(frame, ip).filter(|other| *other != mac) {
                    return Ok(Some(other));
                }
            }
            Err(error)
                if matches!(
                    error.kind(),
                    io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock
                ) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(None)
}

/// Tells everyone on the link that the address is here now: a gratuitous ARP request, or an
/// unsolicited neighbour advertisement that overrides. Twice, as one may be lost.
///
/// # Errors
/// If the interface takes no frames.
pub fn announce(ip: IpAddr, on: &NetworkInterface) -> io::Result<()> {
    let mac = own(on)?;
    let (mut send, _) = open(on)?;
    let frame = match ip {
        IpAddr::V4(ip) => arp_request(mac, ip, ip),
        IpAddr::V6(ip) => advertisement(mac, ip),
    };
    for _ in 0..2 {
        send.send_to(&frame, None)
            .unwrap_or_else(|| Err(io::Error::other("the frame was not taken")))?;
    }
    Ok(())
}

fn own(on: &NetworkInterface) -> io::Result<MacAddr> {
    on.mac
        .ok_or_else(|| io::Error::other(format!("{} has no hardware address", on.name)))
}

fn ethernet(to: [u8; 6], from: MacAddr, kind: u16, payload: &[u8]) -> Vec<u8> {
    [&to[..], &from.octets(), &kind.to_be_bytes(), payload].concat()
}

fn arp_request(mac: MacAddr, sender: Ipv4Addr, target: Ipv4Addr) -> Vec<u8> {
    // Ethernet, IPv4, their lengths, request.
    let head = [0, 1, 8, 0, 6, 4, 0, 1];
    let body = [
        &head[..],
        &mac.octets(),
        &sender.octets(),
        &[0; 6],
        &target.octets(),
    ]
    .concat();
    ethernet(EVERYONE, mac, ARP, &body)
}

fn neighbour(mac: MacAddr, from: Ipv6Addr, to: Ipv6Addr, message: &mut [u8]) -> Vec<u8> {
    let sum = Icmpv6Packet::new(message).map_or(0, |packet| checksum(&packet, &from, &to));
    message[2..4].copy_from_slice(&sum.to_be_bytes());
    let length = (message.len() as u16).to_be_bytes();
    // Version 6, ICMPv6, hop limit 255 (RFC 4861, section 7.1).
    let head = [
        &[0x60, 0, 0, 0][..],
        &length,
        &[58, 255],
        &from.octets(),
        &to.octets(),
    ]
    .concat();
    let [.., a, b, c, d] = to.octets();
    ethernet(
        [0x33, 0x33, a, b, c, d],
        mac,
        IPV6,
        &[&head, &*message].concat(),
    )
}

fn solicitation(mac: MacAddr, target: Ipv6Addr) -> Vec<u8> {
    let [.., a, b, c] = target.octets();
    let to = Ipv6Addr::from([0xff, 2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0xff, a, b, c]);
    let mut message = [&[SOLICITATION, 0, 0, 0, 0, 0, 0, 0][..], &target.octets()].concat();
    neighbour(mac, Ipv6Addr::UNSPECIFIED, to, &mut message)
}

fn advertisement(mac: MacAddr, target: Ipv6Addr) -> Vec<u8> {
    // Override, and the target's link-layer address.
    let head = [ADVERTISEMENT, 0, 0, 0, 0x20, 0, 0, 0];
    let mut message = [&head[..], &target.octets(), &[2, 1], &mac.octets()].concat();
    neighbour(mac, target, ALL_NODES, &mut message)
}

/// Who says in this frame that it has the address.
fn claimed_by(frame: &[u8], ip: IpAddr) -> Option<MacAddr> {
    let kind = u16::from_be_bytes(frame.get(12..14)?.try_into().ok()?);
    let body = frame.get(14..)?;
    let mac = |bytes: &[u8]| <[u8; 6]>::try_from(bytes).ok().map(MacAddr::from);
    match (ip, kind) {
        (IpAddr::V4(ip), ARP) => {
            (body.get(14..18)? == ip.octets()).then(|| mac(body.get(8..14)?))?
        }
        (IpAddr::V6(ip), IPV6) => {
            let says = body.get(6) == Some(&58) && body.get(40) == Some(&ADVERTISEMENT);
            (says && body.get(48..64)? == ip.octets()).then(|| mac(frame.get(6..12)?))?
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MAC: MacAddr = MacAddr(2, 0, 0, 0, 0, 9);

    /// RFC 5227, section 1.1: a probe claims nothing, an announcement claims the address.
    #[test]
    fn a_probe_claims_nothing_and_an_announcement_does() {
        let ip = Ipv4Addr::new(10, 30, 0, 50);
        assert_eq!(
            claimed_by(&arp_request(MAC, Ipv4Addr::UNSPECIFIED, ip), ip.into()),
            None
        );
        assert_eq!(claimed_by(&arp_request(MAC, ip, ip), ip.into()), Some(MAC));
        let six: Ipv6Addr = "fd30::50".parse().unwrap();
        assert_eq!(claimed_by(&solicitation(MAC, six), six.into()), None);
        assert_eq!(claimed_by(&advertisement(MAC, six), six.into()), Some(MAC));
        assert_eq!(
            claimed_by(&advertisement(MAC, six), "fd30::51".parse().unwrap()),
            None
        );
        for cut in 0..86 {
            claimed_by(&advertisement(MAC, six)[..cut], six.into());
        }
    }
}
