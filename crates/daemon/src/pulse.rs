//! The thread of what has to be on time: heart, peers, the deadman's client. A hand-over to another
//! thread costs more than the work itself.
//!
//! Heartbeats of all nodes leave within a moment of each other, and to be woken costs a cold core
//! more than what it is woken for. So while all is calm this thread sleeps through that moment
//! after its own heartbeat, and then takes what has come together. What is urgent and comes just
//! then waits for a few milliseconds at most, and only the first of it: then it is not calm.

use std::cell::Cell;
use std::io;
use std::time::{Duration, Instant};
use tokio::runtime::{Builder, Runtime};

thread_local! {
    static RESTS_UNTIL: Cell<Option<Instant>> = const { Cell::new(None) };
}

/// Which part of a heartbeat the coordinator waits for the others' check-ins: they are on their way
/// at once.
const COORDINATOR_RESTS: u32 = 64;
/// And the others, until its answer to them is there as well.
const OTHERS_REST: u32 = 24;
/// However long a heartbeat is: what is urgent does not wait for longer.
const LONGEST_REST: Duration = Duration::from_millis(5);

/// Its runtime.
///
/// # Errors
/// If the kernel gives no timer or event queue.
pub fn runtime() -> io::Result<Runtime> {
    Builder::new_current_thread()
        .enable_all()
        .on_thread_park(rest)
        .build()
}

/// Called on this thread once its own heartbeat is on its way.
pub fn beaten(heartbeat: Duration, is_coordinator: bool) {
    let part = if is_coordinator {
        COORDINATOR_RESTS
    } else {
        OTHERS_REST
    };
    RESTS_UNTIL.set(Some(Instant::now() + (heartbeat / part).min(LONGEST_REST)));
}

/// There is nothing to do at present.
fn rest() {
    if let Some(until) = RESTS_UNTIL.take() {
        std::thread::sleep(until.saturating_duration_since(Instant::now()));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::net::UdpSocket;

    /// What comes just after the heartbeat is taken at the end of the rest; what comes later, at
    /// once.
    #[test]
    fn it_sleeps_once_after_its_heartbeat() {
        runtime().unwrap().block_on(async {
            let socket = UdpSocket::bind("127.0.0.1:0").await.unwrap();
            let mut byte = [0];
            for beats in [true, false] {
                // Not readable before the kernel was asked again, which happens when the thread is
                // idle.
                while socket.try_recv(&mut byte).is_ok() {}
                let begun = Instant::now();
                if beats {
                    beaten(Duration::from_secs(5), false);
                }
                socket
                    .send_to(&[7], socket.local_addr().unwrap())
                    .await
                    .unwrap();
                socket.recv(&mut byte).await.unwrap();
                assert!(
                    !beats || begun.elapsed() >= LONGEST_REST,
                    "woken after {:?}",
                    begun.elapsed()
                );
                assert!(RESTS_UNTIL.get().is_none());
            }
        });
    }
}
