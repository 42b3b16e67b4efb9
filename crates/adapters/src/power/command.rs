//! A power device behind a program of the user's: `PROGRAM ARGUMENTS state` prints `{"power":
//! "on"}` or `{"power": "off"}`, with `"system": "UUID"` where it knows; `PROGRAM ARGUMENTS off`
//! asks for the cut, `on` for power again. Exit code 0 means that it was done, anything else that
//! it was not, and the last line on standard error says why. It gets an empty environment but for
//! `PATH` and `LC_ALL`, and runs in `/`.

use super::trouble::{PowerError, Result, check_system, needed};
use karst_core::power::PowerSeen;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::process::Stdio;
use tokio::io::{AsyncRead, AsyncReadExt as _};
use tokio::process::Command;

#[derive(Debug)]
pub(super) struct Program {
    words: Vec<String>,
}

#[derive(Deserialize)]
struct Said {
    power: String,
    system: Option<String>,
}

/// Bytes of what a program writes that are kept; the rest is read and forgotten.
const KEPT: usize = 64 * 1024;

async fn beginning(from: Option<impl AsyncRead + Unpin>) -> std::io::Result<Vec<u8>> {
    let (mut kept, mut part) = (Vec::new(), [0; 4096]);
    let Some(mut from) = from else {
        return Ok(kept);
    };
    loop {
        match from.read(&mut part).await? {
            0 => return Ok(kept),
            read => kept.extend_from_slice(&part[..read.min(KEPT - kept.len())]),
        }
    }
}

impl Program {
    pub(super) fn from_settings(settings: &BTreeMap<String, String>) -> Result<Self> {
        let words: Vec<String> = needed(settings, "command", "run")?
            .split_whitespace()
            .map(String::from)
            .collect();
        if !words.first().is_some_and(|w| w.starts_with('/')) {
            return Err(PowerError::Setting {
                key: "run",
                why: "begin it with the program's absolute path".into(),
            });
        }
        Ok(Self { words })
    }

    async fn run(&self, verb: &str) -> Result<Vec<u8>> {
        let program = &self.words[0];
        let mut command = Command::new(program);
        command
            .args(&self.words[1..])
            .arg(verb)
            .stdin(Stdio::null())
            .kill_on_drop(true)
            .current_dir("/");
        // What this daemon was started with, secrets among it, is none of the program's business.
        command
            .env_clear()
            .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
            .env("LC_ALL", "C.UTF-8");
        let failed = |e| PowerError::Unreachable(format!("{program}: {e}"));
        let mut child = command
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .map_err(failed)?;
        let (said, complained) = (child.stdout.take(), child.stderr.take());
        let (said, complained, status) =
            tokio::try_join!(beginning(said), beginning(complained), child.wait())
                .map_err(failed)?;
        if status.success() {
            return Ok(said);
        }
        let error = String::from_utf8_lossy(&complained);
        let why = error
            .lines()
            .last()
            .map_or_else(|| status.to_string(), String::from);
        Err(PowerError::Refused {
            what: format!("`{program} {verb}`"),
            why,
        })
    }

    pub(super) async fn look(&self, system: Option<&str>) -> Result<PowerSeen> {
        let out = self.run("state").await?;
        let said: Said = serde_json::from_slice(&out).map_err(|e| {
            PowerError::Strange(format!(
                "`{} state` printed no such JSON: {e}",
                self.words[0]
            ))
        })?;
        let on = match said.power.as_str() {
            "on" => true,
            "off" => false,
            other => {
                return Err(PowerError::Strange(format!(
                    "power `{other}`; use `on` or `off`"
                )));
            }
        };
        check_system(system, said.system.as_deref())?;
        Ok(PowerSeen {
            on,
            system: said.system,
        })
    }

    pub(super) async fn turn_on(&self) -> Result<()> {
        self.run("on").await.map(drop)
    }

    pub(super) async fn force_off(&self) -> Result<()> {
        self.run("off").await.map(drop)
    }
}
