//! Where everything of a lab is: directories, addresses, the spec. One lab per directory.

use crate::shape::Shape;
use anyhow::{Context, Result};
use serde::{Deserialize, Serialize};
use std::fs;
use std::path::{Path, PathBuf};

/// The power controller's host in the lab.
pub const CONTROLLER: &str = "panel";
/// Where it listens, on the management network.
pub const CONTROLLER_ADDRESS: &str = "10.40.0.90";
/// Whom it knows; the password is the lab's secret `power`.
pub const CONTROLLER_USER: &str = "karst";

/// The ferry company's nodes: name, zone, votes, witness, rank of its replica.
pub const NODES: [Host; 4] = [
    Host {
        name: "doline",
        zone: "northquay",
        votes: 1,
        witness: false,
        number: 11,
        rank: Some(1),
    },
    Host {
        name: "polje",
        zone: "southquay",
        votes: 1,
        witness: false,
        number: 12,
        rank: Some(2),
    },
    Host {
        name: "ponor",
        zone: "lighthouse",
        votes: 1,
        witness: true,
        number: 13,
        rank: None,
    },
    Host {
        name: "uvala",
        zone: "southquay",
        votes: 0,
        witness: false,
        number: 14,
        rank: Some(9),
    },
];
/// The fifth host, and the other workloads of a fleet.
const FIFTH: Host = Host {
    name: "cenote",
    zone: "northquay",
    votes: 0,
    witness: false,
    number: 15,
    rank: None,
};
pub const FLEET: [&str; 9] = [
    "manifests",
    "crew",
    "fares",
    "fuel",
    "lockers",
    "moorings",
    "parking",
    "tides",
    "timetable",
];
/// Gates run on hosts other than the preferred servers'.
pub const GATES: [&str; 2] = ["ponor", "uvala"];
/// The host that clients run on, and the one of the history store.
pub const CLIENT: &str = "quayside";
pub const ARCHIVE: &str = "archive";
pub const CLIENT_ADDRESS: &str = "10.30.0.100";
/// What clients dial, wherever it is.
pub const FLOATING: &str = "10.30.0.50";
pub const FLOATING6: &str = "fd30::50";
pub const WORKLOAD: &str = "sailings";
/// The workload of numbered lines, where there is one, and the port of its servers and gates.
pub const LINES: &str = "logbook";
pub const LINES_PORT: u16 = 7010;
pub const DATABASE: &str = "sailings";
pub const CLIENT_ROLE: &str = "booking_desk";
pub const SERVER_PROGRAMS: &str = "/usr/lib/postgresql/15/bin";

#[derive(Clone, Copy, Debug)]
pub struct Host {
    pub name: &'static str,
    pub zone: &'static str,
    pub votes: u32,
    pub witness: bool,
    pub number: u8,
    pub rank: Option<u32>,
}

impl Host {
    pub fn peer(&self) -> String {
        format!("10.20.0.{}", self.number)
    }
    pub fn client(&self) -> String {
        format!("10.30.0.{}", self.number)
    }
    pub fn management(&self) -> String {
        format!("10.40.0.{}", self.number)
    }
}

pub fn host(name: &str) -> Option<Host> {
    NODES.into_iter().find(|h| h.name == name)
}

/// One lab on this machine.
#[derive(Clone, Debug)]
pub struct Layout {
    pub dir: PathBuf,
    /// The first of the loopback ports: consoles from here on, the gates' forwarders from 32 on.
    pub port: u16,
    pub shape: Shape,
}

/// What a lab's directory says of it.
#[derive(Serialize, Deserialize)]
pub(crate) struct Told {
    pub port: u16,
    pub shape: Shape,
}

impl Layout {
    pub fn new(dir: &Path, port: u16, shape: Shape) -> Result<Self> {
        let dir = std::path::absolute(dir).context("the lab's directory")?;
        // Unix socket paths end at 107 bytes (unix(7)).
        anyhow::ensure!(
            dir.as_os_str().len() <= 48,
            "{} is too long for socket paths: use --dir with a shorter one",
            dir.display()
        );
        Ok(Self { dir, port, shape })
    }

    /// The layout of a lab that was made before.
    pub fn load(dir: &Path) -> Result<Self> {
        let path = dir.join("lab.json");
        let text = fs::read_to_string(&path).with_context(|| {
            format!("no lab in {}: start one with `karst-lab up`", dir.display())
        })?;
        let Told { port, shape } =
            serde_json::from_str(&text).with_context(|| path.display().to_string())?;
        Self::new(dir, port, shape)
    }

    /// The hosts with a daemon.
    pub fn nodes(&self) -> Vec<Host> {
        NODES
            .into_iter()
            .chain((self.shape.fleet || self.shape.fifth).then_some(FIFTH))
            .collect()
    }

    pub fn host(&self, name: &str) -> PathBuf {
        self.dir.join("hosts").join(name)
    }
    pub fn runtime(&self, name: &str) -> PathBuf {
        self.host(name).join("run")
    }
    /// Where a host's server listens for local clients.
    pub fn server_socket(&self, name: &str) -> PathBuf {
        self.runtime(name).join(WORKLOAD).join("socket")
    }
    pub fn data(&self, name: &str) -> PathBuf {
        self.host(name).join("data").join(WORKLOAD)
    }
    /// The spec that a host was given when it became a node by `karst init` or `karst join`.
    pub fn own_spec(&self, name: &str) -> PathBuf {
        self.host(name).join("spec.toml")
    }
    /// What stands for a host's watchdog device.
    pub fn watchdog(&self, name: &str) -> PathBuf {
        self.host(name).join("watchdog")
    }
    /// Where the hosts' servers have their cgroups, if this machine lets us make any: one directory
    /// for each lab.
    pub fn cgroup(&self) -> Option<PathBuf> {
        // Where both versions are mounted, the second has a place of its own.
        let places = ["/sys/fs/cgroup", "/sys/fs/cgroup/unified"].map(Path::new);
        let hierarchy = places
            .into_iter()
            .find(|place| place.join("cgroup.procs").exists())?;
        let dir = hierarchy.join(format!("karst-lab-{}", self.port));
        fs::create_dir_all(&dir).ok().map(|()| dir)
    }
    /// Where the program of the numbered lines is, for whatever user.
    pub fn lines_program(&self) -> PathBuf {
        self.dir.join("karst-lines")
    }
    pub fn spec(&self) -> PathBuf {
        self.dir.join("spec.toml")
    }
    pub fn secret(&self, name: &str) -> PathBuf {
        self.dir.join("secrets").join(name)
    }
    /// The hardware's UUID of a host: its own, and what the power controller says that it powers.
    pub fn system_uuid(&self, name: &str) -> Option<String> {
        Some(
            fs::read_to_string(self.host(name).join("system_uuid"))
                .ok()?
                .trim()
                .to_string(),
        )
    }
    pub fn client_config(&self) -> PathBuf {
        self.dir.join("client.toml")
    }
    pub fn api_port(&self, index: usize) -> u16 {
        self.port + index as u16
    }
    pub fn gate_port(&self, index: usize) -> u16 {
        self.port + 32 + index as u16
    }
    pub fn servers(&self) -> Vec<String> {
        (0..self.nodes().len())
            .map(|i| format!("http://127.0.0.1:{}", self.api_port(i)))
            .collect()
    }
    pub fn token(&self) -> Result<String> {
        Ok(fs::read_to_string(self.secret("captain"))?
            .trim()
            .to_string())
    }
    pub fn client_password(&self) -> Result<String> {
        Ok(fs::read_to_string(self.secret("client"))?
            .trim()
            .to_string())
    }
    /// The gates, as they are forwarded to the user's own loopback.
    pub fn gates(&self) -> String {
        let ports = format!("{},{}", self.gate_port(0), self.gate_port(1));
        format!("host=127.0.0.1,127.0.0.1 port={ports} dbname={DATABASE} user={CLIENT_ROLE}")
    }
    /// What an ordinary client on this machine uses.
    pub fn connection_string(&self) -> String {
        format!(
            "{} passfile={}",
            self.gates(),
            self.dir.join("passfile").display()
        )
    }
}

/// How server programs, which refuse to run as root, are started.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RunAs {
    /// As Debian's `postgres` user.
    Postgres,
    /// In a user namespace of their own, where they are somebody else than root.
    Nested,
}

impl RunAs {
    pub const NESTED: &str = "unshare -U --map-user=101 --map-group=104";

    pub fn now() -> Self {
        if rustix::process::geteuid().is_root() {
            Self::Postgres
        } else {
            Self::Nested
        }
    }
    /// The driver's setting that says so.
    pub fn spec_line(self) -> String {
        match self {
            Self::Postgres => String::new(),
            Self::Nested => format!("launcher = \"{}\"\n", Self::NESTED),
        }
    }
    /// The words before a server program.
    pub fn words(self) -> Vec<String> {
        let words = match self {
            Self::Postgres => "setpriv --reuid=postgres --regid=postgres --init-groups",
            Self::Nested => Self::NESTED,
        };
        words.split(' ').map(String::from).collect()
    }
}

/// A server program's path.
pub fn program(name: &str) -> String {
    format!("{SERVER_PROGRAMS}/{name}")
}
