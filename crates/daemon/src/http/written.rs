//! How far each workload's log went in the last hour, as this node saw it: what clients wrote, also
//! for a page that is only opened now.

use crate::clock;
use crate::heart::{Glance, Reached};
use crate::lock::lock;
use karst_api::WrittenSpan;
use karst_core::WorkloadId;
use std::collections::{BTreeMap, VecDeque};
use std::sync::Mutex;
use std::time::Duration;

const KEPT: Duration = Duration::from_secs(3_600);
/// However much happens.
const MOST: usize = 5_000;

/// By workload, oldest first.
#[derive(Default)]
pub struct Written(Mutex<BTreeMap<WorkloadId, Spans>>);

#[derive(Default)]
struct Spans {
    last: Option<(u64, Option<u64>)>,
    spans: VecDeque<WrittenSpan>,
}

impl Spans {
    /// How far the log of the open primary is at this moment, in milliseconds; none where nobody
    /// knows, which is no standstill.
    fn add(&mut self, at: u64, reached: Option<u64>) {
        if let Some((before, had)) = self.last {
            let far = had.zip(reached);
            self.spans.push_back(WrittenSpan {
                until_ms: at,
                ms: at.saturating_sub(before),
                bytes: far.map(|(had, has)| has.saturating_sub(had)),
            });
        }
        // What is written while nobody looks counts for the span in which it is seen.
        let known = reached.or(self.last.and_then(|(_, had)| had));
        self.last = Some((at, known));
        let old = |span: &WrittenSpan| u128::from(at - span.until_ms) > KEPT.as_millis();
        while self.spans.front().is_some_and(old) || self.spans.len() > MOST {
            self.spans.pop_front();
        }
    }
}

/// A word of a primary that is older says nothing of now.
const NEWS: Duration = Duration::from_secs(3);

impl Written {
    /// What is known of one workload.
    pub fn of(&self, id: &WorkloadId) -> Vec<WrittenSpan> {
        let all = lock(&self.0);
        let spans = all.get(id).map(|spans| spans.spans.iter().copied());
        spans.into_iter().flatten().collect()
    }

    pub fn note(&self, reached: &[Reached], glance: &Glance) {
        let at = u64::try_from(clock::wall() / 1_000_000).unwrap_or(0);
        let now = clock::now();
        let mut all = lock(&self.0);
        all.retain(|id, _| glance.workloads.contains_key(id));
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
            spans.add(at, reached);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
