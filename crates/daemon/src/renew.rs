//! What may change while the daemon runs: certificates, what was revoked, tokens. Taken up when the
//! files change, or at once on SIGHUP; where one of the node's own cannot be read nothing changes,
//! and it is said. And what of them is about to end, or may be read by others.

use crate::about::Own;
use crate::arguments::Run;
use crate::http::Service;
use crate::lock::write;
use crate::peers::Renewal;
use crate::tls::{self, HttpCertificate, Identity};
use crate::tokens::Tokens;
use crate::wiring::Servers;
use anyhow::{Context, Result};
use karst_core::spec::secret_files;
use karst_core::spec::{Finding, FindingKind, Severity, Spec};
use std::fs::Metadata;
use std::io::ErrorKind;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};
use tokio::signal::unix::{SignalKind, signal};

/// How often it is looked whether a file is another.
const LOOK: Duration = Duration::from_secs(5);
/// A certificate that ends within this time is a finding.
const SOON: Duration = Duration::from_secs(30 * 24 * 3_600);

/// Where everything is.
pub struct Files {
    pub tls: PathBuf,
    pub tokens: PathBuf,
    pub history_password: Option<PathBuf>,
}

impl Files {
    pub fn of(run: &Run) -> Self {
        let (tls, tokens) = (run.tls.clone(), run.tokens.clone());
        Self {
            tls,
            tokens,
            history_password: run.history_password.clone(),
        }
    }
}

/// Who is told.
pub struct Users {
    pub peers: Renewal,
    pub http: HttpCertificate,
    pub service: actix_web::web::Data<Service>,
    pub servers: Servers,
    pub own: Own,
}

pub fn read_tokens(path: &Path) -> Result<Tokens> {
    let text =
        std::fs::read_to_string(path).with_context(|| format!("tokens {}", path.display()))?;
    Tokens::parse(&text).map_err(|e| anyhow::anyhow!("tokens {}: {e}", path.display()))
}

/// Until the daemon ends.
pub async fn run(files: Files, users: Users) {
    let watched = tls::FILES
        .iter()
        .map(|name| files.tls.join(name))
        .chain([files.tokens.clone()]);
    let watched: Vec<PathBuf> = watched.collect();
    let mut stamps = stamps_of(&watched);
    let mut asked = signal(SignalKind::hangup()).ok();
    let mut trouble = None;
    loop {
        *write(&users.own) = findings(
            &files,
            &users.service.spec(),
            users.service.me.as_str(),
            trouble.as_ref(),
        );
        let hangup = async {
            match &mut asked {
                Some(asked) => drop(asked.recv().await),
                None => std::future::pending().await,
            }
        };
        let told = tokio::select! {
            () = tokio::time::sleep(LOOK) => false,
            () = hangup => true,
        };
        let now = stamps_of(&watched);
        if told || now != stamps {
            stamps = now;
            trouble = take_up(&files, &users)
                .await
                .err()
                .map(|error| format!("{error:#}"));
            match &trouble {
                None => tracing::info!("certificates and tokens are read again"),
                Some(trouble) => tracing::error!(%trouble, "what changed is not taken up"),
            }
        }
    }
}

/// A renewal was cut short between a key and its certificate. The certificate lies beside the old one
/// and takes its place: a key with another one's certificate starts no daemon.
///
/// # Errors
/// If it cannot be put there.
pub fn finish(tls: &Path) -> Result<()> {
    for (key, certificate) in [("server.key", "server.pem"), ("node.key", "node.pem")] {
        let (key, now) = (tls.join(key), tls.join(certificate));
        let next = tls.join(format!("{certificate}.next"));
        if !tls::fit(&key, &now) && tls::fit(&key, &next) {
            let of = || format!("{}: a renewal that was cut short", next.display());
            std::fs::rename(&next, &now).with_context(of)?;
            let dir = std::fs::File::open(tls).with_context(of)?;
            dir.sync_all().with_context(of)?;
            tracing::warn!(certificate = %now.display(), "a renewal was cut short; it is finished");
        }
    }
    Ok(())
}

async fn take_up(files: &Files, users: &Users) -> Result<()> {
    // All of it before any of it is taken up.
    let (identity, tokens) = (Identity::load(&files.tls)?, read_tokens(&files.tokens)?);
    users.http.renew(&identity)?;
    users.peers.renew(&identity)?;
    *write(&users.service.identity) = Arc::new(identity);
    *write(&users.service.tokens) = tokens;
    for server in users.servers.all() {
        server.renew_certificates().await?;
    }
    Ok(())
}

/// What tells one content of a file from another.
type Stamp = Option<(SystemTime, u64, u64)>;

fn stamps_of(files: &[PathBuf]) -> Vec<Stamp> {
    let stamp = |path: &PathBuf| {
        let metadata = std::fs::metadata(path).ok()?;
        Some((metadata.modified().ok()?, metadata.len(), metadata.ino()))
    };
    files.iter().map(stamp).collect()
}

fn findings(files: &Files, spec: &Spec, me: &str, trouble: Option<&String>) -> Vec<Finding> {
    let mut found = Vec::new();
    if let Some(trouble) = trouble {
        let what = format!(
            "{me} has not taken up all that changed of its certificates and tokens: {trouble}"
        );
        found.push(finding(
            FindingKind::ChangeNotTaken,
            me,
            what,
            "put the file right; it is taken up when it changes",
        ));
    }
    found.extend(of_certificates(files, me));
    found.extend(of_secrets(files, spec, me));
    found.sort_by(|a, b| a.what.cmp(&b.what));
    found.dedup();
    found
}

fn finding(kind: FindingKind, me: &str, what: String, remedy: &str) -> Finding {
    Finding {
        kind,
        severity: Severity::Warning,
        path: vec!["node".into(), me.into()],
        what,
        remedy: remedy.into(),
    }
}

/// Those that end soon, or cannot be looked at.
fn of_certificates(files: &Files, me: &str) -> Vec<Finding> {
    let mut found = Vec::new();
    let own = "karst node renew, on its host: new ones are taken up without a restart";
    let ca =
        "karst ca renew, on the host that has its key: another one takes its place step by step";
    for (name, remedy) in [("ca.pem", ca), ("node.pem", own), ("server.pem", own)] {
        let path = files.tls.join(name);
        let what = match tls::left(&path) {
            Ok(Some(left)) if left < SOON => {
                format!(
                    "ends in {} days; without it nobody connects",
                    left.as_secs() / (24 * 3_600)
                )
            }
            Ok(_) => continue,
            Err(error) => format!("cannot be read, so nobody knows when it ends: {error:#}"),
        };
        let what = format!("{} of {me} {what}", path.display());
        found.push(finding(FindingKind::CertificateEnds, me, what, remedy));
    }
    found
}

/// Those that others may read.
fn of_secrets(files: &Files, spec: &Spec, me: &str) -> Vec<Finding> {
    let mut found = Vec::new();
    let keys = [
        "node.key",
        "server.key",
        "ca.key",
        "ca-next.key",
        "joining.json",
    ];
    let keys = keys.map(|name| files.tls.join(name));
    let secrets = secret_files(spec).into_iter().map(PathBuf::from);
    let others_read = |m: &Metadata| m.mode() & 0o077 != 0;
    for path in keys
        .into_iter()
        .chain(secrets)
        .chain([files.tokens.clone()])
        .chain(files.history_password.clone())
    {
        match std::fs::metadata(&path) {
            Ok(metadata) if others_read(&metadata) => {
                let what = format!(
                    "others may read {} on {me}, which holds a secret",
                    path.display()
                );
                found.push(finding(
                    FindingKind::SecretReadable,
                    me,
                    what,
                    "chmod 0600, and make a new secret if somebody may have read it",
                ));
            }
            Err(error) if error.kind() != ErrorKind::NotFound => {
                let what = format!(
                    "nobody knows who may read {} on {me}, which holds a secret: {error}",
                    path.display()
                );
                found.push(finding(
                    FindingKind::SecretReadable,
                    me,
                    what,
                    "make it readable for the daemon's user alone, chmod 0600",
                ));
            }
            _ => {}
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_api::pki::{Authority, Purpose, ask};

    /// The power goes between any two of a renewal's renames: the daemon starts with the old pair or
    /// with the new one.
    #[test]
    fn a_renewal_that_was_cut_short_is_finished() {
        let dir = tempfile::tempdir().unwrap();
        let ca = Authority::make("skerry").unwrap();
        let pair = || {
            let asked = ask("doline").unwrap();
            let certificate = ca
                .issue(&asked.request, "doline", &[], Purpose::Node)
                .unwrap();
            (asked.key, certificate)
        };
        let (old, new) = (pair(), pair());
        let put = |name: &str, text: &str| std::fs::write(dir.path().join(name), text).unwrap();
        let read = |name: &str| std::fs::read_to_string(dir.path().join(name)).unwrap();
        put("ca.pem", &ca.certificate);
        for (key, left) in [(&old.0, &old), (&new.0, &new)] {
            put("node.key", key);
            put("node.pem", &old.1);
            put("node.pem.next", &new.1);
            finish(dir.path()).unwrap();
            assert_eq!((read("node.key"), read("node.pem")), *left);
            Identity::load(dir.path()).unwrap();
        }
    }
}
