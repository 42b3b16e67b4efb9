//! A daemon of which a part has ended, or stands still, must not go on as if it were whole: it
//! would answer that this node is primary while nobody looks after that. It exits, which closes its
//! gates at once, and the service manager starts it again.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// A software error (sysexits.h).
const STATUS: i32 = 70;
/// How often it is looked whether the heart has moved.
const LOOK: Duration = Duration::from_millis(50);
/// After so many looks without a move it stands still, and after five halves of a heartbeat at the
/// earliest. At the default timings the daemon is back before its host is given up; much sooner
/// than this a busy host would cost its clients their connections.
const LOOKS: u32 = 5;
/// Threads that may panic: the database does over a file that is damaged, and whoever opened it
/// says so.
const MAY_PANIC: [&str; 1] = ["store-open"];

static STOPPING: AtomicBool = AtomicBool::new(false);

/// From here on parts end because they are told to.
pub fn stopping() {
    STOPPING.store(true, Ordering::SeqCst);
}

fn exit(why: &str) -> ! {
    tracing::error!("{why}: this run ends here, to be started again");
    std::process::exit(STATUS)
}

/// A panic anywhere ends the process, however many threads could go on.
pub fn exit_on_panic() {
    let report = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        report(info);
        let thread = std::thread::current();
        let name = thread.name().unwrap_or("a thread");
        if !MAY_PANIC.contains(&name) {
            exit(&format!("{name} panicked"));
        }
    }));
}

/// A part that lives as long as the daemon: it ends the process where it ends sooner.
pub struct Part(pub &'static str);

impl Drop for Part {
    fn drop(&mut self) {
        if !STOPPING.load(Ordering::SeqCst) {
            exit(&format!("the part `{}` has ended", self.0));
        }
    }
}

/// How often the heart has moved.
#[derive(Clone, Debug, Default)]
pub struct Moves(Arc<AtomicU64>);

impl Moves {
    /// Called by the heart each time that it does anything, which is once in a heartbeat at least.
    pub fn count(&self) {
        self.0.fetch_add(1, Ordering::Relaxed);
    }
}

/// Ends the process when the heart stands still: it is stuck, or its thread was stopped. Returns
/// when the daemon stops.
pub fn watch(moves: &Moves, heartbeat: Duration) {
    let mut still = Still::new(moves.0.load(Ordering::Relaxed), heartbeat);
    let mut before = Instant::now();
    while !STOPPING.load(Ordering::SeqCst) {
        std::thread::sleep(LOOK);
        let took = before.elapsed();
        before = Instant::now();
        if still.look(moves.0.load(Ordering::Relaxed), took) {
            exit("the heart stands still");
        }
    }
}

/// Looks without a move, in a row.
struct Still {
    last: u64,
    looks: u32,
    limit: u32,
}

impl Still {
    fn new(moves: u64, heartbeat: Duration) -> Self {
        let beats =
            u32::try_from((heartbeat * 5 / 2).as_millis() / LOOK.as_millis()).unwrap_or(u32::MAX);
        Self {
            last: moves,
            looks: 0,
            limit: beats.max(LOOKS),
        }
    }

    fn look(&mut self, moves: u64, took: Duration) -> bool {
        // A look that comes late says that the whole host stood still, or this process: the heart
        // is no different.
        let late = took > LOOK * 3;
        self.looks = if moves != self.last || late {
            0
        } else {
            self.looks + 1
        };
        self.last = moves;
        self.looks >= self.limit
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_heart_that_stands_still_is_told_from_a_host_that_does() {
        let after = |looks: &[(u64, u64)], heartbeat: u64| {
            let mut still = Still::new(0, Duration::from_millis(heartbeat));
            looks
                .iter()
                .position(|(moves, ms)| still.look(*moves, Duration::from_millis(*ms)))
        };
        assert_eq!(
            after(&[(0, 50); 20], 100),
            Some(4),
            "within a quarter of a second"
        );
        assert_eq!(
            after(&[(0, 50); 40], 400),
            Some(19),
            "it need not move more often"
        );
        let moving: Vec<(u64, u64)> = (1..40).map(|n| (n / 3, 50)).collect();
        assert_eq!(after(&moving, 100), None);
        let host: Vec<(u64, u64)> = (0..40)
            .map(|n| (0, if n % 4 == 0 { 2_000 } else { 50 }))
            .collect();
        assert_eq!(after(&host, 100), None, "everything stood still");
    }
}
