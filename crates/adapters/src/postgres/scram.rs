//! What a server keeps of a password (RFC 5802, section 3; RFC 7677).

use crate::trouble::Trouble;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, Mac};
use sha2::{Digest, Sha256};

/// Of the replication role. RFC 7677 asks for 4,096 at the least, against whoever steals what the
/// server keeps. Here that is no protection: each host keeps the password itself beside it, for its
/// standby to log in with. It costs 6 to 10 ms of a core at every login, and the first acknowledged
/// write of a new primary waits for one (D13).
pub(super) const OF_STANDBYS: u32 = 1;
/// What RFC 7677, section 4, asks for at the least.
pub(super) const OF_CLIENTS: u32 = 4_096;

/// The form that `CREATE ROLE ... PASSWORD` takes in place of the password (manual, section 53.8,
/// pg_authid).
pub(super) fn verifier(password: &str, salt: [u8; 16], iterations: u32) -> Result<String, Trouble> {
    // Hi() of RFC 5802, section 2.2.
    let mut last = hmac(
        password.as_bytes(),
        &[&salt[..], &1u32.to_be_bytes()].concat(),
    )?;
    let mut salted = last.clone();
    for _ in 1..iterations {
        last = hmac(password.as_bytes(), &last)?;
        salted
            .iter_mut()
            .zip(&last)
            .for_each(|(all, one)| *all ^= one);
    }
    let stored_key = Sha256::digest(hmac(&salted, b"Client Key")?);
    let server_key = hmac(&salted, b"Server Key")?;
    let text = |bytes: &[u8]| STANDARD.encode(bytes);
    Ok(format!(
        "SCRAM-SHA-256${iterations}:{}${}:{}",
        text(&salt),
        text(&stored_key),
        text(&server_key)
    ))
}

fn hmac(key: &[u8], message: &[u8]) -> Result<Vec<u8>, Trouble> {
    let mac = Hmac::<Sha256>::new_from_slice(key).map_err(|e| Trouble::Wrong(e.to_string()))?;
    Ok(mac.chain_update(message).finalize().into_bytes().to_vec())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Against a second implementation (Python's hashlib.pbkdf2_hmac and hmac).
    #[test]
    fn it_is_what_another_implementation_makes() {
        let expected = "SCRAM-SHA-256$1:MDEyMzQ1Njc4OWFiY2RlZg==$b+j6cY/qp0PSmpnuLTssR27OKWtDa87AHirIeAyV++Y=:ifvq0Zpmummd+XFTe+YVUhGTXK3/R3uNbymRaXLReng=";
        assert_eq!(
            verifier("tide and time", *b"0123456789abcdef", 1).unwrap(),
            expected
        );
        let expected = "SCRAM-SHA-256$4096:MDEyMzQ1Njc4OWFiY2RlZg==$bZ+Mriuy5PiVhbL+yJWkxY3edkc94x0wfwT6B4f/gto=:sUnAxu1b3jgTo7Abxh2TqpqZilzu9f1YEl8V3NtnBW4=";
        assert_eq!(
            verifier("tide and time", *b"0123456789abcdef", 4_096).unwrap(),
            expected
        );
    }
}
