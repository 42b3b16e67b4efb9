//! The one line that a new host joins by: which node it is to be, where to ask, whom to believe, and
//! the secret. Whoever has the line can become that node, once, until it ends.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD as BASE64;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

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

impl Line {
    /// What it begins with: a line of another kind is told apart.
    pub const BEGINS: &str = "karst-join-1.";
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
}
