//! The command-line client, as people run it: whether it was done, and what it said.

use anyhow::Result;
use karst_lab::{Lab, find};
use std::process::{Command, Output, Stdio};

pub fn karst(words: &[&str]) -> Result<(bool, String)> {
    let mut command = Command::new(find::sibling("karst")?);
    said(command.env_clear().args(words))
}

/// On a host of the lab.
pub fn karst_on(lab: &Lab, host: &str, words: &[&str]) -> Result<(bool, String)> {
    let mut command = find::enter(&lab.layout, host)?;
    said(command.arg(find::sibling("karst")?).args(words))
}

fn said(command: &mut Command) -> Result<(bool, String)> {
    let Output {
        status,
        stdout,
        stderr,
    } = command.stdin(Stdio::null()).output()?;
    let text = [stdout, stderr].map(|text| String::from_utf8_lossy(&text).into_owned());
    Ok((status.success(), text.concat()))
}
