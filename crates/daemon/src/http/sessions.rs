//! Browsers' sessions, in exchange for a token.
//!
//! A session is nothing that the node keeps: its cookie says until when it holds, and has the token,
//! sealed for this node. So it outlives a restart of the daemon, ends with the token behind it or with
//! a new node key, and holds at no other node.

use super::sealed::{Held, Seal};
use crate::clock;
use crate::lock::lock;
use crate::tokens::Tokens;
use karst_core::author::Token;
use ring::hmac;
use std::collections::BTreeMap;
use std::sync::Mutex;
use std::time::Duration;

/// A watch, and a little: then a person signs in again.
pub const AGE: Duration = Duration::from_secs(12 * 3_600);

pub struct Sessions {
    seal: Seal,
    /// Who signed out, until when that session would have held.
    ended: Mutex<BTreeMap<String, u64>>,
}

impl Sessions {
    /// `secret` is the node's private key.
    pub fn new(secret: &[u8]) -> Self {
        let of_node = hmac::Key::new(hmac::HMAC_SHA256, secret);
        let own = hmac::sign(&of_node, b"karst console sessions");
        Self {
            seal: Seal::new(own.as_ref()),
            ended: Mutex::default(),
        }
    }

    pub fn open(&self, token: &Token) -> Option<String> {
        self.seal.close(token, AGE)
    }

    /// The token that this session was opened with, if it still holds.
    pub fn token(&self, session: &str, tokens: &Tokens) -> Option<Token> {
        let Held { token, .. } = self.seal.open(session, tokens)?;
        let holds = !lock(&self.ended).contains_key(session);
        holds.then_some(token)
    }

    /// The session ends for this run of the daemon, and the browser forgets it as well. A text that is
    /// no session of this node's takes no room.
    pub fn close(&self, session: &str, tokens: &Tokens) {
        let (mut ended, now) = (lock(&self.ended), clock::unix());
        ended.retain(|_, until| *until > now);
        if let Some(held) = self.seal.open(session, tokens) {
            ended.insert(session.into(), held.until);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tokens::digest;

    #[test]
    fn a_session_outlives_its_daemon_and_nothing_else() {
        let token = Token::new("gull");
        let line: String = digest("gull").iter().map(|b| format!("{b:02x}")).collect();
        let tokens = Tokens::parse(&format!("captain operate {line}")).unwrap();
        let before = Sessions::new(b"the node's key");
        let session = before.open(&token).unwrap();
        let after = Sessions::new(b"the node's key");
        assert_eq!(after.token(&session, &tokens), Some(token));
        assert_eq!(
            after.token(&session, &Tokens::default()),
            None,
            "its token is gone"
        );
        let other = Sessions::new(b"another node's key");
        assert_eq!(other.token(&session, &tokens), None);
        after.close(&session, &tokens);
        assert_eq!(after.token(&session, &tokens), None, "signed out");
        for n in 0..1_000 {
            after.close(&format!("{n}.{session}"), &tokens);
        }
        assert_eq!(lock(&after.ended).len(), 1, "made up ones take no room");
    }
}
