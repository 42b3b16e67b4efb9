//! Access tokens of three levels.
//!
//! Only digests of tokens are kept. The token file has one line each: `NAME LEVEL SHA256-IN-HEX`.

use karst_core::author::{Level, Token};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;

/// A token is known by its SHA-256 alone.
pub type Digested = [u8; 32];

pub fn digest(token: &str) -> Digested {
    Sha256::digest(token.as_bytes()).into()
}

/// A person who is believed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct User {
    pub name: String,
    pub level: Level,
    /// What they showed; none: they are on this host.
    pub token: Option<Token>,
}

#[derive(Debug, Default)]
pub struct Tokens(BTreeMap<Digested, (String, Level)>);

impl Tokens {
    /// Reads the token file's text.
    ///
    /// # Errors
    /// The line that cannot be read, without its content.
    pub fn parse(text: &str) -> Result<Self, String> {
        let mut tokens = BTreeMap::new();
        for (number, line) in text
            .lines()
            .enumerate()
            .filter(|(_, l)| !l.trim().is_empty() && !l.starts_with('#'))
        {
            let mut words = line.split_whitespace();
            let name = words.next();
            let level = words
                .next()
                .and_then(|word| Level::ALL.into_iter().find(|level| level.word() == word));
            let digest = words.next().and_then(unhex);
            let digest = digest.and_then(|bytes| bytes.try_into().ok());
            let (Some(name), Some(level), Some(digest)) = (name, level, digest) else {
                return Err(format!(
                    "line {}: not `NAME observe|operate|administer SHA256-IN-HEX`",
                    number + 1
                ));
            };
            tokens.insert(digest, (name.into(), level));
        }
        Ok(Self(tokens))
    }

    /// The person who has this token.
    pub fn user(&self, token: &Token) -> Option<User> {
        let (name, level) = self.0.get(&digest(token.secret()))?.clone();
        let token = Some(token.clone());
        Some(User { name, level, token })
    }

    /// The one token whose digest begins like that.
    pub fn beginning(&self, part: &str) -> Option<Digested> {
        let begins = |token: &&Digested| part_of(token) == part;
        self.0.keys().find(begins).copied()
    }
}

/// What stands for a token where its whole digest is not said: nobody can make another one that
/// begins like it.
pub fn part_of(token: &Digested) -> String {
    token
        .iter()
        .take(16)
        .map(|byte| format!("{byte:02x}"))
        .collect()
}

/// Bytes, of two hexadecimal digits each.
pub fn unhex(text: &str) -> Option<Vec<u8>> {
    let pairs = (0..text.len()).step_by(2);
    pairs
        .map(|i| u8::from_str_radix(text.get(i..i + 2)?, 16).ok())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tokens_are_known_by_digest_and_errors_do_not_repeat_them() {
        let digest: String = Sha256::digest(b"gull")
            .iter()
            .map(|b| format!("{b:02x}"))
            .collect();
        let tokens = Tokens::parse(&format!("# people\ncaptain operate {digest}\n")).unwrap();
        assert_eq!(
            tokens.user(&Token::new("gull")).map(|u| u.level),
            Some(Level::Operate)
        );
        assert_eq!(tokens.user(&Token::new("tern")), None);
        let error = Tokens::parse("captain operate gull").unwrap_err();
        assert!(
            error.contains("line 1") && !error.contains("gull"),
            "{error}"
        );
    }
}
