//! The cluster now: the coordinator's word, or this node's own where nobody else answers.

use super::problem::Refusal;
use super::service::{Answered, Service};
use crate::lock::lock;
use karst_api::StatusReply;
use karst_core::author::Level;
use karst_core::request::{Answer, Request};
use karst_core::spec::{Finding, FindingKind, Severity};
use karst_core::view::FindingView;
use std::sync::Arc;
use std::time::{Duration, Instant};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// How long the coordinator may take to answer before the asked node answers by itself.
const PATIENCE: Duration = Duration::from_millis(700);
/// For so long an answer is given again: however many ask, the coordinator is asked twenty times a
/// second at most.
const RECENT: Duration = Duration::from_millis(50);

/// The cluster now: one sentence, then the evidence.
pub async fn status_now(service: &Service) -> Result<Arc<Answered>, Refusal> {
    // Those who ask meanwhile wait for the same answer.
    let mut recent = service.recent.0.lock().await;
    if let Some((at, reply)) = recent.as_ref()
        && at.elapsed() < RECENT
    {
        return Ok(reply.clone());
    }
    let asked = Instant::now();
    let reply = ask_status(service).await?;
    let json = serde_json::to_vec(&reply).map_err(|e| Refusal::unavailable(e.to_string()))?;
    let answered = Arc::new(Answered {
        reply,
        json: json.into(),
    });
    *recent = Some((asked, answered.clone()));
    Ok(answered)
}

async fn ask_status(service: &Service) -> Result<StatusReply, Refusal> {
    let asked = service
        .heart
        .ask(Request::Status, (Level::Observe, None), PATIENCE)
        .await;
    let (complete, answer) = match asked {
        Some(answer @ Answer::Status(_)) => (true, Some(answer)),
        _ => (false, service.heart.own_status().await),
    };
    let Some(Answer::Status(status)) = answer else {
        return Err(Refusal::unavailable(format!(
            "{} is busy and did not answer itself",
            service.me
        )));
    };
    let mut status = *status;
    let disagreements = lock(&service.disagreements).clone();
    status
        .findings
        .extend(disagreements.into_iter().map(|(node, what)| {
            FindingView::from(Finding {
                kind: FindingKind::SpecDiffers,
                severity: Severity::Error,
                path: vec!["node".into(), node.to_string()],
                what: format!("{what}: they refuse each other"),
                remedy:
                    "install the same spec file on both and restart the one that had the old one"
                        .into(),
            })
        }));
    let at = OffsetDateTime::now_utc()
        .format(&Rfc3339)
        .unwrap_or_default();
    Ok(StatusReply {
        complete,
        status,
        history: service.history_state.borrow().clone(),
        at,
    })
}
