//! The audit trail: who asked this node to change something, from where, and how it was answered;
//! in the history with everything else. Neither tokens nor what a request carries are written down.

use super::service::Service;
use crate::store::Store;
use crate::tokens::User;
use actix_web::dev::ServiceRequest;
use karst_core::NodeId;
use karst_core::event::{Event, FactKind, Level};
use std::time::Duration;

/// A path is no longer than this in any honest request.
const PATH_LIMIT: usize = 120;
/// A change waits so long for its line to be durable. A disk that hangs must not keep a person from
/// moving a workload away from it.
const DURABLE_WITHIN: Duration = Duration::from_secs(1);

/// A change that was asked for and is on record, until it is on record how it was answered.
pub struct Asked {
    store: Store,
    node: NodeId,
    who: String,
    what: String,
    /// Method and path.
    call: String,
    answered: bool,
}

impl Asked {
    /// Durable before this returns, unless the disk hangs. None for those strangers who are only
    /// counted.
    pub async fn record(
        service: &Service,
        request: &ServiceRequest,
        user: Option<&User>,
    ) -> Option<Self> {
        let path: String = request.path().chars().take(PATH_LIMIT).collect();
        let call = format!("{} {}", request.method(), path.escape_debug());
        let what = wish(request.method().as_str(), &path).unwrap_or_else(|| call.clone());
        let from = request
            .peer_addr()
            .map_or("the host itself".into(), |a| a.ip().to_string());
        let (who, left_out) = match user {
            Some(user) => (described(user), 0),
            None => (
                "somebody without a valid token".into(),
                service.strangers.next()?,
            ),
        };
        let more = if left_out > 0 {
            format!("; {left_out} more since the last such line")
        } else {
            String::new()
        };
        let text = format!("{who} asks {} {what}, from {from}{more}", service.me);
        let event = Event::new(Level::Info, FactKind::Asked, text)
            .with("from", from)
            .with("call", &call);
        let durable = service
            .store
            .record_durably(user.iter().fold(event, |e, u| e.with("user", &u.name)));
        if tokio::time::timeout(DURABLE_WITHIN, durable).await.is_err() {
            tracing::warn!(%who, %what, "the node store is late: this goes on before it is on record");
        }
        Some(Self {
            store: service.store.clone(),
            node: service.me.clone(),
            who,
            what,
            call,
            answered: false,
        })
    }

    /// Whoever signed in is known by now.
    pub fn answered(mut self, status: u16, user: Option<&User>) {
        self.answered = true;
        if let Some(user) = user {
            self.who = described(user);
        }
        let level = if (200..300).contains(&status) {
            Level::Info
        } else {
            Level::Notice
        };
        let verdict = match status {
            200..300 => "yes",
            401 => "no, nobody is signed in",
            403 => "no, it is not allowed",
            _ => "no",
        };
        let text = format!(
            "{} answers {} {verdict} ({status}), who asked {}",
            self.node, self.who, self.what
        );
        let event = Event::new(level, FactKind::Answered, text);
        self.store
            .record(event.with("status", status).with("call", &self.call));
    }
}

/// What a call asks for, in words.
fn wish(method: &str, path: &str) -> Option<String> {
    let parts: Vec<&str> = path.strip_prefix("/api/v1/")?.split('/').collect();
    Some(match (method, parts.as_slice()) {
        ("POST", ["session"]) => "to sign in".into(),
        ("DELETE", ["session"]) => "to sign out".into(),
        ("POST", ["workloads", workload, "switchover"]) => {
            format!("for a switchover of {}", workload.escape_debug())
        }
        ("POST", ["workloads", workload, "failover"]) => {
            format!("for a forced failover of {}", workload.escape_debug())
        }
        ("POST", ["workloads", workload, "restart"]) => {
            format!(
                "to restart the servers of {}, or for its plan",
                workload.escape_debug()
            )
        }
        ("POST", ["workloads", workload, "safety-point"]) => {
            format!(
                "for a safety point of {}, or its plan",
                workload.escape_debug()
            )
        }
        ("POST", ["workloads", workload, "safety-point", "go-back"]) => {
            format!(
                "to take {} back to its safety point, or for the plan",
                workload.escape_debug()
            )
        }
        ("PUT", ["workloads", workload, "mode"]) => {
            format!("to set the mode of {}", workload.escape_debug())
        }
        ("POST", ["operations", operation, "approve"]) => {
            format!("to approve op-{}", operation.escape_debug())
        }
        ("POST", ["nodes", node, "power"]) => {
            format!("to switch the power of {}", node.escape_debug())
        }
        ("POST", ["nodes", node, what @ ("fence" | "readmit")]) => {
            format!("to {what} {}", node.escape_debug())
        }
        ("POST", ["nodes", node, "certificates"]) => {
            format!("for new certificates of {}", node.escape_debug())
        }
        ("POST", ["invitations"]) => "for an invitation of a host".into(),
        ("POST", ["join"]) => "to join by an invitation".into(),
        ("PUT", ["spec"]) => "to have another spec in force".into(),
        ("POST", ["spec", "plan"]) => "what another spec would take".into(),
        ("POST", ["nodes", node, "enrol"]) => {
            format!(
                "to take the new store of {} in, or for its plan",
                node.escape_debug()
            )
        }
        ("POST", ["maintenance"]) => "for a maintenance, or its plan".into(),
        ("POST", ["operations", operation, "end"]) => {
            format!("to end op-{}", operation.escape_debug())
        }
        ("POST", ["quorum", "hand-over"]) => "for another coordinator".into(),
        ("PUT", ["findings", finding, "acknowledgement"]) => {
            format!("to acknowledge {}", finding.escape_debug())
        }
        _ => return None,
    })
}

fn described(user: &User) -> String {
    format!("{} ({})", user.name, user.level.word())
}

impl Drop for Asked {
    fn drop(&mut self) {
        if !self.answered {
            let text = format!(
                "{} hung up before {} had answered, having asked {}",
                self.who, self.node, self.what
            );
            self.store
                .record(Event::new(Level::Notice, FactKind::Answered, text));
        }
    }
}
