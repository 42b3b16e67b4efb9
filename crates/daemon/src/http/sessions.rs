//! Browsers' sessions, in exchange for a token.
//!
//! A session is nothing that the node keeps: its cookie says until when it holds and for which
//! token, signed with a key that follows from the node's own. So it outlives a restart of the
//! daemon, ends with the token behind it or with a new node key, and holds at no other node.

use super::tokens::{Digested, Tokens, part_of};
use crate::clock;
use crate::lock::lock;
use ring::hmac;
use std::collections::BTreeMap;
use std::sync::Mutex;
use std::time::Duration;

/// A watch, and a little: then a person signs in again.
pub const AGE: Duration = Duration::from_secs(12 * 3_600);

pub struct Sessions {
    key: hmac::Key,
    /// Who signed out, until when that session would have held.
    ended: Mutex<BTreeMap<String, u64>>,
}

impl Sessions {
    /// `secret` is the node's private key: whoever has that can do worse.
    pub fn new(secret: &[u8]) -> Self {
        let of_node = hmac::Key::new(hmac::HMAC_SHA256, secret);
        let own = hmac::sign(&of_node, b"karst console sessions");
        Self {
            key: hmac::Key::new(hmac::HMAC_SHA256, own.as_ref()),
            ended: Mutex::default(),
        }
    }

    pub fn open(&self, token: &Digested) -> String {
        let until = clock::unix() + AGE.as_secs();
        let said = format!("{until}.{:032x}.{}", rand::random::<u128>(), part_of(token));
        let signature = hex(hmac::sign(&self.key, said.as_bytes()).as_ref());
        format!("{said}.{signature}")
    }

    /// The token that this session was opened with, if it still holds.
    pub fn token(&self, session: &str, tokens: &Tokens) -> Option<Digested> {
        let (until, part) = self.read(session)?;
        let holds = until > clock::unix() && !lock(&self.ended).contains_key(session);
        holds.then(|| tokens.beginning(part)).flatten()
    }

    /// The session ends for this run of the daemon, and the browser forgets it as well. A text that is
    /// no session of this node's takes no room.
    pub fn close(&self, session: &str) {
        let (mut ended, now) = (lock(&self.ended), clock::unix());
        ended.retain(|_, until| *until > now);
        if let Some((until, _)) = self.read(session).filter(|(until, _)| *until > now) {
            ended.insert(session.into(), until);
        }
    }

    /// Until when a session of this node's holds, and for which token.
    fn read<'a>(&self, session: &'a str) -> Option<(u64, &'a str)> {
        let (said, signature) = session.rsplit_once('.')?;
        hmac::verify(&self.key, said.as_bytes(), &unhex(signature)?).ok()?;
        let (until, rest) = said.split_once('.')?;
        let (_, part) = rest.split_once('.')?;
        Some((until.parse().ok()?, part))
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn unhex(text: &str) -> Option<Vec<u8>> {
    let pairs = (0..text.len()).step_by(2);
    pairs
        .map(|i| u8::from_str_radix(text.get(i..i + 2)?, 16).ok())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::http::tokens::digest;

    #[test]
    fn a_session_outlives_its_daemon_and_nothing_else() {
        let token = digest("gull");
        let line: String = token.iter().map(|byte| format!("{byte:02x}")).collect();
        let tokens = Tokens::parse(&format!("captain operate {line}")).unwrap();
        let before = Sessions::new(b"the node's key");
        let session = before.open(&token);
        let after = Sessions::new(b"the node's key");
        assert_eq!(after.token(&session, &tokens), Some(token));
        assert_eq!(
            after.token(&session, &Tokens::default()),
            None,
            "its token is gone"
        );
        let other = Sessions::new(b"another node's key");
        assert_eq!(other.token(&session, &tokens), None);
        for n in 0..session.len() {
            let mut forged: Vec<u8> = session.bytes().collect();
            forged[n] = if forged[n] == b'0' { b'1' } else { b'0' };
            let forged = String::from_utf8(forged).unwrap();
            assert_eq!(after.token(&forged, &tokens), None, "byte {n} of {session}");
        }
        after.close(&session);
        assert_eq!(after.token(&session, &tokens), None, "signed out");
        for n in 0..1_000 {
            after.close(&format!("{n}.{session}"));
        }
        assert_eq!(lock(&after.ended).len(), 1, "made up ones take no room");
    }
}
