//! A name server of the lab's own, on the clients' host: the ferry company's zone, and one key that may
//! change it.

use crate::layout::{CLIENT, CLIENT_ADDRESS, Layout};
use anyhow::{Context, Result};
use std::process::{Child, Command, Stdio};

pub const ZONE: &str = "ferries.example";
pub const RECORD: &str = "sailings.ferries.example";
pub const KEY: &str = "karst-update";

const ZONE_FILE: &str = "$ORIGIN ferries.example.
$TTL 3600
@ SOA ns harbour 1 3600 600 86400 60
@ NS ns
ns A 10.30.0.100
timetable A 10.30.0.101
";

impl Layout {
    /// Made anew at each start: what a cluster has written there before is gone.
    pub(crate) fn prepare_named(&self) -> Result<()> {
        let dir = self.host(CLIENT).join("named");
        if dir.exists() {
            std::fs::remove_dir_all(&dir)?;
        }
        std::fs::create_dir_all(dir.join("db"))?;
        std::fs::write(dir.join("zone"), ZONE_FILE)?;
        let (at, secret) = (dir.display(), std::fs::read_to_string(self.secret("dns"))?);
        let conf = format!(
            "server:\n  rundir: \"{at}\"\n  listen: {CLIENT_ADDRESS}@53\nlog:\n  - target: stderr\n    any: info\n\
             key:\n  - id: {KEY}\n    algorithm: hmac-sha256\n    secret: {}\n\
             acl:\n  - id: keeper\n    key: {KEY}\n    action: update\n\
             database:\n  storage: \"{at}/db\"\n\
             zone:\n  - domain: {ZONE}\n    file: \"{at}/zone\"\n    acl: keeper\n",
            secret.trim()
        );
        let path = dir.join("conf");
        std::fs::write(&path, conf).with_context(|| path.display().to_string())
    }
}

/// Runs inside the lab.
pub(crate) fn start(layout: &Layout) -> Result<Child> {
    let dir = layout.host(CLIENT).join("named");
    let log = crate::inside::log_file(&layout.dir.join("logs/named.log"))?;
    Command::new("ip")
        .args(["netns", "exec", CLIENT, "/usr/sbin/knotd", "-c"])
        .arg(dir.join("conf"))
        .stdin(Stdio::null())
        .stdout(log.try_clone()?)
        .stderr(log)
        .spawn()
        .context("the name server")
}
