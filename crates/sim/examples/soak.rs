//! Random seeds for as long as wanted, on every core: `SOAK_SECONDS` (default 60), from seed
//! `SOAK_FROM` on (default: by the clock), or `SOAK_SEEDS=A..B`. Prints what was covered, how fast,
//! and of each failure the fewest faults that tell it.

use karst_sim::{Fault, Run, Script, Shape, World, five_by_three, shrink};
use std::collections::BTreeMap;
use std::process::ExitCode;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::{Duration, Instant, SystemTime};

/// A tenth of the time goes into memory that is taken and given back.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// A run that takes longer than this has not come to its end, and is named.
const LONG: Duration = Duration::from_secs(20);

#[derive(Default)]
struct Tally {
    /// What runs now, since when, and whether it was named for that.
    running: BTreeMap<(u64, Shape), (Instant, bool)>,
    runs: BTreeMap<Shape, u64>,
    faults: BTreeMap<&'static str, u64>,
    virtual_time: Duration,
    failures: Vec<String>,
}

#[expect(
    clippy::disallowed_methods,
    reason = "the program's own switches and clock, not the world's"
)]
fn setting(name: &str) -> Option<String> {
    std::env::var(name).ok()
}

#[expect(
    clippy::disallowed_methods,
    reason = "the program's own clock, not the world's"
)]
fn now() -> Instant {
    Instant::now()
}

#[expect(
    clippy::disallowed_methods,
    reason = "the program's own clock, not the world's"
)]
fn seed_by_the_clock() -> u64 {
    SystemTime::now()
        .duration_since(SystemTime::UNIX_EPOCH)
        .map_or(0, |since| since.as_secs() * 1_000)
}

/// A seed's run, and one in which the cluster changes; and as often as every other shape, one beside
/// a hostile node.
fn play(seed: u64, tally: &Mutex<Tally>) {
    play_run(Run::of(seed), tally);
    play_run(Run::changing(seed), tally);
    play_run(Run::lively(seed), tally);
    if seed.is_multiple_of(Shape::ALL.len() as u64) {
        play_run(Run::with_shape(seed, Shape::Hostile), tally);
    }
}

fn play_run(run: Run, tally: &Mutex<Tally>) {
    let key = (run.seed, run.shape);
    let lock = || tally.lock().expect("no thread panics while it counts");
    lock().running.insert(key, (now(), false));
    let result = run.play(None);
    let mut failed = None;
    let lasted = match result {
        Ok(world) => world.now(),
        Err(failure) => {
            let lasted = Duration::from_millis(failure.at_ms);
            failed = Some(failure);
            lasted
        }
    };
    let story = failed.map(|failure| {
        let first = format!(
            "{} {}",
            failure.guarantee,
            failure.what.chars().take(300).collect::<String>()
        );
        // The fewest faults take a while to find.
        println!("SEED {} ({:?}) failed: {first}", run.seed, run.shape);
        let (least, failure) = shrink(&run, failure);
        format!(
            "SEED {} ({:?}): {first}\nwith {:#?}\n{failure}",
            run.seed, run.shape, least.script.faults
        )
    });
    let mut tally = lock();
    tally.running.remove(&key);
    *tally.runs.entry(run.shape).or_default() += 1;
    for (_, fault) in &run.script.faults {
        *tally.faults.entry(Fault::kind(fault)).or_default() += 1;
    }
    tally.virtual_time += lasted;
    if let Some(story) = story {
        println!("{story}");
        tally
            .failures
            .push(story.lines().next().unwrap_or_default().to_string());
    }
}

/// Names the runs that do not come to their end, until nobody plays any more.
fn watch(tally: &Mutex<Tally>, players: &Receiver<()>) {
    while players.recv_timeout(Duration::from_secs(1)) == Err(RecvTimeoutError::Timeout) {
        let mut tally = tally.lock().expect("no thread panics while it counts");
        for ((seed, shape), (since, named)) in &mut tally.running {
            if !*named && since.elapsed() > LONG {
                println!("SEED {seed} ({shape:?}) runs for more than {LONG:?}");
                *named = true;
            }
        }
    }
}

/// Virtual cluster-minutes per wall minute on one core: five nodes, three workloads, nothing
/// happening but their lives.
fn speed() -> f64 {
    let begun = now();
    let mut world = World::new(five_by_three(), 1, None);
    world
        .run(&Script::calm(120))
        .unwrap_or_else(|failure| panic!("{failure}"));
    world.now().as_secs_f64() / begun.elapsed().as_secs_f64()
}

fn main() -> ExitCode {
    let range = setting("SOAK_SEEDS").and_then(|text| {
        let (a, b) = text.split_once("..")?;
        Some((a.parse::<u64>().ok()?, b.parse::<u64>().ok()?))
    });
    let seconds = setting("SOAK_SECONDS")
        .and_then(|s| s.parse().ok())
        .unwrap_or(60);
    let from = setting("SOAK_FROM")
        .and_then(|s| s.parse().ok())
        .unwrap_or_else(seed_by_the_clock);
    let (first, end) = range.unwrap_or((from, u64::MAX));
    let limit = if range.is_some() {
        Duration::MAX
    } else {
        Duration::from_secs(seconds)
    };
    println!(
        "five nodes, three workloads: {:.0} virtual minutes a minute and core",
        speed()
    );
    let (next, tally, begun) = (AtomicU64::new(first), Mutex::new(Tally::default()), now());
    let cores = std::thread::available_parallelism().map_or(2, usize::from);
    let (player, players) = channel();
    std::thread::scope(|scope| {
        let (next, tally) = (&next, &tally);
        scope.spawn(move || watch(tally, &players));
        for player in vec![player; cores] {
            scope.spawn(move || {
                let _plays = player;
                while begun.elapsed() < limit {
                    let seed = next.fetch_add(1, Ordering::Relaxed);
                    if seed >= end {
                        return;
                    }
                    play(seed, tally);
                }
            });
        }
    });
    let tally = tally.into_inner().expect("no thread panicked");
    let minutes = begun.elapsed().as_secs_f64() / 60.0 * cores as f64;
    println!("\n{:<18} runs", "shape");
    tally
        .runs
        .iter()
        .for_each(|(shape, count)| println!("{:<18} {count}", format!("{shape:?}")));
    println!("\n{:<18} times", "fault");
    tally
        .faults
        .iter()
        .for_each(|(kind, count)| println!("{kind:<18} {count}"));
    let runs: u64 = tally.runs.values().sum();
    let rate = tally.virtual_time.as_secs_f64() / 60.0 / minutes;
    println!(
        "\nseeds {first} on: {runs} runs, {rate:.0} virtual minutes a minute and core, {} failed",
        tally.failures.len()
    );
    tally.failures.iter().for_each(|line| println!("  {line}"));
    if tally.failures.is_empty() {
        ExitCode::SUCCESS
    } else {
        ExitCode::FAILURE
    }
}
