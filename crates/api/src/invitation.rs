//! The one line that a new host joins by: which node it is to be, where to ask, whom to believe, and
//! the secret. Whoever has the line can become that node, once, until it ends.
//!
//! The secret is the seed of a key (RFC 8032, Ed25519), and travels in the line alone: the log has a
//! digest of the public key, and the host that joins signs which keys are to be its own. So no node
//! that answers learns anything by which it could join itself.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD as BASE64;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

use crate::pki::digest;
use ring::signature::{ED25519, Ed25519KeyPair, KeyPair as _, UnparsedPublicKey};

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Line {
    pub cluster: String,
    pub node: String,
    pub invitation: u64,
    pub secret: String,
    /// Where nodes answer, by HTTPS.
    pub addresses: Vec<String>,
    /// The certificate, in PEM, of the CA that has to have issued theirs.
    pub ca: String,
}

/// Shows that a host has the secret of an invitation, for the keys that it joins with.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Proof {
    /// The public half of the secret's key, 64 hexadecimal digits.
    pub public: String,
    /// By that key (RFC 8032), 128 hexadecimal digits.
    pub signature: String,
}

/// The signed statement: which host joins as what, and with which keys (SHA-256 of the public key of each, in
/// hexadecimal digits).
#[derive(Clone, Copy, Debug)]
pub struct Joins<'a> {
    pub cluster: &'a str,
    pub invitation: u64,
    pub node: &'a str,
    pub key: &'a str,
    pub server_key: &'a str,
}

impl Joins<'_> {
    fn text(self) -> String {
        let Self {
            cluster,
            invitation,
            node,
            key,
            server_key,
        } = self;
        format!("karst join\n{cluster}\n{invitation}\n{node}\n{key}\n{server_key}\n")
    }
}

impl Proof {
    /// None where the secret is no seed of a key.
    pub fn of(secret: &str, joins: Joins<'_>) -> Option<Self> {
        let key = key_of(secret)?;
        let signature = key.sign(joins.text().as_bytes());
        Some(Self {
            public: hex(key.public_key().as_ref()),
            signature: hex(signature.as_ref()),
        })
    }

    pub fn holds(&self, joins: Joins<'_>) -> bool {
        let (Some(public), Some(signature)) = (unhex(&self.public), unhex(&self.signature)) else {
            return false;
        };
        let key = UnparsedPublicKey::new(&ED25519, public);
        key.verify(joins.text().as_bytes(), &signature).is_ok()
    }

    /// The log has this of the invitation.
    pub fn digest(&self) -> String {
        digest(self.public.as_bytes())
    }
}

/// The log is to have this of the invitation with this secret; none where the secret is no seed of a key.
pub fn digest_of(secret: &str) -> Option<String> {
    let key = key_of(secret)?;
    Some(digest(hex(key.public_key().as_ref()).as_bytes()))
}

fn key_of(secret: &str) -> Option<Ed25519KeyPair> {
    Ed25519KeyPair::from_seed_unchecked(&unhex(secret)?).ok()
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

impl Line {
    /// What it begins with: a line of another kind is told apart.
    pub const BEGINS: &str = "karst-join-2.";
}

const BEGINS: &str = Line::BEGINS;

impl fmt::Display for Line {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let json = serde_json::to_vec(self).map_err(|_| fmt::Error)?;
        write!(f, "{BEGINS}{}", BASE64.encode(json))
    }
}

#[derive(Debug, PartialEq, Eq, thiserror::Error)]
pub enum LineError {
    #[error(
        "this is no line to join by: it begins with {BEGINS}; `karst node add NAME` prints one"
    )]
    Other,
    #[error("the line is not whole: copy all of it, from {BEGINS} to its end")]
    Cut,
}

impl FromStr for Line {
    type Err = LineError;

    fn from_str(text: &str) -> Result<Self, LineError> {
        let coded: String = text.chars().filter(|c| !c.is_whitespace()).collect();
        let coded = coded.strip_prefix(BEGINS).ok_or(LineError::Other)?;
        let json = BASE64.decode(coded).map_err(|_| LineError::Cut)?;
        serde_json::from_slice(&json).map_err(|_| LineError::Cut)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_read_as_it_was_written_and_half_of_one_is_not() {
        let line = Line {
            cluster: "skerry".into(),
            node: "uvala".into(),
            invitation: 17,
            secret: "s".into(),
            addresses: vec!["10.40.0.11:26780".into()],
            ca: "-----BEGIN".into(),
        };
        let text = line.to_string();
        assert_eq!(text.parse(), Ok(line.clone()));
        let (first, rest) = text.split_at(40);
        assert_eq!(format!("  {first}\n{rest}\n").parse(), Ok(line));
        assert_eq!(text[..text.len() - 9].parse::<Line>(), Err(LineError::Cut));
        assert_eq!("ssh-rsa AAAA".parse::<Line>(), Err(LineError::Other));
    }

    /// A node that answers learns the public key and the signature: neither lets it join, nor lets the
    /// host join with another key.
    #[test]
    fn only_who_has_the_secret_says_which_keys_join() {
        let secret = digest(b"a seed");
        let joins = Joins {
            cluster: "skerry",
            invitation: 7,
            node: "uvala",
            key: "a key",
            server_key: "a server's",
        };
        let proof = Proof::of(&secret, joins).unwrap();
        assert!(proof.holds(joins));
        assert_eq!(Some(proof.digest()), digest_of(&secret));
        let others = [
            Joins {
                key: "another",
                ..joins
            },
            Joins {
                server_key: "another",
                ..joins
            },
            Joins {
                node: "polje",
                ..joins
            },
            Joins {
                invitation: 8,
                ..joins
            },
            Joins {
                cluster: "karst",
                ..joins
            },
        ];
        assert!(others.iter().all(|other| !proof.holds(*other)));
        let own = Proof::of(&digest(b"another seed"), joins).unwrap();
        assert!(own.holds(joins));
        assert_ne!(own.digest(), proof.digest(), "the log has another digest");
        let mixed = Proof {
            public: proof.public.clone(),
            ..own
        };
        assert!(!mixed.holds(joins));
        for strange in ["", "zz", "ä", "0"] {
            let public = strange.to_string();
            assert!(
                !Proof {
                    public,
                    ..proof.clone()
                }
                .holds(joins)
            );
            assert_eq!(digest_of(strange), None);
        }
    }
}
