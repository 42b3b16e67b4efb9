//! One replica's server: the actions, the starts and stops, and what is seen of it. What is the
//! same for every program is here; the rest is its driver's.

use crate::driver::{Driver, Life, Start};
pub use crate::driver::{Reach, Target};
use crate::host::{Host, exit_of};
use crate::lines::Lines;
use crate::postgres::{self, Postgres};
use crate::site::{Placed, SiteError};
use crate::trouble::{Result, Trouble, until};
use karst_core::replica::{Action, Done, Observation, Presence};
use karst_core::spec::WorkloadSpec;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// How long a start may take, recovery included.
const START_LIMIT: Duration = Duration::from_secs(120);
/// How long a server that somebody else started may take to stop: its clients end first.
const ADOPT_LIMIT: Duration = Duration::from_secs(60);

#[derive(Debug)]
pub struct Server {
    host: Arc<Host>,
    driver: Box<dyn Driver>,
    /// Why this run of the server ended, as it said itself.
    ended: Mutex<Option<String>>,
    /// Whether the last look found a server that Karst did not start.
    strange: AtomicBool,
}

/// What clients of that program's kind paste to connect: each kind of client with its string.
pub fn connections(driver: &str, to: &[Target], reach: Reach) -> Vec<(&'static str, String)> {
    if driver == "postgres" {
        return postgres::strings(to, reach).into();
    }
    let addresses: Vec<String> = to.iter().map(ToString::to_string).collect();
    vec![("address", addresses.join(","))]
}

impl Server {
    /// The server of this node's replica, kept by the driver that the spec names.
    ///
    /// # Errors
    /// What the driver lacks in the spec, or that there is no such driver.
    pub fn of(placed: Placed<'_>) -> std::result::Result<Self, SiteError> {
        Ok(match placed.spec.driver.as_str() {
            "postgres" => {
                let (host, driver) = Postgres::of(placed)?;
                Self::new(host, Box::new(driver))
            }
            "lines" => {
                let (host, driver) = Lines::of(placed)?;
                Self::new(host, Box::new(driver))
            }
            other => {
                return Err(SiteError::NoDriver {
                    workload: placed.workload.clone(),
                    driver: other.into(),
                    known: "postgres, lines".into(),
                });
            }
        })
    }

    pub fn new(host: Arc<Host>, driver: Box<dyn Driver>) -> Self {
        Self {
            host,
            driver,
            ended: Mutex::default(),
            strange: AtomicBool::default(),
        }
    }

    /// Whether its programs are there.
    ///
    /// # Errors
    /// Which of them is not, in words.
    pub fn lacks(&self) -> std::result::Result<(), String> {
        let missing = self.driver.programs().into_iter().find(|p| !p.exists());
        missing.map_or(Ok(()), |path| {
            Err(format!("{} is not there", path.display()))
        })
    }

    /// What stands in the way of keeping it by this spec, each with what to do about it.
    pub async fn obstacles(&self, before: Option<&WorkloadSpec>) -> Vec<String> {
        match self.lacks() {
            Err(why) => vec![format!("{why}: install it, or say in the spec where it is")],
            Ok(()) => self.driver.obstacles(before).await,
        }
    }

    /// Of its program, as the running server said last.
    pub fn version(&self) -> Option<String> {
        self.driver.version()
    }

    pub fn data_dir(&self) -> &Path {
        &self.host.site.data
    }

    /// Carries out one action. Dropping the future abandons it at the next await; every action may
    /// be repeated.
    ///
    /// # Errors
    /// What the server or its programs said, in words.
    pub async fn act(&self, action: Action) -> Result<Done> {
        let driver = &self.driver;
        self.may_touch(&action)?;
        match action {
            Action::Create => self.create().await?,
            Action::StartPrimary => self.start(Start::Primary).await?,
            Action::StartStandby { upstream } => {
                // One that is started while its upstream is unknown follows nobody until it is
                // told.
                let upstream = Some(upstream).filter(|u| *u != self.host.site.me);
                self.start(Start::Standby { upstream }).await?;
            }
            Action::Checkpoint => driver.checkpoint().await?,
            Action::StopClean { limit } => {
                let clean_at = self.stop_clean(limit).await?;
                return Ok(Done::Stopped { clean_at });
            }
            Action::StopNow => {
                self.host.end_all().await?;
                return Ok(Done::Stopped { clean_at: None });
            }
            Action::Promote { after } => {
                return driver.promote(after.as_ref()).await.map(Done::Promoted);
            }
            Action::Settle { enough } => {
                let at = driver.settle(enough).await?;
                return Ok(Done::Settled { at });
            }
            Action::Repoint { upstream } => driver.repoint(upstream).await?,
            Action::Rewind { to } => return driver.rewind(&to).await,
            Action::Clone { from } => driver.copy_from(&from).await?,
            Action::Restore { from, to } => return driver.restore(from.as_ref(), &to).await,
            Action::SetSync(setting) => driver.set_sync(setting).await?,
            Action::Mark { label } => {
                let at = driver.mark(&label).await?;
                return Ok(Done::Marked { at });
            }
            Action::HoldBack { upstream, mark } => {
                if self.host.nothing_runs()? {
                    let upstream = Some(upstream).filter(|u| *u != self.host.site.me);
                    let label = mark.label.clone();
                    self.start(Start::HeldBack { upstream, label }).await?;
                }
                driver.hold_back(&mark).await?;
            }
        }
        Ok(Done::Ok)
    }

    /// What somebody else started is left alone, unless the spec says that it is Karst's from now on. A
    /// stop at once takes authority away, and waits for no disk (F5): it goes by the last look.
    fn may_touch(&self, action: &Action) -> Result<()> {
        let strange = match action {
            Action::StopNow => self.strange.load(Ordering::Relaxed),
            _ if self.host.site.adopt => false,
            _ => self.is_strange()?,
        };
        if self.host.site.adopt || !strange {
            return Ok(());
        }
        Err(Trouble::Wrong(format!(
            "a server that Karst did not start runs on {}: `adopt = true` in the spec lets Karst stop it and start it as its own",
            self.data_dir().display()
        )))
    }

    fn looks_strange(&self) -> bool {
        let strange = self.driver.is_strange();
        self.strange.store(strange, Ordering::Relaxed);
        strange
    }

    fn is_strange(&self) -> Result<bool> {
        Ok(self.driver.is_strange() && !self.host.nothing_runs()?)
    }

    async fn create(&self) -> Result<()> {
        if self.is_strange()? {
            self.stop_clean(ADOPT_LIMIT).await?;
        }
        self.driver.create().await?;
        if self.host.nothing_runs()? {
            self.start(Start::Primary).await?;
        }
        self.driver.furnish().await
    }

    async fn start(&self, start: Start) -> Result<()> {
        if !self.host.nothing_runs()? {
            return Err(Trouble::Wrong(
                "something of the server runs already".into(),
            ));
        }
        self.note_end(None);
        let launch = self.driver.prepare(start).await?;
        let program = &launch.program;
        let mut child = self.host.spawn(program, &launch.arguments)?;
        until("the start", START_LIMIT, || {
            let exited = child.try_wait();
            async move {
                match exited {
                    Ok(Some(status)) => Err(self.failed_start(program, status)),
                    _ => Ok(self.driver.answers().await),
                }
            }
        })
        .await?;
        tokio::spawn(async move {
            let _ = child.wait().await;
        });
        Ok(())
    }

    fn failed_start(&self, program: &Path, status: std::process::ExitStatus) -> Trouble {
        let why = self.reason(Life::NeverUp);
        let why = why.map_or(String::new(), |why| format!("; {why}"));
        let log = self.host.own_words();
        let name = program.file_name().unwrap_or(program.as_os_str());
        Trouble::Program {
            program: name.to_string_lossy().into_owned(),
            output: format!("{status}{why}; its log is {}", log.display()),
        }
    }

    /// A clean stop; what it leaves after the limit is ended. The end of the log if it was clean.
    async fn stop_clean(&self, limit: Duration) -> Result<Option<u64>> {
        if let Some(first) = self.host.first() {
            self.driver.ask_to_stop().await?;
            if tokio::time::timeout(limit, exit_of(first)).await.is_err() {
                // It may have written on: what is in its files meanwhile is no end of anything.
                self.host.end_all().await?;
                return Ok(None);
            }
        }
        // A server that stopped cleanly wrote so before its first process ended.
        let (ended, end) = tokio::join!(self.host.end_all(), self.driver.clean_end());
        ended?;
        end
    }

    fn reason(&self, life: Life) -> Option<String> {
        self.driver.reason(&self.host.last_words()?, life)
    }

    fn note_end(&self, why: Option<String>) {
        *self
            .ended
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner) = why;
    }

    /// What is so after a stop, which has verified that nothing is left.
    pub fn stopped(&self) -> Observation {
        Observation::down(self.driver.data())
    }

    /// What is so in the moment after [`Server::exited`] returned.
    pub fn just_exited(&self) -> Observation {
        let trouble = self.reason(Life::Served);
        self.note_end(trouble.clone());
        Observation {
            presence: Presence::Exited,
            trouble,
            ..self.stopped()
        }
    }

    /// What is so now.
    pub async fn observe(&self) -> Observation {
        let seen = self.look().await;
        Observation {
            copied: self.host.copied(),
            run: self.host.run_now().filter(|_| seen.runs()),
            identity: self.driver.identity(),
            can_hold_back: self.driver.can_hold_back(),
            ..seen
        }
    }

    async fn look(&self) -> Observation {
        // While the first process runs nobody has to look for the others: that costs a walk through
        // all of the host's. And whoever cannot look does not know that none is there.
        if self.host.first().is_none() && self.host.nothing_runs().is_ok_and(|nothing| nothing) {
            let ended = self.ended.lock();
            let trouble = ended
                .unwrap_or_else(std::sync::PoisonError::into_inner)
                .clone();
            return Observation {
                trouble,
                ..self.stopped()
            };
        }
        let seen = if self.host.has_lost_first() {
            self.just_exited()
        } else if self.looks_strange() {
            Observation {
                presence: Presence::Runs,
                strange: true,
                ..self.stopped()
            }
        } else {
            self.driver.probe().await
        };
        // Its children answer for a moment longer, as if nothing had happened.
        if self.host.has_lost_first() {
            self.just_exited()
        } else {
            seen
        }
    }

    /// Waits until the server's first process exits; for ever while none runs.
    pub async fn exited(&self) {
        self.host.exited().await;
    }

    /// Ends what a server whose first process has exited left behind (C1).
    pub async fn end_rest(&self) {
        if let Err(error) = self.host.end_all().await {
            tracing::error!(%error, "what the server left behind is still there");
        }
    }

    /// Takes up what is new of the certificates: who connects from here on sees it.
    ///
    /// # Errors
    /// If a file cannot be read or put where the server finds it.
    pub async fn renew_certificates(&self) -> Result<()> {
        self.driver.renew_certificates().await
    }
}
