//! What the deadman watches, and where it keeps that.

use super::What;
use karst_adapters::process::Processes;
use karst_core::WorkloadId;
use karst_core::authority::Claim;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Write};
use std::net::IpAddr;
use std::path::Path;
use std::time::Duration;

/// One of them, as it is kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    pub claim: Claim,
    pub what: What,
    pub longest: Duration,
}

/// One of them, with what ends it.
#[derive(Clone, Debug)]
pub struct Watched {
    pub entry: Entry,
    pub target: Target,
}

#[derive(Clone, Debug)]
pub enum Target {
    Server { processes: Processes, port: u16 },
    Addresses(Vec<IpAddr>),
}

/// How the processes of a workload's server are found on this host, by its data directory.
pub type Find = Box<dyn Fn(&WorkloadId, &str) -> Processes>;

pub type List = BTreeMap<Claim, Watched>;

pub fn watched(entry: Entry, find: &Find) -> Watched {
    let target = match &entry.what {
        What::Server { data, port } => Target::Server {
            processes: find(entry.claim.workload(), data),
            port: *port,
        },
        What::Addresses(list) => Target::Addresses(list.clone()),
    };
    Watched { entry, target }
}

/// The list of an earlier run; nothing where there was none.
///
/// # Errors
/// If there is one and it cannot be read: what it says must not be taken for nothing.
pub fn read(path: &Path) -> io::Result<Vec<Entry>> {
    match std::fs::read(path) {
        Ok(bytes) => serde_json::from_slice(&bytes).map_err(|error| {
            let what = format!(
                "{}: {error}; see that nothing of Karst's runs on this host, then move the file away",
                path.display()
            );
            io::Error::new(io::ErrorKind::InvalidData, what)
        }),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
        Err(error) => Err(error),
    }
}

/// Returns when it is on the disk.
pub fn keep(path: &Path, list: &[Entry]) -> io::Result<()> {
    let next = path.with_extension("next");
    let mut file = File::create(&next)?;
    file.write_all(&serde_json::to_vec(list)?)?;
    file.sync_all()?;
    std::fs::rename(&next, path)?;
    File::open(path.parent().unwrap_or(Path::new(".")))?.sync_all()
}

pub fn entries(list: &List) -> Vec<Entry> {
    list.values().map(|watched| watched.entry.clone()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_that_cannot_be_read_is_not_an_empty_one() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("watched.json");
        assert_eq!(read(&path).unwrap(), []);
        let list = [Entry {
            claim: Claim::Primary("sailings".into()),
            what: What::Server {
                data: "/srv/sailings".into(),
                port: 5_432,
            },
            longest: Duration::from_secs(2),
        }];
        keep(&path, &list).unwrap();
        assert_eq!(read(&path).unwrap(), list);
        std::fs::write(&path, b"[{\"claim\":").unwrap();
        assert!(
            read(&path)
                .unwrap_err()
                .to_string()
                .contains("watched.json")
        );
    }
}
