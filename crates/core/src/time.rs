//! Time as the core sees it: nanoseconds since an arbitrary origin, and the bound on clock rates.

use serde::{Deserialize, Serialize};
use std::ops::{Add, AddAssign, Sub};
use std::time::Duration;

/// A reading of one node's steady clock. Comparable on that node only; it never goes back.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(transparent)]
pub struct Time(pub u64);

impl Time {
    pub const ZERO: Time = Time(0);

    pub fn from_millis(ms: u64) -> Self {
        Self(ms.saturating_mul(1_000_000))
    }

    /// How long ago `earlier` was; zero if it lies ahead.
    pub fn since(self, earlier: Time) -> Duration {
        Duration::from_nanos(self.0.saturating_sub(earlier.0))
    }
}

/// Durations as people are shown them: milliseconds, with a fraction.
pub mod millis {
    use serde::{Deserialize, Deserializer, Serializer};
    use std::time::Duration;

    pub fn serialize<S: Serializer>(time: &Duration, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_f64(time.as_secs_f64() * 1e3)
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Duration, D::Error> {
        let ms = f64::deserialize(from)?;
        Duration::try_from_secs_f64(ms / 1e3).map_err(serde::de::Error::custom)
    }
}

fn nanos(d: Duration) -> u64 {
    u64::try_from(d.as_nanos()).unwrap_or(u64::MAX)
}

impl Add<Duration> for Time {
    type Output = Time;
    fn add(self, d: Duration) -> Time {
        Time(self.0.saturating_add(nanos(d)))
    }
}

impl AddAssign<Duration> for Time {
    fn add_assign(&mut self, d: Duration) {
        *self = *self + d;
    }
}

impl Sub<Duration> for Time {
    type Output = Time;
    fn sub(self, d: Duration) -> Time {
        Time(self.0.saturating_sub(nanos(d)))
    }
}

/// Clock rates may be wrong by this many thousandths (the rate bound, rho = 1 %).
pub const RATE_BOUND_PER_MILLE: u32 = 10;

/// `d * (1 + 2 rho)`: long enough that `d` has passed on every other node's clock.
pub fn stretched(d: Duration) -> Duration {
    d * (1000 + 2 * RATE_BOUND_PER_MILLE) / 1000
}

/// `d * (1 - rho)`: short enough that no other node's clock has passed `d` yet.
pub fn shortened(d: Duration) -> Duration {
    d * (1000 - RATE_BOUND_PER_MILLE) / 1000
}
