//! The daemon's side: orders out, confirmations in, and a new connection when the deadman was
//! started again.

use super::{Counting, Order};
use std::path::PathBuf;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::UnixStream;
use tokio::sync::mpsc;

/// Runs for ever; `tell` gets every confirmation.
pub async fn run(
    socket: PathBuf,
    mut orders: mpsc::UnboundedReceiver<Order>,
    tell: impl Fn(Counting),
) {
    loop {
        if let Ok(stream) = UnixStream::connect(&socket).await {
            let (read, mut write) = stream.into_split();
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
                            serde_json::to_writer(&mut lines, &order).expect("a small enum serialises");
                            lines.push(b'\n');
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
        // Orders meanwhile are stale when it is back: the next renewal brings a newer one.
        while orders.try_recv().is_ok() {}
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}
