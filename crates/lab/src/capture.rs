//! What really leaves the hosts, as the switch sees it on their ports: goodbyes of TCP connections,
//! and who answers for the floating address. It is what the guarantees are checked against, and
//! nothing that the product says.

use crate::find;
use crate::layout::{FLOATING, FLOATING6, Layout, NODES};
use crate::network::{SWITCH, port};
use anyhow::{Context, Result, bail, ensure};
use std::fmt;
use std::fs::File;
use std::path::PathBuf;
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

/// FIN or RST over IPv4 and IPv6, ARP, neighbour advertisements (pcap-filter(7)).
const FILTER: &str = "(tcp[tcpflags] & (tcp-fin|tcp-rst) != 0) or (ip6[6] == 6 and ip6[53] & 5 != 0) or arp or \
    (icmp6 and ip6[40] == 136)";
/// Two hosts that take turns faster than this answer at the same time: an address that moves there
/// and back needs two leases.
const TURN: u128 = 500_000_000;

/// A capture that runs until it is dropped.
pub struct Capture {
    child: Child,
    frames: PathBuf,
}

/// A frame that came into the switch from a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Frame {
    /// Nanoseconds since 1970.
    pub at: u128,
    pub host: &'static str,
    pub what: What,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub enum What {
    /// A FIN or RST of a TCP connection.
    Goodbye,
    /// It says that it has this floating address.
    Answer(&'static str),
}

/// Two hosts that answered for one address at the same time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Clash {
    pub address: &'static str,
    pub hosts: [&'static str; 2],
    pub at: u128,
}

impl fmt::Display for Clash {
    fn fmt(&self, f: &mut fmt::Formatter) -> fmt::Result {
        write!(
            f,
            "{} and {} both answered for {}",
            self.hosts[0], self.hosts[1], self.address
        )
    }
}

impl Capture {
    /// Begins; returns when frames are seen. None in an ordinary user's lab: there `tcpdump` has
    /// nobody to become.
    ///
    /// # Errors
    /// If `tcpdump` does not listen within ten seconds.
    pub fn start(layout: &Layout) -> Result<Option<Self>> {
        if !rustix::process::geteuid().is_root() {
            return Ok(None);
        }
        let dir = layout.dir.join("load");
        std::fs::create_dir_all(&dir)?;
        let (frames, said) = (dir.join("capture"), dir.join("capture.log"));
        let mut child = find::enter(layout, SWITCH)?
            .args([
                "tcpdump",
                "-i",
                "any",
                "-Q",
                "in",
                "-n",
                "-tt",
                "-l",
                "--immediate-mode",
                "-B",
                "8192",
                FILTER,
            ])
            .current_dir(&dir)
            .stdin(Stdio::null())
            .stdout(File::create(&frames)?)
            .stderr(File::create(&said)?)
            .spawn()
            .context("nsenter")?;
        let begun = Instant::now();
        while !std::fs::read_to_string(&said)?.contains("listening on") {
            if child.try_wait()?.is_some() || begun.elapsed() > Duration::from_secs(10) {
                bail!(
                    "tcpdump (package tcpdump): {}",
                    std::fs::read_to_string(&said)?.trim()
                );
            }
            std::thread::sleep(Duration::from_millis(10));
        }
        Ok(Some(Self { child, frames }))
    }

    /// What was seen so far.
    ///
    /// # Errors
    /// If the capture has ended by itself: what it did not see proves nothing.
    pub fn seen(&mut self) -> Result<Vec<Frame>> {
        ensure!(self.child.try_wait()?.is_none(), "the capture has ended");
        let text = std::fs::read_to_string(&self.frames)?;
        Ok(text.lines().filter_map(frame).collect())
    }
}

impl Drop for Capture {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// One line of tcpdump: seconds, the port, a direction, what it is.
fn frame(line: &str) -> Option<Frame> {
    let (at, rest) = line.split_once(' ')?;
    let (seconds, fraction) = at.split_once('.')?;
    let at = seconds.parse::<u128>().ok()? * 1_000_000_000
        + format!("{fraction:0<9}").parse::<u128>().ok()?;
    let (at_port, rest) = rest.split_once(' ')?;
    let host = NODES
        .iter()
        .map(|n| n.name)
        .find(|name| port(name, "client") == at_port)?;
    let answered = |ip: &&str| {
        [
            format!("Reply {ip} is-at"),
            format!("tell {ip},"),
            format!("Announcement {ip},"),
            format!("tgt is {ip},"),
        ]
        .iter()
        .any(|form| rest.contains(form))
    };
    let what = match [FLOATING, FLOATING6].into_iter().find(answered) {
        Some(ip) => What::Answer(ip),
        None if rest.contains("Flags [") => What::Goodbye,
        None => return None,
    };
    Some(Frame { at, host, what })
}

/// Who answered for an address while another one did (S7).
pub fn clashes(frames: &[Frame]) -> Vec<Clash> {
    let mut found = Vec::new();
    for address in [FLOATING, FLOATING6] {
        let mut answers: Vec<&Frame> = frames
            .iter()
            .filter(|f| f.what == What::Answer(address))
            .collect();
        answers.sort_by_key(|f| f.at);
        // Of each turn its first and its last answer.
        let turns: Vec<(&Frame, &Frame)> = answers
            .chunk_by(|a, b| a.host == b.host)
            .map(|turn| (turn[0], turn[turn.len() - 1]))
            .collect();
        let back = turns
            .windows(3)
            .filter(|w| w[0].0.host == w[2].0.host && w[2].0.at - w[0].1.at < TURN);
        found.extend(back.map(|w| Clash {
            address,
            hosts: [w[0].0.host, w[1].0.host],
            at: w[2].0.at,
        }));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_are_told_apart_and_turns_that_are_too_fast_are_a_clash() {
        let answer = |at: &str, host: &str| {
            frame(&format!(
                "{at} {host}-client B   ARP, Reply {FLOATING} is-at 02:00:00:00:00:01, length 28"
            ))
            .unwrap()
        };
        let goodbye = "1700.250000 doline-client P   IP 10.30.0.11.5432 > 10.30.0.13.40000: Flags [F.], seq 1, ack 1";
        assert_eq!(
            frame(goodbye),
            Some(Frame {
                at: 1_700_250_000_000,
                host: "doline",
                what: What::Goodbye
            })
        );
        let six = format!(
            "1700.5 uvala-client M   IP6 fe80::1 > ff02::1: ICMP6, neighbor advertisement, tgt is {FLOATING6}, length 32"
        );
        assert_eq!(frame(&six).unwrap().what, What::Answer(FLOATING6));
        let other =
            "1700.5 uvala-client B   ARP, Reply 10.30.0.14 is-at 02:00:00:00:00:01, length 28";
        assert_eq!(frame(other), None);
        // The switch repeats on its own side what came from a port.
        assert_eq!(frame(&goodbye.replace("doline-client", "client")), None);

        let moved = [
            answer("10.0", "ponor"),
            answer("10.1", "uvala"),
            answer("12.5", "ponor"),
        ];
        assert_eq!(clashes(&moved), []);
        let both = [
            answer("10.0", "ponor"),
            answer("10.1", "uvala"),
            answer("10.2", "ponor"),
        ];
        assert_eq!(clashes(&both)[0].hosts, ["ponor", "uvala"]);
    }
}
