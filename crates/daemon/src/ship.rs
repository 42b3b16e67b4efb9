//! Events on their way to the history store: kept here until they are confirmed there, never in the
//! way of anything.

use crate::store::Store;
use karst_api::HistoryState;
use karst_core::NodeId;
use karst_history::History;
use std::time::Duration;
use tokio::sync::watch;

const BATCH: usize = 200;
const PAUSE: Duration = Duration::from_millis(250);
/// Events come in bursts, while a failover runs: they leave when the burst has ended, after this
/// many pauses at the latest.
const BURST: u32 = 8;
/// After a failure, so that a store that is away costs nothing.
const LONG_PAUSE: Duration = Duration::from_secs(1);

/// Runs for ever; `show` says how it is going.
pub async fn run(
    node: NodeId,
    store: Store,
    history: Option<History>,
    show: watch::Sender<HistoryState>,
) {
    let mut migrated = false;
    let (mut last_waiting, mut held_back) = (0, 0);
    loop {
        let (batch, waiting) = store.waiting(BATCH);
        let grows = waiting > last_waiting && held_back < BURST;
        (last_waiting, held_back) = (waiting, if grows { held_back + 1 } else { 0 });
        let mut pause = PAUSE;
        let mut reachable = show.borrow().reachable;
        if let Some(history) = &history
            && !(grows && migrated && reachable)
            && (!batch.is_empty() || !migrated || !reachable)
        {
            let written = async {
                if !migrated {
                    history.migrate().await?;
                }
                history.write(&node, &store.store_id, &batch).await
            };
            match written.await {
                Ok(set_aside) => {
                    for (number, why) in set_aside {
                        tracing::warn!(
                            number,
                            why,
                            "the history store refused a record: a note stands in its place"
                        );
                    }
                    (migrated, reachable) = (true, true);
                    if let Some(last) = batch.last() {
                        store.confirmed(last.number);
                        last_waiting = 0;
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
