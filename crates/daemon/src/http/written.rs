//! How far each workload's log went in the last hour, as this node saw it: what clients wrote, also
//! for a page that is only opened now.

use super::problem::Refusal;
use super::service::Service;
use super::tokens::User;
use crate::clock;
use crate::heart::{Glance, Reached};
use crate::lock::lock;
use actix_web::{HttpResponse, web};
use karst_api::{ProblemType, WrittenReply, WrittenSpan};
use karst_core::{Epoch, NodeId, WorkloadId};
use std::collections::{BTreeMap, VecDeque};
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// Between two looks while nothing happens, and for a while after a workload has got another
/// primary, or none.
const CALM: Duration = Duration::from_secs(5);
const CLOSE: Duration = Duration::from_millis(200);
const CLOSELY_FOR: Duration = Duration::from_secs(15);
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
    fn note(&self, reached: &[Reached], glance: &Glance) {
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

/// Looks on, whether or not anybody asks; closely where something happens.
pub async fn record_written(service: web::Data<Service>) {
    let mut glance = service.heart.glance.clone();
    let primaries = |glance: &Glance| -> Vec<(Epoch, Option<NodeId>)> {
        let all = glance.workloads.values();
        all.map(|w| (w.epoch, w.primary.clone())).collect()
    };
    let mut known = primaries(&glance.borrow());
    let mut closely_until = Instant::now();
    loop {
        if let Some(reached) = service.heart.heads().await {
            let glance = glance.borrow().clone();
            service.written.note(&reached, &glance);
        }
        let every = if Instant::now() < closely_until {
            CLOSE
        } else {
            CALM
        };
        let looked = Instant::now();
        while let Some(left) = every.checked_sub(looked.elapsed()) {
            tokio::select! {
                () = tokio::time::sleep(left) => break,
                changed = glance.changed() => if changed.is_err() { return },
            }
            let now = primaries(&glance.borrow_and_update());
            if now != known {
                (known, closely_until) = (now, Instant::now() + CLOSELY_FOR);
                break;
            }
        }
    }
}

/// What clients wrote in the last hour, as the asked node saw it.
#[utoipa::path(get, path = "/api/v1/workloads/{workload}/written", params(("workload" = String, Path)),
    responses((status = 200, body = WrittenReply)))]
pub async fn written(
    service: web::Data<Service>,
    _user: User,
    path: web::Path<String>,
) -> Result<HttpResponse, Refusal> {
    let id = WorkloadId::from(path.into_inner());
    if !service.spec.workloads.contains_key(&id) {
        let what = format!("there is no workload `{id}`");
        return Err(Refusal::new(ProblemType::NotFound, what));
    }
    let all = lock(&service.written.0);
    let spans = all.get(&id).map(|spans| spans.spans.iter().copied());
    Ok(HttpResponse::Ok().json(WrittenReply {
        spans: spans.into_iter().flatten().collect(),
    }))
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
