//! A watchdog device (the kernel's `watchdog-api.rst`): the hardware resets a host that nobody
//! feeds it for. The deadman does, from the loop that also acts on deadlines: who stands still
//! there feeds nothing.
//!
//! The device is never told to stop: a deadman that ends and is not started again is a host that
//! nobody guards.

use rustix::event::Timespec;
use std::fs::{File, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;
use std::time::{Duration, Instant};

/// Between two feedings; devices wait for 10 s at the least by default.
const EVERY: Duration = Duration::from_secs(1);

#[derive(Debug)]
pub struct Watchdog {
    device: File,
    due: Instant,
}

impl Watchdog {
    /// From here on it wants to be fed.
    ///
    /// # Errors
    /// If there is no such device, or somebody else has it.
    pub fn open(path: &Path) -> io::Result<Self> {
        // A device ignores the flag; a stand-in that nobody reads must not hold the deadman up.
        let flags = rustix::fs::OFlags::NONBLOCK.bits().cast_signed();
        let device = OpenOptions::new()
            .read(true)
            .write(true)
            .custom_flags(flags)
            .open(path);
        // Real devices take writing only.
        let device = device.or_else(|_| {
            OpenOptions::new()
                .write(true)
                .custom_flags(flags)
                .open(path)
        })?;
        Ok(Self {
            device,
            due: Instant::now(),
        })
    }

    /// Feeds it if it is time; how long until the next.
    pub fn feed(&mut self) -> Timespec {
        if self.due <= Instant::now() {
            // Any byte but `V`, which would end the watch. A full stand-in was not read lately:
            // that is its business.
            let _ = self.device.write_all(b".");
            self.due = Instant::now() + EVERY;
        }
        let left = self.due.saturating_duration_since(Instant::now());
        Timespec {
            tv_sec: left.as_secs().cast_signed(),
            tv_nsec: left.subsec_nanos().into(),
        }
    }
}
