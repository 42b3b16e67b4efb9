//! The driver of `karst-lines`, a program of the lab that keeps numbered lines and replicates them
//! over TCP: all that Karst needs of a server, and nothing else. It knows no users and no TLS: for
//! trials, not for data.
//!
//! A history is a name that nobody else makes; a number is a count of lines. It takes nothing back:
//! whoever has lines that others do not is copied anew.

use crate::driver::{Driver, Launch, Life, Start};
use crate::host::Host;
use crate::site::{Placed, Site, SiteError};
use crate::trouble::{POLL, Result, Trouble, until, within};
use async_trait::async_trait;
use karst_core::replica::{
    Data, Done, Downstream, Observation, Presence, Promotion, Role, SyncSetting,
};
use karst_core::spec::WorkloadSpec;
use karst_core::{History, NodeId, Position, SwitchPoint};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpStream, UnixStream};

/// How long the server may take to answer.
const PATIENCE: Duration = Duration::from_secs(1);
const PROMOTE_LIMIT: Duration = Duration::from_secs(5);
const SYNC_LIMIT: Duration = Duration::from_secs(60);
const REPOINT_LIMIT: Duration = Duration::from_secs(5);
const COPY_LIMIT: Duration = Duration::from_secs(60);
/// A standby that lacks no more lines than that can be waited for.
const NEAR: u64 = 1_000;

/// What the server says of itself.
#[derive(Deserialize)]
struct Said {
    primary: bool,
    history: History,
    number: u64,
    streams: bool,
    followers: Vec<(NodeId, u64)>,
    /// The setting that every member has everything for.
    held: (u64, u64),
    upstream: Option<NodeId>,
}

#[derive(Deserialize)]
struct Promoted {
    history: History,
    parent: Option<History>,
    began: u64,
    number: u64,
}

#[derive(Debug)]
pub struct Lines {
    host: Arc<Host>,
    program: PathBuf,
}

impl Lines {
    /// The host's half and this one, of this node's replica. The spec's setting `program` is where
    /// `karst-lines` is.
    ///
    /// # Errors
    /// What the spec lacks for it.
    pub fn of(placed: Placed<'_>) -> std::result::Result<(Arc<Host>, Self), SiteError> {
        let missing = || SiteError::Missing {
            workload: placed.workload.clone(),
            key: "program",
        };
        let program = placed.spec.settings.get("program");
        let program = program.ok_or_else(missing)?.into();
        let site = Site::new(placed, "nobody")?;
        let host = Arc::new(Host::new(site, "pid"));
        Ok((host.clone(), Self { host, program }))
    }

    fn control(&self) -> PathBuf {
        self.host.site.socket_dir().join("control")
    }

    /// One order to the server, and its answer.
    async fn ask<T: DeserializeOwned>(&self, order: &str) -> Result<T> {
        within("an answer of the server", PATIENCE, async {
            let io = || Trouble::io(self.control().display().to_string());
            let mut socket = UnixStream::connect(self.control()).await.map_err(io())?;
            let line = format!("{order}\n");
            socket.write_all(line.as_bytes()).await.map_err(io())?;
            let mut answer = String::new();
            let mut answers = BufReader::new(socket);
            answers.read_line(&mut answer).await.map_err(io())?;
            serde_json::from_str(&answer).map_err(|_| Trouble::Server(answer.trim().into()))
        })
        .await
    }

    async fn look(&self) -> Result<Said> {
        self.ask("status").await
    }

    fn address(&self, node: &NodeId) -> Result<std::net::SocketAddr> {
        let site = &self.host.site;
        let unknown = || Trouble::Wrong(format!("{node} has no replica of {}", site.workload));
        site.replicas.get(node).copied().ok_or_else(unknown)
    }

    /// Everything that another server has.
    async fn fetch(&self, from: &NodeId) -> Result<(String, String)> {
        let io = || Trouble::io(from.to_string());
        let mut stream = TcpStream::connect(self.address(from)?)
            .await
            .map_err(io())?;
        stream.write_all(b"copy\n").await.map_err(io())?;
        let mut all = String::new();
        stream.read_to_string(&mut all).await.map_err(io())?;
        let cut_short = || Trouble::Wrong(format!("the copy of {from} was cut short"));
        let all = all.strip_suffix("end\n").ok_or_else(cut_short)?;
        let (histories, lines) = all.split_once("\n\n").ok_or_else(cut_short)?;
        Ok((format!("{histories}\n"), lines.to_string()))
    }

    fn put(&self, dir: &Path, name: &str, text: &str) -> Result<()> {
        let path = dir.join(name);
        self.host
            .files()
            .put(&path, text.as_bytes(), true)
            .map_err(Trouble::io(path.display().to_string()))
    }

    fn fresh(&self, what: &str) -> Result<PathBuf> {
        let dir = self.host.beside(what);
        self.host.clear(&dir)?;
        self.host
            .files()
            .make_dir(&dir)
            .map_err(Trouble::io(dir.display().to_string()))?;
        Ok(dir)
    }
}

fn new_name() -> String {
    format!("{:016x}", rand::random::<u64>())
}

#[async_trait]
impl Driver for Lines {
    fn data(&self) -> Data {
        let dir = &self.host.site.data;
        let files = self.host.files();
        match files.exist([&dir.join("histories"), &dir.join("standby")]) {
            Ok([true, standby]) => return Data::Present { standby },
            Ok([false, _]) => {}
            Err(error) => return Data::Foreign(error.to_string()),
        }
        match files.names(dir) {
            Ok(names) if !names.is_empty() => {
                Data::Foreign(format!("{} is not empty and holds no lines", dir.display()))
            }
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                Data::Foreign(format!("{}: {error}", dir.display()))
            }
            _ => Data::Empty,
        }
    }

    fn identity(&self) -> Option<String> {
        None
    }

    fn is_strange(&self) -> bool {
        false
    }

    async fn obstacles(&self, _before: Option<&WorkloadSpec>) -> Vec<String> {
        Vec::new()
    }

    async fn create(&self) -> Result<()> {
        if self.data() != Data::Empty {
            return Ok(());
        }
        let fresh = self.fresh("new")?;
        self.put(&fresh, "lines", "")?;
        self.put(&fresh, "histories", &format!("{} 0\n", new_name()))?;
        self.host.swap_in(&fresh)
    }

    async fn furnish(&self) -> Result<()> {
        Ok(())
    }

    async fn prepare(&self, start: Start) -> Result<Launch> {
        let site = &self.host.site;
        self.host.make_runtime()?;
        let mut arguments = vec![
            "serve".into(),
            site.data.display().to_string(),
            site.address.to_string(),
            self.control().display().to_string(),
            site.me.to_string(),
        ];
        if let Start::HeldBack { .. } = start {
            return Err(Trouble::Wrong("its servers cannot be held back".into()));
        }
        if let Start::Standby { upstream } = start {
            self.put(&site.data, "standby", "")?;
            if let Some(upstream) = upstream {
                arguments.push(upstream.to_string());
                arguments.push(self.address(&upstream)?.to_string());
            }
        }
        Ok(Launch {
            program: self.program.clone(),
            arguments,
        })
    }

    async fn answers(&self) -> bool {
        self.look().await.is_ok()
    }

    fn programs(&self) -> Vec<PathBuf> {
        vec![self.program.clone()]
    }

    fn version(&self) -> Option<String> {
        None
    }

    async fn probe(&self) -> Observation {
        let mut seen = Observation {
            presence: Presence::Runs,
            ..Observation::down(self.data())
        };
        let said = match self.look().await {
            Ok(said) => said,
            Err(error) => {
                seen.trouble = Some(error.to_string());
                return seen;
            }
        };
        let number = said.number;
        seen.role = Some(if said.primary {
            Role::Primary
        } else {
            Role::Standby
        });
        seen.place = Some(format!("line {number} of {}", said.history));
        seen.position = Some(Position::new(said.history, number));
        (seen.received, seen.replayed) = (Some(number), Some(number));
        (seen.upstream, seen.streaming) = (said.upstream, said.streams);
        seen.can_write = said.primary.then_some(true);
        let follower = |(node, has): (NodeId, u64)| Downstream {
            node,
            sent: None,
            flushed: Some(has),
            replayed: Some(has),
            streaming: true,
            near: number.saturating_sub(has) <= NEAR,
            delay: None,
        };
        seen.standbys = said.followers.into_iter().map(follower).collect();
        seen
    }

    async fn checkpoint(&self) -> Result<()> {
        Ok(())
    }

    async fn ask_to_stop(&self) -> Result<()> {
        // Its end is the answer.
        let path = self.control();
        let io = || Trouble::io(path.display().to_string());
        let mut socket = UnixStream::connect(&path).await.map_err(io())?;
        socket.write_all(b"stop\n").await.map_err(io())
    }

    /// A server that was asked to stop has sent its standbys everything; what is in the file then
    /// is all that it had.
    async fn clean_end(&self) -> Result<Option<u64>> {
        let path = self.host.site.data.join("lines");
        let lines = self
            .host
            .files()
            .read(&path)
            .map_err(Trouble::io(path.display().to_string()))?;
        Ok(Some(lines.iter().filter(|b| **b == b'\n').count() as u64))
    }

    async fn settle(&self, _enough: Option<u64>) -> Result<Position> {
        self.ask::<bool>("settle").await?;
        let said = self.look().await?;
        Ok(Position::new(said.history, said.number))
    }

    async fn promote(&self, _after: Option<&History>) -> Result<Promotion> {
        let order = format!("promote {}", new_name());
        let promoted: Promoted = within("the promotion", PROMOTE_LIMIT, self.ask(&order)).await?;
        Ok(Promotion {
            point: SwitchPoint {
                history: promoted.history,
                parent: promoted.parent,
                began: promoted.began,
                writes_from: promoted.number,
            },
            unique: true,
        })
    }

    async fn set_sync(&self, setting: SyncSetting) -> Result<()> {
        let number = (setting.epoch.0, setting.number);
        let names: Vec<&str> = setting.standbys.iter().map(NodeId::as_str).collect();
        let whom = match (names.is_empty(), setting.unprotected) {
            (true, true) => "nobody".into(),
            (true, false) => "locked".into(),
            (false, _) => names.join(","),
        };
        self.ask::<bool>(&format!("sync {} {} {whom}", number.0, number.1))
            .await?;
        until("the sync set", SYNC_LIMIT, || async {
            Ok(self.look().await?.held == number)
        })
        .await
    }

    async fn repoint(&self, upstream: NodeId) -> Result<()> {
        let order = format!("follow {upstream} {}", self.address(&upstream)?);
        self.ask::<bool>(&order).await?;
        until("streaming", REPOINT_LIMIT, || async {
            tokio::time::sleep(POLL).await;
            Ok(self.look().await?.streams)
        })
        .await
    }

    async fn rewind(&self, to: &NodeId) -> Result<Done> {
        let why = format!("lines are not taken back: it is copied from {to}");
        Ok(Done::MustClone { why })
    }

    async fn copy_from(&self, from: &NodeId) -> Result<()> {
        let (histories, lines) = within("the copy", COPY_LIMIT, self.fetch(from)).await?;
        let copy = self.fresh("copy")?;
        for (name, text) in [
            ("lines", lines.as_str()),
            ("standby", ""),
            ("histories", &histories),
        ] {
            self.put(&copy, name, text)?;
        }
        self.host.end_all().await?;
        self.host.swap_in(&copy)
    }

    fn reason(&self, log: &str, _life: Life) -> Option<String> {
        let last = log.lines().rev().find(|line| !line.trim().is_empty())?;
        Some(format!("its log says: {last}"))
    }

    async fn renew_certificates(&self) -> Result<()> {
        Ok(())
    }
}
