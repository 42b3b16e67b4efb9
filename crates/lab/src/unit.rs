//! The packaged units: what they bound, and processes of a lab's hosts within those bounds.

use crate::layout::Layout;
use anyhow::{Context, Result, bail, ensure};
use std::path::{Path, PathBuf};
use std::process::Command;

/// The part of a unit that bounds its processes (systemd.exec(5)).
pub struct Unit {
    pub command: String,
    /// All else is there to be read; `-` stands before what may be missing.
    pub writable: Vec<String>,
    /// Capabilities, as setpriv(1) takes them.
    pub bounding: String,
    /// Directories that the service manager makes, each with its mode.
    pub made: Vec<String>,
    pub mask: String,
}

/// Mounts may only be read, but for the kernel's own file systems (`ProtectSystem=strict`) and what the
/// unit names; homes are empty, and so are directories for temporary files.
const BOUNDS: &str = r#"
mask=$1 bounding=$2 count=$3; shift 3
is_kept() {
  for path in $kept; do case "$1" in "$path"|"$path"/*) return 0;; esac; done
  return 1
}
kept="/proc /sys /dev"
while [ "$count" -gt 0 ]; do
  if [ -e "$1" ]; then
    [ ! -d "$1" ] || mount --rbind "$1" "$1"
    kept="$kept $1"
  fi
  count=$((count - 1)); shift
done
while read -r _ at _; do
  is_kept "$at" || mount -o remount,bind,ro "$at"
done < /proc/self/mounts
for empty in /tmp /var/tmp; do mount -t tmpfs tmpfs "$empty"; done
for empty in /home /root; do mount -t tmpfs -o ro tmpfs "$empty"; done
umask "$mask"
exec setpriv --no-new-privs --bounding-set "$bounding" "$@"
"#;
/// Directories that are hidden.
const HIDDEN: [&str; 4] = ["/tmp", "/var/tmp", "/home", "/root"];

impl Unit {
    pub const DAEMON: &str = "karst.service";
    pub const DEADMAN: &str = "karst-deadman.service";

    /// # Errors
    /// If it cannot be read, or does not protect what a unit of ours has to.
    pub fn read(name: &str) -> Result<Self> {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../packaging");
        let path = path.join(name);
        let text = std::fs::read_to_string(&path).with_context(|| path.display().to_string())?;
        let all = |key: &str| -> Vec<String> {
            let lines = text.lines().filter_map(|line| line.split_once('='));
            let named = lines.filter(|(name, _)| *name == key);
            named
                .flat_map(|(_, value)| value.split(' ').map(String::from))
                .collect()
        };
        for key in [
            "ProtectSystem",
            "ProtectHome",
            "PrivateTmp",
            "NoNewPrivileges",
        ] {
            ensure!(all(key).len() == 1, "{name}: {key}");
        }
        let (mut made, mut writable) = (Vec::new(), all("ReadWritePaths"));
        for (key, above) in [
            ("RuntimeDirectory", "/run"),
            ("StateDirectory", "/var/lib"),
            ("LogsDirectory", "/var/log"),
        ] {
            let mode = all(&format!("{key}Mode")).concat();
            for dir in all(key) {
                made.push(format!("{above}/{dir}:{mode}"));
                writable.push(format!("{above}/{dir}"));
            }
        }
        let kept = all("CapabilityBoundingSet");
        let kept = kept
            .iter()
            .map(|name| format!(",+{}", name.trim_start_matches("CAP_")));
        Ok(Self {
            command: all("ExecStart").join(" "),
            writable,
            bounding: format!("-all{}", kept.collect::<String>().to_lowercase()),
            made,
            mask: all("UMask").concat(),
        })
    }

    /// The words that come before a command of a lab's host, so that it runs within this unit's bounds: each
    /// directory of the unit is the one that the lab has for it.
    ///
    /// # Errors
    /// If the unit names a directory that a lab has no other one for, or the lab lies in a directory that
    /// the unit hides.
    pub fn before(&self, layout: &Layout, host: &str) -> Result<Command> {
        for hidden in HIDDEN {
            ensure!(
                !layout.dir.starts_with(hidden),
                "units hide {hidden}: such a lab lies elsewhere (--dir)"
            );
        }
        let mut command = Command::new("unshare");
        command.args(["--mount", "--propagation", "slave", "bash", "-euc", BOUNDS]);
        let mut writable = vec![layout.watchdog(host)];
        for path in &self.writable {
            writable.extend(in_lab(layout, host, path.trim_start_matches('-'))?);
        }
        command.args(["bounds", &self.mask, &self.bounding]);
        command.arg(writable.len().to_string()).args(writable);
        Ok(command)
    }
}

fn in_lab(layout: &Layout, host: &str, path: &str) -> Result<Vec<PathBuf>> {
    let dir = layout.host(host);
    Ok(match path {
        "/run/karst" => vec![layout.runtime(host)],
        "/var/lib/karst" => vec![dir.join("state")],
        "/var/log/karst" => vec![dir.join("log")],
        "/etc/karst/tls" => vec![dir.join("tls")],
        "/var/lib/postgresql" => vec![dir.join("data"), dir.join("wal")],
        // Sockets of adopted servers, of which such a lab has none.
        "/run/postgresql" => Vec::new(),
        "/sys/fs/cgroup" => vec![path.into()],
        other => bail!("a unit names {other}, and the lab has no directory for it"),
    })
}
