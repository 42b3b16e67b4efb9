//! The way home of a former primary: back to where its history and the new primary's part, and on
//! from there.

use super::config::IMPOSSIBLE;
use super::keeper::{Postgres, REWINDING};
use super::lsn::Lsn;
use super::words::copied;
use crate::trouble::{Result, Trouble};
use karst_core::NodeId;
use std::collections::{BTreeMap, BTreeSet};
use std::io;

impl Postgres {
    /// Rewinds the stopped server's data to the primary's history, and leaves them as a standby's.
    ///
    /// The exit code alone is not believed: without a checkpoint on the new primary the program
    /// says "no rewind required" and leaves rows that nobody else has (D11).
    pub(super) async fn rewind_to(&self, primary: &NodeId) -> Result<()> {
        let (host, data) = (&self.host, &self.host.site.data);
        let source = self.source(primary)?;
        self.write_passfile()?;
        let asked = [
            "checkpoint",
            "select timeline_id from pg_control_checkpoint()",
        ];
        let said = self.ask(&source, &asked).await?;
        let timeline = said
            .lines()
            .last()
            .and_then(|line| line.trim().parse::<u32>().ok());
        let timeline = timeline.ok_or_else(|| {
            Trouble::Wrong(format!("{primary} did not say on which timeline it is"))
        })?;

        self.write_settings(None, IMPOSSIBLE)?;
        self.write_include()?;
        let mark = data.join(REWINDING);
        let files = host.files();
        files
            .put(&mark, b"", true)
            .map_err(Trouble::io(mark.display().to_string()))?;
        self.remove("standby.signal")?;
        self.remove("postmaster.pid")?;
        let histories = self.histories()?;
        let mut rewind = self.program("pg_rewind");
        // It runs the crash recovery of a server that did not stop cleanly by itself, in
        // single-user mode.
        rewind
            .arg("--progress")
            .arg("--target-pgdata")
            .arg(data)
            .arg("--source-server")
            .arg(source);
        host.run(rewind, "pg_rewind", copied).await?;

        let text = self.control().await?;
        if recovers_to(&text) != Some(timeline) {
            return Err(Trouble::Wrong(format!(
                "the rewind left data that do not lead to timeline {timeline} of {primary}"
            )));
        }
        let label = self.label()?;
        self.restore_histories(timeline, first_timeline(&label, &text), &histories)?;
        self.has_log(&label, &text)?;
        // It brought the source's own configuration.
        self.write_include()?;
        let signal = data.join("standby.signal");
        files
            .put(&signal, b"", true)
            .map_err(Trouble::io(signal.display().to_string()))?;
        self.remove(REWINDING)?;
        files
            .sync_dir(data)
            .map_err(Trouble::io(data.display().to_string()))
    }

    fn remove(&self, name: &str) -> Result<()> {
        let path = self.host.site.data.join(name);
        self.host
            .files()
            .remove(&path)
            .map_err(Trouble::io(path.display().to_string()))
    }

    /// What a rewind says of where recovery begins; empty where it left nothing of it, as nothing
    /// was rewound.
    fn label(&self) -> Result<String> {
        let path = self.host.site.data.join("backup_label");
        match self.host.files().read_text(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(String::new()),
            read => read.map_err(Trouble::io(path.display().to_string())),
        }
    }
}

impl Postgres {
    /// The history files of the timelines that this server has known.
    fn histories(&self) -> Result<BTreeMap<u32, Vec<u8>>> {
        let dir = self.host.site.data.join("pg_wal");
        let read = || -> io::Result<BTreeMap<u32, Vec<u8>>> {
            let mut found = BTreeMap::new();
            for name in self.host.files().names(&dir)? {
                let number = name
                    .strip_suffix(".history")
                    .and_then(|n| u32::from_str_radix(n, 16).ok());
                if let Some(number) = number {
                    found.insert(number, self.host.files().read(&dir.join(&name))?);
                }
            }
            Ok(found)
        };
        read().map_err(Trouble::io(dir.display().to_string()))
    }

    /// A rewind removes what the source does not have, and a source that was itself cloned has no
    /// history files of older timelines. Without each of them, from where recovery begins to where
    /// it leads, the server would ask for them for ever and never be consistent (seen). Those that
    /// were here are put back; where one was not, only a clone helps.
    fn restore_histories(
        &self,
        last: u32,
        first: Option<u32>,
        had: &BTreeMap<u32, Vec<u8>>,
    ) -> Result<()> {
        let first = first
            .ok_or_else(|| Trouble::Wrong("the rewound data do not say where they begin".into()))?;
        for number in first + 1..=last {
            let path = self
                .host
                .site
                .data
                .join(format!("pg_wal/{number:08X}.history"));
            if self
                .host
                .files()
                .exists(&path)
                .map_err(Trouble::io(path.display().to_string()))?
            {
                continue;
            }
            let Some(content) = had.get(&number) else {
                return Err(Trouble::Wrong(format!(
                    "nobody has the history of timeline {number} any more"
                )));
            };
            self.host
                .files()
                .put(&path, content, true)
                .map_err(Trouble::io(path.display().to_string()))?;
        }
        Ok(())
    }
}

impl Postgres {
    /// Whether every log segment is here from where recovery begins to where it is consistent. A
    /// rewind keeps only what the source has too, and a source that was itself cloned begins later
    /// (D9).
    fn has_log(&self, label: &str, control: &str) -> Result<()> {
        let dir = self.host.site.data.join("pg_wal");
        let Some(needed) = segments(label, control) else {
            return Ok(());
        };
        let names = self
            .host
            .files()
            .names(&dir)
            .map_err(Trouble::io(dir.display().to_string()))?;
        let have: BTreeSet<String> = names
            .iter()
            .filter_map(|name| name.get(8..24).map(String::from))
            .collect();
        match needed.into_iter().find(|segment| !have.contains(segment)) {
            Some(missing) => Err(Trouble::Wrong(format!(
                "nobody has the log segment {missing} any more"
            ))),
            None => Ok(()),
        }
    }
}

/// The log segments, named without their timeline, that a rewound server has to replay; none if it
/// has to replay none.
fn segments(label: &str, control: &str) -> Option<Vec<String>> {
    let field = |text: &str, name: &str| {
        Some(
            text.lines()
                .find_map(|l| l.strip_prefix(name))?
                .trim()
                .to_string(),
        )
    };
    let lsn = |text: String| Lsn::parse(text.split_whitespace().next()?);
    let from = field(label, "START WAL LOCATION:").and_then(lsn)?.0;
    let upto = field(control, "Minimum recovery ending location:")
        .and_then(lsn)?
        .0;
    let size: u64 = field(control, "Bytes per WAL segment:")?
        .parse()
        .ok()
        .filter(|size| *size > 0)?;
    let per_log = (1 << 32) / size;
    let name = |n: u64| format!("{:08X}{:08X}", n / per_log, n % per_log);
    Some(
        (from / size..=upto.saturating_sub(1).max(from) / size)
            .map(name)
            .collect(),
    )
}

/// The timeline on which recovery begins: the one of the last common checkpoint, which a rewind
/// names by its log file.
fn first_timeline(label: &str, control: &str) -> Option<u32> {
    if label.is_empty() {
        return control
            .lines()
            .find_map(|l| l.strip_prefix("Latest checkpoint's TimeLineID:"))?
            .trim()
            .parse()
            .ok();
    }
    start_of(label)
}

fn start_of(label: &str) -> Option<u32> {
    let line = label
        .lines()
        .find(|l| l.starts_with("START WAL LOCATION:"))?;
    u32::from_str_radix(line.split_once("(file ")?.1.get(..8)?, 16).ok()
}

/// The timeline that the data have to be recovered along, after a rewind; its checkpoint's where
/// none is asked for.
fn recovers_to(control: &str) -> Option<u32> {
    let field = |name: &str| {
        control
            .lines()
            .find_map(|l| l.strip_prefix(name))?
            .trim()
            .parse::<u32>()
            .ok()
    };
    let minimum = field("Min recovery ending loc's timeline:").filter(|t| *t > 0);
    minimum.max(field("Latest checkpoint's TimeLineID:"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn recovery_begins_on_the_timeline_of_the_first_log_file() {
        let label = "START WAL LOCATION: 0/4002000 (file 0000001A0000000000000004)\nCHECKPOINT LOCATION: 0/4002038\n";
        assert_eq!(start_of(label), Some(26));
        assert_eq!(start_of("BACKUP METHOD: pg_rewind\n"), None);
    }

    #[test]
    fn a_rewound_server_needs_the_log_from_its_checkpoint_on() {
        let control = "Bytes per WAL segment:                16777216\nMinimum recovery ending location:     1/1000000\n";
        let label = "START WAL LOCATION: 0/FE000028 (file 0000000F00000000000000FE)\n";
        let needed = ["00000000000000FE", "00000000000000FF", "0000000100000000"].map(String::from);
        assert_eq!(segments(label, control), Some(needed.to_vec()));
        assert_eq!(segments("", control), None, "nothing was rewound");
    }

    #[test]
    fn the_newest_timeline_that_control_names_counts() {
        let control = |checkpoint: u32, minimum: u32| {
            format!(
                "Latest checkpoint's TimeLineID:       {checkpoint}\nMin recovery ending loc's timeline:   {minimum}\n"
            )
        };
        assert_eq!(recovers_to(&control(1, 2)), Some(2));
        assert_eq!(recovers_to(&control(3, 0)), Some(3));
        assert_eq!(recovers_to("nonsense"), None);
    }
}
