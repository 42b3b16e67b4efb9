//! Whoever shows a key that speaks for nobody any more (M1) is told so by a connection's close, and by
//! the entry since which that is so.

use super::PARTING;
use crate::tls::Refused;
use anyhow::{Context, Result};
use karst_core::Index;
use karst_core::state::Gone;
use quinn::{Connection, ConnectionError, VarInt};
use rustls::pki_types::CertificateDer;

/// The code of such a close; its reason is the entry's number, in decimal digits (RFC 9000, section
/// 10.2).
const REMOVED: VarInt = VarInt::from_u32(2);

/// Whose key it was that the other end shows, if it speaks for nobody any more.
///
/// # Errors
/// If that cannot be told: then nothing is to be made of the connection.
pub fn is_refused(connection: &Connection, refused: &Refused) -> Result<Option<Gone>> {
    refused.find(&shown_on(connection).context("no certificate")?)
}

pub fn shown_on(connection: &Connection) -> Option<CertificateDer<'static>> {
    let shown = connection.peer_identity()?;
    let shown = shown.downcast::<Vec<CertificateDer<'static>>>().ok()?;
    shown.first().cloned()
}

/// Until the other end's key speaks for nobody any more, and a moment longer: so that the last word
/// to it, which says so, arrives.
pub async fn until_refused(connection: &Connection, refused: &Refused) -> Result<()> {
    let mut changes = refused.changes();
    loop {
        if changes.changed().await.is_err() {
            return std::future::pending().await;
        }
        tokio::time::sleep(PARTING).await;
        if let Some(gone) = is_refused(connection, refused)? {
            part(connection, &gone);
            anyhow::bail!("{}'s key speaks for it no more", gone.node);
        }
    }
}

pub fn part(connection: &Connection, gone: &Gone) {
    connection.close(REMOVED, gone.since.0.to_string().as_bytes());
}

/// Since which entry this node is none any more, where the other end has said so.
pub fn told_by(connection: &Connection) -> Option<Index> {
    let Some(ConnectionError::ApplicationClosed(close)) = connection.close_reason() else {
        return None;
    };
    if close.error_code != REMOVED {
        return None;
    }
    let since = std::str::from_utf8(&close.reason).ok()?.parse().ok()?;
    Some(Index(since))
}
