//! The HTTP service: JSON under `/api/v1`, events that stream, metrics, role probes, the console.
//!
//! Handlers only pass messages to the heart and the stores; nothing is decided here.

mod access;
mod api;
mod audit;
mod console;
mod live;
mod metrics;
mod problem;

pub use access::Tokens;
pub use audit::Strangers;

use crate::heart::Heart;
use crate::peers::Disagreements;
use crate::store::Store;
use actix_web::{App, HttpServer, middleware, web};
use karst_api::HistoryState;
use karst_core::{NodeId, Spec};
use karst_history::History;
use std::path::PathBuf;
use tokio::sync::watch;

/// What handlers can reach.
pub struct Service {
    pub me: NodeId,
    pub spec: Spec,
    pub spec_text: String,
    pub digest: String,
    pub heart: Heart,
    pub store: Store,
    pub history: Option<History>,
    pub history_state: watch::Receiver<HistoryState>,
    pub disagreements: Disagreements,
    pub tokens: Tokens,
    pub sessions: access::Sessions,
    pub strangers: Strangers,
    /// Ends event streams when the daemon stops: Actix would wait for them.
    pub stopping: watch::Receiver<bool>,
}

/// Where to listen.
pub struct Listen {
    /// A unix socket, for tools on the same host. Its directory says who may use it.
    pub socket: Option<PathBuf>,
    pub tls: Option<rustls::ServerConfig>,
}

/// Runs the service until `stopping`.
///
/// # Errors
/// If an address or the socket cannot be bound.
pub fn start(service: web::Data<Service>, listen: Listen) -> std::io::Result<actix_web::dev::Server> {
    let api_address = service.spec.nodes[&service.me].api;
    let mut server = HttpServer::new(move || {
        App::new()
            .app_data(service.clone())
            .app_data(problem::json_config())
            .app_data(problem::query_config())
            .app_data(problem::path_config())
            .wrap(middleware::from_fn(audit::trail))
            .wrap(middleware::Compress::default())
            .configure(api::routes)
            .configure(live::routes)
            .configure(metrics::routes)
            .configure(console::routes)
    })
    .workers(1)
    .shutdown_timeout(2)
    .disable_signals();
    if let Some(socket) = listen.socket {
        let _ = std::fs::remove_file(&socket);
        server = server.bind_uds(socket)?;
    }
    if let (Some(tls), Some(address)) = (listen.tls, api_address) {
        server = server.bind_rustls_0_23(address, tls)?;
    }
    Ok(server.run())
}
