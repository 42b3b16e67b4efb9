//! The packet guard of a primary (SAFETY C3): what is sent to or from the workload's port passes only while an nftables
//! element with a timeout lives. A host that is frozen as a whole and thawed later finds it expired, whatever of it runs
//! first: its kernel still completes handshakes and its server still answers, and nothing of it gets through. The same holds
//! for a floating address, ARP and neighbour discovery included.
//!
//! One `nft` is kept and told line by line, each line one transaction: a renewal costs no new process. Only the deadman
//! opens. A host without `nft` or without the right to use it has no guard, and says so.

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::io::{self, BufRead, BufReader, Write};
use std::net::IpAddr;
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::time::Duration;

/// Where the program may be: a service's PATH may lack the administrator's directories.
const PROGRAMS: [&str; 3] = ["/usr/sbin/nft", "/sbin/nft", "/usr/local/sbin/nft"];
/// One transaction takes about 1 ms, on a starved host a hundred times that.
const PATIENCE: Duration = Duration::from_secs(1);

/// What would leave is answered with a reset to the server's own socket: an answer that only waited there would be sent
/// again by the kernel when the port is free for a standby, long after the server's end.
/// Loopback stays open: what runs on the host itself ends with the host's server.
const RULES: &str = "add table inet karst; \
    add set inet karst guarded { type inet_service; }; \
    add set inet karst open { type inet_service; flags timeout; }; \
    add chain inet karst arriving { type filter hook input priority 0; }; \
    add chain inet karst leaving { type filter hook output priority 0; }; \
    flush chain inet karst arriving; flush chain inet karst leaving; \
    add rule inet karst arriving iifname != \"lo\" tcp dport @guarded tcp dport != @open drop; \
    add rule inet karst leaving oifname != \"lo\" tcp sport @guarded tcp sport != @open reject with tcp reset; \
    add set inet karst held4 { type ipv4_addr; }; add set inet karst open4 { type ipv4_addr; flags timeout; }; \
    add set inet karst held6 { type ipv6_addr; }; add set inet karst open6 { type ipv6_addr; flags timeout; }; \
    add rule inet karst arriving ip daddr @held4 ip daddr != @open4 drop; \
    add rule inet karst leaving ip saddr @held4 ip saddr != @open4 drop; \
    add rule inet karst arriving ip6 daddr @held6 ip6 daddr != @open6 drop; \
    add rule inet karst leaving ip6 saddr @held6 ip6 saddr != @open6 drop; \
    add table arp karst; \
    add set arp karst held4 { type ipv4_addr; }; add set arp karst open4 { type ipv4_addr; flags timeout; }; \
    add chain arp karst arriving { type filter hook input priority 0; }; flush chain arp karst arriving; \
    add chain arp karst leaving { type filter hook output priority 0; }; flush chain arp karst leaving; \
    add rule arp karst arriving arp daddr ip @held4 arp daddr ip != @open4 drop; \
    add rule arp karst leaving arp saddr ip @held4 arp saddr ip != @open4 drop";

/// The guard of one host.
#[derive(Debug, Default)]
pub struct Guard {
    nft: Option<Nft>,
    /// How long the caller can wait for an answer: it has deadlines of its own to keep. Default one second.
    patience: Option<Duration>,
}

#[derive(Debug)]
struct Nft {
    child: Child,
    say: ChildStdin,
    hear: BufReader<ChildStdout>,
}

impl Guard {
    /// From here on no call blocks for longer.
    pub fn wait_at_most(&mut self, time: Duration) {
        self.patience = Some(time.min(PATIENCE));
    }

    /// Lets packets of this port pass for that long, and none after that until it is said again.
    ///
    /// Returns when the kernel has it; within a few milliseconds.
    ///
    /// # Errors
    /// What `nft` said, or that there is none: then nothing guards the port.
    pub fn open_for(&mut self, port: u16, time: Duration) -> io::Result<()> {
        let ms = time.as_millis().max(1);
        // Added first, so that it can be deleted whether it has expired or not; one transaction, so that no packet sees it
        // missing.
        let element = format!("element inet karst open {{ {port}");
        self.tell(&format!(
            "add {element} timeout {ms}ms }}; delete {element} }}; add {element} timeout {ms}ms }}; \
             add element inet karst guarded {{ {port} }}"
        ))
    }

    /// Lets nothing pass any more: the deadline came while the port was being opened.
    ///
    /// # Errors
    /// As [`Guard::open_for`].
    pub fn close(&mut self, port: u16) -> io::Result<()> {
        let element = format!("element inet karst open {{ {port}");
        self.tell(&format!(
            "add {element} timeout 1ms }}; delete {element} }}; add element inet karst guarded {{ {port} }}"
        ))
    }

    /// No primary is here: a standby answers whom it likes.
    ///
    /// # Errors
    /// As [`Guard::open_for`].
    pub fn lift(&mut self, port: u16) -> io::Result<()> {
        let element = format!("element inet karst guarded {{ {port} }}");
        self.tell(&format!("add {element}; delete {element}"))
    }

    /// Nobody here answers for this address until it is opened: neither to ARP nor to neighbour discovery, nor to packets.
    ///
    /// # Errors
    /// As [`Guard::open_for`].
    pub fn hold(&mut self, ip: IpAddr) -> io::Result<()> {
        let lines: Vec<String> =
            tables(ip).map(|(table, n)| format!("add element {table} held{n} {{ {ip} }}")).collect();
        self.tell(&lines.join("; "))
    }

    /// Lets this host answer for the address for that long.
    ///
    /// # Errors
    /// As [`Guard::open_for`].
    pub fn open_address(&mut self, ip: IpAddr, time: Duration) -> io::Result<()> {
        let ms = time.as_millis().max(1);
        let line = |(table, n): (&str, u8)| {
            let element = format!("element {table} open{n} {{ {ip}");
            format!(
                "add {element} timeout {ms}ms }}; delete {element} }}; add {element} timeout {ms}ms }}; \
                 add element {table} held{n} {{ {ip} }}"
            )
        };
        let lines: Vec<String> = tables(ip).map(line).collect();
        self.tell(&lines.join("; "))
    }

    /// Nobody here answers for it any more.
    ///
    /// # Errors
    /// As [`Guard::open_for`].
    pub fn close_address(&mut self, ip: IpAddr) -> io::Result<()> {
        let line = |(table, n): (&str, u8)| {
            let element = format!("element {table} open{n} {{ {ip}");
            format!("add {element} timeout 1s }}; delete {element} }}")
        };
        let lines: Vec<String> = tables(ip).map(line).collect();
        self.tell(&lines.join("; "))
    }

    fn tell(&mut self, line: &str) -> io::Result<()> {
        let patience = self.patience.unwrap_or(PATIENCE);
        if self.nft.is_none() {
            let mut nft = Nft::start()?;
            nft.transact(RULES, patience)?;
            self.nft = Some(nft);
        }
        let told = self.nft.as_mut().expect("it was just started").transact(line, patience);
        if told.is_err() {
            self.nft = None;
        }
        told
    }
}

/// The tables that have a say over an address, with the number of its family.
fn tables(ip: IpAddr) -> impl Iterator<Item = (&'static str, u8)> {
    let (tables, n): (&[&str], u8) =
        if ip.is_ipv4() { (&["inet karst", "arp karst"], 4) } else { (&["inet karst"], 6) };
    tables.iter().map(move |table| (*table, n))
}

impl Nft {
    fn start() -> io::Result<Self> {
        let program = PROGRAMS.iter().find(|p| Path::new(p).exists());
        let program =
            program.ok_or_else(|| io::Error::new(io::ErrorKind::NotFound, "there is no nft (package nftables)"))?;
        // Its errors go where it answers, so that an error stands before the answer that follows it.
        let mut child = Command::new("sh")
            .args(["-c", "exec \"$0\" --interactive 2>&1", program])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()?;
        let (say, hear) = (child.stdin.take().expect("it is piped"), child.stdout.take().expect("it is piped"));
        Ok(Self { child, say, hear: BufReader::new(hear) })
    }

    /// One line, then a question whose answer has a last line that can be known: when it comes, the line took effect or
    /// an error stands before it.
    fn transact(&mut self, line: &str, patience: Duration) -> io::Result<()> {
        let patience = Timespec { tv_sec: patience.as_secs().cast_signed(), tv_nsec: patience.subsec_nanos().into() };
        writeln!(self.say, "{line}\nlist set inet karst guarded")?;
        self.say.flush()?;
        let mut said = String::new();
        loop {
            let mut answer = String::new();
            if self.hear.buffer().is_empty()
                && poll(&mut [PollFd::new(self.hear.get_ref(), PollFlags::IN)], Some(&patience))? == 0
            {
                return Err(io::Error::new(io::ErrorKind::TimedOut, "nft does not answer"));
            }
            if self.hear.read_line(&mut answer)? == 0 {
                return Err(io::Error::other(format!("nft ended: {}", said.trim())));
            }
            if answer.trim_end() == "}" {
                return Ok(());
            }
            if answer.contains("Error") {
                return Err(io::Error::other(answer.trim().to_string()));
            }
            said.push_str(&answer);
        }
    }
}

impl Drop for Nft {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
