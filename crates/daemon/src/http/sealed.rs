//! Tokens that travel for a while in a form that only a node can read which knows that token: a
//! browser's session, and the ticket with which it goes on at another node.
//!
//! The key follows from the token's digest, which nodes have, and what is sealed is the token itself,
//! which they do not keep. So the token alone lets one be made, and no other
//! key does; and what is passed on to the coordinator is something that it can look up by itself.

use crate::clock;
use crate::tokens::{Digested, Tokens, digest, part_of};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD as BASE64;
use karst_core::author::Token;
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use ring::hmac;
use std::time::Duration;

/// No honest one is longer: a token is a line.
const LONGEST: usize = 4_096;

/// What one says, once it is open.
#[derive(Debug, PartialEq, Eq)]
pub struct Held {
    /// In seconds since the Unix epoch.
    pub until: u64,
    /// No two have the same.
    pub number: u128,
    pub token: Token,
}

/// Seals for one purpose.
pub struct Seal(hmac::Key);

impl Seal {
    pub fn new(purpose: &[u8]) -> Self {
        Self(hmac::Key::new(hmac::HMAC_SHA256, purpose))
    }

    fn key(&self, token: &Digested) -> Option<LessSafeKey> {
        let key = hmac::sign(&self.0, token);
        let key = UnboundKey::new(&AES_256_GCM, key.as_ref()).ok()?;
        Some(LessSafeKey::new(key))
    }

    /// None where the system has no chance to give.
    pub fn close(&self, token: &Token, age: Duration) -> Option<String> {
        let known = digest(token.secret());
        let until = clock::unix() + age.as_secs();
        let said = format!(
            "{until}.{:032x}.{}",
            rand::random::<u128>(),
            part_of(&known)
        );
        let nonce: [u8; NONCE_LEN] = rand::random();
        let mut sealed = token.secret().as_bytes().to_vec();
        self.key(&known)?
            .seal_in_place_append_tag(
                Nonce::assume_unique_for_key(nonce),
                Aad::from(said.as_bytes()),
                &mut sealed,
            )
            .ok()?;
        let sealed = [&nonce[..], &sealed].concat();
        Some(format!("{said}.{}", BASE64.encode(sealed)))
    }

    /// What it says, while it holds and its token is known.
    pub fn open(&self, text: &str, tokens: &Tokens) -> Option<Held> {
        if text.len() > LONGEST {
            return None;
        }
        let (said, sealed) = text.rsplit_once('.')?;
        let mut parts = said.split('.');
        let (until, number, part) = (parts.next()?, parts.next()?, parts.next()?);
        let until: u64 = until.parse().ok()?;
        let number = u128::from_str_radix(number, 16).ok()?;
        if until <= clock::unix() {
            return None;
        }
        let known = tokens.beginning(part)?;
        let sealed = BASE64.decode(sealed).ok()?;
        let (nonce, sealed) = sealed.split_at_checked(NONCE_LEN)?;
        let nonce = Nonce::try_assume_unique_for_key(nonce).ok()?;
        let mut sealed = sealed.to_vec();
        let opened = self
            .key(&known)?
            .open_in_place(nonce, Aad::from(said.as_bytes()), &mut sealed)
            .ok()?;
        let token = Token::new(std::str::from_utf8(opened).ok()?);
        // A digest alone lets something be sealed, and not this.
        (digest(token.secret()) == known).then_some(Held {
            until,
            number,
            token,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tokens() -> Tokens {
        let line = |name: &str, token: &str| {
            let digest = digest(token);
            let digest: String = digest.iter().map(|byte| format!("{byte:02x}")).collect();
            format!("{name} operate {digest}\n")
        };
        Tokens::parse(&(line("captain", "gull") + &line("mate", "tern"))).unwrap()
    }

    #[test]
    fn only_who_has_the_token_can_seal_it() {
        let (seal, token) = (Seal::new(b"ferries"), Token::new("gull"));
        let text = seal.close(&token, Duration::from_secs(60)).unwrap();
        let held = seal.open(&text, &tokens()).unwrap();
        assert_eq!(held.token, token);
        assert!(!text.contains("gull"));
        assert_eq!(
            seal.open(&text, &Tokens::default()),
            None,
            "its token is gone"
        );
        assert_eq!(
            Seal::new(b"nets").open(&text, &tokens()),
            None,
            "another purpose"
        );
        for n in 0..text.len() {
            let mut forged = text.clone().into_bytes();
            forged[n] = if forged[n] == b'0' { b'1' } else { b'0' };
            let forged = String::from_utf8(forged).unwrap();
            assert_eq!(seal.open(&forged, &tokens()), None, "byte {n} of {text}");
        }
        // A host that was taken over knows every digest, and can make every key.
        let known = digest("gull");
        let said = format!("{}.{:032x}.{}", u64::MAX, 7, part_of(&known));
        for guess in ["", "tern", "gulls", &"x".repeat(3_000)] {
            let mut sealed = guess.as_bytes().to_vec();
            let nonce = Nonce::assume_unique_for_key([7; NONCE_LEN]);
            let key = seal.key(&known).unwrap();
            key.seal_in_place_append_tag(nonce, Aad::from(said.as_bytes()), &mut sealed)
                .unwrap();
            let sealed = BASE64.encode([&[7; NONCE_LEN][..], &sealed].concat());
            assert_eq!(
                seal.open(&format!("{said}.{sealed}"), &tokens()),
                None,
                "{guess}"
            );
        }
        let over = seal.close(&token, Duration::ZERO).unwrap();
        assert_eq!(seal.open(&over, &tokens()), None, "it is over");
    }
}
