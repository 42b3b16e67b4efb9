//! A lab of an ordinary user, and what is left of it when its minder is killed: nothing. Run by
//! root (who can become such a user); for anybody else every other test is this test.

use anyhow::{Context, Result, ensure};
use karst_lab::{Layout, find, keep};
use rustix::process::Signal;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

/// A number that nobody on a fresh machine has.
const USER: u32 = 48_611;

/// Runs the copy of `karst-lab` as that user, within two minutes: whether it went well, and what it
/// said.
fn run(dir: &Path, words: &[&str]) -> Result<(bool, String)> {
    let id = USER.to_string();
    let mut command = Command::new("setpriv");
    command.args([
        "--reuid",
        &id,
        "--regid",
        &id,
        "--clear-groups",
        "timeout",
        "120",
    ]);
    command
        .arg(dir.join("bin/karst-lab"))
        .arg("--dir")
        .arg(dir.join("lab"))
        .args(words)
        .current_dir(dir);
    let output = command.env("HOME", dir).output().context("setpriv")?;
    let text = format!(
        "{}{}",
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    );
    Ok((output.status.success(), text))
}

fn lab(dir: &Path, words: &[&str]) -> Result<String> {
    let (went_well, text) = run(dir, words)?;
    ensure!(went_well, "karst-lab {}: {text}", words.join(" "));
    Ok(text)
}

#[test]
fn an_ordinary_user_has_a_lab_and_a_killed_minder_leaves_nothing() -> Result<()> {
    if !rustix::process::geteuid().is_root() {
        return Ok(());
    }
    let dir = Path::new("/var/tmp/karst-test-user");
    if let Ok(old) = Layout::load(&dir.join("lab")) {
        keep::stop(&old)?;
    }
    let _ = std::fs::remove_dir_all(dir);
    std::fs::create_dir_all(dir.join("bin"))?;
    for program in ["karst-lab", "karstd"] {
        std::fs::copy(find::sibling(program)?, dir.join("bin").join(program))?;
    }
    std::os::unix::fs::chown(dir, Some(USER), Some(USER))?;
    let up = lab(dir, &["up", "--port", "9900"])?;
    ensure!(up.contains("All is well"), "{up}");
    lab(dir, &["demo"])?;
    // How long it takes is not the question here, on whatever else the machine does; all else is.
    let (went_well, drill) = run(dir, &["drill", "kill-server", "sailings"])?;
    let late = drill.contains("a round took longer than the worst case");
    ensure!(went_well || late, "{drill}");
    ensure!(drill.contains("rows missing: 0"), "{drill}");

    let layout = Layout::load(&dir.join("lab"))?;
    find::signal(
        keep::running(&layout).context("the minder runs")?,
        Signal::KILL,
    )?;
    let begun = Instant::now();
    while !find::of_lab(&layout).is_empty() {
        ensure!(
            begun.elapsed() < Duration::from_secs(20),
            "still there: {:?}",
            find::of_lab(&layout)
        );
        std::thread::sleep(Duration::from_millis(20));
    }
    std::fs::remove_dir_all(dir)?;
    Ok(())
}
