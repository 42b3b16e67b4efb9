//! The packaged units: both processes run under exactly the mounts, directories, rights and limits that
//! the files give them, with their usual options, and again after a boot that has emptied `/run`.

use anyhow::{Result, ensure};
use karst_lab::layout::RunAs;
use karst_lab::shape::Shape;
use karst_lab::unit::Unit;
use karst_lab::{Layout, certs, find};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// The host's file system in small: what is not the system's own is empty, as on a new host.
const HOST: &str = r#"
set -eu
mount --bind "$ROOT" "$ROOT"
cd "$ROOT"
chmod 0755 .
rm -rf run
mkdir -p etc/karst var/lib var/log run srv home root tmp var/tmp usr proc sys dev
for dir in usr proc sys dev; do mount --rbind "/$dir" "$dir"; done
for link in bin sbin lib lib64; do [ ! -e "/$link" ] || cp -a "/$link" .; done
cp -aL /etc/passwd /etc/group /etc/nsswitch.conf etc/
[ ! -e /etc/ld.so.cache ] || cp -aL /etc/ld.so.cache etc/
[ -e etc/karst/spec.toml ] || cp -a "$FILES/." etc/karst/
touch karstd && mount --bind "$KARSTD" karstd
ip link set lo up
"#;

/// Starts what a unit starts, as the service manager would: its directories are made, the rest may only
/// be read.
const START: &str = r#"
start() {
  for made in $4; do
    mkdir -p "$ROOT/${made%:*}"; chmod "${made#*:}" "$ROOT/${made%:*}"
  done
  unshare --mount --propagation private bash -eu -c '
    for path in $2; do
      case "$path" in -*) path=${path#-}; [ -e "$ROOT$path" ] || continue;; esac
      mount --rbind "$ROOT$path" "$ROOT$path"
    done
    mount -o remount,bind,ro "$ROOT"
    mount -o remount,bind,ro "$ROOT/usr"
    mount -t tmpfs tmpfs "$ROOT/tmp"; mount -t tmpfs tmpfs "$ROOT/var/tmp"
    mount -t tmpfs -o ro tmpfs "$ROOT/home"; mount -t tmpfs -o ro tmpfs "$ROOT/root"
    umask "$5"
    exec chroot "$ROOT" setpriv --no-new-privs --bounding-set "$3" $1
  ' start "$1" "$2" "$3" "" "$5" >> "$LOG" 2>&1 &
}
"#;

/// All is well, and a row is written. With the last process of this boot all others end.
const COURSE: &str = r#"
ask() { curl -sf --max-time 2 --unix-socket "$ROOT/run/karst/api.sock" -H 'Authorization: Local' "http://node/api/v1/$1"; }
row() { chroot "$ROOT" setpriv --reuid=postgres --regid=postgres --clear-groups psql -XAtq -h /run/karst/sailings/socket -p 5432 -U postgres -c "$1"; }
well() {
  for _ in $(seq 600); do
    if ask status | grep -q '"condition":"healthy"'; then return; fi
    sleep 0.1
  done
  echo "it is not well: $(ask status || true)"; tail -40 "$LOG"; exit 1
}
start_deadman; start_daemon; well
row "$ROW"
stat -c '%a' "$ROOT/var/lib/karst/node.store"
"#;

/// A function of the script that starts a unit, but for the options that a site adds.
fn function(name: &str, unit: &Unit) -> String {
    let command = unit.command.replace("/usr/bin/karstd", "/karstd");
    let command = command.split(" $").next().unwrap_or_default();
    let (writable, made) = (unit.writable.join(" "), unit.made.join(" "));
    format!(
        "start_{name}() {{ start '{command}' '{writable}' '{}' '{made}' '{}'; }}\n",
        unit.bounding, unit.mask
    )
}

/// Everything below `/etc/karst`, but for what the service manager makes.
fn files(dir: &Path) -> Result<PathBuf> {
    let layout = Layout::new(&dir.join("lab"), 9940, Shape::default())?;
    layout.prepare(RunAs::now())?;
    certs::prepare(&layout)?;
    let files = dir.join("etc");
    std::fs::create_dir_all(files.join("secrets"))?;
    let copied = Command::new("cp")
        .arg("-a")
        .arg(layout.host("doline").join("tls"))
        .arg(&files)
        .status()?;
    ensure!(copied.success(), "cp");
    std::fs::write(files.join("tokens"), "# nobody\n")?;
    std::fs::write(files.join("secrets/replication"), "07".repeat(32))?;
    let spec = "cluster = \"skerry\"\n[zone.quay]\n[node.doline]\nzone = \"quay\"\npeer = \"127.0.0.1:26700\"\nclock = \"steady\"\n\
                api = \"127.0.0.1:26780\"\n[workload.sailings]\nloss = \"none\"\nalone = \"continue\"\n\
                [workload.sailings.settings]\nsecret = \"file:/etc/karst/secrets/replication\"\n\
                [workload.sailings.replica.doline]\naddress = \"127.0.0.1:5432\"\ndata = \"/var/lib/karst/sailings\"\n\
                log = \"/var/log/karst/sailings\"\n[workload.sailings.gate]\ndoline = \"127.0.0.1:26900\"\n";
    std::fs::write(files.join("spec.toml"), spec)?;
    Ok(files)
}

#[test]
fn both_processes_work_as_their_units_start_them() {
    if !rustix::process::geteuid().is_root() {
        return;
    }
    let dir = Path::new("/var/tmp/karst-test-units");
    let _ = std::fs::remove_dir_all(dir);
    std::fs::create_dir_all(dir.join("root")).unwrap();
    let (files, log) = (files(dir).unwrap(), dir.join("log"));
    let daemon = Unit::read(Unit::DAEMON).unwrap();
    let deadman = Unit::read(Unit::DEADMAN).unwrap();
    // The first start of a cluster of one.
    std::fs::write(files.join("tls/forms-alone"), "").unwrap();
    let (start_daemon, start_deadman) =
        (function("daemon", &daemon), function("deadman", &deadman));
    let script = [HOST, START, &start_daemon, &start_deadman, COURSE].concat();
    let boot = |row: &str| {
        let output = Command::new("unshare")
            .args(["--mount", "--propagation", "private", "--net", "--uts"])
            .args(["--pid", "--fork", "--kill-child", "--mount-proc"])
            .args(["bash", "-c"])
            .arg(format!("echo doline > /proc/sys/kernel/hostname\n{script}"))
            .env("ROOT", dir.join("root"))
            .env("FILES", &files)
            .env("LOG", &log)
            .env("KARSTD", find::sibling("karstd").unwrap())
            .env("ROW", row)
            .stdin(Stdio::null())
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        let complained = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(output.status.success(), "{said}\n{complained}");
        said.trim().to_string()
    };
    let first = boot("create table t (n int); insert into t values (1)");
    assert_eq!(first, "600", "the mode of the node store");
    let second = boot("insert into t values (2); select count(*) from t");
    assert_eq!(second, "2\n600");
    std::fs::remove_dir_all(dir).unwrap();
}
