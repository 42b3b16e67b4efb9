//! A fresh copy of the primary's data.

use super::keeper::Postgres;
use super::words::copied;
use crate::trouble::{Result, Trouble};
use karst_core::NodeId;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

impl Postgres {
    /// Copies the primary into a directory beside the data and puts it in their place when it is
    /// complete. A server that still runs on the old ones does so until then.
    pub(super) async fn back_up(&self, from: &NodeId) -> Result<()> {
        let host = &self.host;
        let source = self.source(from)?;
        self.write_passfile()?;
        let copy = host.beside("copy");
        host.clear(&host.beside("old"))?;
        host.files()
            .make_dir(&copy)
            .map_err(Trouble::io(copy.display().to_string()))?;
        let mut backup = self.program("pg_basebackup");
        backup
            .args(["--no-password", "--progress"])
            .args(["--checkpoint=fast", "--wal-method=stream"])
            .arg("--dbname")
            .arg(source)
            .arg("--pgdata")
            .arg(&copy);
        if let Some(log) = self.fresh_log()? {
            backup.arg("--waldir").arg(log);
        }
        host.run(backup, "pg_basebackup", copied).await?;
        self.take_up(&copy).await
    }

    /// Puts a whole copy in the place of the data, as a standby's.
    pub(super) async fn take_up(&self, copy: &Path) -> Result<()> {
        let host = &self.host;
        let signal = copy.join("standby.signal");
        host.files()
            .put(&signal, b"", false)
            .map_err(Trouble::io(signal.display().to_string()))?;
        host.end_all().await?;
        host.swap_in(copy)?;
        self.fresh_log().map(drop)
    }

    /// An empty directory for the log of data that are about to be made, where the spec names a
    /// volume for logs. Two take turns, so that a copy leaves the log of the data that it will
    /// replace alone.
    pub(super) fn fresh_log(&self) -> Result<Option<PathBuf>> {
        let Some(dir) = &self.host.site.log else {
            return Ok(None);
        };
        let fresh = unused_turn(dir, &self.host.site.data);
        self.host
            .files()
            .ensure_dir(dir)
            .map_err(Trouble::io(dir.display().to_string()))?;
        if let Some(fresh) = &fresh {
            if let Some(strange) = not_of_a_log(fresh) {
                let what = format!(
                    "{} is no log of a server: nothing there was removed; empty {} or name another directory",
                    strange.display(),
                    fresh.display()
                );
                return Err(Trouble::Wrong(what));
            }
            self.host.clear(fresh)?;
        }
        Ok(fresh)
    }
}

/// Which of the two directories for logs the data do not use. They are told apart by what they are:
/// the text of the link is the server's own spelling of the path.
fn unused_turn(dir: &Path, data: &Path) -> Option<PathBuf> {
    let used = data.join("pg_wal").canonicalize().ok();
    let mut turns = ["a", "b"].map(|turn| dir.join(turn)).into_iter();
    turns.find(|turn| used.is_none() || turn.canonicalize().ok() != used)
}

/// An entry of a directory that no server's log has: a log has segments, histories, and the directories
/// beside them.
fn not_of_a_log(dir: &Path) -> Option<PathBuf> {
    let known = |name: &str| {
        let (segment, _) = name.split_once('.').unwrap_or((name, ""));
        let is_number = segment.len() >= 8 && segment.bytes().all(|b| b.is_ascii_hexdigit());
        is_number
            || ["archive_status", "summaries"].contains(&name)
            || name.starts_with("xlogtemp.")
    };
    let mut entries = match std::fs::read_dir(dir) {
        Ok(entries) => entries,
        Err(error) if error.kind() == ErrorKind::NotFound => return None,
        Err(_) => return Some(dir.to_owned()),
    };
    entries.find_map(|entry| {
        // What cannot be looked at may be anything.
        let Ok(entry) = entry else {
            return Some(dir.to_owned());
        };
        let name = entry.file_name();
        let strange = !name.to_str().is_some_and(known);
        strange.then(|| entry.path())
    })
}

#[cfg(test)]
mod tests {
    use super::{not_of_a_log, unused_turn};
    use std::fs::create_dir_all;
    use std::os::unix::fs::symlink;

    #[test]
    fn the_log_in_use_is_never_the_one_that_is_cleared_however_its_path_is_written() {
        let volume = tempfile::tempdir().unwrap();
        let (data, log, other) = (
            volume.path().join("data"),
            volume.path().join("log"),
            volume.path().join("other"),
        );
        for dir in [&data, &other, &log.join("a"), &log.join("b")] {
            create_dir_all(dir).unwrap();
        }
        let spellings = [
            log.clone(),
            other.join("../log"),
            volume.path().join("./log/"),
        ];
        for dir in &spellings {
            assert_eq!(unused_turn(dir, &data), Some(dir.join("a")), "no data yet");
        }
        for (used, fresh) in [("a", "b"), ("b", "a")] {
            let _ = std::fs::remove_file(data.join("pg_wal"));
            symlink(log.join(used), data.join("pg_wal")).unwrap();
            for dir in &spellings {
                assert_eq!(
                    unused_turn(dir, &data),
                    Some(dir.join(fresh)),
                    "{used} is in use"
                );
            }
        }
    }

    /// A spec named `/home` as the directory for logs, and what was in it was removed.
    #[test]
    fn a_directory_that_is_no_log_is_left_alone() {
        let dir = tempfile::tempdir().unwrap();
        assert_eq!(not_of_a_log(&dir.path().join("nothing")), None);
        assert_eq!(not_of_a_log(dir.path()), None);
        for name in [
            "000000010000000000000001",
            "00000002.history",
            "archive_status",
        ] {
            std::fs::write(dir.path().join(name), "").unwrap();
        }
        assert_eq!(not_of_a_log(dir.path()), None);
        let letter = dir.path().join("letter.txt");
        std::fs::write(&letter, "").unwrap();
        assert_eq!(not_of_a_log(dir.path()), Some(letter));
    }
}
