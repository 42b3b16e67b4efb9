//! Names in DNS, as the coordinator keeps them: looked at now and then, and led elsewhere when what
//! takes writes is elsewhere.

use super::{Effect, Node};
use crate::fact::Fact;
use crate::ids::WorkloadId;
use crate::name::{NameOrder, NameSeen};
use crate::planted::Planted;
use crate::spec::{Finding, FindingKind, NameSpec, Severity, Spec};
use crate::steward::names::leads_to;
use crate::time::Time;
use crate::view::NameView;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::time::Duration;

/// How often a name that leads where it should is looked at: somebody may have changed it.
const LOOK_EVERY: Duration = Duration::from_secs(15);
/// Between a try that failed and the next.
const TRY_AGAIN: Duration = Duration::from_secs(2);
/// After so long without an answer it is asked again: whoever was asked may be gone.
const NO_ANSWER: Duration = Duration::from_secs(15);

/// The names as this coordinator knows them; nothing that the next one could not find out.
#[derive(Debug, Default)]
pub(super) struct Names(BTreeMap<WorkloadId, Name>);

#[derive(Debug)]
struct Name {
    of: NameSpec,
    /// Where it is to lead, the last that was ordered so, and what is under way since when.
    wanted: Option<BTreeSet<IpAddr>>,
    ordered: Option<BTreeSet<IpAddr>>,
    asked: Option<(NameOrder, Time)>,
    due: Time,
    seen: Option<Result<NameSeen, String>>,
    /// The last failure that was recorded, so that a retry says something only when it is news.
    said: Option<String>,
}

impl Name {
    fn new(of: NameSpec, now: Time) -> Self {
        Self {
            of,
            wanted: None,
            ordered: None,
            asked: None,
            due: now,
            seen: None,
            said: None,
        }
    }

    fn is_elsewhere(&self) -> bool {
        match (&self.wanted, &self.seen) {
            (Some(wanted), Some(Ok(seen))) => seen.to != *wanted,
            (wanted, _) => wanted.is_some(),
        }
    }
}

impl Node {
    /// With each heartbeat, as a coordinator whose leadership is acknowledged, which has applied all that
    /// was committed before: its orders are newer than any earlier coordinator's.
    pub(super) fn keep_names(&mut self) {
        if !self.leads_at(self.now) || !self.consensus.is_established() {
            return;
        }
        let Some(mut lead) = self.lead.take() else {
            return;
        };
        let mut names = std::mem::take(&mut lead.names.0);
        let now = self.now;
        names.retain(|id, name| name_of(&self.spec, id) == Some(&name.of));
        for (id, spec) in &self.spec.workloads {
            let Some(of) = &spec.name else { continue };
            let name = names
                .entry(id.clone())
                .or_insert_with(|| Name::new(of.clone(), now));
            name.wanted = leads_to(&self.scene_of(&lead), id, spec, of.leads);
            name.asked
                .take_if(|(_, since)| now.since(*since) >= NO_ANSWER);
            if name.is_elsewhere() && name.ordered != name.wanted {
                name.due = name.due.min(now);
            }
            if name.asked.is_some() || name.due > now {
                continue;
            }
            name.ordered.clone_from(&name.wanted);
            let order = NameOrder {
                entry: self.state.applied,
                to: name.wanted.clone(),
            };
            name.asked = Some((order.clone(), now));
            self.outbox.emit(Effect::Name {
                workload: id.clone(),
                order,
            });
        }
        lead.names.0 = names;
        self.lead = Some(lead);
    }

    pub(super) fn on_named(
        &mut self,
        workload: &WorkloadId,
        order: &NameOrder,
        result: Result<NameSeen, String>,
    ) {
        let now = self.now;
        let name = self.lead.as_mut().map(|lead| &mut lead.names.0);
        let Some(name) = name.and_then(|names| names.get_mut(workload)) else {
            return;
        };
        if name.asked.take_if(|(asked, _)| asked == order).is_none() {
            return;
        }
        self.timers.stirred = true;
        name.due = match &result {
            _ if self.planted == Some(Planted::NameTakenAsOrdered) => Time(u64::MAX),
            Ok(_) => now + LOOK_EVERY,
            Err(_) => now + TRY_AGAIN,
        };
        let record = name.of.record.clone();
        let failed = result.as_ref().err().cloned();
        let news = failed.is_some() && failed != name.said;
        name.said.clone_from(&failed);
        let led = result
            .as_ref()
            .ok()
            .filter(|seen| seen.entry == Some(order.entry))
            .map(|seen| seen.to.clone());
        name.seen = Some(result);
        let workload = workload.clone();
        if let Some(to) = led {
            self.record(Fact::NameLeads {
                workload,
                record,
                to,
            });
        } else if let Some(why) = failed.filter(|_| news) {
            self.record(Fact::NameFails {
                workload,
                record,
                why,
            });
        }
    }
}

fn name_of<'a>(spec: &'a Spec, id: &WorkloadId) -> Option<&'a NameSpec> {
    spec.workloads.get(id)?.name.as_ref()
}

impl Names {
    pub fn view(&self, id: &WorkloadId, of: &NameSpec) -> NameView {
        let name = self.0.get(id).filter(|name| name.of == *of);
        let seen = name.and_then(|name| name.seen.as_ref());
        let list = |to: &BTreeSet<IpAddr>| to.iter().copied().collect();
        NameView {
            record: of.record.clone(),
            leads: of.leads,
            ttl_ms: of.ttl.as_millis() as u64,
            to: seen.and_then(|seen| Some(list(&seen.as_ref().ok()?.to))),
            wanted: name.and_then(|name| name.wanted.as_ref()).map(list),
            remark: seen.and_then(|seen| seen.as_ref().err().cloned()),
        }
    }

    /// Names that may lead clients elsewhere than to what takes writes.
    pub fn findings(&self) -> Vec<Finding> {
        let failing = |(id, name): (&WorkloadId, &Name)| {
            let why = name.seen.as_ref()?.as_ref().err()?;
            let record = &name.of.record;
            Some(Finding {
                kind: FindingKind::NameFails,
                severity: Severity::Warning,
                path: vec!["workload".into(), id.to_string(), "name".into()],
                what: format!(
                    "{record} cannot be kept in DNS ({why}): whoever goes by it may be led to where writes are not taken"
                ),
                remedy: "mend the name server or the name's settings; it is tried again every 2 s"
                    .into(),
            })
        };
        self.0.iter().filter_map(failing).collect()
    }
}
