//! What people do on the clients' host.

use anyhow::{Context, Result};
use karst_api::Endpoint;
use karst_lab::layout::{CLIENT, CLIENT_ROLE, DATABASE, SERVER_PROGRAMS, WORKLOAD};
use karst_lab::{Lab, find};
use std::path::Path;
use std::process::{Command, Stdio};

/// What `karst endpoint show` prints for psql.
pub async fn pasted(lab: &Lab, purpose: &str) -> Result<String> {
    let all: Vec<Endpoint> = lab.client.endpoints(WORKLOAD).await?;
    let mut fitting = all.into_iter().filter(|e| e.client == "psql");
    let found = fitting.find(|e| e.purpose == purpose);
    let text = found
        .with_context(|| format!("a string for {purpose}"))?
        .text;
    let text = text
        .strip_prefix("psql \"")
        .and_then(|t| t.strip_suffix('"'));
    let text = text.context("what psql takes")?;
    Ok(text
        .replace("DATABASE", DATABASE)
        .replace("USER", CLIENT_ROLE))
}

/// On the clients' host, as whoever pasted it.
pub fn psql(lab: &Lab, string: &str, query: &str) -> Result<Command> {
    let mut psql = find::enter(&lab.layout, CLIENT)?;
    psql.arg(format!("{SERVER_PROGRAMS}/psql"))
        .args([
            "-X",
            "-A",
            "-t",
            "-v",
            "ON_ERROR_STOP=1",
            string,
            "-c",
            query,
        ])
        .env("PGPASSWORD", lab.layout.client_password()?)
        .stdin(Stdio::null());
    Ok(psql)
}

/// The status with which a node answers by its own socket; a URL is among the words, `http://node/...`.
pub fn code_of(socket: &Path, words: &[&str]) -> Result<String> {
    let mut curl = Command::new("curl");
    curl.args(["-s", "-o", "/dev/null", "-w", "%{http_code}"])
        .args(["--max-time", "10"])
        .args(words);
    let output = curl.arg("--unix-socket").arg(socket).output()?;
    Ok(String::from_utf8_lossy(&output.stdout).into_owned())
}
