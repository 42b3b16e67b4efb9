//! A database that somebody keeps already, with a standby and a client that writes row after row.

use super::LIMIT;
use anyhow::{Context, Result, ensure};
use karst_api::core::view::{Condition, WorkloadView};
use karst_api::{MoveBody, StatusReply};
use karst_lab::layout::{CLIENT, GATES, RunAs, host, program};
use karst_lab::{Lab, find};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};

pub const FARES: &str = "fares";
pub const PORT: u16 = 5440;
pub const GATE_PORT: u16 = 26_910;
pub const PASSWORD: &str = "quay-and-gull";
/// As somebody has set it up who knows nothing of Karst.
pub const OWN_SETTINGS: &str = "listen_addresses = '*'\nport = 5440\nmax_connections = 210\nwork_mem = '6MB'\n\
                            password_encryption = 'scram-sha-256'\nhot_standby = on\nmax_wal_size = '1GB'\n";
pub const OWN_CLIENTS: &str = "local all all trust\nhost replication all 10.30.0.0/24 trust\nhost all all all scram-sha-256\n";
/// By the socket, by certificate, by a directory, kept out, for one database, from one network, by a file
/// of names, and the same line twice.
pub const EVERY_KIND: &str = "local all all trust\nhostssl all auk all cert\nhost all tern all ldap ldapserver=192.0.2.9 ldapprefix=cn\n\
                          host all gull 10.30.0.0/24 reject\nhost nets all all scram-sha-256\n\
                          host replication copier 10.30.0.0/24 trust\nhost all @mates 10.30.0.0 255.255.255.0 scram-sha-256\n\
                          host postgres all 10.30.0.0/24 scram-sha-256\nhost postgres all 10.30.0.0/24 scram-sha-256\n";
/// The file of names, beside that list.
pub const MATES: &str = "clerk\nskua\n";

pub fn fares(reply: &StatusReply) -> Option<&WorkloadView> {
    let mut all = reply.status.workloads.iter();
    all.find(|w| w.workload.as_str() == FARES)
}

pub fn data(lab: &Lab, node: &str) -> PathBuf {
    lab.layout.host(node).join("own").join(FARES)
}

pub fn socket(lab: &Lab, node: &str) -> PathBuf {
    lab.layout.host(node).join("own")
}

/// Where people find the sockets of the servers of each host: the same path on each, as of a spec.
pub fn sockets(lab: &Lab) -> PathBuf {
    lab.layout.dir.join("own-sockets")
}

/// A directory that belongs to the user of its servers; on its host it has another path as well.
pub fn own_place(lab: &Lab, node: &str) -> Result<()> {
    let dir = lab.layout.host(node).join("own");
    std::fs::create_dir(&dir)?;
    std::fs::create_dir_all(sockets(lab))?;
    // A host that boots anew has that one alone.
    let all = std::os::unix::fs::PermissionsExt::from_mode(0o1777);
    std::fs::set_permissions(sockets(lab), all)?;
    let first = find::host_init(&lab.layout, node)?.to_string();
    let mut mount = Command::new("nsenter");
    mount.args(["-t", &first, "--mount"]);
    if !rustix::process::geteuid().is_root() {
        mount.args(["-U", "--preserve-credentials"]);
    }
    run(mount.args(["mount", "--bind"]).arg(&dir).arg(sockets(lab)))?;
    if RunAs::now() == RunAs::Postgres {
        run(Command::new("chown").arg("postgres:postgres").arg(&dir))?;
    }
    Ok(())
}

/// Words that run a program on a host as whoever its servers run as, as its own processes.
pub fn on(lab: &Lab, node: &str, name: &str) -> Result<Command> {
    let first = find::host_init(&lab.layout, node)?.to_string();
    let mut command = Command::new("nsenter");
    command.args(["-t", &first, "--mount", "--pid", "--net", "--uts", "--ipc"]);
    if !rustix::process::geteuid().is_root() {
        command.args(["-U", "--preserve-credentials"]);
    }
    command.args(RunAs::now().words()).arg(program(name));
    command.env("LC_ALL", "C.UTF-8").stdin(Stdio::null());
    Ok(command)
}

pub fn run(command: &mut Command) -> Result<String> {
    let output = command.stderr(Stdio::piped()).output()?;
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    ensure!(output.status.success(), "{command:?}: {said}");
    Ok(String::from_utf8_lossy(&output.stdout).into_owned())
}

pub fn sql(lab: &Lab, node: &str, statement: &str) -> Result<String> {
    let mut psql = on(lab, node, "psql")?;
    psql.args([
        "-XAtq",
        "-p",
        &PORT.to_string(),
        "-U",
        "postgres",
        "-c",
        statement,
    ]);
    psql.arg("-h").arg(socket(lab, node));
    run(&mut psql)
}

/// A primary and a standby, by the server's own programs.
pub fn somebodys_own(lab: &Lab, clients: &str) -> Result<()> {
    for node in ["doline", "polje", "uvala"] {
        own_place(lab, node)?;
    }
    let (primary, standby) = (data(lab, "doline"), data(lab, "polje"));
    run(on(lab, "doline", "initdb")?
        .args(["--username=postgres", "--auth=trust", "-D"])
        .arg(&primary))?;
    std::fs::write(primary.join("pg_hba.conf"), clients)?;
    std::fs::write(primary.join("mates"), MATES)?;
    start(lab, "doline")?;
    sql(
        lab,
        "doline",
        &format!(
            "create role copier replication login; create role clerk login password '{PASSWORD}';
             create role skua login password '{PASSWORD}'; create role gull login password '{PASSWORD}';
             create role auk login password '{PASSWORD}'; create table fare (id bigint primary key); grant insert, select on fare to clerk"
        ),
    )?;
    sql(lab, "doline", "create database nets")?;
    let from = host("doline").context("a host")?.client();
    run(on(lab, "polje", "pg_basebackup")?
        .args([
            "-h",
            &from,
            "-p",
            &PORT.to_string(),
            "-U",
            "copier",
            "-R",
            // A checkpoint in its own time would take minutes.
            "--checkpoint=fast",
            "-X",
            "stream",
            "-D",
        ])
        .arg(&standby))?;
    start(lab, "polje")
}

pub fn start(lab: &Lab, node: &str) -> Result<()> {
    let data = data(lab, node);
    let mut own = format!(
        "unix_socket_directories = '{}'\n",
        socket(lab, node).display()
    );
    // Where there are certificates it has one, and asks clients for theirs.
    let tls = lab.layout.host(node).join("tls");
    if tls.join("server.key").exists() {
        own += "ssl = on\n";
        for (setting, name) in [
            ("ssl_cert_file", "server.pem"),
            ("ssl_key_file", "server.key"),
            ("ssl_ca_file", "ca.pem"),
        ] {
            let path = data.join(name);
            std::fs::copy(tls.join(name), &path)?;
            if RunAs::now() == RunAs::Postgres {
                run(Command::new("chown").arg("postgres:postgres").arg(&path))?;
            }
            own += &format!("{setting} = '{}'\n", path.display());
        }
    }
    std::fs::write(data.join("postgresql.conf"), own + OWN_SETTINGS)?;
    let log = data.with_extension("own-log");
    let mut command = on(lab, node, "pg_ctl")?;
    command
        .args(["start", "-w", "-s", "-D"])
        .arg(&data)
        .arg("-l")
        .arg(&log);
    // Whoever waits for its output would wait for the server's.
    let done = command
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status()?;
    ensure!(
        done.success(),
        "{}",
        std::fs::read_to_string(&log).unwrap_or_default()
    );
    Ok(())
}

/// One client, by one string with all places, old and new; each row by a connection of its own.
pub struct Load {
    child: Child,
    journal: PathBuf,
}

pub const ONE_BY_ONE: &str = r#"
i=0
while [ -e "$JOURNAL.goes-on" ]; do
  i=$((i + 1))
  "$PSQL" -XAtqw "$TO" -c "insert into fare values ($i)" >/dev/null 2>>"$JOURNAL.errors" && echo "$i $(date +%s%3N)" >> "$JOURNAL"
done"#;

impl Load {
    pub fn start(lab: &Lab) -> Result<Self> {
        let journal = lab.layout.dir.join("fares.journal");
        std::fs::write(&journal, "")?;
        std::fs::write(journal.with_extension("journal.goes-on"), "")?;
        let direct = ["doline", "polje", "uvala"].map(|n| (n, PORT));
        let places: Vec<(String, u16)> = GATES
            .map(|n| (n, GATE_PORT))
            .into_iter()
            .chain(direct)
            .filter_map(|(n, port)| Some((host(n)?.client(), port)))
            .collect();
        let list = |of: &dyn Fn(&(String, u16)) -> String| {
            places.iter().map(of).collect::<Vec<_>>().join(",")
        };
        let to = format!(
            "host={} port={} dbname=postgres user=clerk password={PASSWORD} target_session_attrs=read-write connect_timeout=3",
            list(&|(ip, _)| ip.clone()),
            list(&|(_, port)| port.to_string())
        );
        let child = find::enter(&lab.layout, CLIENT)?
            .args(["bash", "-c", ONE_BY_ONE])
            .env("JOURNAL", &journal)
            .env("PSQL", program("psql"))
            .env("TO", to)
            .stdin(Stdio::null())
            .spawn()?;
        Ok(Self { child, journal })
    }

    /// Each acknowledged row, and when that was, in milliseconds.
    pub fn lines(&self) -> BTreeMap<u64, u64> {
        let text = std::fs::read_to_string(&self.journal).unwrap_or_default();
        let line = |line: &str| {
            let (row, at) = line.split_once(' ')?;
            Some((row.parse().ok()?, at.parse().ok()?))
        };
        text.lines().filter_map(line).collect()
    }

    /// The longest time without a row, from the number `since` of them on.
    pub fn longest_pause(&self, since: usize) -> u64 {
        let times: Vec<u64> = self.lines().into_values().skip(since).collect();
        let pauses = times.windows(2).map(|pair| pair[1] - pair[0]);
        pauses.max().unwrap_or(u64::MAX)
    }

    /// What clients were told whose row could not be written.
    pub fn why_refused(&self) -> String {
        std::fs::read_to_string(self.journal.with_extension("journal.errors")).unwrap_or_default()
    }

    pub async fn goes_on(&self, lab: &Lab) -> Result<()> {
        let before = self.lines().len();
        let more = |_: &StatusReply| self.lines().len() > before + 20;
        let waited = lab.wait("more rows", LIMIT, more).await;
        waited.map(drop).with_context(|| self.why_refused())
    }

    pub fn finish(mut self) -> Result<BTreeMap<u64, u64>> {
        self.end()?;
        Ok(self.lines())
    }

    fn end(&mut self) -> Result<()> {
        std::fs::remove_file(self.journal.with_extension("journal.goes-on"))?;
        self.child.wait()?;
        Ok(())
    }
}

impl Drop for Load {
    fn drop(&mut self) {
        // Where the test has failed; else it has ended.
        let _ = self.end();
    }
}

pub async fn moves(lab: &Lab, to: &str) -> Result<()> {
    let body = MoveBody {
        to: Some(to.into()),
        plan_only: false,
        accept_loss: None,
    };
    lab.client.begin(FARES, "switchover", &body).await?;
    let there = |r: &StatusReply| {
        fares(r).is_some_and(|w| {
            w.primary.as_ref().is_some_and(|p| p.as_str() == to)
                && w.condition == Condition::Healthy
        })
    };
    lab.wait(&format!("it is on {to}"), LIMIT, there)
        .await
        .map(drop)
}

pub async fn nothing_is_missing(lab: &Lab, lines: &BTreeMap<u64, u64>) -> Result<()> {
    let socket = lab.layout.runtime("doline").join(FARES).join("socket");
    let mut config = tokio_postgres::Config::new();
    config
        .host_path(socket)
        .port(PORT)
        .user("postgres")
        .dbname("postgres");
    let (client, session) = config.connect(tokio_postgres::NoTls).await?;
    let session = tokio::spawn(session);
    let rows = client.query("select id from fare", &[]).await?;
    let has: BTreeSet<u64> = rows
        .iter()
        .map(|row| u64::try_from(row.get::<_, i64>(0)))
        .collect::<Result<_, _>>()?;
    session.abort();
    let missing: Vec<_> = lines.keys().filter(|row| !has.contains(row)).collect();
    eprintln!("{} rows, {} missing", lines.len(), missing.len());
    ensure!(lines.len() > 60 && missing.is_empty(), "{missing:?}");
    Ok(())
}
