//! Tickets: with one, a page whose person is signed in at one node goes on at another when that one is
//! gone.
//!
//! Each open page is given one now and then. It holds for a few minutes and once. It has the token
//! behind the session, sealed so that each node can open it that knows the token: no key of a node
//! makes one.

use super::sealed::{Held, Seal};
use crate::clock;
use crate::lock::lock;
use crate::tokens::Tokens;
use anyhow::{Context, Result, bail};
use karst_core::author::Token;
use std::collections::BTreeMap;
use std::sync::Mutex;
use std::time::Duration;

const AGE: Duration = Duration::from_secs(180);

pub struct Tickets {
    seal: Seal,
    /// Tickets that were used here, until they would have ended.
    used: Mutex<BTreeMap<u128, u64>>,
}

impl Default for Tickets {
    fn default() -> Self {
        Self {
            seal: Seal::new(b"karst console ticket"),
            used: Mutex::default(),
        }
    }
}

impl Tickets {
    pub fn issue(&self, token: &Token) -> Option<String> {
        self.seal.close(token, AGE)
    }

    /// The token in it, if it was not used yet.
    ///
    /// # Errors
    /// Why it is not taken.
    pub fn redeem(&self, ticket: &str, tokens: &Tokens) -> Result<Token> {
        let held = self.seal.open(ticket, tokens);
        let Held {
            until,
            number,
            token,
        } = held.context("it is no ticket, it has ended, or its token is not known here")?;
        let now = clock::unix();
        if until > now + 2 * AGE.as_secs() {
            bail!("it holds for longer than any");
        }
        let mut used = lock(&self.used);
        used.retain(|_, until| *until > now);
        if used.insert(number, until).is_some() {
            bail!("it was used before");
        }
        Ok(token)
    }
}
