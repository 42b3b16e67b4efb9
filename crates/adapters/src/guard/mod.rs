//! The packet guard of a primary (SAFETY C3): what is sent to or from the workload's port passes
//! only while an nftables element with a timeout lives. A host that is frozen as a whole and thawed
//! later finds it expired, whatever of it runs first: its kernel still completes handshakes and its
//! server still answers, and nothing of it gets through. The same holds for a floating address, ARP
//! and neighbour discovery included.
//!
//! `nft` makes the tables, once; what changes from then on are elements of their sets, which the
//! kernel is told directly. Only the deadman opens. A host without `nft` or without the right to
//! use it has no guard, and says so.

mod elements;

use elements::{Change, Family, Kernel, Set};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::io::{self, Read, Write};
use std::net::IpAddr;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

/// Where the program may be: a service's PATH may lack the administrator's directories.
const PROGRAMS: [&str; 3] = ["/usr/sbin/nft", "/sbin/nft", "/usr/local/sbin/nft"];
/// Making the tables takes about 10 ms, on a starved host a hundred times that.
const PATIENCE: Duration = Duration::from_secs(1);

const GUARDED: Set = Set(Family::Inet, "guarded");
const OPEN: Set = Set(Family::Inet, "open");

/// What would leave is answered with a reset to the server's own socket: an answer that only waited
/// there would be sent again by the kernel when the port is free for a standby, long after the
/// server's end. Loopback stays open: what runs on the host itself ends with the host's server.
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
    kernel: Option<Kernel>,
    /// How long the caller can wait for an answer: it has deadlines of its own to keep. Default one
    /// second.
    patience: Option<Duration>,
}

impl Guard {
    /// From here on no call blocks for longer.
    pub fn wait_at_most(&mut self, time: Duration) {
        self.patience = Some(time.min(PATIENCE));
    }

    /// Whether this host can have one. The tables are made, and hold nothing back by themselves.
    ///
    /// # Errors
    /// As [`Guard::open_for`].
    pub fn look(&mut self) -> io::Result<()> {
        make_tables(self.patience.unwrap_or(PATIENCE))?;
        Kernel::connect().map(drop)
    }

    /// Lets packets of this port pass for that long, and none after that until it is said again.
    ///
    /// Returns when the kernel has it.
    ///
    /// # Errors
    /// What the kernel or `nft` said, or that there is none: then nothing guards the port.
    pub fn open_for(&mut self, port: u16, time: Duration) -> io::Result<()> {
        let mut changes = Change::renew(OPEN, &port, time).to_vec();
        changes.push(Change::add(GUARDED, &port));
        self.change(&changes)
    }

    /// Lets nothing pass any more: the deadline came while the port was being opened.
    ///
    /// # Errors
    /// As [`Guard::open_for`].
    pub fn close(&mut self, port: u16) -> io::Result<()> {
        let mut changes = Change::remove(OPEN, &port, true).to_vec();
        changes.push(Change::add(GUARDED, &port));
        self.change(&changes)
    }

    /// No primary is here: a standby answers whom it likes.
    ///
    /// # Errors
    /// As [`Guard::open_for`].
    pub fn lift(&mut self, port: u16) -> io::Result<()> {
        self.change(&Change::remove(GUARDED, &port, false))
    }

    /// Nobody here answers for this address until it is opened: neither to ARP nor to neighbour
    /// discovery, nor to packets.
    ///
    /// # Errors
    /// As [`Guard::open_for`].
    pub fn hold(&mut self, ip: IpAddr) -> io::Result<()> {
        let changes: Vec<Change> = sets(ip).map(|(held, _)| Change::add(held, &ip)).collect();
        self.change(&changes)
    }

    /// Lets this host answer for the address for that long.
    ///
    /// # Errors
    /// As [`Guard::open_for`].
    pub fn open_address(&mut self, ip: IpAddr, time: Duration) -> io::Result<()> {
        let both = |(held, open)| {
            Change::renew(open, &ip, time)
                .into_iter()
                .chain([Change::add(held, &ip)])
        };
        let changes: Vec<Change> = sets(ip).flat_map(both).collect();
        self.change(&changes)
    }

    /// Nobody here answers for it any more.
    ///
    /// # Errors
    /// As [`Guard::open_for`].
    pub fn close_address(&mut self, ip: IpAddr) -> io::Result<()> {
        let changes: Vec<Change> = sets(ip)
            .flat_map(|(_, open)| Change::remove(open, &ip, true))
            .collect();
        self.change(&changes)
    }

    /// Also where the tables are not there yet, or somebody has deleted them.
    fn change(&mut self, changes: &[Change]) -> io::Result<()> {
        if self.kernel.is_none() {
            make_tables(self.patience.unwrap_or(PATIENCE))?;
            self.kernel = Some(Kernel::connect()?);
        }
        let kernel = self.kernel.as_mut().expect("it was just connected");
        let mut done = kernel.transact(changes);
        if done
            .as_ref()
            .is_err_and(|e| e.kind() == io::ErrorKind::NotFound)
        {
            make_tables(self.patience.unwrap_or(PATIENCE))?;
            done = kernel.transact(changes);
        }
        if done.is_err() {
            self.kernel = None;
        }
        done
    }
}

/// The sets that have a say over an address: those it is in while this host holds it back, and
/// those that let it through.
fn sets(ip: IpAddr) -> impl Iterator<Item = (Set, Set)> {
    let families: &[Family] = if ip.is_ipv4() {
        &[Family::Inet, Family::Arp]
    } else {
        &[Family::Inet]
    };
    let (held, open) = if ip.is_ipv4() {
        ("held4", "open4")
    } else {
        ("held6", "open6")
    };
    families
        .iter()
        .map(move |family| (Set(*family, held), Set(*family, open)))
}

/// Blocks until `nft` has made them, or for as long as the caller can wait.
fn make_tables(patience: Duration) -> io::Result<()> {
    let program = PROGRAMS.iter().find(|p| Path::new(p).exists());
    let program = program.ok_or_else(|| {
        io::Error::new(
            io::ErrorKind::NotFound,
            "there is no nft (package nftables)",
        )
    })?;
    let patience = Timespec {
        tv_sec: patience.as_secs().cast_signed(),
        tv_nsec: patience.subsec_nanos().into(),
    };
    let mut nft = Command::new(program)
        .args(["-f", "-"])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()?;
    nft.stdin
        .take()
        .expect("it is piped")
        .write_all(RULES.as_bytes())?;
    // It says nothing, and closes this when it ends, unless it has something to complain about.
    let mut complaint = nft.stderr.take().expect("it is piped");
    if poll(
        &mut [PollFd::new(&complaint, PollFlags::IN)],
        Some(&patience),
    )? == 0
    {
        nft.kill()?;
        nft.wait()?;
        return Err(io::Error::new(
            io::ErrorKind::TimedOut,
            "nft does not answer",
        ));
    }
    let mut said = String::new();
    complaint.read_to_string(&mut said)?;
    if nft.wait()?.success() {
        Ok(())
    } else {
        Err(io::Error::other(
            said.lines().next().unwrap_or("nft failed").to_string(),
        ))
    }
}
