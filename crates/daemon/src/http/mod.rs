//! The HTTP service: JSON under `/api/v1`, events that stream, metrics, role probes, the console.
//!
//! Handlers only pass messages to the heart and the stores; nothing is decided here.

mod access;
mod api;
mod audit;
mod console;
mod document;
mod door;
mod endpoints;
mod explain;
mod intents;
mod join;
mod live;
mod metrics;
mod now;
mod problem;
mod records;
mod reports;
mod sealed;
mod service;
mod sessions;
mod steps;
mod strangers;
mod tickets;
mod watchers;
mod writes;
mod written;

pub use api::Document;
pub use explain::explain;
pub use join::Files;
pub use live::watch_status;
pub use service::Service;
pub use sessions::Sessions;
pub use writes::record_written;
pub use written::Written;

use actix_tls::accept::rustls_0_23::TlsStream;
use actix_web::dev::Server;
use actix_web::rt::net::TcpStream;
use actix_web::{App, HttpServer, middleware, web};
use karst_adapters::{Bounds, Seats};
use std::fs::Permissions;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixListener;
use std::path::PathBuf;
use std::time::Duration;

/// Where to listen.
pub struct Listen {
    /// A unix socket, for tools of the same user on the same host.
    pub socket: Option<PathBuf>,
    pub tls: Option<rustls::ServerConfig>,
}

/// How long a client may take to say who it is: whoever only connects holds a place for no longer.
const GREETING: Duration = Duration::from_secs(1);

/// The service: for tools on this host by itself, so that nobody from outside takes their place.
///
/// # Errors
/// If an address or the socket cannot be bound.
pub fn start(service: &web::Data<Service>, listen: Listen) -> std::io::Result<Vec<Server>> {
    macro_rules! server {
        ($bounds:expr) => {{
            let service = service.clone();
            HttpServer::new(move || {
                App::new()
                    .app_data(service.clone())
                    .app_data(problem::json_config())
                    .app_data(problem::query_config())
                    .app_data(problem::path_config())
                    .wrap(middleware::from_fn(door::enter))
                    .wrap(middleware::Compress::default())
                    .configure(api::routes)
                    .configure(live::routes)
                    .configure(metrics::routes)
                    .configure(problem::routes)
                    .configure(console::routes)
            })
            .workers(1)
            .max_connections($bounds.all)
            .tls_handshake_timeout(GREETING)
            .shutdown_timeout(2)
            .disable_signals()
        }};
    }
    let bounds = Bounds::of_http();
    let mut servers = Vec::new();
    if let Some(socket) = listen.socket {
        let _ = std::fs::remove_file(&socket);
        let server = server!(bounds).on_connect(|io, connection| {
            let stream = io.downcast_ref::<actix_web::rt::net::UnixStream>();
            if let Some(peer) = stream.and_then(|stream| stream.peer_cred().ok()) {
                connection.insert(access::Local(local_name(peer.uid())));
            }
        });
        // One that Actix binds itself is never told who connects.
        let listener = UnixListener::bind(&socket)?;
        listener.set_nonblocking(true)?;
        servers.push(server.listen_uds(listener)?.run());
        // Whoever may open it may do everything here, as this user can anyway.
        std::fs::set_permissions(&socket, Permissions::from_mode(0o600))?;
    }
    if let (Some(tls), Some(address)) = (listen.tls, service.own_address()) {
        let seats = Seats::new(bounds);
        let server = server!(bounds).on_connect(move |io, connection| {
            if let Some(stream) = io
                .downcast_ref::<TlsStream<TcpStream>>()
                .map(|tls| tls.get_ref().0)
            {
                match stream
                    .peer_addr()
                    .ok()
                    .and_then(|from| seats.take(from.ip()))
                {
                    Some(seat) => drop(connection.insert(seat)),
                    // Too many from there: it reads the end at once.
                    None => drop(rustix::net::shutdown(stream, rustix::net::Shutdown::Both)),
                }
            }
        });
        servers.push(server.bind_rustls_0_23(address, tls)?.run());
    }
    Ok(servers)
}

/// What somebody on this host is called in the record.
fn local_name(uid: u32) -> String {
    let users = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let is_it = |line: &&str| line.split(':').nth(2) == Some(&uid.to_string());
    let name = users.lines().find(is_it);
    let name = name.and_then(|line| Some(format!("local-{}", line.split(':').next()?)));
    let name = name.filter(|name| karst_core::ids::is_name(name));
    name.unwrap_or_else(|| format!("local-uid-{uid}"))
}
