//! Processes of a workload: finding them all, ending them all, and making sure (SAFETY C1).
//!
//! A server's children have sessions of their own, so a process group is not enough, and killing
//! the first process is not stopping the server. Where there is a cgroup v2 hierarchy each
//! workload's server runs in a cgroup of its own, which is killed as a whole. Every process of a
//! PostgreSQL server also works in its data directory, and that is how they are found in any case.
//! Zombies have neither: they count as gone (D12).
//!
//! An error while looking is not an empty list: whoever cannot look (no descriptor is left, say)
//! does not know that nothing runs, and must not say so.

mod cgroup;

pub use cgroup::{Cgroup, find_hierarchy};

use rustix::process::{Pid, Resource, Rlimit, Signal, getrlimit, kill_process, setrlimit};
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// Between two looks at processes that are about to end.
const LOOK: Duration = Duration::from_millis(1);

/// All processes of one workload's server on this host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Processes {
    /// As the spec names it.
    data: PathBuf,
    cgroup: Option<Cgroup>,
}

impl Processes {
    /// Those that work in `data`, and those of the cgroup.
    pub fn new(data: &Path, cgroup: Option<Cgroup>) -> Self {
        Self {
            data: data.into(),
            cgroup,
        }
    }

    /// What is there now.
    ///
    /// # Errors
    /// If that cannot be found out: then something may run.
    pub fn list(&self) -> io::Result<Vec<i32>> {
        let mut all = working_in(&self.data)?;
        if let Some(cgroup) = &self.cgroup {
            all.extend(cgroup.list()?);
        }
        all.sort_unstable();
        all.dedup();
        Ok(all)
    }

    /// The words before a command that start it in the workload's cgroup; none where there is no
    /// cgroup.
    ///
    /// # Errors
    /// If the cgroup cannot be made.
    pub fn entry(&self) -> io::Result<Vec<String>> {
        self.cgroup.as_ref().map_or(Ok(Vec::new()), Cgroup::entry)
    }

    /// Ends every process and returns when none is left; how many there were.
    ///
    /// Blocking; takes about 10 to 25 ms for a server of 16 processes.
    ///
    /// # Errors
    /// `TimedOut` if some process is still there after `limit`; whatever kept it from looking until
    /// then.
    pub fn end_all(&self, limit: Duration) -> io::Result<usize> {
        let begun = Instant::now();
        let mut ended = 0;
        loop {
            // A walk through all of the host's processes is dear on a busy host: the cgroup tells
            // first.
            if let Some(cgroup) = &self.cgroup {
                ended = ended.max(cgroup.list().map_or(0, |all| all.len()));
                // Again and again: without a descriptor the first was never heard.
                cgroup.kill();
                while !cgroup.list().is_ok_and(|left| left.is_empty()) && begun.elapsed() < limit {
                    std::thread::sleep(LOOK);
                    cgroup.kill();
                }
            }
            let left = match self.list() {
                Ok(left) => left,
                Err(error) if begun.elapsed() >= limit => return Err(error),
                Err(_) => {
                    std::thread::sleep(LOOK);
                    continue;
                }
            };
            if left.is_empty() {
                return Ok(ended);
            }
            if begun.elapsed() >= limit {
                let where_ = self.data.display();
                return Err(io::Error::new(
                    io::ErrorKind::TimedOut,
                    format!("processes {left:?} of {where_} do not end"),
                ));
            }
            ended = ended.max(left.len());
            // Whoever is in no cgroup, and all of them on a kernel that cannot kill one as a whole.
            for pid in left.into_iter().filter_map(Pid::from_raw) {
                let _ = kill_process(pid, Signal::KILL);
            }
            std::thread::sleep(LOOK);
        }
    }
}

/// The processes whose working directory is `data`; none where there is no such directory.
fn working_in(data: &Path) -> io::Result<Vec<i32>> {
    // The link in /proc is resolved; so has the path to be.
    let data = match data.canonicalize() {
        Ok(data) => data,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    let mut found = Vec::new();
    for entry in std::fs::read_dir("/proc")? {
        let name = entry?.file_name();
        if let Some(pid) = name.to_str().and_then(|name| name.parse::<i32>().ok())
            && works_in(pid, &data)?
        {
            found.push(pid);
        }
    }
    Ok(found)
}

fn works_in(pid: i32, data: &Path) -> io::Result<bool> {
    match std::fs::read_link(format!("/proc/{pid}/cwd")) {
        Ok(cwd) => Ok(cwd == data),
        Err(error) if is_gone(&error) => Ok(false),
        // It has rights that this process does not have (ptrace(2), access mode checking): nothing
        // that this one started has.
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => Ok(false),
        Err(error) => Err(error),
    }
}

/// It ended while it was looked at (proc_pid_cwd(5), proc(5)); a zombie has no directory any more
/// either.
fn is_gone(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::NotFound
        || error.raw_os_error() == Some(rustix::io::Errno::SRCH.raw_os_error())
}

/// As many descriptors as the host allows: whoever has none left cannot look what runs, and has to
/// let a lease run out.
pub fn raise_descriptor_limit() {
    let limit = getrlimit(Resource::Nofile);
    let raised = setrlimit(
        Resource::Nofile,
        Rlimit {
            current: limit.maximum,
            ..limit
        },
    );
    if let Err(error) = raised {
        tracing::warn!(%error, "the limit of open files cannot be raised");
    }
}

/// A server does not inherit the daemon's raised priority: whoever watches has to come first on a
/// busy host.
pub fn at_ordinary_priority(child: &tokio::process::Child) {
    if let Some(pid) = child.id().and_then(|pid| Pid::from_raw(pid.cast_signed())) {
        // Gone already, or never raised for want of the right to it: both are fine.
        let _ = rustix::process::setpriority_process(Some(pid), 0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::process::{Command, Stdio};

    /// A tree whose children have sessions of their own is ended as a whole.
    #[test]
    fn the_whole_tree_is_ended() {
        let dir = std::env::temp_dir().join(format!("karst-process-{}", std::process::id()));
        std::fs::create_dir_all(&dir).unwrap();
        let mut parent = Command::new("sh")
            .args([
                "-c",
                "setsid sleep 600 & setsid sh -c 'sleep 600 & wait' & wait",
            ])
            .current_dir(&dir)
            .stdin(Stdio::null())
            .spawn()
            .unwrap();
        let processes = Processes::new(&dir, None);
        while processes.list().unwrap().len() < 4 {
            std::thread::yield_now();
        }
        assert!(processes.end_all(Duration::from_secs(5)).unwrap() >= 4);
        parent.wait().unwrap();
        assert_eq!(processes.list().unwrap(), Vec::<i32>::new());
        std::fs::remove_dir_all(&dir).unwrap();
    }

    /// Without a descriptor to look with it is not known that nothing runs, and nobody says so.
    #[test]
    fn who_cannot_look_does_not_say_that_nothing_runs() {
        let dir = tempfile::tempdir().unwrap();
        let mut child = Command::new("sleep")
            .arg("600")
            .current_dir(dir.path())
            .stdin(Stdio::null())
            .spawn()
            .unwrap();
        let processes = Processes::new(dir.path(), None);
        while processes.list().unwrap().is_empty() {
            std::thread::yield_now();
        }
        let before = getrlimit(Resource::Nofile);
        setrlimit(
            Resource::Nofile,
            Rlimit {
                current: Some(64),
                ..before
            },
        )
        .unwrap();
        let all: Vec<std::fs::File> =
            std::iter::from_fn(|| std::fs::File::open("/dev/null").ok()).collect();
        let (listed, ended) = (
            processes.list(),
            processes.end_all(Duration::from_millis(50)),
        );
        drop(all);
        setrlimit(Resource::Nofile, before).unwrap();
        assert!(listed.is_err(), "{listed:?}");
        assert!(ended.is_err(), "{ended:?}");
        assert_eq!(processes.end_all(Duration::from_secs(5)).unwrap(), 1);
        child.wait().unwrap();
    }

    /// An order to a cgroup that could not be given is given again as soon as it can be (seen: a
    /// stop that waited out its whole limit).
    #[test]
    fn a_cgroup_is_ended_as_soon_as_there_is_a_descriptor() {
        let Some(hierarchy) = find_hierarchy() else {
            return;
        };
        let name = format!("karst-test-few-{}", std::process::id());
        let cgroup = Cgroup::new(&hierarchy.join(name), "sailings");
        let dir = tempfile::tempdir().unwrap();
        let processes = Processes::new(dir.path(), Some(cgroup.clone()));
        let Ok(entry) = processes.entry() else { return };
        let mut child = Command::new(&entry[0])
            .args(&entry[1..])
            .args(["sleep", "600"])
            .stdin(Stdio::null())
            .spawn()
            .unwrap();
        while processes.list().unwrap().is_empty() {
            std::thread::yield_now();
        }
        let before = getrlimit(Resource::Nofile);
        let few = Rlimit {
            current: Some(64),
            ..before
        };
        setrlimit(Resource::Nofile, few).unwrap();
        let all: Vec<std::fs::File> =
            std::iter::from_fn(|| std::fs::File::open("/dev/null").ok()).collect();
        let begun = Instant::now();
        let ending = std::thread::spawn(move || processes.end_all(Duration::from_secs(10)));
        // For so long nobody has one.
        std::thread::sleep(Duration::from_millis(200));
        drop(all);
        let ended = ending.join().unwrap();
        setrlimit(Resource::Nofile, before).unwrap();
        assert!(ended.is_ok(), "{ended:?}");
        assert!(begun.elapsed() < Duration::from_secs(5), "it waited");
        child.wait().unwrap();
        cgroup.remove();
    }

    /// Whoever left the data directory is ended by its cgroup; a machine that gives this test none
    /// has nothing to show.
    #[test]
    fn nobody_leaves_a_cgroup() {
        let Some(hierarchy) = find_hierarchy() else {
            return;
        };
        let name = format!("karst-test-{}", std::process::id());
        let cgroup = Cgroup::new(&hierarchy.join(name), "sailings");
        let dir = std::env::temp_dir().join(format!("karst-cgroup-{}", std::process::id()));
        std::fs::create_dir_all(&dir).unwrap();
        let processes = Processes::new(&dir, Some(cgroup.clone()));
        let Ok(entry) = processes.entry() else { return };
        let mut child = Command::new(&entry[0])
            .args(&entry[1..])
            .args(["sh", "-c", "cd /; setsid sleep 600 & sleep 600"])
            .stdin(Stdio::null())
            .spawn()
            .unwrap();
        let begun = std::time::Instant::now();
        while processes.list().unwrap().len() < 3 {
            assert!(
                begun.elapsed() < Duration::from_secs(10),
                "it did not enter the cgroup"
            );
            std::thread::yield_now();
        }
        assert_eq!(working_in(&dir).unwrap(), Vec::<i32>::new());
        assert!(processes.end_all(Duration::from_secs(5)).unwrap() >= 3);
        child.wait().unwrap();
        assert_eq!(processes.list().unwrap(), Vec::<i32>::new());
        cgroup.remove();
        std::fs::remove_dir_all(&dir).unwrap();
    }
}
