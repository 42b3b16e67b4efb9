//! What has to be there before a lab starts.

use crate::layout::{CLIENT_ROLE, Layout, RunAs, SERVER_PROGRAMS, Told};
use crate::spec;
use anyhow::{Context, Result};
use rustix::fs::{CWD, Mode, mkfifoat};
use std::fs;
use std::path::Path;

impl Layout {
    /// Makes the directories, secrets and the spec; what is there already stays.
    pub fn prepare(&self, run_as: RunAs) -> Result<()> {
        use std::io::Write;
        use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
        for dir in [
            self.dir.clone(),
            self.dir.join("secrets"),
            self.dir.join("logs"),
        ] {
            fs::create_dir_all(&dir).with_context(|| format!("lab directory {}", dir.display()))?;
        }
        // The server's user has to pass through, and see nothing else.
        fs::set_permissions(&self.dir, fs::Permissions::from_mode(0o711))?;
        fs::set_permissions(self.dir.join("secrets"), fs::Permissions::from_mode(0o700))?;
        let put = |path: &Path, text: &str| -> Result<()> {
            let mut file = fs::OpenOptions::new()
                .create(true)
                .truncate(true)
                .write(true)
                .mode(0o600)
                .open(path)?;
            Ok(file.write_all(text.as_bytes())?)
        };
        for name in [
            "captain",
            "replication",
            "client",
            "history",
            "power",
            "dns",
        ] {
            let path = self.secret(name);
            if !path.exists() {
                put(&path, &format!("{:032x}\n", rand::random::<u128>()))?;
            }
        }
        let digest: String = <sha2::Sha256 as sha2::Digest>::digest(self.token()?.as_bytes())
            .iter()
            .map(|b| format!("{b:02x}"))
            .collect();
        put(
            &self.secret("tokens"),
            &format!("captain administer {digest}\n"),
        )?;
        put(
            &self.secret("allowed"),
            &format!(
                "programs {SERVER_PROGRAMS}\nprograms {dir}\nlauncher {launcher}\nuser postgres\nuser nobody\n\
                 data {dir}\nlogs {dir}\n",
                dir = self.dir.display(),
                launcher = RunAs::NESTED,
            ),
        )?;
        put(
            &self.dir.join("passfile"),
            &format!("*:*:*:{CLIENT_ROLE}:{}\n", self.client_password()?),
        )?;
        if self.shape.lines {
            // A server's user may not pass through to where this program is built.
            let program = crate::find::sibling("karst-lines")?;
            fs::copy(&program, self.lines_program()).context("karst-lines")?;
        }
        let told = Told {
            port: self.port,
            shape: self.shape.clone(),
        };
        fs::write(self.dir.join("lab.json"), serde_json::to_string(&told)?)?;
        fs::write(self.spec(), spec::spec_text(self, run_as))?;
        let servers: Vec<String> = self.servers().iter().map(|s| format!("\"{s}\"")).collect();
        fs::write(
            self.client_config(),
            format!(
                "nodes = [{}]\ntoken-file = \"{}\"\n",
                servers.join(", "),
                self.secret("captain").display()
            ),
        )?;
        for node in self.nodes() {
            for dir in ["run", "state", "data", "wal", "log"] {
                fs::create_dir_all(self.host(node.name).join(dir))?;
            }
            if self.shape.empty && !self.own_spec(node.name).exists() {
                fs::write(self.host(node.name).join("hold-daemon"), "")?;
            }
            if !self.watchdog(node.name).exists() {
                mkfifoat(CWD, self.watchdog(node.name), Mode::RUSR | Mode::WUSR)?;
            }
            let uuid = self.host(node.name).join("system_uuid");
            if !uuid.exists() {
                fs::write(uuid, random_uuid() + "\n")?;
            }
        }
        Ok(())
    }
}

/// RFC 9562, version 4.
fn random_uuid() -> String {
    let random = rand::random::<u128>() & !(0xf << 76) & !(0x3 << 62) | (4 << 76) | (2 << 62);
    let hex = format!("{random:032x}");
    let parts = [
        &hex[..8],
        &hex[8..12],
        &hex[12..16],
        &hex[16..20],
        &hex[20..],
    ];
    parts.join("-")
}
