//! This host's owner says what a spec may reach here: programs, users, directories, files with secrets.
//! A change of the spec reaches nothing else, as with the site's own steps.
//!
//! The file has a line each: `programs DIR`, `launcher WORDS`, `user NAME`, `data DIR`, `logs DIR`,
//! `secrets DIR`. Without the file the usual places count.

use anyhow::{Context, Result, bail, ensure};
use karst_core::spec::{Reach, Reached, Spec, reached};
use karst_core::{NodeId, WorkloadId};
use rustix::process::geteuid;
use std::io::ErrorKind;
use std::os::unix::fs::MetadataExt;
use std::path::{Component, Path, PathBuf};

const USUAL: &str = "\
programs /usr/lib/postgresql
programs /usr/libexec/karst
programs /etc/karst/programs
user postgres
data /var/lib/karst
data /var/lib/postgresql
logs /var/lib/karst
logs /var/log/karst
";

/// Where that is written, and the directory of secrets that the daemon was started with.
#[derive(Clone, Debug)]
pub struct Allowed {
    pub file: PathBuf,
    pub secrets: PathBuf,
}

/// The lines of that file.
#[derive(Debug, Default)]
struct Lines {
    programs: Vec<PathBuf>,
    launchers: Vec<String>,
    users: Vec<String>,
    data: Vec<PathBuf>,
    logs: Vec<PathBuf>,
    secrets: Vec<PathBuf>,
}

impl Allowed {
    /// Why something that the spec reaches for this workload's server is not allowed here, if so.
    ///
    /// # Errors
    /// Which, and what to do.
    pub fn server(&self, spec: &Spec, me: &NodeId, workload: &WorkloadId) -> Result<()> {
        let of = ["workload", workload.as_str()];
        self.all(spec, me, |key| {
            key.starts_with(&of.map(String::from)) && key[2] != "name"
        })
    }

    /// The same for the name of a workload.
    ///
    /// # Errors
    /// Which, and what to do.
    pub fn name(&self, spec: &Spec, me: &NodeId, workload: &WorkloadId) -> Result<()> {
        let of = ["workload", workload.as_str(), "name"];
        self.all(spec, me, |key| key.starts_with(&of.map(String::from)))
    }

    /// The same for the power device of a node.
    ///
    /// # Errors
    /// Which, and what to do.
    pub fn power(&self, spec: &Spec, me: &NodeId, of: &NodeId) -> Result<()> {
        let of = ["node", of.as_str(), "power"];
        self.all(spec, me, |key| key.starts_with(&of.map(String::from)))
    }

    fn all(&self, spec: &Spec, me: &NodeId, concerns: impl Fn(&[String]) -> bool) -> Result<()> {
        let all = reached(spec).into_iter();
        let mut all = all
            .filter(|one| one.is_on(me) && concerns(&one.key))
            .peekable();
        if all.peek().is_none() {
            return Ok(());
        }
        let lines = self.read()?;
        all.try_for_each(|one| {
            let why = format!("{} = \"{}\"", one.key.join("."), one.what);
            self.look_at(&lines, &one).context(why)
        })
    }

    fn read(&self) -> Result<Lines> {
        let text = match std::fs::read_to_string(&self.file) {
            Ok(text) => {
                is_ours(&self.file)?;
                text
            }
            Err(error) if error.kind() == ErrorKind::NotFound => USUAL.into(),
            Err(error) => bail!("{}: {error}", self.file.display()),
        };
        let mut lines = parse(&text).with_context(|| self.file.display().to_string())?;
        lines.secrets.push(self.secrets.clone());
        Ok(lines)
    }

    fn look_at(&self, lines: &Lines, one: &Reached) -> Result<()> {
        let is_launcher = one.key.last().is_some_and(|key| key == "launcher");
        let (kind, roots) = match one.how {
            Reach::Program if is_launcher => {
                let known = lines.launchers.contains(&one.what);
                ensure!(known, self.remedy(&format!("launcher {}", one.what)));
                return Ok(());
            }
            Reach::User => {
                let known = lines.users.contains(&one.what);
                ensure!(known, self.remedy(&format!("user {}", one.what)));
                return Ok(());
            }
            Reach::Program => ("programs", &lines.programs),
            Reach::Data => ("data", &lines.data),
            Reach::Log => ("logs", &lines.logs),
            Reach::Secret => ("secrets", &lines.secrets),
            // Its words are read, and none of them is told anybody.
            Reach::Trust => return Ok(()),
        };
        let path = match one.how {
            Reach::Secret => match one.what.strip_prefix("file:") {
                Some(path) => path,
                // What this daemon was started with is its owner's.
                None => return Ok(()),
            },
            Reach::Program => one.what.split_whitespace().next().unwrap_or_default(),
            _ => &one.what,
        };
        let path = Path::new(path);
        ensure!(path.is_absolute(), "write an absolute path");
        let real = real(path)?;
        let mut roots = roots.iter().filter_map(|root| self::real(root).ok());
        let dir = path.parent().unwrap_or(path).display();
        ensure!(
            roots.any(|root| real.starts_with(root)),
            self.remedy(&format!("{kind} {dir}"))
        );
        if one.how == Reach::Program {
            is_ours(&real)?;
            is_ours(real.parent().unwrap_or(&real))?;
        }
        Ok(())
    }

    fn remedy(&self, line: &str) -> String {
        format!(
            "this host's owner does not allow it: have the spec name another, or write the line `{line}` into {} here",
            self.file.display()
        )
    }
}

fn parse(text: &str) -> Result<Lines> {
    let mut lines = Lines::default();
    let written = |line: &&str| !line.is_empty() && !line.starts_with('#');
    for line in text.lines().map(str::trim).filter(written) {
        let (kind, what) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
        let what = what.trim();
        let roots = match kind {
            "launcher" | "user" if !what.is_empty() => {
                let list = if kind == "user" {
                    &mut lines.users
                } else {
                    &mut lines.launchers
                };
                list.push(what.into());
                continue;
            }
            "programs" => &mut lines.programs,
            "data" => &mut lines.data,
            "logs" => &mut lines.logs,
            "secrets" => &mut lines.secrets,
            _ => bail!(
                "`{line}`: write `programs DIR`, `launcher WORDS`, `user NAME`, `data DIR`, `logs DIR` or `secrets DIR`"
            ),
        };
        ensure!(what.starts_with('/'), "`{line}`: write an absolute path");
        roots.push(what.into());
    }
    Ok(lines)
}

/// A path without links, as far as it is there.
fn real(path: &Path) -> Result<PathBuf> {
    let plain = path.components().all(|part| part != Component::ParentDir);
    ensure!(plain, "a path with `..`");
    for above in path.ancestors() {
        match std::fs::canonicalize(above) {
            // An empty rest would leave a slash at the end, as if it were a directory.
            Ok(real) if above == path => return Ok(real),
            Ok(real) => return Ok(real.join(path.strip_prefix(above)?)),
            // A link that leads nowhere yet may lead anywhere later.
            Err(error) if error.kind() == ErrorKind::NotFound => {
                let link = std::fs::symlink_metadata(above).is_ok();
                ensure!(!link, "{} is a link that leads nowhere", above.display());
            }
            Err(error) => bail!("{}: {error}", above.display()),
        }
    }
    bail!("{}: nothing of it is there", path.display())
}

/// Root and the daemon's user alone can have put it there.
fn is_ours(path: &Path) -> Result<()> {
    let seen = std::fs::metadata(path).with_context(|| path.display().to_string())?;
    let ours = [0, geteuid().as_raw()].contains(&seen.uid()) || is_of_nobody_here(seen.uid());
    ensure!(
        ours && seen.mode() & 0o022 == 0,
        "have {} belong to root or to the daemon's user, and let no other user write there",
        path.display()
    );
    Ok(())
}

/// Within a user namespace all users outside of it have one number, and no process inside becomes them
/// (user_namespaces(7)).
fn is_of_nobody_here(uid: u32) -> bool {
    let number = |path: &str| std::fs::read_to_string(path).ok();
    let whole = number("/proc/self/uid_map").is_none_or(|map| {
        let mut fields = map.split_whitespace();
        fields.next() == Some("0") && fields.next() == Some("0")
    });
    let outside = number("/proc/sys/kernel/overflowuid").and_then(|text| text.trim().parse().ok());
    !whole && outside == Some(uid)
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_api::specfile;
    use std::os::unix::fs::{PermissionsExt, symlink};

    /// What an administrator named, and each host did as root.
    #[test]
    fn a_spec_reaches_what_the_host_allows() {
        let dir = tempfile::tempdir().unwrap();
        let dir = dir.path().canonicalize().unwrap();
        let at = |name: &str| dir.join(name).display().to_string();
        for name in ["programs", "data", "logs", "secrets", "other"] {
            std::fs::create_dir(dir.join(name)).unwrap();
        }
        for name in ["programs/cut", "other/cut", "secrets/key", "other/key"] {
            std::fs::write(dir.join(name), "").unwrap();
        }
        symlink("/etc", dir.join("data/link")).unwrap();
        symlink("/nonexistent", dir.join("data/nowhere")).unwrap();
        let file = dir.join("allowed");
        let lines = format!(
            "# here\nprograms {}\nuser gulls\nlauncher nice -n 5\ndata {}\nlogs {}\n",
            at("programs"),
            at("data"),
            at("logs")
        );
        std::fs::write(&file, lines).unwrap();
        let allowed = Allowed {
            file: file.clone(),
            secrets: dir.join("secrets"),
        };
        let refuses = |program: &str, settings: &str, replica: &str| {
            let text = format!(
                "cluster = \"skerry\"\n[zone.quay]\n[node.ponor]\nzone = \"quay\"\npeer = \"10.20.0.13:26700\"\n\
                 [node.ponor.power]\ndriver = \"command\"\nrun = \"{program} ponor\"\n\
                 [workload.fares]\n[workload.fares.settings]\nsecret = \"file:{}\"\n{settings}\n\
                 [workload.fares.replica.ponor]\naddress = \"10.30.0.13:5432\"\n{replica}\n",
                at("secrets/key")
            );
            let read = specfile::read(&text);
            let spec = read.spec.unwrap_or_else(|| panic!("{:?}", read.findings));
            let ponor = "ponor".into();
            let power = allowed.power(&spec, &ponor, &ponor).err();
            let server = allowed.server(&spec, &ponor, &"fares".into()).err();
            power.or(server).map(|error| format!("{error:#}"))
        };
        let (cut, data) = (
            at("programs/cut"),
            format!("data = \"{}\"", at("data/fares")),
        );
        let good = format!("programs = \"{}\"\nuser = \"gulls\"", at("programs"));
        let log = format!("{data}\nlog = \"{}\"", at("logs/fares"));
        assert_eq!(refuses(&cut, &good, &log), None);
        assert_eq!(refuses(&cut, "launcher = \"nice -n 5\"", &data), None);
        let wrong = [
            (at("other/cut"), "", data.clone()),
            ("/bin/sh".into(), "", data.clone()),
            (at("programs/../other/cut"), "", data.clone()),
            (cut.clone(), "programs = \"/usr/bin\"", data.clone()),
            (cut.clone(), "user = \"root\"", data.clone()),
            (cut.clone(), "launcher = \"nice -n 5 sh\"", data.clone()),
            (cut.clone(), "", "data = \"/etc/karst\"".into()),
            (cut.clone(), "", format!("data = \"{}\"", at("data/link/x"))),
            (
                cut.clone(),
                "",
                format!("data = \"{}\"", at("data/nowhere")),
            ),
            (
                cut.clone(),
                "",
                format!("{data}\nlog = \"{}\"", at("other")),
            ),
            (cut.clone(), "", format!("{data}\nbase_backup = \"/etc\"")),
        ];
        for (program, settings, replica) in wrong {
            let why = refuses(&program, settings, &replica);
            assert!(why.is_some(), "{program} {settings} {replica}");
        }
        let secret = format!("client-secret = \"file:{}\"", at("other/key"));
        assert!(refuses(&cut, &secret, &data).unwrap().contains("secrets "));
        // Others could have put another program in its place.
        let mode = |name: &str, mode| {
            std::fs::set_permissions(dir.join(name), PermissionsExt::from_mode(mode)).unwrap();
        };
        mode("programs/cut", 0o777);
        assert!(
            refuses(&cut, "", &data)
                .unwrap()
                .contains("no other user write")
        );
        mode("programs/cut", 0o755);
        assert_eq!(refuses(&cut, "", &data), None);
        mode("allowed", 0o666);
        assert!(
            refuses(&cut, "", &data)
                .unwrap()
                .contains("no other user write")
        );
        mode("allowed", 0o600);
        std::fs::write(&file, "everything /\n").unwrap();
        assert!(refuses(&cut, "", &data).unwrap().contains("everything"));
        std::fs::remove_file(&file).unwrap();
        assert!(refuses(&cut, "", &data).is_some(), "the usual places");
    }
}
