//! A running lab as tests and drills use it.

use crate::keep;
use crate::layout::{Layout, NODES, RunAs, WORKLOAD};
use anyhow::{Context, Result, bail};
use karst_api::core::spec::Timings;
use karst_api::core::view::{Condition, WorkloadView};
use karst_api::{Client, StatusReply, specfile};
use std::time::{Duration, Instant};

/// How often a condition is looked at.
pub const LOOK: Duration = Duration::from_millis(50);

#[derive(Clone, Debug)]
pub struct Lab {
    pub layout: Layout,
    pub client: Client,
}

impl Lab {
    /// Starts a lab, or finds the one that runs.
    pub fn up(layout: Layout, brisk: bool) -> Result<Self> {
        if keep::running(&layout).is_none() {
            crate::find::sibling("karstd")?;
            layout.prepare(brisk, RunAs::now())?;
            keep::start(&layout)?;
        }
        Self::attach(layout)
    }

    pub fn attach(layout: Layout) -> Result<Self> {
        let client = Client::new(&layout.servers(), &layout.token()?, None)?;
        Ok(Self { layout, client })
    }

    /// Ends the lab and removes everything that it wrote.
    pub fn remove(self) -> Result<()> {
        keep::stop(&self.layout)?;
        std::fs::remove_dir_all(&self.layout.dir).context("the lab's directory")
    }

    pub async fn status(&self) -> Result<StatusReply> {
        Ok(self.client.status().await?)
    }

    pub async fn workload(&self) -> Result<WorkloadView> {
        let status = self.status().await?.status;
        status
            .workloads
            .into_iter()
            .find(|w| w.workload.as_str() == WORKLOAD)
            .context("the workload is not in the status")
    }

    pub async fn primary(&self) -> Result<String> {
        Ok(self.workload().await?.primary.context("no primary now")?.to_string())
    }

    /// The timings that the daemons run with.
    pub async fn timings(&self) -> Result<Timings> {
        let text = self.client.spec().await?.text;
        Ok(specfile::read(&text).spec.context("the daemons' own spec")?.timings)
    }

    /// Waits until `fits` is true of the coordinator's status.
    pub async fn wait(
        &self, what: &str, limit: Duration, mut fits: impl FnMut(&StatusReply) -> bool,
    ) -> Result<StatusReply> {
        let begun = Instant::now();
        loop {
            let last = match self.status().await {
                Ok(reply) if reply.complete && fits(&reply) => return Ok(reply),
                Ok(reply) => reply.status.sentence,
                Err(error) => error.to_string(),
            };
            if begun.elapsed() > limit {
                bail!("{what}: not within {limit:?}; the last word was: {last}");
            }
            if keep::running(&self.layout).is_none() && begun.elapsed() > Duration::from_secs(5) {
                bail!("{what}: the lab has ended; its log is {}", self.layout.dir.join("logs/lab.log").display());
            }
            tokio::time::sleep(LOOK).await;
        }
    }

    /// Waits until all is well.
    pub async fn healthy(&self, limit: Duration) -> Result<StatusReply> {
        self.wait("all is well", limit, is_well).await
    }
}

/// Every node heard, every standby in the sync set, every gate forwarding, the address held, nothing under way.
pub fn is_well(reply: &StatusReply) -> bool {
    let status = &reply.status;
    let gates = status.workloads.iter().all(|w| w.gates.iter().all(|g| g.forwards_to.is_some()));
    let idle = status.workloads.iter().all(|w| w.operation.is_none());
    let reachable = status.workloads.iter().all(|w| w.address.as_ref().is_none_or(|a| a.held));
    reply.complete
        && reachable
        && status.condition == Condition::Healthy
        && gates
        && idle
        && status.nodes.len() == NODES.len()
}
