//! Processes of a workload: finding them all, ending them all, and making sure (SAFETY C1).
//!
//! A server's children have sessions of their own, so a process group is not enough, and killing the first process is not
//! stopping the server. Where there is a cgroup v2 hierarchy each workload's server runs in a cgroup of its own, which is
//! killed as a whole. Every process of a PostgreSQL server also works in its data directory, and that is how they are found
//! in any case. Zombies have neither: they count as gone (D12).

mod cgroup;

pub use cgroup::{Cgroup, find_hierarchy};

use rustix::process::{Pid, Signal, kill_process};
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
        Self { data: data.into(), cgroup }
    }

    /// What is there now.
    pub fn list(&self) -> Vec<i32> {
        let mut all = working_in(&self.data);
        all.extend(self.cgroup.iter().flat_map(Cgroup::list));
        all.sort_unstable();
        all.dedup();
        all
    }

    /// The words before a command that start it in the workload's cgroup; none where there is no cgroup.
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
    /// `TimedOut` if some process is still there after `limit`.
    pub fn end_all(&self, limit: Duration) -> io::Result<usize> {
        let begun = Instant::now();
        let mut ended = 0;
        loop {
            // A walk through all of the host's processes is dear on a busy host: the cgroup tells first.
            if let Some(cgroup) = &self.cgroup {
                ended = ended.max(cgroup.list().len());
                cgroup.kill();
                while !cgroup.list().is_empty() && begun.elapsed() < limit {
                    std::thread::sleep(LOOK);
                }
            }
            let left = self.list();
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

/// The processes whose working directory is `data`.
fn working_in(data: &Path) -> Vec<i32> {
    // The link in /proc is resolved; so has the path to be.
    let Ok(data) = data.canonicalize() else { return Vec::new() };
    let Ok(entries) = std::fs::read_dir("/proc") else { return Vec::new() };
    let pids = entries.flatten().filter_map(|e| e.file_name().to_str()?.parse::<i32>().ok());
    pids.filter(|pid| std::fs::read_link(format!("/proc/{pid}/cwd")).is_ok_and(|cwd| cwd == data)).collect()
}

/// A server does not inherit the daemon's raised priority: whoever watches has to come first on a busy host.
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
            .args(["-c", "setsid sleep 600 & setsid sh -c 'sleep 600 & wait' & wait"])
            .current_dir(&dir)
            .stdin(Stdio::null())
            .spawn()
            .unwrap();
        let processes = Processes::new(&dir, None);
        while processes.list().len() < 4 {
            std::thread::yield_now();
        }
        assert!(processes.end_all(Duration::from_secs(5)).unwrap() >= 4);
        parent.wait().unwrap();
        assert_eq!(processes.list(), Vec::<i32>::new());
        std::fs::remove_dir_all(&dir).unwrap();
    }

    /// Whoever left the data directory is ended by its cgroup; a machine that gives this test none has nothing to show.
    #[test]
    fn nobody_leaves_a_cgroup() {
        let Some(hierarchy) = find_hierarchy() else { return };
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
        while processes.list().len() < 3 {
            assert!(begun.elapsed() < Duration::from_secs(10), "it did not enter the cgroup");
            std::thread::yield_now();
        }
        assert_eq!(working_in(&dir), Vec::<i32>::new());
        assert!(processes.end_all(Duration::from_secs(5)).unwrap() >= 3);
        child.wait().unwrap();
        assert_eq!(processes.list(), Vec::<i32>::new());
        cgroup.remove();
        std::fs::remove_dir_all(&dir).unwrap();
    }
}
