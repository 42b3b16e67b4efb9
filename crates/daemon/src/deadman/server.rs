//! The deadman's process: one thread, a listening socket, a boot-time timer. No runtime, nothing
//! that can hang: what it ends, it ends on threads beside it.

use super::list::{self, Entry, Find, List, Target};
use super::watchdog::Watchdog;
use super::{Counting, Order};
use crate::clock;
use karst_adapters::Guard;
use karst_adapters::address::remove_now;
use karst_adapters::process::Processes;
use karst_core::Time;
use karst_core::authority::{Claim, Deadline};
use rustix::event::{PollFd, PollFlags, poll};
use rustix::net::sockopt::socket_peercred;
use rustix::process::geteuid;
use rustix::time::{
    Itimerspec, TimerfdClockId, TimerfdFlags, TimerfdTimerFlags, Timespec, timerfd_create,
    timerfd_settime,
};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::Permissions;
use std::io::{self, Read, Write};
use std::os::fd::OwnedFd;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

/// How long a server's processes may take before it is said that they do not end; it is tried again
/// then.
const END_LIMIT: Duration = Duration::from_secs(10);

/// Between two tries to keep the list.
const KEEP_AGAIN: Duration = Duration::from_secs(1);

/// An order is a short line.
const LINE: usize = 4_096;
/// A daemon has one connection, and the run before it may have left another.
const CONNECTIONS: usize = 4;
/// What one connection may have waiting: orders come in small numbers.
const CHUNKS: usize = 1 << 20;

/// What has come of the end of a claim.
struct Ended {
    claim: Claim,
    deadline: Deadline,
    began: Time,
    result: io::Result<usize>,
}

/// What has come of something that was done on a thread beside the loop.
enum Done {
    Ended(Ended),
    /// The list is on the disk, or cannot be put there.
    Kept(io::Result<()>),
}

struct Deadman {
    watched: List,
    find: Find,
    /// Where the list is kept.
    list: PathBuf,
    /// How often the list has changed, and which of these is being put on the disk.
    changes: u64,
    keeping: Option<u64>,
    /// What is not on the disk yet, and confirmed then.
    unkept: BTreeSet<Claim>,
    /// Nothing was counted down when this run began.
    first: bool,
    deadlines: BTreeMap<Claim, Deadline>,
    /// Claims that are being ended, side by side: none waits for another's processes (F10).
    ending: BTreeMap<Claim, Deadline>,
    done: Receiver<Done>,
    tell_done: Sender<Done>,
    /// Written to when something is done, so that the loop wakes.
    bell: UnixStream,
    rings: UnixStream,
    kept: PathBuf,
    daemons: Vec<(UnixStream, Vec<u8>)>,
    guard: Guard,
    unguarded: BTreeMap<Claim, String>,
}

/// Runs until the process is ended.
///
/// # Errors
/// If the socket or the timer cannot be made, or what ran before cannot be ended.
pub fn run(
    runtime: &Path,
    list: PathBuf,
    find: Find,
    mut watchdog: Option<Watchdog>,
) -> io::Result<()> {
    let socket = super::socket(runtime);
    let kept = runtime.join("deadman.json");
    let listener = bind(&socket)?;
    listener.set_nonblocking(true)?;
    let timer = timerfd_create(TimerfdClockId::Boottime, TimerfdFlags::NONBLOCK)?;
    let mut deadman = Deadman::new(find, list, kept)?;
    deadman.resume()?;
    loop {
        deadman.act();
        deadman.set_timer(&timer)?;
        let mut fds = vec![
            PollFd::new(&timer, PollFlags::IN),
            PollFd::new(&listener, PollFlags::IN),
        ];
        fds.push(PollFd::new(&deadman.rings, PollFlags::IN));
        fds.extend(
            deadman
                .daemons
                .iter()
                .map(|(s, _)| PollFd::new(s, PollFlags::IN)),
        );
        let patience = watchdog.as_mut().map(Watchdog::feed);
        match poll(&mut fds, patience.as_ref()) {
            Err(rustix::io::Errno::INTR) | Ok(_) => {}
            Err(error) => return Err(error.into()),
        }
        let mut expirations = [0; 8];
        let _ = rustix::io::read(&timer, &mut expirations);
        deadman.take_done();
        while let Ok((stream, _)) = listener.accept() {
            deadman.welcome(stream);
        }
        deadman.listen()?;
    }
}

/// Only this user may enter its directory, and only this user may connect.
fn bind(socket: &Path) -> io::Result<UnixListener> {
    let dir = socket.parent().unwrap_or(Path::new("."));
    std::fs::create_dir_all(dir)?;
    std::fs::set_permissions(dir, Permissions::from_mode(0o700))?;
    let _ = std::fs::remove_file(socket);
    let listener = UnixListener::bind(socket)?;
    std::fs::set_permissions(socket, Permissions::from_mode(0o600))?;
    Ok(listener)
}

impl Deadman {
    fn new(find: Find, list: PathBuf, kept: PathBuf) -> io::Result<Self> {
        let (tell_done, done) = channel();
        let (bell, rings) = UnixStream::pair()?;
        bell.set_nonblocking(true)?;
        rings.set_nonblocking(true)?;
        Ok(Self {
            watched: List::new(),
            find,
            list,
            changes: 0,
            keeping: None,
            unkept: BTreeSet::new(),
            first: false,
            deadlines: BTreeMap::new(),
            ending: BTreeMap::new(),
            done,
            tell_done,
            bell,
            rings,
            kept,
            daemons: Vec::new(),
            guard: Guard::default(),
            unguarded: BTreeMap::new(),
        })
    }

    /// Goes on with the deadlines of an earlier run. Without any, this is the first run since the
    /// boot: whatever runs of the workloads belongs to nobody, and is ended before a daemon joins
    /// (C6).
    ///
    /// # Errors
    /// If it does not end, or it cannot be found out whether anything runs: then this run has not
    /// begun, and is tried again.
    fn resume(&mut self) -> io::Result<()> {
        // A list, as the keys of a JSON object are texts.
        let kept: Option<Vec<(Claim, Deadline)>> = std::fs::read(&self.kept)
            .ok()
            .and_then(|b| serde_json::from_slice(&b).ok());
        self.first = kept.is_none();
        self.deadlines = kept.unwrap_or_default().into_iter().collect();
        for entry in list::read(&self.list)? {
            self.begin(entry)?;
        }
        self.keep();
        Ok(())
    }

    /// What holds from the moment that something is watched.
    fn begin(&mut self, entry: Entry) -> io::Result<()> {
        let watched = list::watched(entry, &self.find);
        let claim = &watched.entry.claim;
        let is_new = !self.watched.contains_key(claim);
        match &watched.target {
            Target::Server { processes, port } => {
                // Nobody owns what runs; nobody waits either, as nothing is counted down yet. Of what
                // was watched before something else is said now, and its server runs on.
                if self.first && is_new && self.deadlines.is_empty() {
                    let ended = processes.end_all(END_LIMIT)?;
                    if ended > 0 {
                        tracing::warn!(%claim, ended, "ended processes that nobody owned");
                    }
                    // Without the right to it nothing was ever closed.
                    let _ = self.guard.lift(*port);
                }
            }
            Target::Addresses(list) => {
                if !self.deadlines.contains_key(claim) {
                    list.iter().for_each(|ip| drop(remove_now(*ip)));
                }
                // From here on nobody on this host answers for it without this process's word
                // (C3).
                let held = list.iter().try_for_each(|ip| self.guard.hold(*ip));
                self.note_guard(claim, held);
            }
        }
        self.watched.insert(claim.clone(), watched);
        Ok(())
    }

    /// Takes something up, or what is different about it now.
    fn watch(&mut self, entry: Entry) -> io::Result<()> {
        let known = self.watched.get(&entry.claim);
        if known.is_some_and(|watched| watched.entry == entry) {
            return Ok(());
        }
        self.unkept.insert(entry.claim.clone());
        self.begin(entry)?;
        self.changes += 1;
        self.keep_list();
        Ok(())
    }

    fn unwatch(&mut self, claim: &Claim) {
        if self.watched.remove(claim).is_some() {
            self.unguarded.remove(claim);
            self.deadlines.remove(claim);
            self.changes += 1;
            self.keep_list();
        }
    }

    /// On a thread of its own, one at a time: a disk that hangs must not hold up what has to be
    /// ended.
    fn keep_list(&mut self) {
        if self.keeping.is_some() {
            return;
        }
        self.keeping = Some(self.changes);
        let (path, list) = (self.list.clone(), list::entries(&self.watched));
        let begun = self.aside("list", move || {
            let kept = list::keep(&path, &list);
            if kept.is_err() {
                std::thread::sleep(KEEP_AGAIN);
            }
            Done::Kept(kept)
        });
        if !begun {
            // The daemon says it again on its next connection.
            self.keeping = None;
        }
    }

    fn on_kept(&mut self, kept: io::Result<()>) {
        let of = self.keeping.take();
        if let Err(error) = &kept {
            let path = self.list.display();
            tracing::error!(%error, %path, "what is watched cannot be kept: nothing new is confirmed");
        }
        if kept.is_err() || of != Some(self.changes) {
            return self.keep_list();
        }
        let claims: Vec<Claim> = std::mem::take(&mut self.unkept).into_iter().collect();
        self.tell(&claims);
    }

    /// Has something done beside the loop, which hears of it; returns whether that was begun.
    fn aside(&self, name: &str, work: impl FnOnce() -> Done + Send + 'static) -> bool {
        let (tell, bell) = (self.tell_done.clone(), self.bell.try_clone());
        let run = move || {
            let _ = tell.send(work());
            let _ = bell.and_then(|mut bell| bell.write_all(b"."));
        };
        let thread = std::thread::Builder::new().name(name.into());
        thread.spawn(run).is_ok()
    }

    fn take_done(&mut self) {
        let mut rung = [0; 64];
        while matches!(self.rings.read(&mut rung), Ok(n) if n > 0) {}
        while let Ok(done) = self.done.try_recv() {
            self.take(done);
        }
    }

    fn take(&mut self, done: Done) {
        match done {
            Done::Ended(ended) => self.conclude(ended),
            Done::Kept(kept) => self.on_kept(kept),
        }
    }

    fn keep(&self) {
        let next = self.kept.with_extension("next");
        let list: Vec<(&Claim, &Deadline)> = self.deadlines.iter().collect();
        let written = serde_json::to_vec(&list)
            .map_err(io::Error::from)
            .and_then(|bytes| std::fs::write(&next, bytes))
            .and_then(|()| std::fs::rename(&next, &self.kept));
        if let Err(error) = written {
            tracing::warn!(%error, "deadlines cannot be kept for a restart of the deadman");
        }
    }

    /// Ends what is due.
    fn act(&mut self) {
        let now = clock::now();
        let due: Vec<(Claim, Deadline)> = self
            .deadlines
            .iter()
            .filter(|(claim, deadline)| deadline.stop_by() <= now && self.counts(claim))
            .map(|(c, d)| (c.clone(), *d))
            .collect();
        for (claim, deadline) in due {
            let Some(target) = self.target(&claim) else {
                continue;
            };
            self.ending.insert(claim.clone(), deadline);
            match target {
                Target::Server { processes, .. } => self.end_aside(claim, deadline, now, processes),
                Target::Addresses(list) => {
                    list.iter()
                        .for_each(|ip| drop(self.guard.close_address(*ip)));
                    let result = list
                        .iter()
                        .try_fold(0, |n, ip| Ok(n + usize::from(remove_now(*ip)?)));
                    self.conclude(Ended {
                        claim,
                        deadline,
                        began: now,
                        result,
                    });
                }
            }
        }
    }

    /// Ends a server's processes on a thread of its own. One that cannot be started does it here.
    fn end_aside(&mut self, claim: Claim, deadline: Deadline, began: Time, processes: Processes) {
        let end = move || Ended {
            result: processes.end_all(END_LIMIT),
            claim,
            deadline,
            began,
        };
        let other = end.clone();
        if !self.aside("end", move || Done::Ended(other())) {
            self.conclude(end());
        }
    }

    /// A deadline is forgotten when it is verified that nothing is left, and not before: what was
    /// ended in between would be supervised by nobody (F10).
    fn conclude(
        &mut self,
        Ended {
            claim,
            deadline,
            began,
            result,
        }: Ended,
    ) {
        self.ending.remove(&claim);
        let after = clock::now();
        match result {
            Ok(count) => {
                // Unless it was armed anew meanwhile: then deadline and guard are a next primary's.
                if self.deadlines.get(&claim) == Some(&deadline) {
                    self.deadlines.remove(&claim);
                    if let Some(Target::Server { port, .. }) = self.target(&claim) {
                        let _ = self.guard.lift(port);
                    }
                }
                self.keep();
                if count > 0 {
                    tracing::warn!(
                        %claim, count, began_ns = began.0, ended_ns = after.0, deadline_ns = deadline.at.0,
                        "the deadline came: it was ended {} ms before it", deadline.at.since(after).as_millis()
                    );
                }
            }
            Err(error) => tracing::error!(%claim, %error, "it does not end: trying again"),
        }
        self.tell(&[claim]);
    }

    fn target(&self, claim: &Claim) -> Option<Target> {
        self.watched.get(claim).map(|w| w.target.clone())
    }

    /// Whether its deadline is waited for: what is being ended says so when it has, and of what is
    /// not watched (any more, or not yet by this run) it is not known what it would be.
    fn counts(&self, claim: &Claim) -> bool {
        self.watched.contains_key(claim) && !self.ending.contains_key(claim)
    }

    fn is_strange(&self, claim: &Claim, deadline: Deadline) -> bool {
        let longest = self
            .watched
            .get(claim)
            .map_or(Duration::ZERO, |w| w.entry.longest);
        deadline.at > clock::now() + longest || deadline.kill_bound >= longest
    }

    /// Lets packets pass until the deadline, and not if that came meanwhile (C3).
    fn open(&mut self, claim: &Claim, deadline: Time) {
        let Some(target) = self.target(claim) else {
            return;
        };
        // An order may have waited while everything here stood still: a deadline that has passed
        // opens nothing.
        let left = deadline.since(clock::now());
        if left.is_zero() {
            return;
        }
        let opened = match &target {
            Target::Server { port, .. } => self.guard.open_for(*port, left),
            Target::Addresses(list) => list
                .iter()
                .try_for_each(|ip| self.guard.open_address(*ip, left)),
        };
        let late = clock::now() >= deadline;
        let opened = opened.and_then(|()| if late { self.close(&target) } else { Ok(()) });
        self.note_guard(claim, opened);
    }

    fn close(&mut self, target: &Target) -> io::Result<()> {
        match target {
            Target::Server { port, .. } => self.guard.close(*port),
            Target::Addresses(list) => list.iter().try_for_each(|ip| self.guard.close_address(*ip)),
        }
    }

    fn note_guard(&mut self, claim: &Claim, done: io::Result<()>) {
        match done {
            Ok(()) => drop(self.unguarded.remove(claim)),
            Err(error) => {
                if self
                    .unguarded
                    .insert(claim.clone(), error.to_string())
                    .is_none()
                {
                    tracing::warn!(%claim, %error, "no packet guard: a host frozen as a whole is not covered");
                }
            }
        }
    }

    /// How long until something has to be ended.
    fn until_due(&self) -> Duration {
        let next = self
            .deadlines
            .iter()
            .filter(|(claim, _)| self.counts(claim))
            .map(|(_, d)| d.stop_by())
            .min()
            .map(|at| at.since(clock::now()));
        next.unwrap_or(Duration::from_secs(1))
            .max(Duration::from_millis(10))
    }

    fn set_timer(&self, timer: &OwnedFd) -> io::Result<()> {
        // What is being ended rings when it has.
        let counted = self
            .deadlines
            .iter()
            .filter(|(claim, _)| self.counts(claim));
        let next = counted
            .map(|(_, d)| d.stop_by())
            .min()
            .map_or(0, |at| at.0.max(1));
        let it_value = Timespec {
            tv_sec: (next / 1_000_000_000) as i64,
            tv_nsec: (next % 1_000_000_000) as i64,
        };
        let it_interval = Timespec {
            tv_sec: 0,
            tv_nsec: 0,
        };
        timerfd_settime(
            timer,
            TimerfdTimerFlags::ABSTIME,
            &Itimerspec {
                it_interval,
                it_value,
            },
        )?;
        Ok(())
    }

    fn counting(&self, claim: &Claim) -> Counting {
        let deadline = self.deadlines.get(claim).copied();
        let unguarded = self
            .unguarded
            .get(claim)
            .filter(|_| deadline.is_some())
            .cloned();
        Counting {
            claim: claim.clone(),
            deadline,
            unguarded,
        }
    }

    fn welcome(&mut self, stream: UnixStream) {
        // Whoever may enter the directory is this user; the kernel's word for it is asked all the
        // same.
        let is_own =
            socket_peercred(&stream).is_ok_and(|peer| peer.uid == geteuid() || peer.uid.is_root());
        if !is_own || stream.set_nonblocking(true).is_err() {
            return;
        }
        if self.daemons.len() >= CONNECTIONS {
            self.daemons.remove(0);
        }
        self.daemons.push((stream, Vec::new()));
        let claims: Vec<Claim> = self.watched.keys().cloned().collect();
        self.tell(&claims);
    }

    fn tell(&mut self, claims: &[Claim]) {
        let mut lines = Vec::new();
        for claim in claims.iter().filter(|claim| !self.unkept.contains(*claim)) {
            serde_json::to_writer(&mut lines, &self.counting(claim))
                .expect("a small struct serialises");
            lines.push(b'\n');
        }
        self.daemons
            .retain_mut(|(stream, _)| stream.write_all(&lines).is_ok());
    }

    fn listen(&mut self) -> io::Result<()> {
        let mut orders = Vec::new();
        self.daemons.retain_mut(|(stream, buffer)| {
            let mut chunk = [0; 4096];
            loop {
                match stream.read(&mut chunk) {
                    Ok(0) => return false,
                    Ok(n) => buffer.extend_from_slice(&chunk[..n]),
                    Err(error) if error.kind() == io::ErrorKind::WouldBlock => break,
                    Err(_) => return false,
                }
            }
            let whole = whole_lines(buffer);
            let ends = whole.is_some();
            orders.extend(whole.into_iter().flatten());
            ends
        });
        if orders.is_empty() {
            return Ok(());
        }
        let mut claims = Vec::new();
        for order in orders {
            self.guard.wait_at_most(self.until_due());
            claims.extend(self.obey(order)?);
        }
        self.keep();
        // A deadline that passed before it was read is acted on before it is confirmed.
        self.act();
        self.tell(&claims);
        Ok(())
    }

    /// Returns the claim whose state is to be confirmed.
    fn obey(&mut self, order: Order) -> io::Result<Option<Claim>> {
        Ok(Some(match order {
            Order::Watch {
                claim,
                what,
                longest,
            } => {
                self.watch(Entry {
                    claim: claim.clone(),
                    what,
                    longest,
                })?;
                claim
            }
            Order::Unwatch { claim } => {
                self.unwatch(&claim);
                return Ok(None);
            }
            Order::Arm { claim, .. } | Order::Disarm { claim } if self.target(&claim).is_none() => {
                tracing::warn!(%claim, "an order about what is not watched here");
                return Ok(None);
            }
            Order::Arm { claim, deadline } if self.is_strange(&claim, deadline) => {
                tracing::warn!(%claim, "a deadline that no lease can have");
                claim
            }
            Order::Arm { claim, deadline } => {
                self.deadlines.insert(claim.clone(), deadline);
                self.open(&claim, deadline.at);
                claim
            }
            Order::Disarm { claim } => {
                self.deadlines.remove(&claim);
                match self.target(&claim) {
                    Some(Target::Server { port, .. }) => drop(self.guard.lift(port)),
                    Some(addresses) => drop(self.close(&addresses)),
                    None => {}
                }
                claim
            }
        }))
    }
}

/// The orders of the lines that have ended; what is left of the buffer is the beginning of one. None: it
/// does not end.
fn whole_lines(buffer: &mut Vec<u8>) -> Option<Vec<Order>> {
    if buffer.len() > CHUNKS || !buffer.contains(&b'\n') && buffer.len() > LINE {
        tracing::warn!("an order that does not end: its connection is closed");
        return None;
    }
    let end = buffer
        .iter()
        .rposition(|b| *b == b'\n')
        .map_or(0, |i| i + 1);
    let lines: Vec<u8> = buffer.drain(..end).collect();
    let lines = lines.split(|b| *b == b'\n').filter(|line| !line.is_empty());
    let read = |line| {
        let order = serde_json::from_slice::<Order>(line);
        order.inspect_err(|error| tracing::warn!(%error, "an order that cannot be read"))
    };
    Some(lines.filter_map(|line| read(line).ok()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::deadman::What;
    use karst_core::Time;
    use proptest::prelude::*;
    use std::time::Instant;

    const KILL_BOUND: Duration = Duration::from_millis(50);

    fn claim(workload: &str) -> Claim {
        Claim::Primary(workload.into())
    }

    /// Counts down for two servers: that of `sailings` has a directory that cannot be looked at,
    /// nothing runs of `fares`. Both deadlines are over.
    fn two_that_are_due(dir: &Path) -> Deadman {
        let find: Find = Box::new(|_, data| Processes::new(Path::new(data), None));
        let mut deadman =
            Deadman::new(find, dir.join("watched.json"), dir.join("deadman.json")).unwrap();
        let unreadable = "/dev/null/data".to_string();
        let readable = dir.display().to_string();
        for (workload, data) in [("sailings", unreadable), ("fares", readable)] {
            let entry = Entry {
                claim: claim(workload),
                what: What::Server { data, port: 1 },
                longest: Duration::from_secs(2),
            };
            deadman.begin(entry).unwrap();
            let deadline = Deadline {
                at: clock::now(),
                kill_bound: KILL_BOUND,
            };
            deadman.deadlines.insert(claim(workload), deadline);
        }
        deadman
    }

    fn orders() -> impl Strategy<Value = Order> {
        let name = prop_oneof![Just("sailings"), Just("fares"), Just(""), Just("../x\n")];
        let claim = (name, any::<bool>()).prop_map(|(name, server)| match server {
            true => Claim::Primary(name.into()),
            false => Claim::Address(name.into()),
        });
        let nanos = prop_oneof![Just(0), Just(1), any::<u64>(), Just(u64::MAX)];
        (claim, nanos.clone(), nanos, 0..3).prop_map(|(claim, at, bound, kind)| {
            let kill_bound = match bound {
                u64::MAX => Duration::MAX,
                nanos => Duration::from_nanos(nanos),
            };
            let at = Time(at);
            match kind {
                0 => Order::Unwatch { claim },
                1 => Order::Disarm { claim },
                _ => Order::Arm {
                    claim,
                    deadline: Deadline { at, kill_bound },
                },
            }
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(10_000))]

        /// Each line is an order or is said to be none, however it is cut up, and none is kept that does
        /// not end.
        #[test]
        fn orders_are_read_whatever_arrives(
            order in orders(),
            noise in prop::collection::vec(any::<u8>(), 0..200),
            at in any::<prop::sample::Index>(),
        ) {
            let mut lines = serde_json::to_vec(&order).unwrap();
            lines.push(b'\n');
            let (first, rest) = lines.split_at(at.index(lines.len()));
            let mut buffer = first.to_vec();
            prop_assert_eq!(whole_lines(&mut buffer), Some(vec![]));
            buffer.extend_from_slice(rest);
            prop_assert_eq!(whole_lines(&mut buffer), Some(vec![order]));
            prop_assert!(buffer.is_empty());
            lines.splice(at.index(lines.len()).., noise);
            let read = whole_lines(&mut lines);
            prop_assert!(read.is_some() && !lines.contains(&b'\n'));
            let mut endless = vec![b'{'; LINE + 1];
            prop_assert_eq!(whole_lines(&mut endless), None);
        }
    }

    /// No deadline, however large its numbers, arms what no lease can have.
    #[test]
    fn hostile_deadlines_are_refused() {
        let dir = tempfile::tempdir().unwrap();
        let mut deadman = two_that_are_due(dir.path());
        deadman.deadlines.clear();
        let mut runner = proptest::test_runner::TestRunner::new(ProptestConfig::with_cases(10_000));
        let obeyed = std::cell::RefCell::new(&mut deadman);
        let result = runner.run(&orders(), |order| {
            let mut deadman = obeyed.borrow_mut();
            deadman.obey(order).unwrap();
            let latest = clock::now() + Duration::from_secs(3);
            prop_assert!(deadman.deadlines.values().all(|d| d.at <= latest));
            deadman.until_due();
            Ok(())
        });
        result.unwrap();
    }

    /// F10: the end of one server waits for no other one's.
    #[test]
    fn servers_are_ended_side_by_side() {
        let dir = tempfile::tempdir().unwrap();
        let mut deadman = two_that_are_due(dir.path());
        let begun = Instant::now();
        deadman.act();
        let done = deadman.done.recv_timeout(END_LIMIT / 2).unwrap();
        deadman.take(done);
        assert!(!deadman.deadlines.contains_key(&claim("fares")));
        assert!(deadman.ending.contains_key(&claim("sailings")));
        assert!(begun.elapsed() < END_LIMIT / 2, "{:?}", begun.elapsed());
    }

    /// F10, F9: where nobody could look whether a server has ended, its deadline stays and is due
    /// again.
    #[test]
    fn a_deadline_is_forgotten_once_the_end_is_verified() {
        let dir = tempfile::tempdir().unwrap();
        let mut deadman = two_that_are_due(dir.path());
        let sailings = claim("sailings");
        let deadline = deadman.deadlines[&sailings];
        deadman.ending.insert(sailings.clone(), deadline);
        deadman.conclude(Ended {
            claim: sailings.clone(),
            deadline,
            began: clock::now(),
            result: Err(io::Error::other("it cannot be looked at")),
        });
        assert!(deadman.deadlines.contains_key(&sailings) && deadman.counts(&sailings));
    }
}
