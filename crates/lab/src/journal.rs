//! What writers did, one line each, synced outside the hosts: the evidence that no acknowledged
//! write is missing.

use anyhow::{Context, Result};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::time::{Duration, Instant};

/// How a COMMIT ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Ending {
    Acknowledged,
    /// With a warning, or no answer: it may or may not be there.
    Unknown,
    /// A connection that was refused.
    Refused,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Line {
    pub id: i64,
    pub writer: u32,
    /// Boot-time clock, nanoseconds.
    pub began: u64,
    pub ended: u64,
    pub ending: Ending,
    /// The address of the server that answered.
    pub server: Option<String>,
}

/// Writes lines, and syncs them a few times a second.
pub struct Journal {
    file: File,
    synced: Instant,
}

impl Journal {
    pub fn create(path: &Path) -> Result<Self> {
        let file = File::create(path).with_context(|| path.display().to_string())?;
        Ok(Self {
            file,
            synced: Instant::now(),
        })
    }

    pub fn push(&mut self, line: &Line) -> Result<()> {
        let mut text = serde_json::to_vec(line)?;
        text.push(b'\n');
        self.file.write_all(&text)?;
        if self.synced.elapsed() > Duration::from_millis(100) {
            self.file.sync_data()?;
            self.synced = Instant::now();
        }
        Ok(())
    }
}

/// Reads all complete lines.
pub fn read(path: &Path) -> Result<Vec<Line>> {
    let file = File::open(path).with_context(|| path.display().to_string())?;
    let lines = BufReader::new(file).lines();
    Ok(lines
        .map_while(Result::ok)
        .filter_map(|l| serde_json::from_str(&l).ok())
        .collect())
}

/// The longest time in which nobody's write came back.
pub fn longest_pause(lines: &[Line]) -> Duration {
    let returned = lines.iter().filter(|l| l.ending == Ending::Acknowledged);
    let mut times: Vec<u64> = returned.map(|l| l.ended).collect();
    times.sort_unstable();
    let longest = times.windows(2).map(|pair| pair[1] - pair[0]).max();
    Duration::from_nanos(longest.unwrap_or(u64::MAX))
}

pub fn acknowledged(lines: &[Line]) -> BTreeSet<i64> {
    lines
        .iter()
        .filter(|l| l.ending == Ending::Acknowledged)
        .map(|l| l.id)
        .collect()
}
