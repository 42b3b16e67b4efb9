//! The audit trail: who asked this node to change something, from where, and how it was answered;
//! in the history with everything else. Neither tokens nor what a request carries are written down.

use super::service::Service;
use super::tokens::User;
use crate::store::Store;
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
        let what = format!("{} {}", request.method(), path.escape_debug());
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
        let text = format!("{who} asks {} from {from}: {what}{more}", service.me);
        let event = Event::new(Level::Info, FactKind::Asked, text).with("from", from);
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
        let text = format!(
            "{} answered {status} to {}: {}",
            self.node, self.who, self.what
        );
        self.store
            .record(Event::new(level, FactKind::Answered, text).with("status", status));
    }
}

fn described(user: &User) -> String {
    format!("{} ({})", user.name, user.level.word())
}

impl Drop for Asked {
    fn drop(&mut self) {
        if !self.answered {
            let text = format!(
                "{} hung up before {} had answered: {}",
                self.who, self.node, self.what
            );
            self.store
                .record(Event::new(Level::Notice, FactKind::Answered, text));
        }
    }
}
