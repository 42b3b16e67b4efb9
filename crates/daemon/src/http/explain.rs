//! A node that does not act answers every call with the reason.

use super::problem::Refusal;
use super::{GREETING, Listen};
use actix_web::dev::Server;
use actix_web::{App, HttpServer, web};
use std::fs::Permissions;
use std::net::SocketAddr;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixListener;

/// The service that says `why` and nothing else, where people would look for the node.
///
/// # Errors
/// If an address or the socket cannot be bound.
pub fn explain(
    why: &str,
    address: Option<SocketAddr>,
    listen: Listen,
) -> std::io::Result<Vec<Server>> {
    let app = |why: String| {
        let answer = move || {
            let refusal = Refusal::unavailable(why.clone());
            async move { Err::<String, Refusal>(refusal) }
        };
        App::new().default_service(web::to(answer))
    };
    let mut servers = Vec::new();
    if let Some(socket) = listen.socket {
        let _ = std::fs::remove_file(&socket);
        let listener = UnixListener::bind(&socket)?;
        listener.set_nonblocking(true)?;
        let why = why.to_string();
        let server = HttpServer::new(move || app(why.clone())).workers(1);
        servers.push(server.disable_signals().listen_uds(listener)?.run());
        std::fs::set_permissions(&socket, Permissions::from_mode(0o600))?;
    }
    if let (Some(tls), Some(address)) = (listen.tls, address) {
        let why = why.to_string();
        let server = HttpServer::new(move || app(why.clone())).workers(1);
        let server = server.disable_signals().tls_handshake_timeout(GREETING);
        servers.push(server.bind_rustls_0_23(address, tls)?.run());
    }
    Ok(servers)
}
