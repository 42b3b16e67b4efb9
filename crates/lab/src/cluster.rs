//! A running lab as tests and drills use it.

use crate::keep;
use crate::layout::{DATABASE, Layout, RunAs, WORKLOAD};
use anyhow::{Context, Result, bail, ensure};
use karst_api::core::event::FactKind;
use karst_api::core::spec::Timings;
use karst_api::core::view::{Condition, WorkloadView};
use karst_api::{Client, Record, StatusReply, specfile};
use std::time::{Duration, Instant};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// How long what was decided may take to be in the record.
const RECORDED: Duration = Duration::from_secs(120);

/// How often a condition is looked at.
pub const LOOK: Duration = Duration::from_millis(50);

#[derive(Clone, Debug)]
pub struct Lab {
    pub layout: Layout,
    pub client: Client,
}

impl Lab {
    /// Starts a lab, or finds the one that runs.
    pub fn up(layout: Layout) -> Result<Self> {
        if keep::running(&layout).is_none() {
            crate::find::sibling("karstd")?;
            layout.prepare(RunAs::now())?;
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
        Ok(self
            .workload()
            .await?
            .primary
            .context("no primary now")?
            .to_string())
    }

    /// A session on a host's server, by the socket that only the host's administrator reaches.
    pub async fn administrator(&self, host: &str) -> Result<tokio_postgres::Client> {
        let mut config = tokio_postgres::Config::new();
        config
            .host_path(self.layout.server_socket(host))
            .user("postgres")
            .dbname(DATABASE);
        let connected = config.connect(tokio_postgres::NoTls).await;
        let (client, session) = connected.with_context(|| format!("the server on {host}"))?;
        tokio::spawn(session);
        Ok(client)
    }

    /// The timings that the daemons run with.
    pub async fn timings(&self) -> Result<Timings> {
        let text = self.client.spec().await?.text;
        Ok(specfile::read(&text)
            .spec
            .context("the daemons' own spec")?
            .timings)
    }

    /// Waits until `fits` is true of the coordinator's status.
    pub async fn wait(
        &self,
        what: &str,
        limit: Duration,
        mut fits: impl FnMut(&StatusReply) -> bool,
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
                bail!(
                    "{what}: the lab has ended; its log is {}",
                    self.layout.dir.join("logs/lab.log").display()
                );
            }
            tokio::time::sleep(LOOK).await;
        }
    }

    /// The newest records of a kind.
    pub async fn records(&self, kind: FactKind) -> Result<Vec<Record>> {
        let records = self.client.history("limit=500").await?.records;
        Ok(records
            .into_iter()
            .filter(|r| r.kind == kind.word())
            .collect())
    }

    /// When the first record of a kind was made after a moment; records take a while to arrive.
    /// Nanoseconds since 1970.
    pub async fn first_record(&self, kind: FactKind, after: u128) -> Result<u128> {
        let begun = Instant::now();
        loop {
            let records = self.records(kind).await?;
            let times = records
                .into_iter()
                .filter_map(|r| OffsetDateTime::parse(&r.at, &Rfc3339).ok());
            let first = times
                .map(|t| t.unix_timestamp_nanos().cast_unsigned())
                .filter(|t| *t > after)
                .min();
            if let Some(at) = first {
                return Ok(at);
            }
            ensure!(begun.elapsed() < RECORDED, "there is no record of `{kind}`");
            tokio::time::sleep(LOOK).await;
        }
    }

    /// Waits until all is well.
    pub async fn healthy(&self, limit: Duration) -> Result<StatusReply> {
        let hosts = self.layout.nodes().len();
        self.wait("all is well", limit, |r| {
            is_well(r) && r.status.nodes.len() == hosts
        })
        .await
    }
}

/// Every node heard, every standby in the sync set, every gate forwarding, the address held,
/// nothing under way.
pub fn is_well(reply: &StatusReply) -> bool {
    let status = &reply.status;
    let gates = status
        .workloads
        .iter()
        .all(|w| w.gates.iter().all(|g| g.forwards_to.is_some()));
    let idle = status.workloads.iter().all(|w| w.operation.is_none());
    let reachable = status
        .workloads
        .iter()
        .all(|w| w.address.as_ref().is_none_or(|a| a.held));
    reply.complete && reachable && status.condition == Condition::Healthy && gates && idle
}
