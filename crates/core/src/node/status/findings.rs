//! What of the cluster a guarantee or an expectation depends on, and is not as it should be.

use super::super::account::Account;
use crate::ids::{NodeId, OperationId, WorkloadId};
use crate::safetypoint::SafetyPoint;
use crate::spec::{Finding, FindingKind, Severity, WorkloadSpec, check};
use crate::steward::candidates::{self, Candidate, Exclusion};
use crate::steward::holding::written_since;
use crate::steward::readers::Readers;
use crate::text::size;
use crate::view::FindingView;

impl Account<'_> {
    /// All that stands: what nobody knows of first, then by how bad it is.
    pub(in crate::node) fn findings(&self) -> Vec<FindingView> {
        let known = &self.scene.state.acknowledged;
        let mut views: Vec<FindingView> = self.found().into_iter().map(FindingView::from).collect();
        for view in &mut views {
            view.acknowledged = known.get(&view.name).cloned();
        }
        views.sort_by_key(|view| (view.acknowledged.is_some(), view.finding.severity));
        views
    }

    pub(super) fn found(&self) -> Vec<Finding> {
        let seen = self
            .unguarded()
            .into_iter()
            .chain(self.unlisted())
            .chain(self.devices.findings())
            .chain(self.names.findings());
        let seen = seen
            .chain(self.uncounted())
            .chain(self.removed())
            .chain(self.unnamed())
            .chain(self.overruled())
            .chain(self.waiting_settings())
            .chain(self.without_target())
            .chain(self.waiting_readers())
            .chain(self.kept_points())
            .chain(self.of_links())
            .chain(self.cut_off_gates())
            .chain(self.unsafe_rests())
            .chain(self.of_hosts());
        check(self.scene.spec).into_iter().chain(seen).collect()
    }

    /// A voter whose node store is new, or went back in time: it does not vote (A6).
    pub(super) fn uncounted(&self) -> Vec<Finding> {
        let voters = self.scene.spec.nodes.iter().filter(|(id, _)| {
            self.node.voters().weight(id) > 0 && self.votes_count(id) == Some(false)
        });
        let finding = |(id, _): (&NodeId, _)| Finding {
            kind: FindingKind::VoteNotCounted,
            severity: Severity::Warning,
            path: vec!["node".into(), id.to_string()],
            what: format!(
                "{id} does not vote: its node store is new, or was put back to an earlier state, and may have forgotten what it \
                 promised"
            ),
            remedy: format!(
                "see that its state directory is the right one, mounted and not restored; then karst node enrol {id}"
            ),
        };
        voters.map(finding).collect()
    }

    /// This node left the cluster while it was away, or another host has taken its name.
    fn removed(&self) -> Option<Finding> {
        let (me, since) = (self.scene.me, self.node.removed()?);
        Some(Finding {
            kind: FindingKind::Removed,
            severity: Severity::Warning,
            path: vec!["node".into(), me.to_string()],
            what: format!(
                "{me} is no node of this cluster any more, by entry {since} of its log: the others refuse its key, and it has let go of everything"
            ),
            remedy: format!(
                "stop its daemon and its deadman; its data stay where they are. To have it back: karst node add {me} on another node, and join with a new key"
            ),
        })
    }

    /// Settings of servers that outrank Karst's own, or that a promise rests on (F11).
    pub(super) fn overruled(&self) -> Vec<Finding> {
        let scene = &self.scene;
        let mut findings = Vec::new();
        for (id, spec) in &self.scene.spec.workloads {
            for node in spec.replicas.keys() {
                let seen = scene.replica(node, id).and_then(|r| r.seen.as_ref());
                for setting in seen.into_iter().flat_map(|o| &o.overruled) {
                    let what = format!(
                        "{} = {} is in force on {node} ({})",
                        setting.name, setting.value, setting.source
                    );
                    let risk = match setting.ends_promise {
                        true => "commits may return that no standby has",
                        false => {
                            "writes that it acknowledges may be lost or damaged in a crash or a failover"
                        }
                    };
                    findings.push(Finding {
            kind: FindingKind::SettingOverruled,
                        severity: Severity::Warning,
                        path: vec!["workload".into(), id.to_string(), "replica".into(), node.to_string()],
                        what: format!("{what}: {risk}"),
                        remedy:
                            "take that setting back (ALTER SYSTEM RESET, ALTER ROLE or DATABASE ... RESET) and reload"
                                .into(),
                    });
                }
            }
        }
        findings
    }

    /// Workloads that the spec's own rules leave nobody for as things are: said before anything is
    /// lost, so that nothing is expected then which will not come.
    fn without_target(&self) -> Vec<Finding> {
        let scene = &self.scene;
        let finding = |(id, spec): (&WorkloadId, &WorkloadSpec)| {
            let w = scene.state.workload(id);
            let holder = w
                .holder()
                .filter(|_| w.is_open() && w.operation.is_none())?;
            let list = candidates::list(scene, id, spec);
            let by_rule = |c: &Candidate| {
                let rules = [Exclusion::NeverPrimary, Exclusion::TooFewStandbys];
                c.exclusion.is_some_and(|why| rules.contains(&why))
            };
            let somebody = list.iter().any(|c| c.pending || c.excluded.is_none());
            if somebody || !list.iter().any(by_rule) {
                return None;
            }
            let why = list
                .iter()
                .filter_map(|c| Some(format!("{}: {}", c.node, c.excluded.as_ref()?)));
            let why: Vec<String> = why.collect();
            Some(Finding {
                kind: FindingKind::NoTarget,
                severity: Severity::Warning,
                path: vec!["workload".into(), id.to_string()],
                what: format!("{id} has no target if {holder} is lost: {}", why.join("; ")),
                remedy: format!(
                    "bring its standbys back, or change its rules; a person may still decide (karst failover {id} --to NODE)"
                ),
            })
        };
        scene.spec.workloads.iter().filter_map(finding).collect()
    }

    /// Workloads whose readers nobody serves, while writers are served.
    fn waiting_readers(&self) -> Vec<Finding> {
        let finding = |(id, readers): (&WorkloadId, &Readers)| {
            let open = self.scene.state.workload(id).is_open();
            let spec = self.scene.spec.workloads.get(id).filter(|_| open)?;
            if spec.reads.is_none() || !readers.is_known() || !readers.fit().is_empty() {
                return None;
            }
            let why = |node: &NodeId| Some(format!("{node}: {}", readers.unfit(node)?));
            let why: Vec<String> = spec.replicas.keys().filter_map(why).collect();
            Some(Finding {
                kind: FindingKind::ReadersWait,
                severity: Severity::Warning,
                path: vec!["workload".into(), id.to_string(), "reads".into()],
                what: format!(
                    "readers of {id} wait, as nobody serves them: {}",
                    why.join("; ")
                ),
                remedy: format!(
                    "bring its standbys back, raise `age`, or let the primary serve them meanwhile (`primary = true` in workload.{id}.reads)"
                ),
            })
        };
        self.readers.iter().filter_map(finding).collect()
    }

    /// Safety points that are there to be dropped: each is a standby less.
    fn kept_points(&self) -> Vec<Finding> {
        let scene = &self.scene;
        let finding = |(intent, point): (OperationId, &SafetyPoint)| {
            let id = &point.workload;
            let (name, node) = (&point.name, &point.node);
            let what = &scene.state.charter.intents[&intent].what;
            let since = crate::text::utc(what.at);
            let size_now = match written_since(scene, id) {
                Some(bytes) => format!("{} of log written since", size(bytes)),
                None => "how much was written since is not known".into(),
            };
            Finding {
                kind: FindingKind::SafetyPointKept,
                severity: Severity::Warning,
                path: vec!["workload".into(), id.to_string(), "safety-point".into()],
                what: format!(
                    "{node} is held back at safety point {name} of {id}, asked for by {} at {since} ({size_now}): it confirms no write and takes nothing over",
                    what.by
                ),
                remedy: format!("once it is not needed any more: karst safety-point drop {id}"),
            }
        };
        let points = scene.state.charter.safety_points();
        points.map(finding).collect()
    }

    /// Servers that have to be started again before the spec's settings are in force.
    pub(super) fn waiting_settings(&self) -> Vec<Finding> {
        let scene = &self.scene;
        let finding = |(id, spec): (&WorkloadId, &WorkloadSpec)| {
            let pending = |node: &NodeId| {
                let seen = scene.replica(node, id)?.seen.as_ref()?;
                (!seen.pending.is_empty()).then(|| format!("{node} ({})", seen.pending.join(", ")))
            };
            let waiting: Vec<String> = spec.replicas.keys().filter_map(pending).collect();
            (!waiting.is_empty()).then(|| Finding {
                kind: FindingKind::RestartNeeded,
                severity: Severity::Warning,
                path: vec!["workload".into(), id.to_string(), "settings".into()],
                what: format!(
                    "settings of the spec are in force after the next start only: {}",
                    waiting.join(", ")
                ),
                remedy: format!(
                    "`karst workload restart {id}` restarts one server after the other"
                ),
            })
        };
        scene.spec.workloads.iter().filter_map(finding).collect()
    }

    /// A workload whose primary the spec does not name.
    pub(super) fn unnamed(&self) -> Vec<Finding> {
        let holder = |id: &WorkloadId| self.scene.state.workload(id).holder().cloned();
        let gone = self
            .scene
            .spec
            .workloads
            .iter()
            .filter_map(|(id, s)| Some((id, holder(id)?, s)));
        let gone = gone.filter(|(_, holder, s)| !s.replicas.contains_key(holder));
        let finding = |(id, holder, _): (&WorkloadId, NodeId, _)| Finding {
            kind: FindingKind::PrimaryNotInSpec,
            severity: Severity::Warning,
            path: vec!["workload".into(), id.to_string(), "replica".into()],
            what: format!(
                "{holder} is primary of {id}, and the spec names no replica there: no gate forwards to it"
            ),
            remedy: format!(
                "put [workload.{id}.replica.{holder}] back, and move the workload before it is taken out"
            ),
        };
        gone.map(finding).collect()
    }

    /// A floating address whose holder does not know who is connected over it.
    pub(super) fn unlisted(&self) -> Vec<Finding> {
        let scene = &self.scene;
        let finding = |id: &WorkloadId| {
            let holder = self.scene.state.workload(id).place.holder.as_ref()?;
            let why = scene
                .reports
                .get(holder)?
                .report
                .parts
                .addresses
                .get(id)?
                .unlisted
                .as_ref()?;
            Some(Finding {
                kind: FindingKind::ConnectionsNotListed,
                severity: Severity::Warning,
                path: vec!["workload".into(), id.to_string(), "address".into()],
                what: format!(
                    "{holder} cannot list the connections over its address ({why}): clients that wait for an answer when it \
                     moves are not told"
                ),
                remedy: "load the kernel modules tcp_diag and inet_diag there, or build them in"
                    .into(),
            })
        };
        self.scene
            .spec
            .workloads
            .keys()
            .filter_map(finding)
            .collect()
    }

    /// A primary that no packet guard covers (C3).
    pub(super) fn unguarded(&self) -> Vec<Finding> {
        let scene = &self.scene;
        let finding = |id: &WorkloadId| {
            let holder = self.scene.state.workload(id).holder()?;
            let why = scene.replica(holder, id)?.unguarded.as_ref()?;
            Some(Finding {
                kind: FindingKind::NoPacketGuard,
                severity: Severity::Warning,
                path: vec!["workload".into(), id.to_string()],
                what: format!(
                    "{holder} has no packet guard ({why}): frozen as a whole and thawed later, its server may answer for \
                     an instant before it is ended"
                ),
                remedy:
                    "install nftables there and give karstd the right to use it (CAP_NET_ADMIN)"
                        .into(),
            })
        };
        self.scene
            .spec
            .workloads
            .keys()
            .filter_map(finding)
            .collect()
    }

    /// What nodes say is wrong on their hosts, and volumes that are nearly full.
    pub(super) fn of_hosts(&self) -> Vec<Finding> {
        let mut found = Vec::new();
        for node in self.scene.spec.nodes.keys() {
            let Some((_, about)) = self.about(node) else {
                continue;
            };
            // A node speaks for itself.
            let own = |f: &&Finding| f.path.get(1).is_some_and(|of| of == node.as_str());
            found.extend(about.findings.iter().filter(own).cloned());
            found.extend(
                about
                    .rooms
                    .iter()
                    .filter(|room| room.is_nearly_full())
                    .map(|room| Finding {
                        kind: FindingKind::DiskFills,
                        severity: Severity::Warning,
                        path: vec!["node".into(), node.to_string()],
                        what: format!(
                            "{} has {} free of {} for its {} ({})",
                            node,
                            size(room.free),
                            size(room.total),
                            room.of,
                            room.path
                        ),
                        remedy: "make room there, or give it a larger volume".into(),
                    }),
            );
        }
        found
    }
}
