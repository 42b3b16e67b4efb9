//! Panics of earlier runs. An entry of the log may end every run in the same way. A node that is started
//! again and again tells people nothing: it stays up without acting, and says why.

use crate::clock;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// In the state directory.
const FILE: &str = "panics.json";
/// So many within [`SECONDS`] are no accident.
const MANY: usize = 3;
const SECONDS: u64 = 120;
/// Letters of what each said.
const LONGEST: usize = 600;

/// The last ones, the newest last.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Panics(Vec<Panic>);

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Panic {
    /// In seconds since the Unix epoch.
    at: u64,
    said: String,
}

impl Panics {
    /// A file that cannot be read says of no panic: it decides whether to begin, and nothing else.
    pub fn read(state: &Path) -> Self {
        let text = std::fs::read_to_string(state.join(FILE)).unwrap_or_default();
        serde_json::from_str(&text).unwrap_or_default()
    }

    /// A run notes this as it ends. Where it cannot be written the next run begins as ever.
    pub fn note(state: &Path, said: &str) {
        let mut panics = Self::read(state);
        let said = said.chars().take(LONGEST).collect();
        let at = clock::unix();
        panics.0.push(Panic { at, said });
        let from = panics.0.len().saturating_sub(MANY);
        panics.0.drain(..from);
        let json = serde_json::to_vec(&panics).unwrap_or_default();
        let path = state.join(FILE);
        if let Err(error) = std::fs::write(&path, json) {
            tracing::warn!(%error, path = %path.display(), "a panic cannot be noted");
        }
    }

    /// The next start begins as ever.
    pub fn forget(state: &Path) {
        let _ = std::fs::remove_file(state.join(FILE));
    }

    /// The newest one's words, if there were many of late.
    pub fn habit(&self) -> Option<&str> {
        let recent = clock::unix().saturating_sub(SECONDS);
        let late = self.0.iter().filter(|panic| panic.at >= recent);
        (late.count() >= MANY).then(|| self.0.last().map_or("", |panic| panic.said.as_str()))
    }
}

/// Where the hook of this process notes them.
pub fn noted_in(state: &Path) -> impl Fn(&str) + Send + Sync + 'static {
    let state: PathBuf = state.to_owned();
    move |said| Panics::note(&state, said)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_in_a_short_time_are_a_habit() {
        let dir = tempfile::tempdir().unwrap();
        let note = noted_in(dir.path());
        for _ in 1..MANY {
            note("attempt to add with overflow");
            assert_eq!(Panics::read(dir.path()).habit(), None);
        }
        note("overflow in seconds");
        let panics = Panics::read(dir.path());
        assert_eq!(panics.habit(), Some("overflow in seconds"));
        let mut older = panics.clone();
        older.0[0].at -= 2 * SECONDS;
        assert_eq!(older.habit(), None);
        Panics::forget(dir.path());
        assert_eq!(Panics::read(dir.path()), Panics::default());
        std::fs::write(dir.path().join(FILE), "{").unwrap();
        assert_eq!(Panics::read(dir.path()), Panics::default());
    }
}
