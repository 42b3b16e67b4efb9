//! One cgroup v2 for each workload's server (the kernel's `cgroup-v2.rst`): nobody in it can leave
//! it, and it is killed as a whole.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// A workload's cgroup, made when its server is started.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cgroup(PathBuf);

/// Where the cgroup v2 hierarchy is mounted; on a host with both versions that is not the usual
/// place.
pub fn find_hierarchy() -> Option<PathBuf> {
    let mounts = fs::read_to_string("/proc/self/mountinfo").ok()?;
    let mount = |line: &str| {
        // proc_pid_mountinfo(5): the mount point is the fifth field, the type stands after the
        // separator.
        let (front, back) = line.split_once(" - ")?;
        (back.split(' ').next()? == "cgroup2")
            .then(|| front.split(' ').nth(4).map(PathBuf::from))?
    };
    mounts.lines().find_map(mount)
}

/// There is no such cgroup, or no more.
fn is_gone(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::NotFound
        || error.raw_os_error() == Some(rustix::io::Errno::NODEV.raw_os_error())
}

impl Cgroup {
    /// The cgroup of a workload below the directory that Karst may use.
    pub fn new(parent: &Path, workload: &str) -> Self {
        Self(parent.join(workload))
    }

    /// Makes it, and gives the words that start a command in it: whatever is started enters before
    /// it becomes anything else. One that may not be entered says so in the server's log, and costs
    /// nobody the server.
    pub(super) fn entry(&self) -> io::Result<Vec<String>> {
        fs::create_dir_all(&self.0)?;
        let words = ["sh", "-c", "echo 0 > \"$0/cgroup.procs\"; exec \"$@\""];
        Ok(words
            .into_iter()
            .map(String::from)
            .chain([self.0.display().to_string()])
            .collect())
    }

    /// Who is in it; nobody where it does not exist, or was removed while it was read.
    ///
    /// # Errors
    /// If that cannot be found out.
    pub(super) fn list(&self) -> io::Result<Vec<i32>> {
        match fs::read_to_string(self.0.join("cgroup.procs")) {
            Ok(procs) => Ok(procs.lines().filter_map(|l| l.parse().ok()).collect()),
            Err(error) if is_gone(&error) => Ok(Vec::new()),
            Err(error) => Err(error),
        }
    }

    /// Everyone in it at once. Where the kernel cannot, its list of processes still says whom to
    /// signal.
    pub(super) fn kill(&self) {
        let _ = fs::write(self.0.join("cgroup.kill"), "1");
    }

    /// Removes it and the directory above, if nobody is in them.
    pub fn remove(&self) {
        let _ = fs::remove_dir(&self.0);
        let _ = self.0.parent().map(fs::remove_dir);
    }
}
