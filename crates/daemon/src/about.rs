//! What this node says of itself and its host, looked at now and then: for people, wherever they
//! ask.

use crate::heart::Tell;
use crate::lock::read;
use crate::wiring::Servers;
use crate::{clock, deadman, tls};
use karst_core::about::{About, Room};
use karst_core::spec::{Finding, Revision};
use karst_core::{Input, NodeId};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};
use std::time::Duration;
use tokio::sync::watch;

/// How often it is looked.
const LOOK: Duration = Duration::from_secs(5);
/// Room is told in so many parts of the whole: what is written all the time is no news.
const PARTS: u64 = 100;

/// What is wrong on this host, as far as this node alone can tell.
pub type Own = Arc<RwLock<Vec<Finding>>>;

/// Where it is looked.
pub struct Sources {
    pub me: NodeId,
    pub in_force: watch::Receiver<Arc<Revision>>,
    pub state: PathBuf,
    pub runtime: PathBuf,
    pub certificate: PathBuf,
    pub identity: Arc<RwLock<Arc<tls::Identity>>>,
    pub servers: Servers,
    pub own: [Own; 3],
}

/// Until the daemon ends.
pub async fn run(sources: Sources, tell: Tell) {
    let (since, mut last) = (clock::unix(), None);
    loop {
        let (looked_at, certificate) = (sources.places(), sources.certificate.clone());
        let runtime = sources.runtime.clone();
        // A disk that hangs holds up this and nothing else.
        let seen = tokio::task::spawn_blocking(move || {
            let rooms: Vec<Room> = looked_at.into_iter().filter_map(room).collect();
            let deadman = deadman::of_host(&runtime);
            (rooms, deadman, tls::until(&certificate).ok().flatten())
        });
        let Ok((rooms, of_host, certificate_until)) = seen.await else {
            return;
        };
        let about = About {
            version: env!("CARGO_PKG_VERSION").into(),
            servers: sources.versions(),
            unguarded: of_host.unguarded,
            watchdog: of_host.watchdog,
            rooms,
            certificate_until,
            authorities: read(&sources.identity).authorities.clone(),
            since,
            findings: sources
                .own
                .iter()
                .flat_map(|own| read(own).clone())
                .collect(),
        };
        if last.as_ref() != Some(&about) {
            tell.input(Input::About(Box::new(about.clone())));
            last = Some(about);
        }
        tokio::time::sleep(LOOK).await;
    }
}

impl Sources {
    /// The directories whose volumes must not fill.
    fn places(&self) -> Vec<(String, PathBuf)> {
        let mut places = vec![("node store".to_string(), self.state.clone())];
        for (id, workload) in &self.in_force.borrow().spec.workloads {
            let Some(replica) = workload.replicas.get(&self.me) else {
                continue;
            };
            places.push((format!("data of {id}"), PathBuf::from(&replica.data)));
            let log = replica.log.as_ref().map(PathBuf::from);
            places.extend(log.map(|log| (format!("log of {id}"), log)));
        }
        places
    }

    fn versions(&self) -> BTreeMap<karst_core::WorkloadId, String> {
        let all = self.servers.by_workload().into_iter();
        all.filter_map(|(id, server)| Some((id, server.version()?)))
            .collect()
    }
}

/// None where it cannot be told: a directory that is not there yet, most of the time.
fn room((of, path): (String, PathBuf)) -> Option<Room> {
    let nearest = path.ancestors().find(|dir| dir.exists())?;
    let volume = rustix::fs::statvfs::<&Path>(nearest).ok()?;
    let total = volume.f_blocks.saturating_mul(volume.f_frsize);
    let free = volume.f_bavail.saturating_mul(volume.f_frsize);
    let part = (total / PARTS).max(1);
    Some(Room {
        of,
        path: path.display().to_string(),
        free: free / part * part,
        total,
    })
}
