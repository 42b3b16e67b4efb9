//! How far each workload's log went in the last hour, as this node saw it: what clients wrote, also
//! for a page that is only opened now.

use crate::clock;
use crate::heart::{Glance, Reached};
use crate::lock::lock;
use karst_api::WrittenSpan;
use karst_core::WorkloadId;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, VecDeque};
use std::fs::{self, File};
use std::io::{self, Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::Duration;

const KEPT: Duration = Duration::from_secs(3_600);
/// However much happens.
const MOST: usize = 5_000;

/// A file of the state directory has the same hour, for a daemon that is started again. Its lines are
/// added as they come; after so many it is written anew, without those that are too old.
const FILE: &str = "written.jsonl";
const LINES: usize = 20_000;
/// The reading ends after so many bytes: a file of ours is smaller.
const LARGEST: u64 = 16 << 20;

/// By workload, oldest first.
pub struct Written {
    all: Mutex<BTreeMap<WorkloadId, Spans>>,
    kept: Mutex<Kept>,
}

struct Kept {
    path: PathBuf,
    /// Not in the file yet.
    new: Vec<Line>,
    lines: usize,
}

/// A line of the file.
#[derive(Clone, Serialize, Deserialize)]
struct Line {
    workload: WorkloadId,
    #[serde(flatten)]
    span: WrittenSpan,
}

#[derive(Default)]
struct Spans {
    last: Option<(u64, Option<u64>)>,
    spans: VecDeque<WrittenSpan>,
}

impl Spans {
    /// How far the log of the open primary is at this moment, in milliseconds; none where nobody
    /// knows, which is no standstill.
    fn add(&mut self, at: u64, reached: Option<u64>) -> Option<WrittenSpan> {
        let span = self.last.map(|(before, had)| WrittenSpan {
            until_ms: at,
            ms: at.saturating_sub(before),
            bytes: had.zip(reached).map(|(had, has)| has.saturating_sub(had)),
        });
        self.spans.extend(span);
        // What is written while nobody looks counts for the span in which it is seen.
        let known = reached.or(self.last.and_then(|(_, had)| had));
        self.last = Some((at, known));
        self.forget(at);
        span
    }

    fn forget(&mut self, at: u64) {
        let age = |span: &WrittenSpan| u128::from(at.saturating_sub(span.until_ms));
        let old = |span: &WrittenSpan| age(span) > KEPT.as_millis();
        while self.spans.front().is_some_and(old) || self.spans.len() > MOST {
            self.spans.pop_front();
        }
    }
}

fn now_ms() -> u64 {
    u64::try_from(clock::wall() / 1_000_000).unwrap_or(0)
}

/// A word of a primary that is older says nothing of now.
const NEWS: Duration = Duration::from_secs(3);

impl Written {
    /// The new daemon knows what the one before it knew, but not how far a log went meanwhile.
    pub fn kept_in(state: &Path) -> Self {
        let path = state.join(FILE);
        let mut text = String::new();
        let read = File::open(&path).and_then(|f| f.take(LARGEST).read_to_string(&mut text));
        if let Err(error) = read
            && error.kind() != io::ErrorKind::NotFound
        {
            tracing::warn!(%error, path = %path.display(), "the last hour's writes are not known");
        }
        let mut all = BTreeMap::<WorkloadId, Spans>::new();
        // The end of a daemon may have cut the last line: it is left out.
        for line in text.lines().flat_map(serde_json::from_str::<Line>) {
            let spans = all.entry(line.workload).or_default();
            spans.last = Some((line.span.until_ms, None));
            spans.spans.push_back(line.span);
        }
        let now = now_ms();
        all.values_mut().for_each(|spans| spans.forget(now));
        let kept = Kept {
            path,
            new: Vec::new(),
            lines: LINES,
        };
        Self {
            all: Mutex::new(all),
            kept: Mutex::new(kept),
        }
    }

    /// Writes to the file what is new. The disk may be slow.
    pub fn keep(&self) {
        let mut kept = lock(&self.kept);
        let new = std::mem::take(&mut kept.new);
        if new.is_empty() {
            return;
        }
        let anew = kept.lines + new.len() > LINES;
        let lines = if anew { self.lines() } else { new };
        match kept.write(&lines, anew) {
            Ok(()) => kept.lines = if anew { 0 } else { kept.lines } + lines.len(),
            Err(error) => tracing::debug!(%error, "the last hour's writes are not kept"),
        }
    }

    fn lines(&self) -> Vec<Line> {
        let all = lock(&self.all);
        let lines = all.iter().flat_map(|(workload, spans)| {
            let line = |span: &WrittenSpan| Line {
                workload: workload.clone(),
                span: *span,
            };
            spans.spans.iter().map(line)
        });
        lines.collect()
    }

    /// What is known of one workload.
    pub fn of(&self, id: &WorkloadId) -> Vec<WrittenSpan> {
        let all = lock(&self.all);
        let spans = all.get(id).map(|spans| spans.spans.iter().copied());
        spans.into_iter().flatten().collect()
    }

    pub fn note(&self, reached: &[Reached], glance: &Glance) {
        let (at, now) = (now_ms(), clock::now());
        let mut kept = lock(&self.kept);
        let mut all = lock(&self.all);
        // A daemon that has just started has no workloads yet.
        if !glance.workloads.is_empty() {
            all.retain(|id, _| glance.workloads.contains_key(id));
        }
        for (id, workload) in &glance.workloads {
            let spans = all.entry(id.clone()).or_default();
            let heard = reached
                .iter()
                .find(|(of, _, at)| of == id && now.since(*at) < NEWS);
            // While nobody is open nobody writes, and the log stays where it is.
            let still = spans.last.and_then(|(_, had)| had);
            let reached = match &workload.primary {
                Some(_) => heard.map(|(_, position, _)| *position),
                None => still,
            };
            let workload = id.clone();
            let span = spans.add(at, reached);
            kept.new.extend(span.map(|span| Line { workload, span }));
        }
    }
}

impl Kept {
    fn write(&self, lines: &[Line], anew: bool) -> io::Result<()> {
        let mut text = Vec::new();
        for line in lines {
            serde_json::to_writer(&mut text, line)?;
            text.push(b'\n');
        }
        if anew {
            let next = self.path.with_extension("next");
            fs::write(&next, text)?;
            return fs::rename(next, &self.path);
        }
        let mut file = File::options().append(true).open(&self.path)?;
        file.write_all(&text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_daemon_that_starts_again_has_the_hour_before() {
        let state = tempfile::tempdir().unwrap();
        let note = |written: &Written, at: u64, reached| {
            let workload = WorkloadId::from("sailings");
            let spans = &mut *lock(&written.all);
            let span = spans.entry(workload.clone()).or_default().add(at, reached);
            let line = span.map(|span| Line { workload, span });
            lock(&written.kept).new.extend(line);
        };
        let sailings = |written: &Written| -> Vec<_> {
            let spans = written.of(&"sailings".into());
            spans.iter().map(|span| (span.ms, span.bytes)).collect()
        };
        let now = now_ms();
        let first = Written::kept_in(state.path());
        for (ago, reached) in [(30_000, 100), (25_000, 130), (20_000, 190)] {
            note(&first, now - ago, Some(reached));
            first.keep();
        }
        assert_eq!(sailings(&first), [(5_000, Some(30)), (5_000, Some(60))]);
        // It ended in the middle of a line.
        let path = state.path().join(FILE);
        let whole = fs::read_to_string(&path).unwrap();
        fs::write(&path, format!("{whole}{{\"workload\":\"sail")).unwrap();
        let second = Written::kept_in(state.path());
        note(&second, now - 4_000, Some(400));
        note(&second, now, Some(410));
        second.keep();
        let third = Written::kept_in(state.path());
        let known = [
            (5_000, Some(30)),
            (5_000, Some(60)),
            (16_000, None),
            (4_000, Some(10)),
        ];
        assert_eq!(sailings(&third), known);
        let anew = fs::read_to_string(&path).unwrap();
        assert_eq!(anew.lines().count(), 4, "{anew}");
    }

    #[test]
    fn what_nobody_knows_is_no_standstill() {
        let mut spans = Spans::default();
        for (at, reached) in [
            (0, Some(100)),
            (5_000, Some(130)),
            (5_200, None),
            (5_400, Some(140)),
        ] {
            spans.add(at, reached);
        }
        let bytes: Vec<_> = spans
            .spans
            .iter()
            .map(|span| (span.ms, span.bytes))
            .collect();
        assert_eq!(bytes, [(5_000, Some(30)), (200, None), (200, Some(10))]);
    }
}
