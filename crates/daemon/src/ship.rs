//! Events on their way to the history store: kept here until they are confirmed there, never in the way of anything.

use crate::store::Store;
use karst_api::HistoryState;
use karst_core::NodeId;
use karst_history::History;
use std::time::Duration;
use tokio::sync::watch;

const BATCH: usize = 200;
const PAUSE: Duration = Duration::from_millis(250);
/// After a failure, so that a store that is away costs nothing.
const LONG_PAUSE: Duration = Duration::from_secs(1);

/// Runs for ever; `show` says how it is going.
pub async fn run(node: NodeId, store: Store, history: Option<History>, show: watch::Sender<HistoryState>) {
    let mut migrated = false;
    loop {
        let (batch, waiting) = store.waiting(BATCH);
        let mut pause = PAUSE;
        let mut reachable = show.borrow().reachable;
        if let Some(history) = &history
            && (!batch.is_empty() || !migrated || !reachable)
        {
            let written = async {
                if !migrated {
                    history.migrate().await?;
                }
                history.write(&node, &store.store_id, &batch).await
            };
            match written.await {
                Ok(()) => {
                    (migrated, reachable) = (true, true);
                    if let Some(last) = batch.last() {
                        store.confirmed(last.number);
                    }
                }
                Err(error) => {
                    if reachable {
                        tracing::warn!(%error, waiting, "history delayed: events wait in the node store");
                    }
                    reachable = false;
                    pause = LONG_PAUSE;
                }
            }
        }
        show.send_replace(HistoryState { reachable, waiting });
        tokio::time::sleep(pause).await;
    }
}
