//! Power devices (SAFETY C7): what can cut a host's power, and say that it is off.
//!
//! A device is asked to cut only while the caller's permit holds, checked just before the request.
//! What counts is the state that is read afterwards; a request that was taken proves nothing.

mod command;
mod redfish;
mod trouble;

pub use trouble::PowerError;

use command::Program;
use karst_core::power::{PowerOrder, PowerSeen};
use karst_core::spec::PowerSpec;
use redfish::Redfish;
use std::time::Duration;
use trouble::{LIMIT, Result};

/// Between two readings while the power goes off.
const READ_EVERY: Duration = Duration::from_millis(20);

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
