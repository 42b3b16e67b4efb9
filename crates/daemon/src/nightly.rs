//! Once a day each node looks at its own host as `karst check` does: what it lacks by now is a finding,
//! before somebody needs it.

use crate::about::Own;
use crate::http::Service;
use crate::lock::write;
use actix_web::web;
use karst_api::{HostNeed, Met};
use karst_core::NodeId;
use karst_core::spec::{Finding, FindingKind, Severity};
use std::time::Duration;

/// The others are there by then.
const FIRST: Duration = Duration::from_secs(600);
const EVERY: Duration = Duration::from_secs(86_400);

/// Until the daemon ends.
pub async fn run(service: web::Data<Service>) {
    tokio::time::sleep(FIRST).await;
    loop {
        // Whoever is looking just now notes the same.
        if let Ok(alone) = service.examining.clone().try_lock_owned() {
            let service = service.clone();
            let looked = tokio::task::spawn_blocking(move || (service.examine)().err());
            if let Ok(Some(error)) = looked.await {
                tracing::warn!(%error, "this host could not be examined");
            }
            drop(alone);
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// What was seen takes the place of what was seen before.
pub fn note(own: &Own, me: &NodeId, needs: &[HostNeed]) {
    let unmet = needs.iter().filter(|need| need.met == Met::No);
    let unmet: Vec<String> = unmet
        .map(|need| match &need.why {
            Some(why) => format!("{} ({why})", need.what),
            None => need.what.clone(),
        })
        .collect();
    let finding = (!unmet.is_empty()).then(|| Finding {
        kind: FindingKind::HostLacks,
        severity: Severity::Warning,
        path: vec!["node".into(), me.to_string()],
        what: format!("{me} does not have all that it needs: {}", unmet.join("; ")),
        remedy: "`karst check` looks again, and says what to do about each".into(),
    });
    *write(own) = finding.into_iter().collect();
}

#[cfg(test)]
mod tests {
    use super::note;
    use crate::about::Own;
    use crate::lock::read;
    use karst_api::{HostNeed, Met};

    #[test]
    fn what_is_met_again_is_no_finding_any_more() {
        let need = |met| HostNeed {
            what: "a user".into(),
            met,
            why: Some("there is none".into()),
            remedy: None,
        };
        let own = Own::default();
        note(&own, &"doline".into(), &[need(Met::No), need(Met::Better)]);
        let said: Vec<String> = read(&own).iter().map(|f| f.what.clone()).collect();
        assert_eq!(
            said,
            ["doline does not have all that it needs: a user (there is none)"]
        );
        note(&own, &"doline".into(), &[need(Met::Yes)]);
        assert!(read(&own).is_empty());
    }
}
