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

/// The same with a text on standard input.
pub fn karst_reads(lab: &Lab, host: &str, words: &[&str], text: &str) -> Result<(bool, String)> {
    let mut command = find::enter(&lab.layout, host)?;
    // Less than a pipe holds: writing waits for nothing.
    let (input, mut pen) = std::io::pipe()?;
    std::io::Write::write_all(&mut pen, text.as_bytes())?;
    drop(pen);
    command.arg(find::sibling("karst")?).args(words);
    heard(command.stdin(input))
}

/// The same where no file can be written beyond so many bytes: the program is killed there (the shell's
/// `ulimit -f` counts in blocks of 512).
pub fn karst_on_a_full_disk(lab: &Lab, host: &str, blocks: u32, words: &[&str]) -> Result<bool> {
    let mut command = find::enter(&lab.layout, host)?;
    let shell = format!("ulimit -f {blocks}; exec \"$0\" \"$@\"");
    command.args(["sh", "-c", &shell]);
    let (done, _) = said(command.arg(find::sibling("karst")?).args(words))?;
    Ok(done)
}

fn said(command: &mut Command) -> Result<(bool, String)> {
    heard(command.stdin(Stdio::null()))
}

fn heard(command: &mut Command) -> Result<(bool, String)> {
    let Output {
        status,
        stdout,
        stderr,
    } = command.output()?;
    let text = [stdout, stderr].map(|text| String::from_utf8_lossy(&text).into_owned());
    Ok((status.success(), text.concat()))
}
