//! The deadman's process: one thread, a listening socket, a boot-time timer. No runtime, nothing that can hang.

use super::{Counting, Order, Watched};
use crate::clock;
use karst_adapters::{Guard, process};
use karst_core::{Time, WorkloadId};
use rustix::event::{PollFd, PollFlags, poll};
use rustix::time::{
    Itimerspec, TimerfdClockId, TimerfdFlags, TimerfdTimerFlags, Timespec, timerfd_create, timerfd_settime,
};
use std::collections::BTreeMap;
use std::io::{self, Read, Write};
use std::os::fd::OwnedFd;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::time::Duration;

struct Deadman {
    watched: Vec<Watched>,
    deadlines: BTreeMap<WorkloadId, Time>,
    kept: PathBuf,
    kill_bound: Duration,
    daemons: Vec<(UnixStream, Vec<u8>)>,
    guard: Guard,
    unguarded: BTreeMap<WorkloadId, String>,
}

/// Runs until the process is ended.
///
/// # Errors
/// If the socket or the timer cannot be made.
pub fn run(runtime: &Path, watched: Vec<Watched>, kill_bound: Duration) -> io::Result<()> {
    let socket = runtime.join("deadman.sock");
    let kept = runtime.join("deadman.json");
    let _ = std::fs::remove_file(&socket);
    let listener = UnixListener::bind(&socket)?;
    listener.set_nonblocking(true)?;
    let timer = timerfd_create(TimerfdClockId::Boottime, TimerfdFlags::NONBLOCK)?;
    let mut deadman = Deadman {
        watched,
        deadlines: BTreeMap::new(),
        kept,
        kill_bound,
        daemons: Vec::new(),
        guard: Guard::default(),
        unguarded: BTreeMap::new(),
    };
    deadman.resume();
    loop {
        deadman.act();
        deadman.set_timer(&timer)?;
        let mut fds = vec![PollFd::new(&timer, PollFlags::IN), PollFd::new(&listener, PollFlags::IN)];
        fds.extend(deadman.daemons.iter().map(|(s, _)| PollFd::new(s, PollFlags::IN)));
        match poll(&mut fds, None) {
            Err(rustix::io::Errno::INTR) | Ok(_) => {}
            Err(error) => return Err(error.into()),
        }
        let mut expirations = [0; 8];
        let _ = rustix::io::read(&timer, &mut expirations);
        while let Ok((stream, _)) = listener.accept() {
            deadman.welcome(stream);
        }
        deadman.listen();
    }
}

impl Deadman {
    /// Goes on with the deadlines of an earlier run. Without any, this is the first run since the boot: whatever runs of
    /// the workloads belongs to nobody, and is ended before a daemon joins (C6).
    fn resume(&mut self) {
        match std::fs::read(&self.kept).ok().and_then(|b| serde_json::from_slice(&b).ok()) {
            Some(deadlines) => self.deadlines = deadlines,
            None => {
                for watched in &self.watched {
                    if !process::of_workload(&watched.data).is_empty() {
                        tracing::warn!(workload = %watched.workload, "ending processes that nobody owns");
                        let _ = process::end_all(&watched.data, Duration::from_secs(10));
                    }
                    // Without the right to it nothing was ever closed.
                    let _ = self.guard.lift(watched.port);
                }
                self.keep();
            }
        }
    }

    fn keep(&self) {
        let next = self.kept.with_extension("next");
        let written = serde_json::to_vec(&self.deadlines)
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
        let due: Vec<(WorkloadId, Time)> = self
            .deadlines
            .iter()
            .filter(|(_, deadline)| **deadline - self.kill_bound <= now)
            .map(|(w, d)| (w.clone(), *d))
            .collect();
        for (workload, deadline) in due {
            self.deadlines.remove(&workload);
            self.keep();
            let Some(watched) = self.watched.iter().find(|w| w.workload == workload) else { continue };
            let ended = process::end_all(&watched.data, Duration::from_secs(10));
            let after = clock::now();
            if ended.is_ok() {
                let _ = self.guard.lift(watched.port);
            }
            match ended {
                Ok(0) => {}
                Ok(signals) => tracing::warn!(
                    %workload, signals, began_ns = now.0, ended_ns = after.0, deadline_ns = deadline.0,
                    "the deadline came: the server was ended {} ms before it", deadline.since(after).as_millis()
                ),
                Err(error) => tracing::error!(%workload, %error, "the server does not end"),
            }
            self.tell(&workload);
        }
    }

    fn port(&self, workload: &WorkloadId) -> Option<u16> {
        self.watched.iter().find(|w| w.workload == *workload).map(|w| w.port)
    }

    /// Lets packets pass until the deadline, and not if that came meanwhile (C3).
    fn open(&mut self, workload: &WorkloadId, deadline: Time) {
        let Some(port) = self.port(workload) else { return };
        // An order may have waited while everything here stood still: a deadline that has passed opens nothing.
        let left = deadline.since(clock::now());
        let opened = if left.is_zero() { Ok(()) } else { self.guard.open_for(port, left) };
        let opened = opened.and_then(|()| if clock::now() >= deadline { self.guard.close(port) } else { Ok(()) });
        match opened {
            Ok(()) => drop(self.unguarded.remove(workload)),
            Err(error) => {
                if self.unguarded.insert(workload.clone(), error.to_string()).is_none() {
                    tracing::warn!(%workload, %error, "no packet guard: a host frozen as a whole is not covered (C3)");
                }
            }
        }
    }

    fn set_timer(&self, timer: &OwnedFd) -> io::Result<()> {
        let next = self.deadlines.values().min().map_or(0, |d| (*d - self.kill_bound).0.max(1));
        let it_value = Timespec { tv_sec: (next / 1_000_000_000) as i64, tv_nsec: (next % 1_000_000_000) as i64 };
        let it_interval = Timespec { tv_sec: 0, tv_nsec: 0 };
        timerfd_settime(timer, TimerfdTimerFlags::ABSTIME, &Itimerspec { it_interval, it_value })?;
        Ok(())
    }

    fn counting(&self, workload: &WorkloadId) -> Counting {
        let deadline = self.deadlines.get(workload).copied();
        let unguarded = self.unguarded.get(workload).filter(|_| deadline.is_some()).cloned();
        Counting { workload: workload.clone(), deadline, unguarded }
    }

    fn welcome(&mut self, stream: UnixStream) {
        if stream.set_nonblocking(true).is_err() {
            return;
        }
        self.daemons.push((stream, Vec::new()));
        let workloads: Vec<WorkloadId> = self.watched.iter().map(|w| w.workload.clone()).collect();
        workloads.iter().for_each(|w| self.tell(w));
    }

    fn tell(&mut self, workload: &WorkloadId) {
        let counting = self.counting(workload);
        let mut line = serde_json::to_vec(&counting).expect("a small struct serialises");
        line.push(b'\n');
        self.daemons.retain_mut(|(stream, _)| stream.write_all(&line).is_ok());
    }

    fn listen(&mut self) {
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
            while let Some(end) = buffer.iter().position(|b| *b == b'\n') {
                let line: Vec<u8> = buffer.drain(..=end).collect();
                match serde_json::from_slice::<Order>(&line) {
                    Ok(order) => orders.push(order),
                    Err(error) => tracing::warn!(%error, "an order that cannot be read"),
                }
            }
            true
        });
        for order in orders {
            let workload = match order {
                Order::Arm { workload, deadline } => {
                    self.deadlines.insert(workload.clone(), deadline);
                    self.open(&workload, deadline);
                    workload
                }
                Order::Disarm { workload } => {
                    self.deadlines.remove(&workload);
                    if let Some(port) = self.port(&workload) {
                        let _ = self.guard.lift(port);
                    }
                    workload
                }
            };
            self.keep();
            // A deadline that passed before it was read is acted on before it is confirmed.
            self.act();
            self.tell(&workload);
        }
    }
}
