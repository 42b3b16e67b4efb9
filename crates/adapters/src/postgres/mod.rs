//! The driver of PostgreSQL 15 or newer with streaming replication: through SQL and the server's
//! own programs.
//!
//! Configuration is written by Karst at every start: the data directory's `postgresql.conf` holds
//! one line that includes a file under the runtime directory, so that nothing starts the server
//! behind Karst's back (D8), and that file holds everything else. A server starts with a
//! synchronous setting that lets no commit return until the epoch is opened (D4).

mod adopt;
mod backup;
mod clients;
mod clone;
mod config;
mod keeper;
mod lsn;
mod paste;
mod plan;
mod point;
mod primary;
mod probe;
mod rewind;
mod scram;
mod settings;
mod standby;
mod start;
mod words;

pub use keeper::Postgres;
pub use lsn::Lsn;
pub use paste::strings;

use crate::driver::{Driver, Launch, Life, Start};
use crate::trouble::Result;
use async_trait::async_trait;
use karst_core::replica::{Data, Done, Observation, Promotion, SyncSetting};
use karst_core::safetypoint::Mark;
use karst_core::spec::WorkloadSpec;
use karst_core::{History, NodeId, Position};
use rustix::process::Signal;
use std::path::{Path, PathBuf};

#[async_trait]
impl Driver for Postgres {
    fn data(&self) -> Data {
        self.data_kind()
    }

    fn identity(&self) -> Option<String> {
        self.system_identifier()
    }

    fn is_strange(&self) -> bool {
        !self.is_ours()
    }

    async fn obstacles(&self, before: Option<&WorkloadSpec>) -> Vec<String> {
        let mut all = self.refused_settings(before).await;
        if before.is_none() {
            all.extend(self.obstacles_here().await);
        }
        all
    }

    async fn create(&self) -> Result<()> {
        self.make_data().await
    }

    async fn furnish(&self) -> Result<()> {
        self.make_roles().await
    }

    async fn prepare(&self, start: Start) -> Result<Launch> {
        self.prepare_start(start)
    }

    async fn answers(&self) -> bool {
        self.value::<bool>("select pg_is_in_recovery()")
            .await
            .is_ok()
    }

    async fn probe(&self) -> Observation {
        let taken = self.take_up_spec().await;
        let mut seen = self.look_at_server().await;
        // Tried again with the next look; meanwhile people are told why nothing of it is so.
        if let Err(error) = taken
            && seen.trouble.is_none()
        {
            seen.trouble = Some(format!("the spec's settings are not taken up yet: {error}"));
        }
        seen
    }

    fn programs(&self) -> Vec<PathBuf> {
        let all = [
            "postgres",
            "initdb",
            "pg_controldata",
            "pg_basebackup",
            "pg_rewind",
        ];
        all.map(|name| self.plan.programs.join(name)).into()
    }

    fn version(&self) -> Option<String> {
        self.remember(|m| m.version.clone())
    }

    async fn checkpoint(&self) -> Result<()> {
        self.sql("checkpoint").await
    }

    /// A fast stop (manual, section 19.5).
    async fn ask_to_stop(&self) -> Result<()> {
        self.host.signal(Signal::INT, "the stop signal")
    }

    async fn clean_end(&self) -> Result<Option<u64>> {
        let end = start::clean_end(&self.control().await?);
        Ok(end.map(|end| end.0))
    }

    async fn settle(&self, enough: Option<u64>) -> Result<Position> {
        self.settle_at(enough.map(Lsn)).await
    }

    async fn promote(&self, after: Option<&History>) -> Result<Promotion> {
        self.end_recovery(after).await
    }

    async fn set_sync(&self, setting: SyncSetting) -> Result<()> {
        self.wait_for(setting).await
    }

    async fn repoint(&self, upstream: NodeId) -> Result<()> {
        self.follow(upstream).await
    }

    async fn rewind(&self, to: &NodeId) -> Result<Done> {
        self.rewind_to(to).await.map(|()| Done::Ok)
    }

    async fn copy_from(&self, from: &NodeId) -> Result<()> {
        self.back_up(from).await
    }

    async fn restore(&self, from: &Path, primary: &NodeId) -> Result<Done> {
        self.restore_from(from, primary).await
    }

    fn can_hold_back(&self) -> bool {
        true
    }

    async fn mark(&self, label: &str) -> Result<Position> {
        self.write_point(label).await
    }

    async fn hold_back(&self, mark: &Mark) -> Result<()> {
        self.stay_at(mark).await
    }

    fn reason(&self, log: &str, life: Life) -> Option<String> {
        words::reason(log, life)
    }

    async fn renew_certificates(&self) -> Result<()> {
        self.write_passfile()?;
        if self.host.first().is_some() {
            self.reload().await
        } else {
            Ok(())
        }
    }
}
