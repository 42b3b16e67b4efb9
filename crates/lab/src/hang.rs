//! A stand-in for a disk that hangs: the syncs of a host's daemon wait as long as a file exists. It
//! needs a C compiler, as the machine that builds Karst has one; without it the fault is refused.

use crate::find;
use crate::layout::Layout;
use anyhow::{Context, Result, ensure};
use std::path::PathBuf;
use std::process::Command;

const SOURCE: &str = include_str!("../assets/hang.c");

fn library(layout: &Layout) -> PathBuf {
    layout.dir.join("hang.so")
}

fn file(layout: &Layout, host: &str) -> PathBuf {
    layout.host(host).join("hang")
}

/// Builds what is preloaded, if the machine can.
pub fn prepare(layout: &Layout) {
    let source = layout.dir.join("hang.c");
    let written = std::fs::write(&source, SOURCE).is_ok();
    if written && !library(layout).exists() {
        let built = Command::new("cc")
            .args(["-shared", "-fPIC", "-O1", "-o"])
            .arg(library(layout))
            .arg(&source)
            .output();
        if !built.is_ok_and(|o| o.status.success()) {
            eprintln!("no C compiler: disks of this lab cannot be made to hang");
        }
    }
}

/// For the daemon of a host.
pub fn preload(layout: &Layout, host: &str, daemon: &mut Command) {
    if library(layout).exists() {
        daemon
            .env("LD_PRELOAD", library(layout))
            .env("KARST_LAB_HANG", file(layout, host));
    }
}

pub fn is_on(layout: &Layout, host: &str) -> bool {
    file(layout, host).exists()
}

pub fn begin(layout: &Layout, host: &str) -> Result<()> {
    ensure!(
        library(layout).exists(),
        "disks of this lab cannot be made to hang: it was made without a C compiler"
    );
    // The daemon that runs has to be one that looks.
    let pid = find::daemon(layout, host, "run")?;
    let environment =
        std::fs::read(format!("/proc/{pid}/environ")).context("the daemon's environment")?;
    let looks = String::from_utf8_lossy(&environment).contains("KARST_LAB_HANG");
    ensure!(
        looks,
        "the daemon on {host} was started without the stand-in"
    );
    std::fs::write(file(layout, host), "").context("the file that says so")
}

pub fn end(layout: &Layout, host: &str) -> Result<()> {
    match std::fs::remove_file(file(layout, host)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error.into()),
        _ => Ok(()),
    }
}
