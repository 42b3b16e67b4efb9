//! Access tokens of three levels.
//!
//! Only digests of tokens are kept. The token file has one line each: `NAME LEVEL SHA256-IN-HEX`.

use super::problem::Refusal;
use karst_api::ProblemType;
use karst_core::author::Level;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;

/// A token is known by its SHA-256 alone.
pub type Digested = [u8; 32];

pub fn digest(token: &str) -> Digested {
    Sha256::digest(token.as_bytes()).into()
}

/// Somebody with a valid token.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct User {
    pub name: String,
    pub level: Level,
}

impl User {
    pub fn needs(&self, level: Level) -> Result<(), Refusal> {
        if self.level >= level {
            return Ok(());
        }
        let what = format!(
            "`{}` may only {}; this needs a token that may {}",
            self.name,
            self.level.word(),
            level.word()
        );
        Err(Refusal::new(ProblemType::NotAllowed, what))
    }
}

#[derive(Debug, Default)]
pub struct Tokens(BTreeMap<Digested, User>);

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
            let (Some(name), Some(level), Some(digest)) = (name, level, digest) else {
                return Err(format!(
                    "line {}: not `NAME observe|operate|administer SHA256-IN-HEX`",
                    number + 1
                ));
            };
            tokens.insert(
                digest,
                User {
                    name: name.into(),
                    level,
                },
            );
        }
        Ok(Self(tokens))
    }

    pub fn user(&self, token: &Digested) -> Option<User> {
        self.0.get(token).cloned()
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

fn unhex(text: &str) -> Option<[u8; 32]> {
    let bytes: Option<Vec<u8>> = (0..text.len())
        .step_by(2)
        .map(|i| u8::from_str_radix(text.get(i..i + 2)?, 16).ok())
        .collect();
    bytes?.try_into().ok()
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
            tokens.user(&super::digest("gull")).map(|u| u.level),
            Some(Level::Operate)
        );
        assert_eq!(tokens.user(&super::digest("tern")), None);
        let error = Tokens::parse("captain operate gull").unwrap_err();
        assert!(
            error.contains("line 1") && !error.contains("gull"),
            "{error}"
        );
    }
}
