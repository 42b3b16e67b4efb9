//! A replica's first data from a base backup that lies on its host, as pg_basebackup makes it in its
//! plain format (manual, sections 26.3 and 76; pg_basebackup, pg_verifybackup).
//!
//! It may be of another workload, of a history that went on elsewhere, or so old that nobody has the
//! log any more that comes after it: each is looked at before a byte is copied (D5, D9).

use super::keeper::Postgres;
use super::lsn::Lsn;
use super::words::copied;
use crate::files::Files;
use crate::trouble::{Result, Trouble};
use karst_core::NodeId;
use karst_core::replica::Done;
use serde::Deserialize;
use std::io::{BufReader, ErrorKind, Read};
use std::path::Path;

/// A place in a log: its timeline, and how far.
type Place = (u32, Lsn);

/// What a base backup says of itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Backup {
    /// Of the server's major version.
    version: String,
    identity: String,
    /// Its server replays the log from here on, and is consistent there.
    starts: Place,
    ends: Place,
    /// The log in between is in it.
    has_log: bool,
    bytes: u64,
}

/// Of its manifest, what is of use here.
#[derive(Deserialize)]
struct Manifest {
    #[serde(rename = "WAL-Ranges")]
    ranges: Vec<Range>,
}

#[derive(Deserialize)]
struct Range {
    #[serde(rename = "Timeline")]
    timeline: u32,
    #[serde(rename = "Start-LSN")]
    start: String,
    #[serde(rename = "End-LSN")]
    end: String,
}

impl Backup {
    /// # Errors
    /// What is wrong with it, and what to do.
    pub(super) fn read(files: Files, dir: &Path) -> std::result::Result<Self, String> {
        let at = dir.display();
        let of = |name: &str| {
            let path = dir.join(name);
            let error = move |e: std::io::Error| format!("{}: {e}", path.display());
            files.open_linked(&dir.join(name)).map_err(error)
        };
        let there = |names: [&str; 4]| {
            let paths = names.map(|name| dir.join(name));
            let looked = files.exist([&paths[0], &paths[1], &paths[2], &paths[3]]);
            looked.map_err(|e| e.to_string())
        };
        let names = ["backup_label", "base.tar", "base.tar.gz", "tablespace_map"];
        let [labelled, tar, packed, spaces] = there(names)?;
        if tar || packed {
            return Err(format!("{at} is a base backup in tar format: unpack it"));
        }
        if !labelled {
            return Err(format!(
                "{at} is no base backup: it has no backup_label; make one with pg_basebackup"
            ));
        }
        if spaces {
            return Err(format!(
                "the base backup in {at} has tablespaces elsewhere: leave base_backup out, and the primary is copied"
            ));
        }
        let mut version = String::new();
        let read = of("PG_VERSION")?.take(64).read_to_string(&mut version);
        read.map_err(|e| format!("{at}/PG_VERSION: {e}"))?;
        let mut identity = [0; 8];
        let read = of("global/pg_control")?.read_exact(&mut identity);
        read.map_err(|e| format!("{at}/global/pg_control: {e}"))?;
        let manifest = of("backup_manifest").map_err(|why| {
            format!("{why}: without its manifest nobody can tell whether the backup is whole")
        })?;
        let wrong = |why: String| format!("{at}/backup_manifest: {why}");
        let manifest: Manifest =
            serde_json::from_reader(BufReader::new(manifest)).map_err(|e| wrong(e.to_string()))?;
        let place = |timeline: u32, text: &str| {
            let lsn = Lsn::parse(text).ok_or_else(|| wrong(format!("`{text}` is no position")))?;
            Ok::<Place, String>((timeline, lsn))
        };
        let none = || wrong("it names no log".into());
        let first = manifest.ranges.iter().min_by_key(|range| range.timeline);
        let last = manifest.ranges.iter().max_by_key(|range| range.timeline);
        let (first, last) = (first.ok_or_else(none)?, last.ok_or_else(none)?);
        let tree = files.tree(dir).map_err(|e| format!("{at}: {e}"))?;
        let segments = |path: &Path| {
            let name = path.file_name().and_then(|name| name.to_str());
            path.starts_with("pg_wal") && name.is_some_and(is_segment)
        };
        Ok(Self {
            version: version.trim().into(),
            identity: u64::from_ne_bytes(identity).to_string(),
            starts: place(first.timeline, &first.start)?,
            ends: place(last.timeline, &last.end)?,
            has_log: tree.iter().any(|(path, _)| segments(path)),
            bytes: tree.iter().filter_map(|(_, length)| *length).sum(),
        })
    }
}

fn is_segment(name: &str) -> bool {
    name.len() == 24 && name.bytes().all(|b| b.is_ascii_hexdigit())
}

/// What a primary says of itself.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Primary {
    identity: String,
    at: Place,
    /// Bytes in a segment of its log.
    segment: u64,
    /// Where the timelines before that ended.
    history: Vec<Place>,
}

impl Primary {
    fn read(said: &str) -> Option<Self> {
        let mut lines = said.lines();
        let mut fields = lines.next()?.split('|');
        let mut next = || fields.next();
        let (identity, timeline) = (next()?.to_string(), next()?.parse().ok()?);
        let (at, segment) = (Lsn::parse(next()?)?, next()?.parse().ok()?);
        let ended = |line: &str| {
            let mut words = line.split_whitespace();
            Some((words.next()?.parse().ok()?, Lsn::parse(words.next()?)?))
        };
        let known = lines.filter(|line| !line.trim().is_empty() && !line.starts_with('#'));
        Some(Self {
            identity,
            at: (timeline, at),
            segment,
            history: known.map(ended).collect::<Option<_>>()?,
        })
    }

    /// Why this backup's data could not follow it, if so.
    fn refuses(&self, backup: &Backup) -> Option<String> {
        if self.identity != backup.identity {
            return Some(format!(
                "it is of the data known as {}, and the primary's are {}",
                backup.identity, self.identity
            ));
        }
        let (timeline, end) = backup.ends;
        let known = [self.at].into_iter().chain(self.history.iter().copied());
        match known.into_iter().find(|(of, _)| *of == timeline) {
            None => Some(format!(
                "it is of timeline {timeline}, which is none of the primary's"
            )),
            Some((_, last)) if end > last => Some(format!(
                "it goes on to {end} of timeline {timeline}, and the primary has that up to {last} only"
            )),
            Some(_) => None,
        }
    }

    /// The files any of which has the log that the backup's data need first. From a timeline's end on
    /// the log is in the next one's file.
    fn needed(&self, backup: &Backup) -> Vec<String> {
        let (timeline, from) = match backup.has_log {
            true => backup.ends,
            false => backup.starts,
        };
        let size = self.segment.max(1);
        let (number, per_log) = (from.0 / size, ((1 << 32) / size).max(1));
        let name = |timeline: u32| {
            let (log, within) = (number / per_log, number % per_log);
            format!("pg_wal/{timeline:08X}{log:08X}{within:08X}")
        };
        (timeline..=self.at.0).map(name).collect()
    }
}

/// In one look, so that all of it is of one moment.
const LOOK: &str = "
with now as (select ('x' || substr(pg_walfile_name(pg_current_wal_insert_lsn()), 1, 8))::bit(32)::int as timeline)
select concat_ws('|', system_identifier, timeline, pg_current_wal_flush_lsn(),
                 (select setting from pg_settings where name = 'wal_segment_size')) || E'\\n' ||
       coalesce(convert_from(pg_read_binary_file('pg_wal/' || upper(lpad(to_hex(timeline), 8, '0')) || '.history',
                                                 0, 1000000, true), 'UTF8'), '')
from now, pg_control_system()";

impl Postgres {
    /// Makes the data from it, unless it is of no use.
    pub(super) async fn restore_from(&self, dir: &Path, primary: &NodeId) -> Result<Done> {
        let backup = match self.backup_in(dir).await {
            Ok(backup) => backup,
            Err(why) => return Ok(Done::MustClone { why }),
        };
        self.write_passfile()?;
        let source = self.source(primary)?;
        let said = self.ask(&source, &[LOOK]).await?;
        let now = Primary::read(&said).ok_or_else(|| {
            Trouble::Wrong(format!("{primary} did not say what its history is: {said}"))
        })?;
        if let Some(why) = now.refuses(&backup) {
            let why = format!("the base backup in {} is of no use: {why}", dir.display());
            return Ok(Done::MustClone { why });
        }
        let files = now.needed(&backup).join("', '");
        let any = format!(
            "select bool_or((pg_stat_file(name, true)).size is not null) from unnest(array['{files}']) as name"
        );
        if self.ask(&source, &[&any]).await?.trim() != "t" {
            let why = format!(
                "the base backup in {} is too old: {primary} has no log any more from where it ends",
                dir.display()
            );
            return Ok(Done::MustClone { why });
        }
        match self.copy_in(dir).await {
            Ok(()) => Ok(Done::Ok),
            Err(why) => Ok(Done::MustClone {
                why: format!("the base backup in {}: {why}", dir.display()),
            }),
        }
    }

    async fn copy_in(&self, dir: &Path) -> Result<()> {
        let host = &self.host;
        let copy = host.beside("copy");
        host.clear(&host.beside("old"))?;
        host.files()
            .make_dir(&copy)
            .map_err(Trouble::io(copy.display().to_string()))?;
        let log = self.fresh_log()?;
        let place = |path: &Path| match (path.strip_prefix("pg_wal"), &log) {
            (Ok(within), Some(log)) => log.join(within),
            _ => copy.join(path),
        };
        host.copy_tree(dir, place).await?;
        let trouble = || Trouble::io(copy.display().to_string());
        if let Some(log) = &log {
            let link = host.files().link(&copy.join("pg_wal"), log);
            link.map_err(trouble())?;
        }
        let mut verify = self.program("pg_verifybackup");
        // Its log is the server's to check: what is not there is the primary's.
        verify.args(["--quiet", "--no-parse-wal"]).arg(&copy);
        host.run(verify, "pg_verifybackup", copied).await?;
        let other = host.files().remove(&copy.join("recovery.signal"));
        other.map_err(trouble())?;
        self.take_up(&copy).await
    }

    /// What lies there, of a version that runs here.
    async fn backup_in(&self, dir: &Path) -> std::result::Result<Backup, String> {
        let backup = Backup::read(self.host.files(), dir)?;
        let mut postgres = self.program("postgres");
        postgres.arg("--version");
        let said = self.host.run(postgres, "postgres --version", copied).await;
        let said = said.map_err(|e| e.to_string())?.stdout;
        let said = String::from_utf8_lossy(&said).into_owned();
        match major(&said) {
            Some(runs) if runs == backup.version => Ok(backup),
            runs => Err(format!(
                "the base backup in {} is of version {}, and {} runs here",
                dir.display(),
                backup.version,
                runs.unwrap_or("another")
            )),
        }
    }

    /// What stands in the way of making the first data from it.
    pub(super) async fn obstacles_to_restoring(&self) -> Vec<String> {
        let site = &self.host.site;
        let Some(dir) = &site.base_backup else {
            return Vec::new();
        };
        if let Err(error) = self.host.files().names(dir)
            && error.kind() == ErrorKind::NotFound
        {
            let dir = dir.display();
            return vec![format!(
                "{dir} is not there: put a base backup there, or leave base_backup out"
            )];
        }
        match self.backup_in(dir).await {
            Ok(backup) => super::adopt::no_room(&site.data, backup.bytes)
                .into_iter()
                .collect(),
            Err(why) => vec![why],
        }
    }
}

/// `postgres (PostgreSQL) 15.18 (Debian ...)` is 15.
fn major(said: &str) -> Option<&str> {
    said.split_whitespace().nth(2)?.split('.').next()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn backup(timeline: u32, ends: u64) -> Backup {
        Backup {
            version: "15".into(),
            identity: "7".into(),
            starts: (timeline, Lsn(0x0200_0028)),
            ends: (timeline, Lsn(ends)),
            has_log: false,
            bytes: 1,
        }
    }

    /// Timeline 3 began at 0/5000000 of 2, and that at 0/3000000 of 1.
    fn primary() -> Primary {
        let said = "7|3|0/9000000|16777216\n1\t0/3000000\tno recovery target specified\n\n2\t0/5000000\tno recovery target specified\n";
        Primary::read(said).unwrap()
    }

    #[test]
    fn only_what_is_a_part_of_the_primarys_history_is_of_use() {
        let fits = |timeline, ends| primary().refuses(&backup(timeline, ends)).is_none();
        assert!(fits(1, 0x300_0000) && fits(2, 0x500_0000) && fits(3, 0x900_0000));
        assert!(!fits(1, 0x300_0001), "it went on elsewhere");
        assert!(!fits(3, 0x900_0001), "it has more than the primary");
        assert!(!fits(4, 0x300_0000), "another's history");
        let other = Backup {
            identity: "8".into(),
            ..backup(3, 1)
        };
        assert!(primary().refuses(&other).unwrap().contains("known as 8"));
    }

    #[test]
    fn the_log_from_its_end_on_is_asked_for_where_the_rest_is_in_it() {
        let name =
            |timeline: u32, number: u32| format!("pg_wal/{timeline:08X}00000000{number:08X}");
        let without = backup(2, 0x450_0000);
        let needed = primary().needed(&without);
        assert_eq!(needed, [name(2, 2), name(3, 2)]);
        let with = Backup {
            has_log: true,
            ..without
        };
        assert_eq!(primary().needed(&with), [name(2, 4), name(3, 4)]);
    }

    #[test]
    fn what_a_primary_does_not_say_is_not_guessed() {
        assert_eq!(Primary::read(""), None);
        assert_eq!(Primary::read("7|3|0/9000000|16777216\nnonsense\n"), None);
        assert!(Primary::read("7|1|0/9000000|16777216\n").is_some());
        assert_eq!(
            major("postgres (PostgreSQL) 15.18 (Debian 15.18-0)\n"),
            Some("15")
        );
    }
}
