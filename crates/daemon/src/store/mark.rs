//! How far a store had come, in a small file beside it: a store that is found further back was put
//! back, or its disk lost a part of it.
//!
//! It is written after each commit is durable and never synced, so that it costs next to nothing,
//! and after a power cut it may be behind its store; it is never ahead of it.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::Path;

/// A store's name and the number of its last commit.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Reached {
    pub store: String,
    pub commits: u64,
}

pub struct Mark {
    file: File,
}

impl Mark {
    /// Opens or makes it, and reads what it says; none if that is nothing that was written here.
    ///
    /// # Errors
    /// If the file cannot be used.
    pub fn open(path: &Path) -> io::Result<(Self, Option<Reached>)> {
        let file = File::options()
            .read(true)
            .write(true)
            .create(true)
            .truncate(false)
            .open(path)?;
        let mut text = [0; 64];
        let length = file.read_at(&mut text, 0)?;
        Ok((Self { file }, parse(&text[..length])))
    }

    /// # Errors
    /// If the file cannot be written.
    pub fn write(&self, store: &str, commits: u64) -> io::Result<()> {
        self.file
            .write_all_at(format!("{store} {commits:020}\n").as_bytes(), 0)
    }
}

fn parse(text: &[u8]) -> Option<Reached> {
    let (store, commits) = std::str::from_utf8(text)
        .ok()?
        .strip_suffix('\n')?
        .split_once(' ')?;
    Some(Reached {
        store: store.into(),
        commits: commits.parse().ok()?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_written_last_is_read_and_nothing_else() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("node.mark");
        let (mark, before) = Mark::open(&path).unwrap();
        assert_eq!(before, None);
        for commits in [9, u64::MAX, 12] {
            mark.write("00000000000000aa", commits).unwrap();
        }
        let reached = Reached {
            store: "00000000000000aa".into(),
            commits: 12,
        };
        assert_eq!(Mark::open(&path).unwrap().1, Some(reached));
        std::fs::write(&path, "half a lin").unwrap();
        assert_eq!(Mark::open(&path).unwrap().1, None);
    }
}
