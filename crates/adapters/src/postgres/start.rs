//! First data, and what a server of this kind reads at its start.

use super::config::{IMPOSSIBLE, REPLICATION_ROLE, identifier, quoted};
use super::keeper::{Memory, Postgres, REWINDING};
use super::lsn::Lsn;
use super::scram;
use super::words::copied;
use crate::driver::{Launch, Start};
use crate::trouble::{Result, Trouble};

/// Of new data. A promotion copies and syncs the segment it is in, and a standby that follows is
/// sent it from its beginning: with the usual 16 MB that is half of the time until the first
/// replicated write. Smaller ones would have a busy server sync too often.
const WAL_SEGMENT_MB: u32 = 4;

impl Postgres {
    /// The first data of a workload.
    pub(super) async fn make_data(&self) -> Result<()> {
        let data = &self.host.site.data;
        let files = self.host.files();
        let there = files
            .exists(&data.join("PG_VERSION"))
            .map_err(Trouble::io(data.display().to_string()))?;
        if there {
            return Ok(());
        }
        let fresh = self.host.beside("new");
        files
            .make_dir(&fresh)
            .map_err(Trouble::io(fresh.display().to_string()))?;
        let mut initdb = self.program("initdb");
        initdb.args([
            "--username=postgres",
            "--auth=trust",
            "--data-checksums",
            "--encoding=UTF8",
            "--no-instructions",
        ]);
        initdb
            .arg("--locale=C.UTF-8")
            .arg(format!("--wal-segsize={WAL_SEGMENT_MB}"))
            .arg("-D")
            .arg(&fresh);
        if let Some(log) = self.fresh_log()? {
            initdb.arg("--waldir").arg(log);
        }
        self.host.run(initdb, "initdb", copied).await?;
        files
            .rename(&fresh, data)
            .map_err(Trouble::io(data.display().to_string()))
    }

    /// The roles and the database of a new workload, each where it is missing. Local commits:
    /// nobody can confirm them yet.
    pub(super) async fn make_roles(&self) -> Result<()> {
        let mut script = String::from(
            "begin; set local synchronous_commit = local; set local log_min_error_statement = panic;
             create schema if not exists karst;
             create table if not exists karst.pulse
                 (node text primary key, at timestamptz not null default now(), count bigint not null default 0);",
        );
        // A server may log a statement that fails: it never sees a password, but what it is to keep
        // of it.
        let client = self
            .plan
            .database
            .as_ref()
            .map(|(_, client, password)| (client.as_str(), "login", password));
        let standbys = (
            REPLICATION_ROLE,
            "login replication",
            &self.plan.replication_password,
        );
        // No name can end what it stands in (manual, section 4.1.2.4).
        let tag = format!("$karst{:032x}$", rand::random::<u128>());
        for (name, rights, password) in client.into_iter().chain([standbys]) {
            let iterations = if name == REPLICATION_ROLE {
                scram::OF_STANDBYS
            } else {
                scram::OF_CLIENTS
            };
            let kept = scram::verifier(password, rand::random(), iterations)?;
            script += &format!(
                "do {tag} begin if not exists (select from pg_roles where rolname = {}) then
                     create role {} {rights} password {}; end if; end {tag};",
                quoted(name),
                identifier(name),
                quoted(&kept)
            );
        }
        // What a rewind reads, and the checkpoint that it needs first (D11; manual, pg_rewind).
        script += &format!(
            "grant execute on function pg_ls_dir(text, boolean, boolean), pg_stat_file(text, boolean),
                 pg_read_binary_file(text), pg_read_binary_file(text, bigint, bigint, boolean) to {REPLICATION_ROLE};
             grant pg_checkpoint to {REPLICATION_ROLE}; commit;"
        );
        sqlx::raw_sql(&script).execute(&self.pool).await?;
        let Some((database, client, _)) = &self.plan.database else {
            return Ok(());
        };
        let there = sqlx::query("select from pg_database where datname = $1").bind(database);
        if there.fetch_optional(&self.pool).await?.is_none() {
            let create = format!(
                "create database {} owner {}",
                identifier(database),
                identifier(client)
            );
            let mut connection = self.pool.acquire().await?;
            sqlx::query("set synchronous_commit = local")
                .execute(&mut *connection)
                .await?;
            sqlx::query(&create).execute(&mut *connection).await?;
            sqlx::query("reset synchronous_commit")
                .execute(&mut *connection)
                .await?;
        }
        Ok(())
    }

    /// Everything that it reads, and its command.
    pub(super) fn prepare_start(&self, start: Start) -> Result<Launch> {
        let (host, data) = (&self.host, &self.host.site.data);
        let [mark, signal] = [REWINDING, "standby.signal"].map(|name| data.join(name));
        let [half_rewound, standby] = host
            .files()
            .exist([&mark, &signal])
            .map_err(Trouble::io(data.display().to_string()))?;
        if half_rewound {
            return Err(Trouble::Wrong(
                "its data are half rewound: a clone has to replace them".into(),
            ));
        }
        let follows = start != Start::Primary;
        let (upstream, label) = match start {
            Start::Primary if standby => {
                let what = format!("{} is set up as a standby", data.display());
                return Err(Trouble::Wrong(what));
            }
            Start::Primary => (None, None),
            Start::Standby { upstream } => (upstream, None),
            Start::HeldBack { upstream, label } => (upstream, Some(label)),
        };
        if follows {
            host.files()
                .put(&signal, b"", false)
                .map_err(Trouble::io(signal.display().to_string()))?;
        }
        self.remember(|m| {
            *m = Memory {
                upstream: upstream.clone(),
                ..Memory::default()
            }
        });
        self.write_passfile()?;
        match label {
            Some(label) => self.write_target(upstream.as_ref(), &label)?,
            None => self.write_settings(upstream.as_ref(), IMPOSSIBLE)?,
        }
        self.write_include()?;
        Ok(Launch {
            program: self.plan.programs.join("postgres"),
            arguments: vec!["-D".into(), data.display().to_string()],
        })
    }

    /// What the control file says, in words.
    pub(super) async fn control(&self) -> Result<String> {
        let mut control = self.program("pg_controldata");
        control.arg("-D").arg(&self.host.site.data);
        let output = self.host.run(control, "pg_controldata", copied).await?;
        Ok(String::from_utf8_lossy(&output.stdout).into_owned())
    }
}

/// One byte into the last record of a cleanly stopped server: whoever is past it has the record.
pub(super) fn clean_end(control: &str) -> Option<Lsn> {
    let field = |name: &str| {
        control
            .lines()
            .find_map(|l| l.strip_prefix(name))
            .map(str::trim)
    };
    let clean = matches!(
        field("Database cluster state:")?,
        "shut down" | "shut down in recovery"
    );
    let at = Lsn::parse(field("Latest checkpoint location:")?)?;
    clean.then_some(Lsn(at.0 + 1))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_clean_stop_has_an_end() {
        let control = |state: &str| {
            format!(
                "Database cluster state:               {state}\nLatest checkpoint location:           0/3000028\n"
            )
        };
        assert_eq!(clean_end(&control("shut down")), Some(Lsn(0x300_0029)));
        assert_eq!(clean_end(&control("in production")), None);
        assert_eq!(clean_end("nonsense"), None);
    }
}
