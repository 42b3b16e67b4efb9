//! The configuration files that the driver writes.

use super::clients;
use super::keeper::Postgres;
use super::plan::KEY;
use super::words::copied;
use crate::driver::{Reach, Target};
use crate::site::name_of;
use crate::trouble::{Result, Trouble};
use karst_core::NodeId;
use rustix::process::geteuid;
use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::path::PathBuf;
use std::sync::{MutexGuard, PoisonError};
use tokio::process::Command;

/// A name that no standby has: a primary that waits for it lets no commit return (D4).
pub(super) const IMPOSSIBLE: &str = "FIRST 1 (karst_nobody)";
/// The role that standbys connect with.
pub(super) const REPLICATION_ROLE: &str = "karst_replication";

/// The server's copies of what it shows, and of whom it believes.
const CERTIFICATE: &str = "server.pem";
const CA: &str = "ca.pem";
/// What promises rest on, and Karst on.
const FIXED: &[(&str, &str)] = &[
    ("wal_log_hints", "on"),
    ("full_page_writes", "on"),
    ("hot_standby", "on"),
    ("restart_after_crash", "off"),
    ("ssl", "on"),
];
/// Where the spec says nothing else.
const USUAL: &[(&str, &str)] = &[
    ("listen_addresses", "*"),
    ("max_connections", "200"),
    ("shared_buffers", "64MB"),
    ("wal_level", "replica"),
    ("max_wal_senders", "16"),
    ("wal_keep_size", "256MB"),
    ("wal_sender_timeout", "3s"),
    ("wal_receiver_timeout", "3s"),
    ("max_standby_streaming_delay", "5s"),
    ("synchronous_commit", "on"),
    ("password_encryption", "scram-sha-256"),
    ("logging_collector", "off"),
    ("log_line_prefix", "%m [%p] "),
    ("ssl_min_protocol_version", "TLSv1.3"),
];
/// How that begins in a data directory that Karst keeps, on whichever host.
const OURS: &str = "# This server is kept by Karst and does not start without it.\n";
/// The file in the data directory that a server begins with.
const SETTINGS: &str = "postgresql.conf";
/// The first of the lines that change while the spec stays.
const FOLLOWS: &str = "primary_conninfo = ";

/// A value in a configuration file.
pub(super) fn quoted(value: &str) -> String {
    format!("'{}'", value.replace('\'', "''"))
}

/// A name in a statement, as it is written (manual, section 4.1.1).
pub(super) fn identifier(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// What a client's library takes (manual, section 34.1.1).
pub(super) fn connection(to: &[Target], reach: Reach) -> String {
    let hosts: Vec<String> = to.iter().map(|a| a.host.clone()).collect();
    let ports: Vec<String> = to.iter().map(|a| a.port.to_string()).collect();
    let target = match reach {
        Reach::Through => "",
        Reach::Primary => " target_session_attrs=read-write",
        Reach::Reader => " target_session_attrs=prefer-standby",
    };
    format!("host={} port={}{target}", hosts.join(","), ports.join(","))
}

impl Postgres {
    /// A server program, run as the server's user, with the password of standbys at hand.
    pub(super) fn program(&self, name: &str) -> Command {
        let mut command = self.host.program(&self.plan.programs.join(name));
        command.env("PGPASSFILE", self.passfile());
        command
    }

    /// How another server is spoken to: it has to show the certificate of the node that it is meant
    /// to be, and learns the password of nobody (RFC 5802; RFC 5929, section 4).
    fn reaches(&self, node: &NodeId) -> Result<String> {
        let site = &self.host.site;
        let unknown = || Trouble::Wrong(format!("{node} has no replica of {}", site.workload));
        let address = site.replicas.get(node).ok_or_else(unknown)?;
        Ok(format!(
            "host={node} hostaddr={} port={} user={REPLICATION_ROLE} sslmode=verify-full sslrootcert={} \
             channel_binding=require",
            address.ip(),
            address.port(),
            site.runtime.join(CA).display()
        ))
    }

    /// What a clone or a rewind copies from. A source that loses its power says nothing more, and a
    /// copy of it would wait for ever (seen: fourteen minutes). Its name is no node's: a copy's
    /// stream must not pass for a synchronous standby.
    pub(super) fn source(&self, node: &NodeId) -> Result<String> {
        Ok(format!(
            "{} dbname=postgres application_name=karst_copy connect_timeout=5 keepalives_idle=1 keepalives_interval=1 \
             keepalives_count=3 tcp_user_timeout=4000",
            self.reaches(node)?
        ))
    }

    /// What that server says to each of these, in lines.
    pub(super) async fn ask(&self, source: &str, commands: &[&str]) -> Result<String> {
        let mut ask = self.program("psql");
        ask.args(["--no-psqlrc", "--no-password", "--quiet"])
            .args(["--tuples-only", "--no-align"])
            .args(commands.iter().flat_map(|command| ["--command", *command]))
            .arg(source);
        let said = self.host.run(ask, "psql", copied).await?.stdout;
        Ok(String::from_utf8_lossy(&said).into_owned())
    }

    /// Where this node's standby connects to.
    fn conninfo(&self, upstream: &NodeId) -> Result<String> {
        Ok(format!(
            "{} application_name={} passfile={} connect_timeout=2 keepalives_idle=1 keepalives_interval=1 \
             keepalives_count=2",
            self.reaches(upstream)?,
            self.host.site.me,
            self.passfile().display()
        ))
    }

    /// Writes everything that the server reads, by replacing whole files.
    pub(super) fn write_settings(&self, upstream: Option<&NodeId>, sync: &str) -> Result<()> {
        self.write_all(upstream, sync, None)
    }

    /// Of a standby that goes up to a point and stays there (manual, section 20.5.5).
    pub(super) fn write_target(&self, upstream: Option<&NodeId>, label: &str) -> Result<()> {
        self.write_all(upstream, IMPOSSIBLE, Some(label))
    }

    fn write_all(&self, upstream: Option<&NodeId>, sync: &str, label: Option<&str>) -> Result<()> {
        let upstream = upstream.map(|u| self.conninfo(u)).transpose()?;
        let mut whom = format!(
            "{FOLLOWS}{}\nsynchronous_standby_names = {}\n",
            quoted(&upstream.unwrap_or_default()),
            quoted(sync)
        );
        if let Some(label) = label {
            let _ = writeln!(
                whom,
                "recovery_target_name = {}\nrecovery_target_action = 'pause'",
                quoted(label)
            );
        }
        let _alone = self.alone();
        self.remember(|m| m.written_sync = Some((sync.to_string(), std::time::Instant::now())));
        // Not synced: the runtime directory is empty after a boot anyway, and every start writes
        // all of this again.
        let text = self.of_the_spec() + &whom;
        self.host.lay_out("server.conf", &text, 0o640)?;
        if !self.plan.sockets.is_empty() {
            self.host.lay_out("ident.conf", &self.idents()?, 0o640)?;
        }
        self.host
            .lay_out("hba.conf", &self.who_may_connect(), 0o640)
    }

    /// Whether nothing is lost of a setting that a server has elsewhere: the spec says what it is to
    /// be, or Karst does, or it is the same.
    pub(super) fn settles(&self, name: &str, value: &str) -> bool {
        let usual = USUAL.iter().find(|(usual, _)| *usual == name);
        if let Some((_, usual)) = usual.filter(|_| !self.plan.extra.contains_key(name)) {
            return *usual == value;
        }
        let text = self.of_the_spec() + FOLLOWS + "\nsynchronous_standby_names = \n";
        let mut names = text.lines().filter_map(|line| line.split_once(" = "));
        names.any(|(written, _)| written == name)
    }

    fn alone(&self) -> MutexGuard<'_, ()> {
        self.writing.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Everything but whom it follows and whom its commits wait for.
    fn of_the_spec(&self) -> String {
        let site = &self.host.site;
        let mut text =
            String::from("# Written by Karst at every start and change; edits are lost.\n");
        let mut set = |key: &str, value: &str| {
            let _ = writeln!(text, "{key} = {}", quoted(value));
        };
        let port = site.address.port().to_string();
        set("port", &port);
        FIXED.iter().chain(USUAL).for_each(|(k, v)| set(k, v));
        self.plan.extra.iter().for_each(|(k, v)| set(k, v));
        let own = site.socket_dir();
        let sockets = std::iter::once(&own).chain(&self.plan.sockets);
        let sockets: Vec<String> = sockets.map(|dir| dir.display().to_string()).collect();
        set("unix_socket_directories", &sockets.join(", "));
        if !self.plan.sockets.is_empty() {
            let idents = site.runtime.join("ident.conf");
            set("ident_file", &idents.display().to_string());
        }
        for (key, name) in [
            ("ssl_ca_file", CA),
            ("ssl_cert_file", CERTIFICATE),
            ("ssl_key_file", KEY),
        ] {
            set(key, &site.runtime.join(name).display().to_string());
        }
        set(
            "hba_file",
            &site.runtime.join("hba.conf").display().to_string(),
        );
        text
    }

    /// A server that runs on while another spec is in force reads what is different, and lets other
    /// replicas in: looked at once by each driver, which knows one spec. What waits for its next
    /// start the server says itself.
    pub(super) async fn take_up_spec(&self) -> Result<()> {
        if self.remember(|m| m.taken_up) {
            return Ok(());
        }
        if self.write_what_differs()? {
            self.reload().await?;
        }
        self.remember(|m| m.taken_up = true);
        Ok(())
    }

    fn write_what_differs(&self) -> Result<bool> {
        let _alone = self.alone();
        let read = |name: &str| {
            let file = self.host.site.runtime.join(name);
            std::fs::read_to_string(&file).map_err(Trouble::io(file.display().to_string()))
        };
        let (settings, admitted) = (read("server.conf")?, read("hba.conf")?);
        let Some(at) = settings.find(FOLLOWS) else {
            return Err(Trouble::Wrong(
                "server.conf is not as Karst writes it".into(),
            ));
        };
        let wanted = [
            (
                "server.conf",
                &settings,
                self.of_the_spec() + &settings[at..],
            ),
            ("hba.conf", &admitted, self.who_may_connect()),
        ];
        let mut differs = false;
        for (name, is, wanted) in wanted {
            if *is != wanted {
                self.host.lay_out(name, &wanted, 0o640)?;
                differs = true;
            }
        }
        Ok(differs)
    }

    /// The server's users on this host, the other replicas by TLS and from their own addresses, and
    /// clients.
    fn who_may_connect(&self) -> String {
        let mut text = if self.plan.sockets.is_empty() {
            String::from(
                "# The socket's directory is closed to everyone but the server's user and Karst.\nlocal all all trust\n\
                 # For base backups.\nlocal replication all trust\n",
            )
        } else {
            String::from(
                "# Others use sockets as well: Karst and the server's user are told by the kernel.\n\
                 local all postgres peer map=karst\nlocal replication postgres peer map=karst\n",
            )
        };
        let site = &self.host.site;
        for (_, address) in site.replicas.iter().filter(|(node, _)| **node != site.me) {
            let ip = address.ip();
            let whole = if ip.is_ipv4() { 32 } else { 128 };
            // To stream the log, and for a rewind.
            for database in ["replication", "postgres"] {
                let _ = writeln!(
                    text,
                    "hostssl {database} {REPLICATION_ROLE} {ip}/{whole} scram-sha-256"
                );
            }
        }
        if let Some(clients) = &self.plan.clients {
            let _ = writeln!(
                text,
                "host replication {REPLICATION_ROLE} all reject\nhost all {REPLICATION_ROLE} all reject\n\
                 # The workload's own list of clients.\n{clients}"
            );
            return text;
        }
        let _ = writeln!(
            text,
            "host replication all all reject\nhost all {REPLICATION_ROLE} all reject"
        );
        text + clients::USUAL
    }

    /// Users that the kernel may name for Karst's role, then those of the data directory: the ones whom
    /// somebody else has let in by a socket (manual, section 21.2).
    fn idents(&self) -> Result<String> {
        let mut users = BTreeSet::from([geteuid().as_raw()]);
        users.extend(self.host.site.owner.map(|(uid, _)| uid));
        let mut names: BTreeSet<String> = users.into_iter().filter_map(name_of).collect();
        // In a user namespace the kernel has other numbers for the same.
        names.insert("postgres".into());
        let mut text: String = names
            .iter()
            .map(|name| format!("karst {name} postgres\n"))
            .collect();
        let own = self.host.site.data.join("pg_ident.conf");
        match self.host.files().read_text(&own) {
            Ok(theirs) => text += &theirs,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(error) => return Err(Trouble::io(own.display().to_string())(error)),
        }
        Ok(text)
    }

    fn passfile(&self) -> PathBuf {
        self.host.site.runtime.join("passfile")
    }

    /// What standbys and the server's own programs connect to another server with.
    pub(super) fn write_passfile(&self) -> Result<()> {
        let (host, site) = (&self.host, &self.host.site);
        host.make_runtime()?;
        let key = if site.owner.is_some() { 0o640 } else { 0o600 };
        for (name, mode) in [(CA, 0o640), (CERTIFICATE, 0o640), (KEY, key)] {
            let from = site.tls.join(name);
            let mut text =
                std::fs::read_to_string(&from).map_err(Trouble::io(from.display().to_string()))?;
            if let Some(more) = self.plan.clients_ca.as_ref().filter(|_| name == CA) {
                let more = std::fs::read_to_string(more)
                    .map_err(Trouble::io(more.display().to_string()))?;
                text = format!("{}\n{more}", text.trim_end());
            }
            host.lay_out(name, &text, mode)?;
        }
        // The library passes over a password file that a group may read, so that this one is the
        // server's user's own.
        let password = &self.plan.replication_password;
        let text = format!("*:*:*:{REPLICATION_ROLE}:{password}\n");
        let file = self.passfile();
        host.files()
            .put(&file, text.as_bytes(), false)
            .map_err(Trouble::io(file.display().to_string()))
    }

    /// The one line in the data directory that makes the server depend on Karst (D8). What somebody
    /// else wrote there is put aside, with what was changed by `ALTER SYSTEM`.
    pub(super) fn write_include(&self) -> Result<()> {
        let (files, data) = (self.host.files(), &self.host.site.data);
        let path = data.join(SETTINGS);
        let ours = self
            .has_our_settings()
            .map_err(Trouble::io(path.display().to_string()))?;
        let server = self.host.site.runtime.join("server.conf");
        let text = format!("{OURS}include {}\n", quoted(&server.display().to_string()));
        if ours && files.read_text(&path).is_ok_and(|now| now == text) {
            return Ok(());
        }
        for name in [SETTINGS, "postgresql.auto.conf"] {
            let (is, aside) = (data.join(name), data.join(format!("{name}.before-karst")));
            let trouble = || Trouble::io(is.display().to_string());
            let [there, kept] = files.exist([&is, &aside]).map_err(trouble())?;
            if there && !kept && !ours {
                files.rename(&is, &aside).map_err(trouble())?;
            }
        }
        files
            .put(&path, text.as_bytes(), true)
            .map_err(Trouble::io(path.display().to_string()))
    }

    /// Whether a server that runs on these data was started by Karst: every start writes that line
    /// first. What cannot be looked at is no stranger for that: it is stopped when it has to be.
    pub(super) fn is_ours(&self) -> bool {
        if self.remember(|m| m.ours) {
            return true;
        }
        let pid = self.host.site.data.join("postmaster.pid");
        match self.has_our_settings() {
            Ok(true) | Err(_) => true,
            // Nothing is known of a directory that has neither (a volume that is not there).
            Ok(false) => !matches!(self.host.files().exists(&pid), Ok(true)),
        }
    }

    fn has_our_settings(&self) -> std::io::Result<bool> {
        let path = self.host.site.data.join(SETTINGS);
        let ours = match self.host.files().read_text(&path) {
            Ok(text) => text.starts_with(OURS),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => false,
            Err(error) => return Err(error),
        };
        self.remember(|m| m.ours = ours);
        Ok(ours)
    }
}
