//! Two disks of its own for each host's servers, one for data and one for logs, so that either can
//! be full: a file system in a sparse file. It outlives its host's power and the lab. Where the lab
//! may not mount one, the hosts share the machine's disk, and filling is refused.

use crate::find;
use crate::layout::Layout;
use anyhow::{Context, Result, bail, ensure};
use clap::ValueEnum;
use rustix::fs::{FallocateFlags, fallocate, statvfs};
use std::fs::{self, File};
use std::io::{Seek as _, SeekFrom, Write as _};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Room for the demo's data many times over; the file grows with what is written.
const SIZE: u64 = 4 << 30;
const FILLER: &str = "filler";

/// What a host's disk is for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum Volume {
    #[default]
    Data,
    /// The servers' write-ahead logs
    Log,
}

impl Volume {
    pub const BOTH: [Self; 2] = [Self::Data, Self::Log];

    fn name(self) -> &'static str {
        match self {
            Self::Data => "data",
            Self::Log => "wal",
        }
    }
}

/// Puts a host's disk in its place, in the lab's own mounts. What is on it stays from one time to
/// the next.
///
/// # Errors
/// If the host had a disk and it cannot be used any more.
pub fn mount(layout: &Layout, host: &str, volume: Volume) -> Result<()> {
    let at = layout.host(host).join(volume.name());
    let image = at.with_extension("img");
    if !image.exists() {
        // Data that were there before disks were stay where they are.
        if fs::read_dir(&at)?.next().is_some() || !can_mount() {
            return Ok(());
        }
        File::create(&image)?.set_len(SIZE)?;
        // No journal: a host that loses its power takes no disk with it, and the lab's end unmounts
        // it. Nothing reserved: what is full is full for everyone.
        let made = run(Command::new("mkfs.ext4")
            .args(["-q", "-F", "-m", "0", "-O", "^has_journal"])
            .arg(&image));
        if made.and_then(|_| loop_mount(&image, &at)).is_err() {
            fs::remove_file(&image)?;
        }
        return Ok(());
    }
    loop_mount(&image, &at).or_else(|_| {
        // The machine went down under it. Its exit code says that it mended something.
        Command::new("fsck.ext4")
            .args(["-f", "-y"])
            .arg(&image)
            .output()
            .context("fsck.ext4")?;
        loop_mount(&image, &at)
    })
}

fn can_mount() -> bool {
    Path::new("/dev/loop-control").exists() && rustix::process::geteuid().is_root()
}

fn loop_mount(image: &Path, at: &Path) -> Result<()> {
    // Past the cache of the file below: what a server syncs is written once.
    let device = run(Command::new("losetup")
        .args(["--find", "--show", "--direct-io=on"])
        .arg(image))?;
    let mounted = run(Command::new("mount")
        .args(["-o", "discard,noatime", &device])
        .arg(at));
    // It goes when the file system that is on it does, or at once.
    run(Command::new("losetup").args(["--detach", &device]))?;
    mounted.map(drop)
}

/// Runs it; the first word that it says.
fn run(command: &mut Command) -> Result<String> {
    let output = command
        .output()
        .with_context(|| format!("{:?}", command.get_program()))?;
    ensure!(
        output.status.success(),
        "{}",
        String::from_utf8_lossy(&output.stderr).trim()
    );
    Ok(String::from_utf8_lossy(&output.stdout).trim().to_string())
}

/// Where it is, seen from outside the lab.
fn seen_from_here(layout: &Layout, host: &str, volume: Volume) -> Result<PathBuf> {
    let at = layout.host(host).join(volume.name());
    Ok(PathBuf::from(format!(
        "/proc/{}/root{}",
        find::inside(layout)?,
        at.display()
    )))
}

/// Takes all the room that is left.
///
/// # Errors
/// If the host has no disk of its own, or there is a filler already.
pub fn fill(layout: &Layout, host: &str, volume: Volume) -> Result<()> {
    let disk = seen_from_here(layout, host, volume)?;
    let machines = fs::metadata(layout.host(host))?.dev();
    if fs::metadata(&disk)?.dev() == machines {
        bail!(
            "{host} has no disk of its own to fill: this lab was started without the right to mount one"
        );
    }
    let path = disk.join(FILLER);
    ensure!(!path.exists(), "the disk of {host} is full already");
    let mut filler = File::create(&path)?;
    let left = |disk: &Path| anyhow::Ok(statvfs(disk)?.f_bavail * statvfs(disk)?.f_frsize);
    let (mut from, mut take) = (0, left(&disk)?);
    while take >= 4096 {
        match fallocate(&filler, FallocateFlags::empty(), from, take) {
            Ok(()) => (from, take) = (from + take, left(&disk)?),
            Err(rustix::io::Errno::NOSPC) => take /= 2,
            Err(error) => return Err(error).context("filling"),
        }
    }
    // The last blocks, which whoever writes meanwhile may still find.
    filler.seek(SeekFrom::End(0))?;
    while filler.write(&[0; 4096]).is_ok_and(|n| n > 0) {}
    Ok(())
}

/// Gives the room back.
///
/// # Errors
/// If the disk was not filled.
pub fn free(layout: &Layout, host: &str, volume: Volume) -> Result<()> {
    let filler = seen_from_here(layout, host, volume)?.join(FILLER);
    fs::remove_file(&filler).with_context(|| format!("the disk of {host} was not filled"))
}

pub fn is_full(layout: &Layout, host: &str, volume: Volume) -> bool {
    seen_from_here(layout, host, volume).is_ok_and(|disk| disk.join(FILLER).exists())
}
