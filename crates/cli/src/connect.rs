//! Which servers, with which token.

use crate::arguments::Global;
use anyhow::{Context, Result, bail};
use karst_api::Client;
use std::path::{Path, PathBuf};

/// Where the daemon of this host listens: whoever may open it needs no token.
const SOCKET: &str = "/run/karst/api.sock";

/// From the command line and environment, then from the client configuration.
pub fn client(global: &Global) -> Result<Client> {
    let config = configuration(global.config.as_deref())?;
    let given = |key: &str| config.as_ref().and_then(|c| c.get(key));
    let mut servers = global.servers.clone();
    if servers.is_empty() {
        let list = given("nodes").and_then(|i| i.as_array());
        servers = list
            .into_iter()
            .flatten()
            .filter_map(|v| v.as_str().map(String::from))
            .collect();
    }
    if servers.is_empty() {
        let socket = Path::new(SOCKET);
        if socket.exists() {
            return Ok(Client::local(socket)?);
        }
        bail!(
            "no node is known: use --node ADDRESS, KARST_NODES, or a client configuration (--config, KARST_CONFIG); no daemon \
             runs on this host ({SOCKET} is not there)"
        );
    }
    if let [only] = servers.as_slice()
        && let Some(socket) = only.strip_prefix("unix:")
    {
        return Ok(Client::local(Path::new(socket))?);
    }
    let path = |key: &str| given(key).and_then(|i| i.as_str()).map(PathBuf::from);
    let token = match global.token_file.clone().or_else(|| path("token-file")) {
        Some(file) => std::fs::read_to_string(&file)
            .with_context(|| format!("token file {}", file.display()))?,
        None => {
            bail!(
                "no token is known: use --token-file, KARST_TOKEN_FILE, or `token-file` in the client configuration"
            )
        }
    };
    let ca = global.ca.clone().or_else(|| path("ca"));
    let ca = ca
        .map(|f| std::fs::read_to_string(&f).with_context(|| format!("CA {}", f.display())))
        .transpose()?;
    Ok(Client::new(&servers, token.trim(), ca.as_deref())?)
}

fn configuration(given: Option<&Path>) -> Result<Option<toml_edit::DocumentMut>> {
    let home = std::env::var_os("HOME").map(|h| PathBuf::from(h).join(".config/karst/client.toml"));
    let file = match (given, home) {
        (Some(file), _) => file.to_path_buf(),
        (None, Some(file)) if file.exists() => file,
        _ => return Ok(None),
    };
    let text = std::fs::read_to_string(&file)
        .with_context(|| format!("client configuration {}", file.display()))?;
    Ok(Some(text.parse().with_context(|| {
        format!("client configuration {}", file.display())
    })?))
}
