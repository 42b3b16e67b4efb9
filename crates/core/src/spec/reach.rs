//! A spec reaches more of its hosts than their servers' own work: programs that run there, users,
//! directories that are written, files that are read. A plan names each that is another one, and
//! each host's owner says which are allowed there.

use super::KeyPath;
use super::model::{Spec, WorkloadSpec};
use crate::ids::NodeId;
use std::collections::BTreeSet;

/// How a host is reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Reach {
    /// It runs as the daemon's user, or starts a server.
    Program,
    /// Servers or own steps run as that user.
    User,
    /// Servers keep their data there, or a copy of them is read there.
    Data,
    /// Servers write their logs there.
    Log,
    /// A file with a secret, or the name of one in the environment.
    Secret,
    /// A file that says whom to trust.
    Trust,
}

impl Reach {
    pub fn word(self) -> &'static str {
        match self {
            Reach::Program => "program",
            Reach::User => "user",
            Reach::Data => "data directory",
            Reach::Log => "log directory",
            Reach::Secret => "secret",
            Reach::Trust => "trusted certificates",
        }
    }
}

/// One of them, and the key that names it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Reached {
    pub how: Reach,
    pub key: KeyPath,
    /// A path (a program's with its arguments), a user, or a reference to a secret.
    pub what: String,
    /// The nodes on whose hosts; none: all.
    pub on: BTreeSet<NodeId>,
}

impl Reached {
    pub fn is_on(&self, node: &NodeId) -> bool {
        self.on.is_empty() || self.on.contains(node)
    }
}

/// A spec reaches all of these.
pub fn reached(spec: &Spec) -> Vec<Reached> {
    let mut all = Vec::new();
    let key = |parts: &[&str]| -> KeyPath { parts.iter().map(ToString::to_string).collect() };
    for (id, node) in &spec.nodes {
        for (setting, what) in node.power.iter().flat_map(|power| &power.settings) {
            let how = match setting.as_str() {
                "run" => Reach::Program,
                "secret" => Reach::Secret,
                "ca" => Reach::Trust,
                _ => continue,
            };
            // Any node may have to cut it.
            all.push(Reached {
                how,
                key: key(&["node", id.as_str(), "power", setting]),
                what: what.clone(),
                on: BTreeSet::new(),
            });
        }
    }
    for (id, workload) in &spec.workloads {
        of_workload(id.as_str(), workload, &mut all);
    }
    for (name, step) in &spec.steps {
        if let Some(user) = &step.user {
            all.push(Reached {
                how: Reach::User,
                key: key(&["step", name, "user"]),
                what: user.clone(),
                on: step.nodes.clone(),
            });
        }
    }
    all
}

fn of_workload(id: &str, workload: &WorkloadSpec, all: &mut Vec<Reached>) {
    let key = |parts: &[&str]| -> KeyPath {
        let own = ["workload", id].into_iter().chain(parts.iter().copied());
        own.map(ToString::to_string).collect()
    };
    for (setting, what) in &workload.settings {
        let how = match setting.as_str() {
            "programs" | "program" | "launcher" => Reach::Program,
            "user" => Reach::User,
            "secret" | "client-secret" => Reach::Secret,
            "clients-ca" => Reach::Trust,
            _ => continue,
        };
        all.push(Reached {
            how,
            key: key(&["settings", setting]),
            what: what.clone(),
            on: workload.replicas.keys().cloned().collect(),
        });
    }
    for (node, replica) in &workload.replicas {
        let directories = [
            ("data", Reach::Data, Some(&replica.data)),
            ("log", Reach::Log, replica.log.as_ref()),
            ("base_backup", Reach::Data, replica.base_backup.as_ref()),
        ];
        for (name, how, directory) in directories {
            all.extend(directory.map(|what| Reached {
                how,
                key: key(&["replica", node.as_str(), name]),
                what: what.clone(),
                on: [node.clone()].into(),
            }));
        }
    }
    // Any node may coordinate.
    all.extend(workload.name.as_ref().map(|name| Reached {
        how: Reach::Secret,
        key: key(&["name", "secret"]),
        what: name.secret.clone(),
        on: BTreeSet::new(),
    }));
}

/// The files with secrets that a spec refers to.
pub fn secret_files(spec: &Spec) -> BTreeSet<String> {
    let secrets = reached(spec)
        .into_iter()
        .filter(|one| one.how == Reach::Secret);
    let files = secrets.filter_map(|one| one.what.strip_prefix("file:").map(String::from));
    files.collect()
}

/// A line for each that the new spec reaches and the old one does not.
pub fn newly_reached(old: &Spec, new: &Spec) -> Vec<String> {
    let before: BTreeSet<Reached> = reached(old).into_iter().collect();
    let after = reached(new).into_iter();
    let line = |one: Reached| {
        let hosts: Vec<&str> = one.on.iter().map(NodeId::as_str).collect();
        let hosts = match hosts.as_slice() {
            [] => "every host".to_string(),
            hosts => hosts.join(", "),
        };
        format!(
            "{} on {hosts}: {} ({})",
            one.how.word(),
            one.what,
            one.key.join(".")
        )
    };
    after
        .filter(|one| !before.contains(one))
        .map(line)
        .collect()
}
