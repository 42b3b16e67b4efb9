//! What a host has to have before a replica is made here, and what of a server that somebody else
//! keeps on its data has to be put right before Karst stops it and starts it as its own.

use super::clients;
use super::keeper::Postgres;
use super::plan::Plan;
use super::words::copied;
use crate::trouble::{Result, Trouble};
use karst_core::replica::Data;
use rustix::io::Errno;
use std::collections::BTreeSet;
use std::io::{ErrorKind, Read};
use std::net::TcpListener;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// Less than this is no room for a copy.
const ROOM: u64 = 1 << 30;
/// Where people have programs run at times.
const TIMETABLES: [&str; 3] = ["/etc/crontab", "/etc/cron.d", "/var/spool/cron/crontabs"];
/// One look at a running server: a word for what it is, a name, a value.
const LOOK: &str = "
select 'superuser', current_user::text, (select rolsuper from pg_roles where rolname = current_user)::text
union all
select 'setting', name, current_setting(name) from pg_settings where source = 'configuration file'
union all
select 'overridden', concat_ws(' ', 'role ' || r.rolname, 'database ' || d.datname), ''
from pg_db_role_setting s left join pg_roles r on r.oid = s.setrole left join pg_database d on d.oid = s.setdatabase
where exists (select from unnest(s.setconfig) c where c ~ '^synchronous_commit=' and c !~ '=(on|remote_apply)$')
union all
select 'old password', rolname, '' from pg_authid where rolcanlogin and rolpassword like 'md5%'
union all
select 'slot', slot_name::text, '' from pg_replication_slots where slot_type = 'physical'";
/// Its list of clients, with all that it includes, in its order (manual, section 54.10).
const CLIENTS: &str = "
select type, array_to_string(database, ','), array_to_string(user_name, ','), address, netmask, auth_method,
       array_to_string(options, ' '), line_number, error
from pg_hba_file_rules order by line_number";

/// What that server said.
#[derive(Debug, Default)]
struct Found {
    superuser: bool,
    /// Name and value of what somebody wrote into a file.
    settings: Vec<(String, String)>,
    overridden: Vec<String>,
    old_passwords: Vec<String>,
    slots: Vec<String>,
    /// Lines that let clients in or keep them out, in one form.
    clients: Vec<String>,
    /// Lines that the server cannot read.
    unreadable: Vec<String>,
}

impl Found {
    fn read(said: &str) -> Self {
        let mut found = Self::default();
        for line in said.lines() {
            let mut fields = line.split('\t').map(String::from);
            let (what, name) = (fields.next(), fields.next().unwrap_or_default());
            let value = fields.next().unwrap_or_default();
            match what.as_deref() {
                Some("superuser") => found.superuser = value == "true",
                Some("setting") => found.settings.push((name, value)),
                Some("overridden") => found.overridden.push(name),
                Some("old password") => found.old_passwords.push(name),
                Some("slot") => found.slots.push(name),
                _ => {}
            }
        }
        found
    }

    fn read_clients(&mut self, said: &str) {
        for line in said.lines() {
            let fields: Vec<&str> = line.split('\t').collect();
            match fields.as_slice() {
                // The server says nothing else of a line that it cannot read.
                ["", .., number, error] => {
                    self.unreadable.push(format!("line {number}: {error}"));
                }
                [rule @ .., _, _] => self.clients.push(clients::of_view(rule)),
                _ => {}
            }
        }
    }

    /// Differences between its list of clients and the spec's: the same clients get in afterwards, and
    /// no others.
    fn clients_obstacles(&self, plan: &Plan) -> Vec<String> {
        if !self.unreadable.is_empty() {
            let lines = self.unreadable.join("; ");
            return vec![format!(
                "the server cannot read its list of clients: {lines}; mend it"
            )];
        }
        let spec = clients::lines(plan.clients.as_deref().unwrap_or(clients::USUAL));
        let other = clients::differences(&self.clients, &spec).into_iter();
        let mut all: Vec<String> = other
            .map(|what| {
                format!(
                    "`clients` in the workload's settings is not the list of the server that runs (adopt it as it is, change it later): {what}"
                )
            })
            .collect();
        let local = self.clients.iter().any(|line| line.starts_with("local "));
        if local && plan.sockets.is_empty() {
            all.push(
                "clients log in by its socket: say where in the workload's settings (`sockets = \"/var/run/postgresql\"`)"
                    .into(),
            );
        }
        let certificate = self
            .clients
            .iter()
            .find(|line| clients::by_certificate(line));
        if let Some(line) = certificate.filter(|_| plan.clients_ca.is_none()) {
            all.push(format!(
                "clients log in by certificate (`{line}`): name the file with the CA of those in the workload's settings (`clients-ca`)"
            ));
        }
        all
    }

    /// What has to be put right first; of settings that are `settled` nothing is lost.
    fn obstacles(&self, settled: impl Fn(&str, &str) -> bool) -> Vec<String> {
        let mut all = Vec::new();
        if !self.superuser {
            all.push(
                "its role `postgres` is no superuser: make it one (ALTER ROLE postgres SUPERUSER)"
                    .into(),
            );
        }
        let lost = self
            .settings
            .iter()
            .filter(|(name, value)| !settled(name, value));
        let lost: Vec<String> = lost
            .map(|(name, value)| format!("set.{name} = {value:?}"))
            .collect();
        if !lost.is_empty() {
            all.push(format!(
                "settings of the server that runs would be lost: write these, or what they are to be, into the workload's settings: {}",
                lost.join(" ")
            ));
        }
        if !self.overridden.is_empty() {
            all.push(format!(
                "synchronous_commit is another one for {}: take it back (ALTER ROLE or DATABASE ... RESET synchronous_commit)",
                self.overridden.join(", ")
            ));
        }
        if !self.old_passwords.is_empty() {
            all.push(format!(
                "{} could not log in any more: their passwords are kept as MD5; set them anew with password_encryption = 'scram-sha-256'",
                self.old_passwords.join(", ")
            ));
        }
        if !self.slots.is_empty() {
            all.push(format!(
                "replication slots would hold the log back for nobody: {}; have its standbys stream without one, then drop them (pg_drop_replication_slot)",
                self.slots.join(", ")
            ));
        }
        all
    }
}

impl Postgres {
    /// Of the control file, at its beginning (`src/include/catalog/pg_control.h`).
    /// Read with each look: somebody may have put other data there.
    pub(super) fn system_identifier(&self) -> Option<String> {
        let path = self.host.site.data.join("global/pg_control");
        let mut number = [0; 8];
        let mut file = self.host.files().open(&path).ok()?;
        file.read_exact(&mut number).ok()?;
        Some(u64::from_ne_bytes(number).to_string())
    }

    /// What stands in the way of a replica here that was not here before.
    pub(super) async fn obstacles_here(&self) -> Vec<String> {
        let site = &self.host.site;
        let mut all = Vec::new();
        match self.data_kind() {
            Data::Foreign(why) => all.push(format!("{why}: give it a directory of its own")),
            Data::Empty => {
                all.extend(no_room(&site.data, ROOM));
                all.extend(self.obstacles_to_restoring().await);
            }
            Data::Present { .. } => {
                all.extend(self.wrong_owner());
                all.extend(self.others_who_start_it());
            }
            Data::Unusable(_) => all.extend(self.others_who_start_it()),
        }
        if let Err(error) = TcpListener::bind((site.address.ip(), 0)) {
            let ip = site.address.ip();
            all.push(format!("this host does not have the address {ip}: {error}"));
        }
        match self.host.nothing_runs() {
            Err(error) => all.push(error.to_string()),
            Ok(true) => {}
            Ok(false) if self.is_ours() => {}
            Ok(false) if !site.adopt => all.push(format!(
                "a server that Karst did not start runs on {}: write `adopt = true` for Karst to stop it and start it as its own, or stop it",
                site.data.display()
            )),
            Ok(false) => match self.ask_whoever_runs().await {
                Ok(found) => {
                    all.extend(found.obstacles(|name, value| self.settles(name, value)));
                    all.extend(found.clients_obstacles(&self.plan));
                }
                Err(error) => all.push(format!(
                    "the server that runs on {} cannot be asked, as role postgres on its own socket: {error}",
                    site.data.display()
                )),
            },
        }
        all
    }

    fn wrong_owner(&self) -> Option<String> {
        let (uid, _) = self.host.site.owner?;
        let data = &self.host.site.data;
        match std::fs::metadata(data).map(|metadata| metadata.uid()) {
            Ok(is) if is == uid => None,
            Ok(is) => Some(format!(
                "{} belongs to user {is}, and the server runs as user {uid}: say in the settings who it is (`user`)",
                data.display()
            )),
            Err(error) => Some(not_known(data, &error, "whose data they are")),
        }
    }

    /// By the socket that its own file names, as its own user: nobody needs a password there.
    async fn ask_whoever_runs(&self) -> Result<Found> {
        let path = self.host.site.data.join("postmaster.pid");
        let file = self.host.files().read_text(&path);
        let file = file.map_err(Trouble::io(path.display().to_string()))?;
        let lines: Vec<&str> = file.lines().map(str::trim).collect();
        let (Some(port), Some(socket)) = (lines.get(3), lines.get(4)) else {
            return Err(Trouble::Wrong(format!("{} is not whole", path.display())));
        };
        let ask = async |what: &str| -> Result<String> {
            let mut psql = self.host.program(&self.plan.programs.join("psql"));
            psql.args([
                "-X", "-A", "-t", "-q", "-w", "-F", "\t", "-U", "postgres", "-d", "postgres",
            ])
            .args(["-h", socket, "-p", port, "-c", what]);
            let output = self.host.run(psql, "psql", copied).await?;
            Ok(String::from_utf8_lossy(&output.stdout).into_owned())
        };
        let mut found = Found::read(&ask(LOOK).await?);
        found.read_clients(&ask(CLIENTS).await?);
        Ok(found)
    }

    /// Whoever would start the server behind Karst's back: the unit that it runs in, and timetables.
    fn others_who_start_it(&self) -> Vec<String> {
        let mut all = Vec::new();
        // Where they cannot be listed the look at what runs says so.
        let processes = self.host.site.processes.list().unwrap_or_default();
        let groups = processes.iter().map(|pid| format!("/proc/{pid}/cgroup"));
        let mut units = BTreeSet::new();
        for path in groups.filter(|_| !self.is_ours()) {
            match std::fs::read_to_string(&path) {
                Ok(text) => units.extend(unit_of(&text).map(String::from)),
                Err(error) if is_gone(&error) => {}
                Err(error) => all.push(not_known(path.as_ref(), &error, "which unit started it")),
            }
        }
        all.extend(units.into_iter().map(|unit| {
            format!(
                "{unit} started the server that runs, and may start it again: `systemctl disable {unit}`, and `systemctl mask {unit}` once it is adopted"
            )
        }));
        let data = self.host.site.data.display().to_string();
        all.extend(
            TIMETABLES
                .iter()
                .flat_map(|place| timetabled(Path::new(place), &data)),
        );
        all
    }
}

/// What could not be looked at is no "no".
fn not_known(path: &Path, error: &std::io::Error, what: &str) -> String {
    format!(
        "{}: {error}: {what} is not known; let Karst read it",
        path.display()
    )
}

fn is_gone(error: &std::io::Error) -> bool {
    error.kind() == ErrorKind::NotFound || error.raw_os_error() == Some(Errno::SRCH.raw_os_error())
}

/// Whether the volume of the data has less than that left.
pub(super) fn no_room(data: &Path, least: u64) -> Option<String> {
    let mut above = data.ancestors();
    let volume = above.find_map(|dir| match rustix::fs::statvfs(dir) {
        Err(Errno::NOENT) => None,
        looked => Some((dir, looked)),
    });
    let (dir, free) = match volume? {
        (dir, Ok(volume)) => (dir, volume.f_bavail.saturating_mul(volume.f_frsize)),
        (dir, Err(error)) => return Some(not_known(dir, &error.into(), "how much room it has")),
    };
    (free < least).then(|| {
        let (of, free) = (dir.display(), karst_core::text::size(free));
        format!("{of} has {free} left, which is no room for a copy")
    })
}

/// The service that a process is in; none where it is a person's session, or Karst's own.
fn unit_of(groups: &str) -> Option<&str> {
    let path = groups.lines().find_map(|line| line.strip_prefix("0::"))?;
    let unit = path.split('/').find(|part| part.ends_with(".service"))?;
    (!unit.starts_with("karst") && !unit.starts_with("user@")).then_some(unit)
}

/// What a file, or the files of a directory, have to do with this path, but for comments.
fn timetabled(place: &Path, path: &str) -> Vec<String> {
    let unknown = |of: &Path, error| not_known(of, &error, "whether it runs something on the data");
    let files = match std::fs::read_dir(place) {
        Ok(entries) => entries
            .map(|entry| entry.map(|entry| entry.path()))
            .collect(),
        Err(error) if error.kind() == ErrorKind::NotADirectory => Ok(vec![place.to_path_buf()]),
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(Vec::new()),
        Err(error) => Err(error),
    };
    let files: Vec<PathBuf> = match files {
        Ok(files) => files,
        Err(error) => return vec![unknown(place, error)],
    };
    let mut found = Vec::new();
    for file in files {
        let text = match std::fs::read(&file) {
            Ok(bytes) => String::from_utf8_lossy(&bytes).into_owned(),
            // Nobody runs what is in a directory further down, or is gone.
            Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::IsADirectory) => {
                continue;
            }
            Err(error) => {
                found.push(unknown(&file, error));
                continue;
            }
        };
        let lines = text.lines().map(str::trim);
        let about = lines.filter(|line| line.contains(path) && !line.starts_with('#'));
        let file = file.display();
        found.extend(about.map(|line| {
            format!("a timetable runs something on its data: {file}: {line}; take it out")
        }));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::{Found, no_room, timetabled, unit_of};
    use std::path::Path;

    #[test]
    fn a_running_server_says_what_has_to_be_put_right() {
        let said = "superuser\tpostgres\ttrue\nsetting\twork_mem\t8MB\nsetting\tport\t5432\n\
                    old password\tgull\t\nslot\tquay\t\noverridden\tdatabase ferries\t\n";
        let all = Found::read(said).obstacles(|name, _| name == "port");
        assert_eq!(all.len(), 4, "{all:?}");
        assert!(all[0].ends_with("set.work_mem = \"8MB\""), "{all:?}");
        assert!(
            Found::read("superuser\tpostgres\ttrue\n")
                .obstacles(|_, _| false)
                .is_empty()
        );
        assert_eq!(
            Found::read("").obstacles(|_, _| false).len(),
            1,
            "silence is no superuser"
        );
    }

    #[test]
    fn the_unit_of_a_process_is_named() {
        let debian = "0::/system.slice/system-postgresql.slice/postgresql@15-main.service\n";
        assert_eq!(unit_of(debian), Some("postgresql@15-main.service"));
        assert_eq!(unit_of("0::/karst/sailings\n"), None);
        assert_eq!(
            unit_of("0::/user.slice/user-0.slice/user@0.service/app.slice\n"),
            None
        );
        assert_eq!(unit_of("1:name=systemd:/x.service\n"), None);
    }

    #[test]
    fn a_timetable_that_touches_the_data_is_found() {
        let dir = std::env::temp_dir().join(format!("karst-timetable-{}", std::process::id()));
        std::fs::create_dir_all(&dir).unwrap();
        std::fs::write(
            dir.join("quay"),
            "# /srv/data\n* * * * * root pg_ctl -D /srv/data start\n",
        )
        .unwrap();
        std::fs::create_dir_all(dir.join("further down")).unwrap();
        let found = timetabled(&dir, "/srv/data");
        assert!(found.len() == 1 && found[0].contains("pg_ctl"), "{found:?}");
        let one = timetabled(&dir.join("quay"), "/srv/data");
        assert_eq!(found, one);
        assert!(timetabled(&dir.join("nothing"), "/srv/data").is_empty());
        std::fs::remove_dir_all(&dir).unwrap();
    }

    /// A link to itself is one that nobody can follow, whoever looks.
    #[test]
    fn what_cannot_be_looked_at_stands_in_the_way() {
        let dir = std::env::temp_dir().join(format!("karst-unknown-{}", std::process::id()));
        std::fs::create_dir_all(&dir).unwrap();
        let round = dir.join("round");
        std::os::unix::fs::symlink(&round, &round).unwrap();
        let named =
            |said: &str| said.starts_with(round.to_str().unwrap()) && said.contains("not known");
        for found in [
            timetabled(&dir, "/srv/data"),
            timetabled(&round, "/srv/data"),
        ] {
            assert!(found.len() == 1 && named(&found[0]), "{found:?}");
        }
        let room = no_room(&round.join("data"), super::ROOM);
        assert!(room.as_deref().is_some_and(named), "{room:?}");
        assert_eq!(
            no_room(Path::new("/nowhere/at/all"), super::ROOM),
            no_room(Path::new("/"), super::ROOM)
        );
        std::fs::remove_dir_all(&dir).unwrap();
    }
}
