//! What goes wrong in a driver's action, and waiting for something for so long and no longer.

use std::time::Duration;

/// What went wrong in an action, for people: what, where, and what the server or program said.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Trouble {
    #[error("{what}: {source}")]
    Io {
        what: String,
        source: std::io::Error,
    },
    #[error("the server says: {0}")]
    Server(Box<dyn std::error::Error + Send + Sync>),
    #[error("{program} failed: {output}")]
    Program { program: String, output: String },
    #[error("{0}")]
    Wrong(String),
    #[error("{what} took longer than {limit:?}")]
    Late { what: &'static str, limit: Duration },
}

impl Trouble {
    pub(crate) fn io(what: impl Into<String>) -> impl FnOnce(std::io::Error) -> Self {
        let what = what.into();
        move |source| Self::Io { what, source }
    }
}

impl Trouble {
    /// This process has no descriptor left, or the machine has none.
    fn is_want_of_descriptors(&self) -> bool {
        let code = match self {
            Self::Io { source, .. } => source.raw_os_error(),
            Self::Server(error) => match error.downcast_ref::<sqlx::Error>() {
                Some(sqlx::Error::Io(error)) => error.raw_os_error(),
                _ => None,
            },
            Self::Program { .. } | Self::Wrong(_) | Self::Late { .. } => None,
        };
        let want = [rustix::io::Errno::MFILE, rustix::io::Errno::NFILE];
        code.is_some_and(|code| want.iter().any(|errno| errno.raw_os_error() == code))
    }
}

/// A crowd of clients comes and goes, and leaves a descriptor sooner than this.
const DESCRIPTOR_LIMIT: Duration = Duration::from_secs(2);

/// Runs an act that has one try only, and waits while the process has no free descriptor. A promotion
/// without a free one would fail, and end a server in good order.
pub(crate) async fn patiently<T, F>(mut act: impl FnMut() -> F) -> Result<T>
where
    F: Future<Output = Result<T>>,
{
    let since = std::time::Instant::now();
    loop {
        match act().await {
            Err(trouble)
                if trouble.is_want_of_descriptors() && since.elapsed() < DESCRIPTOR_LIMIT =>
            {
                tokio::time::sleep(POLL).await;
            }
            done => return done,
        }
    }
}

pub type Result<T> = std::result::Result<T, Trouble>;

/// Between two looks at something that is about to happen.
pub(crate) const POLL: Duration = Duration::from_millis(2);

/// Asks again and again until `ready` says so.
pub(crate) async fn until<F>(
    what: &'static str,
    limit: Duration,
    mut ready: impl FnMut() -> F,
) -> Result<()>
where
    F: Future<Output = Result<bool>>,
{
    within(what, limit, async {
        while !ready().await? {
            tokio::time::sleep(POLL).await;
        }
        Ok(())
    })
    .await
}

pub(crate) async fn within<T>(
    what: &'static str,
    limit: Duration,
    waiting: impl Future<Output = Result<T>>,
) -> Result<T> {
    tokio::time::timeout(limit, waiting)
        .await
        .unwrap_or(Err(Trouble::Late { what, limit }))
}
