//! What the machine took from everything that runs on it: recorded beside every measurement.

use rustix::thread::{CpuSet, sched_setaffinity};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread::JoinHandle;
use std::time::Duration;

/// Milliseconds of steal since boot, all CPUs (proc(5): hundredths of a second in the ninth field).
pub fn millis() -> u64 {
    let stat = std::fs::read_to_string("/proc/stat").unwrap_or_default();
    let steal = stat
        .lines()
        .next()
        .and_then(|l| l.split_whitespace().nth(8)?.parse::<u64>().ok());
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

/// Watches, until it is dropped, for how long at most nothing ran on some CPU: a thread on each
/// that wants to run all the time. What is stolen from one CPU alone stops whoever is on it just as
/// well.
pub struct Standstill {
    longest: Arc<AtomicU64>,
    over: Arc<AtomicBool>,
    watching: Vec<JoinHandle<()>>,
}

impl Standstill {
    const STEP: Duration = Duration::from_millis(5);

    pub fn watch() -> Self {
        let (longest, over) = (
            Arc::new(AtomicU64::new(0)),
            Arc::new(AtomicBool::new(false)),
        );
        let cpus = std::thread::available_parallelism().map_or(1, usize::from);
        let watch = |cpu| {
            let (found, ends) = (longest.clone(), over.clone());
            std::thread::spawn(move || {
                let mut only = CpuSet::new();
                only.set(cpu);
                // Where it may not choose, it watches from wherever it runs.
                let _ = sched_setaffinity(None, &only);
                let mut before = boot_nanos();
                while !ends.load(Ordering::Relaxed) {
                    std::thread::sleep(Self::STEP);
                    let now = boot_nanos();
                    found.fetch_max(now - before, Ordering::Relaxed);
                    before = now;
                }
            })
        };
        let watching = (0..cpus).map(watch).collect();
        Self {
            longest,
            over,
            watching,
        }
    }

    /// The longest since the last time this was asked.
    pub fn take(&self) -> Duration {
        Duration::from_nanos(self.longest.swap(0, Ordering::Relaxed)).saturating_sub(Self::STEP)
    }
}

impl Drop for Standstill {
    fn drop(&mut self) {
        self.over.store(true, Ordering::Relaxed);
        for watching in self.watching.drain(..) {
            let _ = watching.join();
        }
    }
}
