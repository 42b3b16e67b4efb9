//! CPU time that the machine's host took away: recorded beside every measurement.

/// Milliseconds of steal since boot, all CPUs (proc(5): hundredths of a second in the ninth field).
pub fn millis() -> u64 {
    let stat = std::fs::read_to_string("/proc/stat").unwrap_or_default();
    let steal = stat.lines().next().and_then(|l| l.split_whitespace().nth(8)?.parse::<u64>().ok());
    steal.unwrap_or(0) * 10
}

/// The steady clock that the daemons use too: all hosts of a lab share the machine's.
pub fn boot_nanos() -> u64 {
    let t = rustix::time::clock_gettime(rustix::time::ClockId::Boottime);
    t.tv_sec as u64 * 1_000_000_000 + t.tv_nsec as u64
}

/// Nanoseconds since 1970: what captures and the history are stamped with.
pub fn wall_nanos() -> u128 {
    let now = std::time::SystemTime::now().duration_since(std::time::SystemTime::UNIX_EPOCH);
    now.map_or(0, |d| d.as_nanos())
}
