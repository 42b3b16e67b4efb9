//! A daemon of which a part has ended, or stands still, must not go on as if it were whole: it
//! would answer that this node is primary while nobody looks after that. It exits, which closes its
//! gates at once, and the service manager starts it again.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI32, AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// A software error (sysexits.h).
const STATUS: i32 = 70;
/// How often it is looked whether the heart has moved.
const LOOK: Duration = Duration::from_millis(50);
/// After so many looks without a move it stands still, and after five halves of a heartbeat at the
/// earliest. At the default timings the daemon is back before its host is given up; much sooner
/// than this a busy host would cost its clients their connections.
const LOOKS: u32 = 5;
/// A look at which the heart could have moved, had its host let it, counts a part of one at which
/// it could not: a host that is short of CPU for a moment is not given up by its own daemon.
const WEIGHT: u32 = 4;
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

/// A panic anywhere ends the process, however many threads could go on. What it said is noted first.
pub fn exit_on_panic(note: impl Fn(&str) + Send + Sync + 'static) {
    let report = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        report(info);
        let thread = std::thread::current();
        let name = thread.name().unwrap_or("a thread");
        if !MAY_PANIC.contains(&name) {
            note(&info.to_string().replace('\n', ": "));
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
pub struct Moves(Arc<Counted>);

#[derive(Debug, Default)]
struct Counted {
    moves: AtomicU64,
    /// The heart's thread; 0 before its first move.
    thread: AtomicI32,
}

impl Moves {
    /// Called by the heart each time that it does anything, which is once in a heartbeat at least.
    pub fn count(&self) {
        if self.0.thread.load(Ordering::Relaxed) == 0 {
            let me = rustix::thread::gettid().as_raw_nonzero().get();
            self.0.thread.store(me, Ordering::Relaxed);
        }
        self.0.moves.fetch_add(1, Ordering::Relaxed);
    }

    fn so_far(&self) -> u64 {
        self.0.moves.load(Ordering::Relaxed)
    }

    /// How much CPU time the heart has had if it would run now; none where it waits for something,
    /// is stopped, or that cannot be told (proc_pid_stat(5), the kernel's sched-stats.rst).
    fn ready_with(&self) -> Option<u64> {
        let task = format!("/proc/self/task/{}", self.0.thread.load(Ordering::Relaxed));
        let stat = std::fs::read_to_string(format!("{task}/stat")).ok()?;
        let ready = stat.rsplit(')').next()?.trim_start().starts_with('R');
        let had = std::fs::read_to_string(format!("{task}/schedstat")).ok()?;
        let had = had.split_whitespace().next()?.parse().ok()?;
        ready.then_some(had)
    }

    /// The activity of the heart's thread, for the search for a reason: its state, its system call,
    /// where in the kernel it waits, and the CPU time that it had (proc_pid_stat(5),
    /// proc_pid_syscall(5), proc_pid_wchan(5)).
    fn doing(&self) -> String {
        let task = format!("/proc/self/task/{}", self.0.thread.load(Ordering::Relaxed));
        let read = |file: &str| std::fs::read_to_string(format!("{task}/{file}")).ok();
        let word = |text: Option<String>, n: usize| {
            let word = text.and_then(|text| text.split_whitespace().nth(n).map(str::to_owned));
            word.unwrap_or_else(|| "unknown".into())
        };
        let stat = read("stat").and_then(|stat| stat.rsplit(')').next().map(str::to_owned));
        format!(
            "its thread is in state {}, in system call {}, waits in {}, and had {} ns of CPU time and {} ns of waiting for it",
            word(stat, 0),
            word(read("syscall"), 0),
            word(read("wchan"), 0),
            word(read("schedstat"), 0),
            word(read("schedstat"), 1),
        )
    }
}

/// Ends the process when the heart stands still: it is stuck, or its thread was stopped. Returns
/// when the daemon stops.
pub fn watch(moves: &Moves, heartbeat: Duration) {
    let mut still = Still::new(moves.so_far(), heartbeat);
    let (mut before, mut had) = (Instant::now(), None);
    while !STOPPING.load(Ordering::SeqCst) {
        std::thread::sleep(LOOK);
        let took = before.elapsed();
        before = Instant::now();
        let so_far = moves.so_far();
        let ready = (so_far == still.last).then(|| moves.ready_with()).flatten();
        let starved = ready.is_some() && ready == had;
        had = ready;
        if still.look(so_far, took, starved) {
            exit(&format!("the heart stands still: {}", moves.doing()));
        }
    }
}

/// Looks without a move, in a row, each with its weight.
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
            limit: beats.max(LOOKS) * WEIGHT,
        }
    }

    /// `starved`: the heart would run, and was given no time since the look before.
    fn look(&mut self, moves: u64, took: Duration, starved: bool) -> bool {
        // A look that comes late says that the whole host stood still, or this process: the heart
        // is no different.
        let late = took > LOOK * 3;
        self.looks = if moves != self.last || late {
            0
        } else {
            self.looks + if starved { 1 } else { WEIGHT }
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
                .position(|(moves, ms)| still.look(*moves, Duration::from_millis(*ms), false))
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
        let mut still = Still::new(0, Duration::from_millis(100));
        let starved = (1..100).find(|_| still.look(0, LOOK, true));
        assert_eq!(starved, Some(20), "a second without CPU, and no longer");
    }

    /// Whoever sleeps would not run; whoever turns round and round has had time since.
    #[test]
    fn a_thread_that_waits_is_told_from_one_that_is_not_let_run() {
        let moves = Moves::default();
        assert_eq!(moves.ready_with(), None, "it has not moved yet");
        moves.count();
        let doing = moves.doing();
        assert!(doing.starts_with("its thread is in state R"), "{doing}");
        let first = moves.ready_with().expect("this thread runs now");
        let begun = Instant::now();
        while moves.ready_with() == Some(first) {
            assert!(
                begun.elapsed() < Duration::from_secs(10),
                "its time stands still"
            );
        }
        let sleeper = Moves::default();
        let (told, heard) = std::sync::mpsc::channel();
        let (end, ended) = std::sync::mpsc::channel::<()>();
        let sleeping = sleeper.clone();
        let thread = std::thread::spawn(move || {
            sleeping.count();
            told.send(()).unwrap();
            let _ = ended.recv();
        });
        heard.recv().unwrap();
        let begun = Instant::now();
        while sleeper.ready_with().is_some() {
            assert!(begun.elapsed() < Duration::from_secs(10), "it waits");
        }
        drop(end);
        thread.join().unwrap();
    }
}
