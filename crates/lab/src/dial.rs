//! A client that only dials: when was somebody there?

use crate::find;
use crate::layout::{CLIENT, Layout};
use crate::steal::wall_nanos;
use anyhow::{Context, Result};
use std::io::Write as _;
use std::net::{SocketAddr, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::time::Duration;

/// A dial that is not answered by then is given up for a new one: a lost SYN would be repeated after a second only.
const PATIENCE: Duration = Duration::from_millis(5);

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
        command.arg(find::sibling("karst-lab")?).arg("--dir").arg(&layout.dir).arg("dial").arg(to.to_string());
        let child = command.arg(&answers).stdin(Stdio::null()).spawn().context("nsenter")?;
        Ok(Self { child, answers })
    }

    /// When it was answered so far, nanoseconds since 1970.
    pub fn answers(&self) -> Vec<u128> {
        let text = std::fs::read_to_string(&self.answers).unwrap_or_default();
        text.lines().filter_map(|l| l.parse().ok()).collect()
    }
}

impl Drop for Dial {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The dialling itself; writes a line for each answer, until it is killed or its lab has gone.
pub fn run(to: SocketAddr, answers: &Path) -> Result<()> {
    let mut file = std::fs::File::create(answers).with_context(|| answers.display().to_string())?;
    while answers.exists() {
        if TcpStream::connect_timeout(&to, PATIENCE).is_ok() {
            writeln!(file, "{}", wall_nanos())?;
        }
        std::thread::sleep(Duration::from_millis(2));
    }
    Ok(())
}
