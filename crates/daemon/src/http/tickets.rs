//! Tickets: what lets somebody who is signed in at one node go on at another when that one is gone.
//!
//! Each open page is given one now and then. It holds for a few minutes and once, is signed with
//! the node's own key, and comes with the node's certificate: any node of the cluster can tell whose
//! it is without asking anybody. It names a token, which has to be known where it is used.

use super::tokens::{Digested, Tokens, part_of};
use crate::clock;
use crate::lock::lock;
use crate::tls::{Identity, Refused, Signed};
use anyhow::{Context, Result, bail};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD as BASE64;
use karst_core::NodeId;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::Mutex;
use std::time::Duration;

const AGE: Duration = Duration::from_secs(180);
/// No honest one is longer.
const LONGEST: usize = 20_000;

/// What a node says in one.
#[derive(Serialize, Deserialize)]
struct Statement {
    /// So that nothing else that a node signs can stand for one.
    purpose: String,
    by: NodeId,
    token: String,
    /// In seconds since the Unix epoch.
    until: u64,
    nonce: u128,
}

const PURPOSE: &str = "karst console ticket";

/// Those that were used here, until they would have ended.
#[derive(Default)]
pub struct Tickets(Mutex<BTreeMap<u128, u64>>);

/// A new one for whoever showed this token.
///
/// # Errors
/// If the node's key cannot sign.
pub fn issue(identity: &Identity, me: &NodeId, token: &Digested) -> Result<String> {
    let statement = Statement {
        purpose: PURPOSE.into(),
        by: me.clone(),
        token: part_of(token),
        until: clock::unix() + AGE.as_secs(),
        nonce: rand::random(),
    };
    let signed = identity.sign(serde_json::to_vec(&statement)?)?;
    Ok(BASE64.encode(serde_json::to_vec(&signed)?))
}

impl Tickets {
    /// Whose it is, if it is one that was not used yet.
    ///
    /// # Errors
    /// Why it is not.
    pub fn redeem(
        &self,
        ticket: &str,
        identity: &Identity,
        refused: &Refused,
        known: impl Fn(&NodeId) -> bool,
        tokens: &Tokens,
    ) -> Result<Digested> {
        if ticket.len() > LONGEST {
            bail!("it is too long");
        }
        let signed: Signed = serde_json::from_slice(&BASE64.decode(ticket)?)?;
        let statement: Statement = serde_json::from_slice(&signed.message)?;
        let now = clock::unix();
        if statement.purpose != PURPOSE || !known(&statement.by) {
            bail!("it is no ticket of a node of this cluster");
        }
        if statement.until <= now || statement.until > now + 2 * AGE.as_secs() {
            bail!("it has ended");
        }
        identity.verify(&signed, &statement.by, refused)?;
        let token = tokens.beginning(&statement.token);
        let token = token.context("its token is not known here")?;
        let mut used = lock(&self.0);
        used.retain(|_, until| *until > now);
        if used.insert(statement.nonce, statement.until).is_some() {
            bail!("it was used before");
        }
        Ok(token)
    }
}
