//! What stands for the hosts' watchdog devices: a named pipe each, that the host's deadman feeds.
//! Whoever has fed it once and then is silent is reset by the power controller, as real hardware
//! does it.

use crate::find;
use crate::layout::Layout;
use crate::power;
use std::fs::{File, OpenOptions};
use std::io::Read as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::time::{Duration, Instant};

/// How long a host may be silent: the shortest that real devices use by default.
pub const PATIENCE: Duration = Duration::from_secs(10);
const LOOK: Duration = Duration::from_millis(500);

struct Watched {
    host: &'static str,
    pipe: File,
    fed: Option<Instant>,
}

/// Looks after all hosts until the process ends.
pub fn watch(layout: &Layout) {
    let mut all: Vec<Watched> = layout
        .nodes()
        .iter()
        .filter_map(|node| open(layout, node.name))
        .collect();
    loop {
        for watched in &mut all {
            let mut bytes = [0; 256];
            while watched.pipe.read(&mut bytes).is_ok_and(|n| n > 0) {
                watched.fed = Some(Instant::now());
            }
            if watched.fed.is_none_or(|at| at.elapsed() <= PATIENCE) {
                continue;
            }
            watched.fed = None;
            // Without power there is no watchdog.
            if find::host_init(layout, watched.host).is_ok() {
                eprintln!(
                    "{}: its watchdog was not fed for {PATIENCE:?}: reset",
                    watched.host
                );
                let reset = power::power_off(layout, watched.host)
                    .and_then(|()| power::power_on(layout, watched.host));
                if let Err(error) = reset {
                    eprintln!("{}: the reset failed: {error:#}", watched.host);
                }
            }
        }
        std::thread::sleep(LOOK);
    }
}

fn open(layout: &Layout, host: &'static str) -> Option<Watched> {
    let flags = rustix::fs::OFlags::NONBLOCK.bits().cast_signed();
    // For writing too: it has no end while nobody else writes.
    let pipe = OpenOptions::new()
        .read(true)
        .write(true)
        .custom_flags(flags)
        .open(layout.watchdog(host));
    pipe.inspect_err(|error| eprintln!("{host}: no watchdog: {error}"))
        .ok()
        .map(|pipe| Watched {
            host,
            pipe,
            fed: None,
        })
}
