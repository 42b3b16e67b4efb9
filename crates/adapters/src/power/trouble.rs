//! What goes wrong with a power device, and what both kinds look at first.

use std::collections::BTreeMap;
use std::time::Duration;

/// How long a device may take for one order, reading back included; then it is asked anew.
pub(super) const LIMIT: Duration = Duration::from_secs(5);

#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PowerError {
    #[error("`{key}` is needed by the {driver} power driver")]
    Missing {
        driver: &'static str,
        key: &'static str,
    },
    #[error("`{key}`: {why}")]
    Setting { key: &'static str, why: String },
    #[error("{0}")]
    Unreachable(String),
    /// The device answered and would not, with its own words.
    #[error("{what} was refused: {why}")]
    Refused { what: String, why: String },
    #[error("it answered something else than expected: {0}")]
    Strange(String),
    /// It powers something else than this host.
    #[error("{0}")]
    WrongSystem(String),
    #[error("this node may not cut it any more")]
    NotPermitted,
    #[error("not done within {} s", LIMIT.as_secs())]
    TimedOut,
}

pub(super) type Result<T> = std::result::Result<T, PowerError>;

pub(super) fn needed<'a>(
    settings: &'a BTreeMap<String, String>,
    driver: &'static str,
    key: &'static str,
) -> Result<&'a str> {
    settings
        .get(key)
        .map(String::as_str)
        .ok_or(PowerError::Missing { driver, key })
}

/// The device powers this host, if both say what they are (C7).
pub(super) fn check_system(host: Option<&str>, device: Option<&str>) -> Result<()> {
    match (host, device) {
        (Some(host), Some(device)) if !host.eq_ignore_ascii_case(device) => {
            Err(PowerError::WrongSystem(format!(
                "the device powers hardware {device}, and this host is {host}: not touched"
            )))
        }
        _ => Ok(()),
    }
}
