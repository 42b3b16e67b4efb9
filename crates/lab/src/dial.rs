//! Clients that only dial: who was answered, and how long after?

use crate::find;
use crate::layout::{CLIENT, Layout};
use crate::steal::wall_nanos;
use anyhow::{Context, Result};
use std::io::Write as _;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::time::Duration;
use tokio::net::TcpStream;

/// Between two dials; each is a client of its own that waits for its answer, whatever becomes of
/// the others.
const EVERY: Duration = Duration::from_millis(4);
/// Long enough for two repeated SYNs: the first is sent again after a second (RFC 6298, section 2).
const PATIENCE: Duration = Duration::from_secs(4);

/// One dial. Nanoseconds since 1970.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Call {
    pub begun: u128,
    /// None if it was refused, or not answered in time.
    pub answered: Option<u128>,
}

/// Dials from the client host until it is finished.
pub struct Dial {
    child: Child,
    answers: PathBuf,
}

impl Dial {
    pub fn start(layout: &Layout, to: SocketAddr) -> Result<Self> {
        let dir = layout.dir.join("load");
        std::fs::create_dir_all(&dir)?;
        let answers = dir.join(format!("dial-{}", if to.is_ipv4() { 4 } else { 6 }));
        let mut command = find::enter(layout, CLIENT)?;
        command
            .arg(find::sibling("karst-lab")?)
            .arg("--dir")
            .arg(&layout.dir)
            .arg("dial")
            .arg(to.to_string());
        let child = command
            .arg(&answers)
            .stdin(Stdio::null())
            .spawn()
            .context("nsenter")?;
        Ok(Self { child, answers })
    }

    /// The dials that have ended so far.
    pub fn calls(&self) -> Vec<Call> {
        let text = std::fs::read_to_string(&self.answers).unwrap_or_default();
        let call = |line: &str| {
            let (begun, answered) = line.split_once(' ')?;
            Some(Call {
                begun: begun.parse().ok()?,
                answered: answered.parse().ok(),
            })
        };
        text.lines().filter_map(call).collect()
    }

    /// When it was answered so far, in order.
    pub fn answers(&self) -> Vec<u128> {
        let mut answers: Vec<u128> = self
            .calls()
            .into_iter()
            .filter_map(|c| c.answered)
            .collect();
        answers.sort_unstable();
        answers
    }
}

impl Drop for Dial {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The dialling itself; writes a line for each dial that has ended, until it is killed or its lab
/// has gone. A thread of its own writes: a disk that stands still delays no dial.
pub async fn run(to: SocketAddr, answers: &Path) -> Result<()> {
    let mut file = std::fs::File::create(answers).with_context(|| answers.display().to_string())?;
    let (ended, lines) = std::sync::mpsc::channel::<String>();
    std::thread::spawn(move || lines.iter().try_for_each(|line| writeln!(file, "{line}")));
    while answers.exists() {
        let ended = ended.clone();
        tokio::spawn(async move {
            let begun = wall_nanos();
            let connected = tokio::time::timeout(PATIENCE, TcpStream::connect(to)).await;
            let answered = matches!(connected, Ok(Ok(_))).then(wall_nanos);
            let answered = answered.map_or("-".into(), |at| at.to_string());
            let _ = ended.send(format!("{begun} {answered}"));
        });
        tokio::time::sleep(EVERY).await;
    }
    Ok(())
}
