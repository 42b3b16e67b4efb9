//! The daemon's side: orders out, confirmations in, and a new connection when the deadman was
//! started again.

use super::{Counting, Order};
use karst_core::authority::Claim;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::UnixStream;
use tokio::sync::mpsc;

/// What is to be watched: all of it is said again on each connection.
#[derive(Default)]
struct Watching(BTreeMap<Claim, Order>);

impl Watching {
    fn note(&mut self, order: &Order) {
        match order {
            Order::Watch { claim, .. } => drop(self.0.insert(claim.clone(), order.clone())),
            Order::Unwatch { claim } => drop(self.0.remove(claim)),
            Order::Arm { .. } | Order::Disarm { .. } => {}
        }
    }

    fn lines(&self) -> Vec<u8> {
        self.0.values().flat_map(line).collect()
    }
}

fn line(order: &Order) -> Vec<u8> {
    let mut line = serde_json::to_vec(order).expect("a small enum serialises");
    line.push(b'\n');
    line
}

/// Runs for ever; `tell` gets every confirmation.
pub async fn run(
    socket: PathBuf,
    mut orders: mpsc::UnboundedReceiver<Order>,
    tell: impl Fn(Counting),
) {
    let mut watching = Watching::default();
    loop {
        // Orders meanwhile are stale: the next renewal brings a newer one.
        while let Ok(order) = orders.try_recv() {
            watching.note(&order);
        }
        if let Ok(stream) = UnixStream::connect(&socket).await
            && let (read, mut write) = stream.into_split()
            && write.write_all(&watching.lines()).await.is_ok()
        {
            let mut lines = BufReader::new(read).lines();
            loop {
                tokio::select! {
                    line = lines.next_line() => match line {
                        Ok(Some(line)) => match serde_json::from_str(&line) {
                            Ok(counting) => tell(counting),
                            Err(error) => tracing::warn!(%error, "the deadman said something that cannot be read"),
                        },
                        _ => break,
                    },
                    order = orders.recv() => {
                        let Some(order) = order else { return };
                        // A grant renews several leases: what waits leaves together, and is kept by
                        // the deadman at once.
                        let (mut next, mut lines) = (Some(order), Vec::new());
                        while let Some(order) = next {
                            watching.note(&order);
                            lines.extend(line(&order));
                            next = orders.try_recv().ok();
                        }
                        if write.write_all(&lines).await.is_err() {
                            break;
                        }
                    }
                }
            }
            tracing::warn!("the deadman is gone; waiting for it to be started again");
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}
