//! Power devices (SAFETY C7): what can cut a host's power, and say that it is off.
//!
//! A device is asked to cut only while the caller's permit holds, checked just before the request.
//! What counts is the state that is read afterwards; a request that was taken proves nothing.

mod command;
mod redfish;

use command::Program;
use karst_core::power::{PowerOrder, PowerSeen};
use karst_core::spec::PowerSpec;
use redfish::Redfish;
use std::collections::BTreeMap;
use std::time::Duration;

/// How long a device may take for one order, reading back included; then it is asked anew.
const LIMIT: Duration = Duration::from_secs(5);
/// Between two readings while the power goes off.
const READ_EVERY: Duration = Duration::from_millis(20);

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

type Result<T> = std::result::Result<T, PowerError>;

/// One node's power device.
#[derive(Debug)]
pub struct Power(Kind);

#[derive(Debug)]
enum Kind {
    Redfish(Redfish),
    Command(Program),
}

impl Power {
    /// # Errors
    /// What is missing in the settings, or cannot be read.
    pub fn from_spec(spec: &PowerSpec) -> Result<Self> {
        Ok(Self(match spec.driver.as_str() {
            "command" => Kind::Command(Program::from_settings(&spec.settings)?),
            _ => Kind::Redfish(Redfish::from_settings(&spec.settings)?),
        }))
    }

    /// Carries out one order. `system` is the host's own UUID, where it is known; `permit` is asked
    /// just before anything is changed.
    ///
    /// # Errors
    /// Whatever leaves the state unknown, in words for the record; never a secret.
    pub async fn carry_out(
        &self,
        order: PowerOrder,
        system: Option<&str>,
        permit: impl Fn() -> bool + Sync,
    ) -> Result<PowerSeen> {
        let work = async {
            let mut seen = self.look(system).await?;
            let wanted = match order {
                PowerOrder::Look => return Ok(seen),
                PowerOrder::Off { .. } => false,
                PowerOrder::On { .. } => true,
            };
            if seen.on == wanted {
                return Ok(seen);
            }
            if !permit() {
                return Err(PowerError::NotPermitted);
            }
            // A refusal may mean that it is so meanwhile: the reading decides.
            let asked = if wanted {
                self.turn_on(system).await
            } else {
                self.force_off(system).await
            };
            while seen.on != wanted {
                seen = self.look(system).await?;
                if seen.on != wanted {
                    if let Err(error) = asked {
                        return Err(error);
                    }
                    tokio::time::sleep(READ_EVERY).await;
                }
            }
            Ok(seen)
        };
        tokio::time::timeout(LIMIT, work)
            .await
            .unwrap_or(Err(PowerError::TimedOut))
    }

    /// Leaves nothing open at the device.
    pub async fn close(&self) {
        if let Kind::Redfish(redfish) = &self.0 {
            redfish.close().await;
        }
    }

    async fn look(&self, system: Option<&str>) -> Result<PowerSeen> {
        match &self.0 {
            Kind::Redfish(redfish) => redfish.look(system).await,
            Kind::Command(program) => program.look(system).await,
        }
    }

    async fn turn_on(&self, system: Option<&str>) -> Result<()> {
        match &self.0 {
            Kind::Redfish(redfish) => redfish.turn_on(system).await,
            Kind::Command(program) => program.turn_on().await,
        }
    }

    async fn force_off(&self, system: Option<&str>) -> Result<()> {
        match &self.0 {
            Kind::Redfish(redfish) => redfish.force_off(system).await,
            Kind::Command(program) => program.force_off().await,
        }
    }
}

fn needed<'a>(
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
fn check_system(host: Option<&str>, device: Option<&str>) -> Result<()> {
    match (host, device) {
        (Some(host), Some(device)) if !host.eq_ignore_ascii_case(device) => {
            Err(PowerError::WrongSystem(format!(
                "the device powers hardware {device}, and this host is {host}: not touched"
            )))
        }
        _ => Ok(()),
    }
}
