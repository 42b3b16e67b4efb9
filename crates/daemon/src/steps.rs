//! The site's own steps on this host, for whoever carries something out.

use crate::heart::Tell;
use karst_adapters::Steps;
use karst_core::Input;
use karst_core::ownstep::{Occasion, Point, Ran};
use karst_core::spec::Revision;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc::UnboundedReceiver;
use tokio::sync::watch;

/// Before a step is tried again that keeps its node from resting.
const TRY_AGAIN: Duration = Duration::from_secs(10);

/// Runs them as the spec in force has them.
#[derive(Clone)]
pub struct OwnSteps {
    pub here: Steps,
    pub in_force: watch::Receiver<Arc<Revision>>,
    pub tell: Tell,
}

impl OwnSteps {
    /// Those of this occasion, one after the other. Why what they run before is not to be done, if
    /// one says so.
    pub async fn run(&self, occasion: Occasion) -> Option<String> {
        let spec = self.in_force.borrow().spec.clone();
        let (at, workload) = (occasion.at, occasion.workload.clone());
        let mut all = spec
            .steps_at(at, workload.as_ref(), &self.here.me)
            .peekable();
        all.peek()?;
        let mut ran: Vec<Ran> = Vec::new();
        let mut refused = None;
        for (name, step) in all {
            let one = self.here.run(name, step, &occasion, false).await;
            if step.stops(&one.ended) {
                refused = Some(format!("own step {name}: {}", one.ended));
            }
            ran.push(one);
            if refused.is_some() {
                break;
            }
        }
        self.tell.input(Input::Stepped { occasion, ran });
        refused
    }

    /// Runs those that the core orders, until the daemon ends.
    pub async fn serve(self, mut orders: UnboundedReceiver<Occasion>) {
        // Of the maintenance that a step still keeps from going on.
        let mut again: Option<Occasion> = None;
        loop {
            let next = match &again {
                None => orders.recv().await,
                Some(occasion) => tokio::time::timeout(TRY_AGAIN, orders.recv())
                    .await
                    .unwrap_or_else(|_| Some(occasion.clone())),
            };
            let Some(occasion) = next else { return };
            match occasion.at {
                Point::BeforeMaintenance => {
                    let refused = self.run(occasion.clone()).await;
                    again = refused.map(|_| occasion);
                }
                Point::AfterMaintenance => {
                    again = None;
                    self.run(occasion).await;
                }
                _ => {
                    let own = self.clone();
                    tokio::spawn(async move { own.run(occasion).await });
                }
            }
        }
    }
}
