//! The floor: what is possible at best. It knows at once that the primary died, promotes a standby
//! without waiting, nudges it, writes directly, then repoints the third server and waits for the
//! first replicated write. No other host, no votes, no safety: the figure that the product's own is
//! compared with, taken on the same machine in the same run.
//!
//! Its standbys speak to their primary by TLS, as the product's do: the handshake is part of what
//! is possible. In clear, as nobody should, it is measured too, to tell what TLS costs.

use crate::certs;
use crate::find;
use crate::layout::{RunAs, program};
use crate::steal::millis as steal_millis;
use anyhow::{Context, Result, bail};
use rustix::process::Signal;
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tokio_postgres::{Client, NoTls};

/// One round, in milliseconds from the fault.
#[derive(Clone, Debug, Serialize)]
pub struct Round {
    /// Kill (or the order to stop) to the first local write of the promoted standby.
    pub local: f64,
    /// ... to its first write that the third server has.
    pub replicated: f64,
    pub steal: u64,
}

/// How its servers speak to each other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Link {
    Tls,
    Clear,
}

struct Server {
    data: PathBuf,
    port: u16,
    process: Option<Child>,
}

/// Three servers on loopback.
pub struct Floor {
    dir: PathBuf,
    link: Link,
    servers: Vec<Server>,
    primary: usize,
}

const NUDGE: Duration = Duration::from_millis(10);

impl Floor {
    pub async fn start(dir: &Path, port: u16, link: Link) -> Result<Self> {
        let servers: Vec<Server> = (0..3)
            .map(|i| Server {
                data: dir.join(format!("s{i}")),
                port: port + i,
                process: None,
            })
            .collect();
        // Of a run that was killed.
        for server in &servers {
            find::working_in(&server.data)
                .into_iter()
                .for_each(|pid| drop(find::signal(pid, Signal::KILL)));
        }
        let _ = std::fs::remove_dir_all(dir);
        std::fs::create_dir_all(dir)?;
        certs::alone(dir)?;
        if RunAs::now() == RunAs::Postgres {
            run(
                Command::new("chown")
                    .arg("-R")
                    .arg("postgres:postgres")
                    .arg(dir),
                "chown",
            )?;
        }
        let mut floor = Self {
            dir: dir.to_path_buf(),
            link,
            servers,
            primary: 0,
        };
        let data = floor.servers[0].data.clone();
        run(
            floor
                .command("initdb")
                .args(["-U", "postgres", "-A", "trust", "--no-instructions", "-D"])
                .arg(&data),
            "initdb",
        )?;
        floor.start_server(0, None)?;
        let client = floor.connect(0).await?;
        client
            .batch_execute("set synchronous_commit = local; create table t (n bigint)")
            .await?;
        for standby in [1, 2] {
            floor.copy(0, standby)?;
        }
        floor.settle().await?;
        Ok(floor)
    }

    fn command(&self, name: &str) -> Command {
        let words = RunAs::now().words();
        let mut command = Command::new(&words[0]);
        command
            .args(&words[1..])
            .arg(program(name))
            .env_clear()
            .env("PATH", "/usr/bin:/bin")
            .current_dir("/");
        command.stdin(Stdio::null());
        command
    }

    fn conninfo(&self, from: usize, name: usize) -> String {
        let port = self.servers[from].port;
        let how = match self.link {
            Link::Tls => format!(
                "sslmode=verify-full sslrootcert={}",
                self.dir.join(certs::ALONE).display()
            ),
            Link::Clear => "sslmode=disable".into(),
        };
        format!(
            "host=localhost hostaddr=127.0.0.1 port={port} user=postgres application_name=s{name} {how}"
        )
    }

    fn start_server(&mut self, i: usize, upstream: Option<usize>) -> Result<()> {
        let (data, port) = (self.servers[i].data.clone(), self.servers[i].port);
        let mut conf = format!(
            "listen_addresses = '127.0.0.1'\nunix_socket_directories = '{dir}'\nport = {port}\nshared_buffers = 64MB\n\
             wal_log_hints = on\nwal_keep_size = 256MB\nmax_connections = 100\n\
             synchronous_standby_names = 'FIRST 2 (s0, s1, s2)'\n",
            dir = self.dir.display()
        );
        if self.link == Link::Tls {
            let [certificate, key] =
                [certs::ALONE, certs::ALONE_KEY].map(|name| self.dir.join(name));
            conf += &format!(
                "ssl = on\nssl_min_protocol_version = 'TLSv1.3'\nssl_cert_file = '{}'\nssl_key_file = '{}'\n",
                certificate.display(),
                key.display()
            );
        }
        if let Some(upstream) = upstream {
            conf += &format!("primary_conninfo = '{}'\n", self.conninfo(upstream, i));
            std::fs::write(data.join("standby.signal"), "")?;
        }
        std::fs::write(data.join("postgresql.conf"), conf)?;
        // A copy brings what its source was told by ALTER SYSTEM.
        std::fs::write(data.join("postgresql.auto.conf"), "")?;
        let _ = std::fs::remove_file(data.join("postmaster.pid"));
        if RunAs::now() == RunAs::Postgres {
            run(
                Command::new("chown")
                    .arg("-R")
                    .arg("postgres:postgres")
                    .arg(&data),
                "chown",
            )?;
        }
        let log = std::fs::File::options()
            .create(true)
            .append(true)
            .open(self.dir.join("log"))?;
        let mut command = self.command("postgres");
        command
            .arg("-D")
            .arg(&data)
            .stdout(log.try_clone()?)
            .stderr(log);
        self.servers[i].process = Some(command.spawn().context("postgres")?);
        Ok(())
    }

    fn copy(&mut self, from: usize, to: usize) -> Result<()> {
        let data = self.servers[to].data.clone();
        let _ = std::fs::remove_dir_all(&data);
        let port = self.servers[from].port.to_string();
        let mut backup = self.command("pg_basebackup");
        backup
            .args(["-c", "fast", "-U", "postgres", "-p", &port, "-h"])
            .arg(&self.dir)
            .arg("-D")
            .arg(&data);
        run(&mut backup, "pg_basebackup")?;
        self.start_server(to, Some(from))
    }

    async fn connect(&self, i: usize) -> Result<Client> {
        let mut config = tokio_postgres::Config::new();
        config
            .host_path(&self.dir)
            .port(self.servers[i].port)
            .user("postgres")
            .dbname("postgres");
        for _ in 0..4000 {
            if let Ok((client, session)) = config.connect(NoTls).await {
                tokio::spawn(session);
                return Ok(client);
            }
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
        bail!(
            "the floor's server {i} does not answer; its log is {}",
            self.dir.join("log").display()
        )
    }

    async fn streaming(&self) -> Result<i64> {
        let row = self
            .connect(self.primary)
            .await?
            .query_one(
                "select count(*) from pg_stat_replication where state = 'streaming'",
                &[],
            )
            .await?;
        Ok(row.get(0))
    }

    async fn settle(&self) -> Result<()> {
        let begun = Instant::now();
        while self.streaming().await? < 2 {
            anyhow::ensure!(
                begun.elapsed() < Duration::from_secs(60),
                "the floor's standbys do not stream"
            );
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        let primary = self.connect(self.primary).await?;
        primary
            .batch_execute("alter system set synchronous_standby_names = 'FIRST 2 (s0, s1, s2)'")
            .await
            .ok();
        primary.batch_execute("select pg_reload_conf()").await?;
        Ok(())
    }

    /// The third follows the new primary; a write counts as replicated when it has it.
    async fn replicate(
        &self,
        (new, candidate): (usize, &Client),
        (third, other): (usize, &Client),
    ) -> Result<()> {
        other
            .batch_execute(&format!(
                "alter system set primary_conninfo = '{}'",
                self.conninfo(new, third)
            ))
            .await?;
        other.batch_execute("select pg_reload_conf()").await?;
        candidate
            .batch_execute(&format!(
                "alter system set synchronous_standby_names = 'FIRST 1 (s{third})'"
            ))
            .await?;
        candidate
            .batch_execute("select pg_reload_conf(); set synchronous_commit = on")
            .await?;
        let write = candidate.batch_execute("insert into t values (3)");
        let nudging = async {
            loop {
                tokio::time::sleep(NUDGE).await;
                if other
                    .batch_execute("select pg_reload_conf()")
                    .await
                    .is_err()
                {
                    std::future::pending::<()>().await;
                }
            }
        };
        tokio::select! {
            written = write => written?,
            () = nudging => {}
        }
        Ok(())
    }

    /// One round: kill the primary, or with `clean` stop it, promote the next at once, write.
    pub async fn round(&mut self, clean: bool) -> Result<Round> {
        let (old, new, third) = (self.primary, (self.primary + 1) % 3, (self.primary + 2) % 3);
        let (candidate, other, primary) = (
            self.connect(new).await?,
            self.connect(third).await?,
            self.connect(old).await?,
        );
        primary.batch_execute("insert into t values (1)").await?;
        let mut process = self.servers[old]
            .process
            .take()
            .context("the primary's process")?;
        let steal = steal_millis();
        if clean {
            primary.batch_execute("checkpoint").await?;
        }
        let begun = Instant::now();
        let pid =
            rustix::process::Pid::from_raw(process.id() as i32).context("a process number")?;
        let signal = if clean { Signal::INT } else { Signal::KILL };
        rustix::process::kill_process(pid, signal)?;
        tokio::task::spawn_blocking(move || process.wait()).await??;
        promote(&candidate).await?;
        candidate
            .batch_execute("set synchronous_commit = local; insert into t values (2)")
            .await?;
        let local = begun.elapsed();
        self.replicate((new, &candidate), (third, &other)).await?;
        let replicated = begun.elapsed();
        let steal = steal_millis() - steal;
        self.primary = new;
        while !find::working_in(&self.servers[old].data).is_empty() {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        self.copy(new, old)?;
        self.settle().await?;
        let ms = |d: Duration| d.as_secs_f64() * 1e3;
        Ok(Round {
            local: ms(local),
            replicated: ms(replicated),
            steal,
        })
    }
}

/// Without waiting, and nudged on.
async fn promote(candidate: &Client) -> Result<()> {
    candidate.batch_execute("select pg_promote(false)").await?;
    let mut nudged = Instant::now();
    while candidate
        .query_one("select pg_is_in_recovery()", &[])
        .await?
        .get(0)
    {
        if nudged.elapsed() >= NUDGE {
            candidate.batch_execute("select pg_reload_conf()").await?;
            nudged = Instant::now();
        }
        tokio::time::sleep(Duration::from_millis(2)).await;
    }
    Ok(())
}

impl Drop for Floor {
    fn drop(&mut self) {
        for server in &mut self.servers {
            if let Some(process) = &mut server.process {
                let pid = rustix::process::Pid::from_raw(process.id() as i32);
                let _ = pid.map(|p| rustix::process::kill_process(p, Signal::INT));
                let _ = process.wait();
            }
        }
        let _ = std::fs::remove_dir_all(&self.dir);
    }
}

fn run(command: &mut Command, what: &str) -> Result<()> {
    let output = command.output().with_context(|| what.to_string())?;
    if !output.status.success() {
        bail!("{what}: {}", String::from_utf8_lossy(&output.stderr).trim());
    }
    Ok(())
}
