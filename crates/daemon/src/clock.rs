//! The clock of leases: CLOCK_BOOTTIME, which goes on while the machine is suspended (tokio and
//! `Instant` do not).

use karst_core::Time;
use rustix::time::{ClockId, clock_gettime};

pub fn now() -> Time {
    let t = clock_gettime(ClockId::Boottime);
    Time(t.tv_sec as u64 * 1_000_000_000 + t.tv_nsec as u64)
}

/// Seconds since 1970, UTC: for people's times, never for leases.
pub fn unix() -> u64 {
    u64::try_from(time::OffsetDateTime::now_utc().unix_timestamp()).unwrap_or(0)
}

/// Nanoseconds since 1970, UTC: for records, never for decisions.
pub fn wall() -> i128 {
    time::OffsetDateTime::now_utc().unix_timestamp_nanos()
}
