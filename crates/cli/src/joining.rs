//! The first node, and the next ones: what a host needs to be a node is made, or asked of the others,
//! and written where the daemon looks for it. Nothing that is there is written over.

use crate::act::approved;
use crate::arguments::{Added, Place};
use crate::ending::Ending;
use crate::intents::{self, Begun};
use crate::output::{Format, print, remark, say, utc};
use anyhow::{Context, Result, bail, ensure};
use karst_api::core::NodeId;
use karst_api::invitation::{Joins, Line, Proof};
use karst_api::pki::{Authority, Purpose, ask, ask_again, print_of, renewal, signed};
use karst_api::{
    Client, ClientError, InviteBody, JoinBody, JoinReply, ProblemType, RenewBody, specfile,
};
use serde::{Deserialize, Serialize};
use std::fs::OpenOptions;
use std::io::{BufRead as _, ErrorKind, IsTerminal as _, Read as _, Write as _};
use std::net::IpAddr;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Component, Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};
use toml_edit::{DocumentMut, Item, Table, value};

/// The daemon forms the cluster by itself where it finds this, once.
const FORMS_ALONE: &str = "forms-alone";

/// Files that are made, none of which is there.
struct Files(Vec<(PathBuf, String, u32)>);

impl Files {
    /// The new host has no such files.
    fn untouched<'a>(paths: impl IntoIterator<Item = &'a PathBuf>) -> Result<()> {
        for path in paths {
            // A link that leads nowhere is in the way, too.
            let there = std::fs::symlink_metadata(path);
            ensure!(
                there.is_err_and(|error| error.kind() == ErrorKind::NotFound),
                "nothing was written: {} is there; move it away if this host is to be a node of another cluster",
                path.display()
            );
        }
        Ok(())
    }

    fn add(&mut self, path: PathBuf, text: impl Into<String>, mode: u32) {
        self.0.push((path, text.into(), mode));
    }

    /// All of them or none.
    fn write(&self) -> Result<()> {
        Self::untouched(self.0.iter().map(|(path, ..)| path))?;
        for (path, text, mode) in &self.0 {
            let dir = path.parent().unwrap_or(Path::new("/"));
            std::fs::create_dir_all(dir).with_context(|| dir.display().to_string())?;
            let mut options = OpenOptions::new();
            let made = options.write(true).create_new(true).mode(*mode).open(path);
            let mut file = made.with_context(|| path.display().to_string())?;
            file.write_all(text.as_bytes())?;
            file.sync_all()?;
        }
        Ok(())
    }
}

/// Puts files in the place of others, one after the other in this order: nobody reads half of one.
pub fn replace(files: &[(PathBuf, &str, u32)]) -> Result<()> {
    let mut next = Vec::new();
    for (path, text, mode) in files {
        let of = || path.display().to_string();
        let name = path.file_name().with_context(of)?.display();
        let new = path.with_file_name(format!("{name}.next"));
        // What is there was never taken up.
        match std::fs::remove_file(&new) {
            Err(error) if error.kind() != ErrorKind::NotFound => {
                return Err(error).with_context(of);
            }
            _ => {}
        }
        let mut options = OpenOptions::new();
        let made = options.write(true).create_new(true).mode(*mode).open(&new);
        let mut file = made.with_context(of)?;
        file.write_all(text.as_bytes()).with_context(of)?;
        file.sync_all().with_context(of)?;
        next.push((new, path));
    }
    for (new, path) in next {
        let of = || path.display().to_string();
        std::fs::rename(&new, path).with_context(of)?;
        let dir = path.parent().with_context(of)?;
        std::fs::File::open(dir)
            .and_then(|dir| dir.sync_all())
            .with_context(of)?;
    }
    Ok(())
}

pub fn tls(place: &Place, name: &str) -> PathBuf {
    place.dir.join("tls").join(name)
}

/// On the first host: the cluster's identity, and what this node needs. It is up alone afterwards;
/// the others of the spec are expected.
pub fn init(file: &Path, place: &Place, format: Format) -> Result<Ending> {
    let text = std::fs::read_to_string(file).with_context(|| format!("spec {}", file.display()))?;
    let read = specfile::read(&text);
    let errors: Vec<String> = read
        .errors()
        .map(|e| format!("{}:{e}", file.display()))
        .collect();
    let Some(spec) = read.spec else {
        bail!(
            "nothing was written: the spec is refused:\n{}",
            errors.join("\n")
        );
    };
    let me = match &place.node {
        Some(node) => node.clone(),
        None => host_name()?,
    };
    let name = NodeId::from(me.as_str());
    let known: Vec<&str> = spec.nodes.keys().map(|n| n.as_str()).collect();
    let Some(node) = spec.nodes.get(&name) else {
        bail!(
            "nothing was written: there is no node `{me}` in the spec; known: {}; say which one this host is with --as",
            known.join(", ")
        );
    };
    ensure!(
        node.votes > 0,
        "nothing was written: {me} has no vote in the spec, and forms nothing by itself"
    );
    let ca = Authority::make(&spec.cluster)?;
    let workloads = spec.workloads.values();
    let placed = workloads.flat_map(|w| {
        let replica = w.replicas.get(&name).map(|r| r.address.ip());
        replica
            .into_iter()
            .chain(w.gates.get(&name).map(|g| g.ip()))
    });
    let own = [Some(node.peer.ip()), node.api.map(|at| at.ip())];
    let mut addresses: Vec<IpAddr> = own.into_iter().flatten().chain(placed).collect();
    addresses.sort_unstable();
    addresses.dedup();
    let (own, server) = (ask(&me)?, ask(&me)?);
    let issue = |request: &str, purpose| ca.issue(request, &me, &addresses, purpose);
    let mut files = Files(Vec::new());
    files.add(place.dir.join("spec.toml"), text.as_str(), 0o644);
    files.add(tls(place, "ca.pem"), ca.certificate.as_str(), 0o644);
    files.add(tls(place, "ca.key"), ca.key.as_str(), 0o600);
    files.add(
        tls(place, "node.pem"),
        issue(&own.request, Purpose::Node)?,
        0o644,
    );
    files.add(tls(place, "node.key"), own.key, 0o600);
    files.add(
        tls(place, "server.pem"),
        issue(&server.request, Purpose::Server)?,
        0o644,
    );
    files.add(tls(place, "server.key"), server.key, 0o600);
    files.add(place.dir.join("tokens"), NO_TOKENS, 0o600);
    files.add(tls(place, FORMS_ALONE), "", 0o600);
    files.write()?;
    let others: Vec<&str> = known.into_iter().filter(|n| *n != me).collect();
    let text = format!(
        "{} is a cluster of one node, {me}, as soon as karstd and its deadman are started here. Next:\n  \
         karst doctor --as {me}          what this host lacks\n  \
         systemctl start karstd-deadman karstd\n  \
         karst status\n{}",
        spec.cluster,
        match others.as_slice() {
            [] => String::new(),
            others => format!(
                "Expected, each with its line: {}\n  karst node add {}\n",
                others.join(", "),
                others[0]
            ),
        }
    );
    if format == Format::Table {
        say(&text);
    }
    Ok(Ending::Done)
}

const NO_TOKENS: &str = "# Who may use the HTTP interface from elsewhere: NAME observe|operate|administer SHA256-IN-HEX\n";

fn host_name() -> Result<String> {
    let name = std::fs::read_to_string("/proc/sys/kernel/hostname").context("the host's name")?;
    Ok(name.trim().to_string())
}

/// Prints the line by which a host becomes a node; adds that to the spec first, where it is not there.
pub async fn add(client: &Client, added: &Added, format: Format) -> Result<Ending> {
    let now = client.spec().await?;
    let spec = specfile::read(&now.text)
        .spec
        .context("the spec in force")?;
    if !spec.nodes.contains_key(&NodeId::from(added.name.as_str())) {
        let text = with_node(&now.text, added)?;
        let consent = &added.change.consent;
        let typed = ("node", added.name.as_str());
        let why = added.change.why.clone();
        // A node is expected from then on: whoever waits for it here waits for ever.
        let begun = intents::begun(client, text, why, consent, typed, format).await?;
        let id = match begun {
            Begun::Not(ending) => return Ok(ending),
            Begun::As(id) => id,
        };
        // Nobody is invited who is not in the spec in force yet.
        let watched = client.watch(|reply| {
            let status = &reply.status;
            status.revision > now.revision || status.intents_over.iter().any(|over| over.id == id)
        });
        watched.await?;
    } else if !added.change.consent.yes && !approved("node", &added.name)? {
        bail!("nothing was changed: not approved");
    }
    let body = InviteBody {
        node: added.name.as_str().into(),
        for_seconds: added.time.map(|time| time.as_secs()),
    };
    let reply = client.invite(&body).await?;
    print(format, &reply, |reply| {
        format!(
            "On {}, until {}, once: `karst join`, and paste this line there\n\n{}\n",
            added.name,
            utc(reply.until),
            reply.line
        )
    })?;
    Ok(Ending::Done)
}

fn with_node(text: &str, added: &Added) -> Result<String> {
    let mut document: DocumentMut = text.parse().context("the spec in force")?;
    let (Some(zone), Some(peer)) = (&added.zone, &added.peer) else {
        bail!(
            "nothing was changed: there is no node `{}` in the spec; to add it, say --zone and --peer",
            added.name
        );
    };
    let mut node = Table::new();
    node["zone"] = value(zone);
    node["votes"] = value(i64::from(added.votes));
    node["peer"] = value(peer);
    if let Some(api) = &added.api {
        node["api"] = value(api);
    }
    let nodes = document.get_mut("node").and_then(Item::as_table_mut);
    let nodes = nodes.context("the spec in force has no nodes")?;
    nodes.insert(&added.name, Item::Table(node));
    Ok(document.to_string())
}

/// On a node's host: new keys, and certificates for them, in place of those that are there. The
/// daemon takes them up by itself.
pub async fn renew(client: &Client, place: &Place, format: Format) -> Result<Ending> {
    let me = match &place.node {
        Some(node) => node.clone(),
        None => host_name()?,
    };
    let there = tls(place, "node.pem");
    ensure!(
        there.exists(),
        "nothing was written: {} is not there, so that this host is no node yet; it joins with `karst join`",
        there.display()
    );
    let (own, server) = (ask(&me)?, ask(&me)?);
    let kept = |name: &str| {
        let path = tls(place, name);
        std::fs::read_to_string(&path).with_context(|| path.display().to_string())
    };
    let text = renewal(&me, &own.request, &server.request)?;
    let body = RenewBody {
        signature: signed(&kept("node.key")?, &text)?,
        certificate: kept("node.pem")?,
        request: own.request,
        server_request: server.request,
    };
    let reply = client.renew(&me, &body).await?;
    let crl = reply
        .crl
        .iter()
        .map(|list| (tls(place, "crl.pem"), list.as_str(), 0o644));
    let mut files: Vec<_> = crl.collect();
    // Whom to believe comes first. A key and the certificate of another one are refused: the daemon
    // waits for both.
    files.extend([
        (tls(place, "ca.pem"), reply.ca.as_str(), 0o644),
        (tls(place, "server.key"), server.key.as_str(), 0o600),
        (
            tls(place, "server.pem"),
            reply.server_certificate.as_str(),
            0o644,
        ),
        (tls(place, "node.key"), own.key.as_str(), 0o600),
        (tls(place, "node.pem"), reply.certificate.as_str(), 0o644),
    ]);
    replace(&files)?;
    remark(
        format,
        &format!(
            "{me} has new certificates in {}\n",
            place.dir.join("tls").display()
        ),
    );
    Ok(Ending::Done)
}

fn unix() -> u64 {
    let now = SystemTime::now().duration_since(UNIX_EPOCH);
    now.map_or(0, |since| since.as_secs())
}

/// The keys of a host that joins, as they are kept until it has. Its invitation is for one key: where
/// the answer is lost, or cannot be written, the same line is answered again with the same keys.
#[derive(Serialize, Deserialize)]
struct Keys {
    invitation: u64,
    node: String,
    server: String,
}

impl Keys {
    fn path(place: &Place) -> PathBuf {
        tls(place, "joining.json")
    }

    /// Those of an earlier try with this line, or new ones.
    fn of(line: &Line, place: &Place) -> Result<Self> {
        let path = Self::path(place);
        let at = || path.display().to_string();
        let kept = match std::fs::read(&path) {
            Err(error) if error.kind() == ErrorKind::NotFound => None,
            read => Some(serde_json::from_slice::<Self>(&read.with_context(at)?).with_context(at)?),
        };
        if let Some(kept) = kept.filter(|kept| kept.invitation == line.invitation) {
            return Ok(kept);
        }
        let keys = Self {
            invitation: line.invitation,
            node: ask(&line.node)?.key,
            server: ask(&line.node)?.key,
        };
        let dir = path.parent().with_context(at)?;
        std::fs::create_dir_all(dir).with_context(at)?;
        replace(&[(path.clone(), &serde_json::to_string(&keys)?, 0o600)])?;
        Ok(keys)
    }

    fn forget(place: &Place) -> Result<()> {
        let path = Self::path(place);
        std::fs::remove_file(&path).with_context(|| path.display().to_string())
    }
}

/// The line has a secret: it is read, and is no argument, which every user of the host could see in
/// the list of processes (proc(5), `cmdline`).
fn read_line(file: &Path) -> Result<Line> {
    let from = file.display().to_string();
    ensure!(
        !from.starts_with(Line::BEGINS),
        "nothing was written: a line has a secret, and what is on a command line is seen by every user of this host: \
         run `karst join` and paste the line, or name a file that has it"
    );
    let mut text = String::new();
    if from != "-" {
        text = std::fs::read_to_string(file).with_context(|| from.clone())?;
    } else {
        if std::io::stdin().is_terminal() {
            eprint!("The line that `karst node add` printed: ");
        }
        let read = std::io::stdin().lock().take(LONGEST_LINE);
        std::io::BufReader::new(read)
            .read_line(&mut text)
            .context("standard input")?;
    }
    Ok(text.parse()?)
}

/// Bytes; what a terminal takes as one line is shorter (termios(3), canonical mode).
const LONGEST_LINE: u64 = 64 * 1024;

/// A secret may be written below these directories. The node that answered names the path, and makes
/// nothing else on this host.
fn is_for_secrets(path: &Path, allowed: &[PathBuf]) -> bool {
    let is_plain = |part| matches!(part, Component::RootDir | Component::Normal(_));
    let below = |dir: &PathBuf| path.starts_with(dir) && path != dir;
    path.is_absolute() && path.components().all(is_plain) && allowed.iter().any(below)
}

/// The answer's secrets that are not on this host yet.
///
/// # Errors
/// If the node that answered is not to be believed: its CA is not the line's, or it names a path where
/// no secret is written.
fn missing_secrets(
    line: &Line,
    reply: &JoinReply,
    allowed: &[PathBuf],
) -> Result<Vec<(PathBuf, String)>> {
    ensure!(
        reply.ca == line.ca,
        "nothing was written: what answered gave another CA than the one of this line; if the cluster's CA has changed \
         since, make another line with `karst node add {}`",
        line.node
    );
    let mut missing = Vec::new();
    for (path, text) in &reply.secrets {
        let path = PathBuf::from(path);
        if path.exists() {
            continue;
        }
        ensure!(
            is_for_secrets(&path, allowed),
            "nothing was written: the cluster's spec refers to {}, where no secret is written; if it belongs there, say so \
             with --secrets {}",
            path.display(),
            path.parent().unwrap_or(Path::new("/")).display()
        );
        missing.push((path, text.clone()));
    }
    Ok(missing)
}

/// On the new host: asks the others for what it needs.
pub async fn join(
    file: &Path,
    place: &Place,
    secrets: &[PathBuf],
    format: Format,
) -> Result<Ending> {
    let line = read_line(file)?;
    if let Some(node) = &place.node {
        ensure!(
            *node == line.node,
            "nothing was written: this line is for {}, and this host is to be {node}",
            line.node
        );
    }
    let key = tls(place, "node.key");
    ensure!(
        !key.exists(),
        "nothing was written: {} is there, so that this host is a node already; move {} away if it is to join anew",
        key.display(),
        place.dir.display()
    );
    // An invitation is used up by the answer: what stands in the way is said before.
    let made = ["ca.pem", "crl.pem", "node.pem", "server.pem", "server.key"].map(|n| tls(place, n));
    let others = ["spec.toml", "tokens"].map(|name| place.dir.join(name));
    Files::untouched(made.iter().chain(&others))?;
    let keys = Keys::of(&line, place)?;
    let own = ask_again(&line.node, &keys.node)?;
    let server = ask_again(&line.node, &keys.server)?;
    let (print, server_print) = (print_of(&own.request)?, print_of(&server.request)?);
    let joins = Joins {
        cluster: &line.cluster,
        invitation: line.invitation,
        node: &line.node,
        key: &print,
        server_key: &server_print,
    };
    let body = JoinBody {
        invitation: line.invitation,
        node: line.node.as_str().into(),
        proof: Proof::of(&line.secret, joins).context("the line's secret is no key")?,
        request: own.request,
        server_request: server.request,
        unix: unix(),
    };
    let reply = asked(&line, &body).await?;
    let mut allowed = secrets.to_vec();
    if allowed.is_empty() {
        allowed.push(place.dir.join("secrets"));
    }
    let missing = missing_secrets(&line, &reply, &allowed)?;
    let mut files = Files(Vec::new());
    files.add(place.dir.join("spec.toml"), reply.spec.as_str(), 0o644);
    files.add(tls(place, "ca.pem"), reply.ca.as_str(), 0o644);
    if let Some(crl) = &reply.crl {
        files.add(tls(place, "crl.pem"), crl.as_str(), 0o644);
    }
    files.add(tls(place, "node.pem"), reply.certificate.as_str(), 0o644);
    files.add(key, own.key, 0o600);
    files.add(
        tls(place, "server.pem"),
        reply.server_certificate.as_str(),
        0o644,
    );
    files.add(tls(place, "server.key"), server.key, 0o600);
    files.add(place.dir.join("tokens"), reply.tokens.as_str(), 0o600);
    for (path, text) in missing {
        files.add(path, text, 0o600);
    }
    files.write()?;
    Keys::forget(place)?;
    let text = format!(
        "This host is {} of {}, with revision {} of the spec. Next:\n  \
         karst doctor --as {0}          what this host lacks\n  \
         systemctl start karstd-deadman karstd\n  \
         karst status\n",
        line.node, line.cluster, reply.revision
    );
    remark(format, &text);
    Ok(Ending::Done)
}

/// Whoever answers first, and has the CA's key.
async fn asked(line: &Line, body: &JoinBody) -> Result<JoinReply> {
    let mut said = Vec::new();
    for address in &line.addresses {
        let client = Client::new(std::slice::from_ref(address), "", Some(&line.ca))?;
        match client.join(body).await {
            Ok(reply) => return Ok(reply),
            Err(ClientError::Refused { problem, .. }) if problem.kind != ProblemType::Refused => {
                bail!("nothing was written: {}", problem.detail)
            }
            Err(error) => said.push(error.to_string()),
        }
    }
    let said = said.join("; ");
    let hint = if said.contains("UnknownIssuer") {
        format!(
            "; whoever answers there is not of {}, the cluster of this line",
            line.cluster
        )
    } else {
        String::new()
    };
    bail!("nothing was written: {said}{hint}")
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A hostile node answers: with a CA of its own, and with a file for another place.
    #[test]
    fn an_answer_is_held_against_its_line() {
        let line = Line {
            cluster: "skerry".into(),
            node: "polje".into(),
            invitation: 1,
            secret: String::new(),
            addresses: Vec::new(),
            ca: "the cluster's".into(),
        };
        let answer = |ca: &str, path: &str| JoinReply {
            certificate: String::new(),
            server_certificate: String::new(),
            ca: ca.into(),
            crl: None,
            revision: 1,
            spec: String::new(),
            tokens: String::new(),
            secrets: [(path.to_string(), "quay".to_string())].into(),
        };
        let (own, allowed) = (
            "/nonexistent/secrets/fares",
            [PathBuf::from("/nonexistent/secrets")],
        );
        let held = |reply| missing_secrets(&line, &reply, &allowed).map_err(|e| e.to_string());
        let honest = held(answer("the cluster's", own)).unwrap();
        assert_eq!(honest, [(PathBuf::from(own), "quay".to_string())]);
        let refused = held(answer("another", own)).unwrap_err();
        assert!(refused.contains("another CA"), "{refused}");
        let refused = held(answer("the cluster's", "/nonexistent/cron.d/a")).unwrap_err();
        assert!(refused.contains("/nonexistent/cron.d/a"), "{refused}");
    }

    #[test]
    fn secrets_are_written_where_they_may_be_and_nowhere_else() {
        let allowed = [PathBuf::from("/etc/karst/secrets")];
        let may = |path: &str| is_for_secrets(Path::new(path), &allowed);
        assert!(may("/etc/karst/secrets/fares"));
        assert!(may("/etc/karst/secrets/of/fares"));
        for path in [
            "/etc/karst/secrets",
            "/etc/karst/secrets/../tls/ca.pem",
            "/etc/karst/secretsx/fares",
            "/etc/cron.d/karst",
            "etc/karst/secrets/fares",
            "",
        ] {
            assert!(!may(path), "{path}");
        }
    }

    #[test]
    fn what_is_there_is_not_written_over() {
        let dir = std::env::temp_dir().join(format!("karst-files-{}", std::process::id()));
        std::fs::create_dir_all(&dir).unwrap();
        std::fs::write(dir.join("b"), "ours").unwrap();
        let mut files = Files(Vec::new());
        files.add(dir.join("tls/a"), "new", 0o600);
        files.add(dir.join("b"), "new", 0o600);
        let refused = files.write().unwrap_err().to_string();
        assert!(refused.contains("is there; move it away"), "{refused}");
        assert!(!dir.join("tls").exists(), "nothing of it was written");
        assert_eq!(std::fs::read_to_string(dir.join("b")).unwrap(), "ours");
        std::fs::remove_dir_all(&dir).unwrap();
    }
}
