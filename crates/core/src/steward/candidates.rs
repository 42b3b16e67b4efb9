//! Who may become the next primary, and why the others may not.
//!
//! Order of the questions: may it, is it safe, then the newest position, then the spec's rank.

use super::scene::Scene;
use crate::ids::{NodeId, WorkloadId};
use crate::planted::Planted;
use crate::position::Position;
use crate::replica::{Data, Observation, ReplicaReport, Role};
use crate::spec::{Loss, WorkloadSpec};
use crate::state::{Opened, Tenure, WorkloadState};
use serde::{Deserialize, Serialize};
use std::cmp::Reverse;
use std::time::Duration;

/// One replica other than the present primary, judged.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Candidate {
    pub node: NodeId,
    /// Why it may not take over; none if it may.
    pub excluded: Option<String>,
    /// The kind of that reason.
    pub exclusion: Option<Exclusion>,
    /// How it would become primary.
    pub way: Way,
    /// Its answer may still change in a moment: its final position is not reported yet.
    pub pending: bool,
    pub position: Option<u64>,
    pub rank: u32,
    /// A member of the sync set has every acknowledged write.
    pub in_sync_set: bool,
    /// It is to be gone, or its node is in maintenance: it is taken where nobody else is there.
    pub leaving: bool,
    /// How many of the workloads that are to be on its node, or not, are where they should be then.
    pub fits: usize,
    /// Where a person may choose it all the same: what it may lack of the acknowledged writes, as
    /// far as is known.
    pub may_lack: Option<MayLack>,
}

/// What keeps a replica from taking over; `docs/runbook.md` has a section for each.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Exclusion {
    NeverOpened,
    NodeFenced,
    NotHeard,
    NotReported,
    NoData,
    DataUnusable,
    MustBeRewound,
    PromotionInterrupted,
    StillStopping,
    SetUpAsStandby,
    NotInSyncSet,
    ServerSilent,
    ServerStopped,
    NotAStandby,
    PositionPending,
    PositionUnknown,
    HistoryParted,
    LastWordPending,
    TooFarBehind,
    LagUnknown,
    NeverPrimary,
    TooFewStandbys,
    HeldBack,
}

impl Exclusion {
    pub const ALL: [Exclusion; 23] = [
        Exclusion::NeverOpened,
        Exclusion::NodeFenced,
        Exclusion::NotHeard,
        Exclusion::NotReported,
        Exclusion::NoData,
        Exclusion::DataUnusable,
        Exclusion::MustBeRewound,
        Exclusion::PromotionInterrupted,
        Exclusion::StillStopping,
        Exclusion::SetUpAsStandby,
        Exclusion::NotInSyncSet,
        Exclusion::ServerSilent,
        Exclusion::ServerStopped,
        Exclusion::NotAStandby,
        Exclusion::PositionPending,
        Exclusion::PositionUnknown,
        Exclusion::HistoryParted,
        Exclusion::LastWordPending,
        Exclusion::TooFarBehind,
        Exclusion::LagUnknown,
        Exclusion::NeverPrimary,
        Exclusion::TooFewStandbys,
        Exclusion::HeldBack,
    ];
}

/// How a replica comes to be primary.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Way {
    /// A standby is promoted.
    TakesOver,
    /// The holder of the last opened epoch is started again: it has every write that was
    /// acknowledged.
    Resumes,
    /// It was assigned an epoch since, and did not open it: nobody can have written there, and it
    /// has what it had before.
    TriesAgain,
}

/// What a replica may lack of what the last primary acknowledged.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum MayLack {
    /// Exactly so many: where the last primary's log ended is known.
    Bytes(u64),
    /// From its position to the last one that the primary was heard at, so long ago; what was
    /// written after that is not known.
    AtLeast {
        bytes: u64,
        #[serde(rename = "age_ms", with = "crate::time::millis")]
        #[cfg_attr(feature = "schema", schema(value_type = f64))]
        age: Duration,
    },
    /// How far the last primary was, or this replica is, is not known.
    Unknown,
}

impl MayLack {
    /// Whether somebody accepts it who accepts to lose so many bytes; `u64::MAX` is any number.
    /// What is not known is more than nothing (F2).
    pub fn is_within(self, accepted: u64) -> bool {
        match self {
            MayLack::Bytes(bytes) => bytes <= accepted,
            MayLack::AtLeast { bytes, .. } => accepted > 0 && bytes <= accepted,
            MayLack::Unknown => accepted == u64::MAX,
        }
    }

    /// As far as is known; `u64::MAX` where nothing is.
    pub fn bytes(self) -> u64 {
        match self {
            MayLack::Bytes(bytes) | MayLack::AtLeast { bytes, .. } => bytes,
            MayLack::Unknown => u64::MAX,
        }
    }
}

/// Of equally safe ones the greatest is taken: it stays, has most, is where the rules between workloads
/// want it, is first in the spec's rank.
pub(super) type Preference = (bool, Option<u64>, usize, Reverse<u32>, Reverse<NodeId>);

impl Candidate {
    pub(super) fn preference(&self) -> Preference {
        self.preferred(self.position)
    }

    fn preferred(&self, position: Option<u64>) -> Preference {
        (
            !self.leaving,
            position,
            self.fits,
            Reverse(self.rank),
            Reverse(self.node.clone()),
        )
    }

    /// As a standby that is promoted, and with nothing against it.
    pub(super) fn may_take_over(&self) -> bool {
        self.excluded.is_none() && self.way == Way::TakesOver
    }

    /// Whether it may take over if so many acknowledged bytes may be lost (forced failover).
    pub fn may_with_loss(&self, accepted: u64) -> bool {
        self.excluded.is_none() || self.may_lack.is_some_and(|l| l.is_within(accepted))
    }

    pub(super) fn reason(&self) -> String {
        let has = match (self.way, self.in_sync_set) {
            (Way::Resumes, _) => "nobody else may take over, and it has every write",
            (Way::TriesAgain, _) => "it failed before, and nobody else may",
            (Way::TakesOver, true) => "in the sync set",
            (Way::TakesOver, false) if self.excluded.is_some() => {
                "as a person asked, at the loss that was accepted"
            }
            (Way::TakesOver, false) => "within the allowed loss",
        };
        format!("{has}, rank {}", self.rank)
    }
}

/// The best of those who may take over. While positions move, each of them has what it must have,
/// and the spec's rank decides; once they are `settled` the newest does, so that no other standby
/// is ahead of the new primary.
pub fn best(list: &[Candidate], settled: bool) -> Option<&Candidate> {
    let preference = |c: &&Candidate| c.preferred(if settled { c.position } else { None });
    list.iter()
        .filter(|c| c.may_take_over())
        .max_by_key(preference)
}

/// Every replica except the holder of the present epoch, with the verdict of each.
pub fn list(scene: &Scene, id: &WorkloadId, spec: &WorkloadSpec) -> Vec<Candidate> {
    let w = scene.state.workload(id);
    let judge = |node: &NodeId| {
        let case = Case {
            scene,
            id,
            spec,
            w,
            node,
        };
        let judged = case.verdict();
        let (way, refusal) = match judged.and_then(|way| case.by_the_rules(way)) {
            Ok(way) => (way, None),
            Err(refusal) => (Way::TakesOver, Some(refusal)),
        };
        let pending = matches!(refusal, Some(Refusal::Pending(..)));
        let may_lack = match refusal {
            Some(Refusal::Lacks(.., lack)) => Some(lack),
            _ => None,
        };
        let (exclusion, excluded) = refusal.map(Refusal::reason).unzip();
        let (position, in_sync_set) = (
            case.position().map(|at| at.number),
            w.sync.sure.contains(node),
        );
        let rank = spec.replicas[node].rank;
        let leaving = scene.leaving.replica(id, node).is_some();
        Candidate {
            node: node.clone(),
            excluded,
            exclusion,
            way,
            pending,
            position,
            rank,
            in_sync_set,
            leaving,
            fits: case.fits(),
            may_lack,
        }
    };
    spec.replicas
        .keys()
        .filter(|n| Some(*n) != w.holder())
        .map(judge)
        .collect()
}

/// Why its data do not hold the point from which the last epoch was written.
fn parted(at: &Position, since: u64, opened: &Opened) -> String {
    let Opened { epoch, point, .. } = opened;
    let related = at.history == point.history || point.parent.as_ref() == Some(&at.history);
    let (short, past) = (
        since.saturating_sub(at.number),
        at.number.saturating_sub(point.began),
    );
    match related {
        true if short > 0 => format!("it lacks {short} bytes up to where epoch {epoch} began"),
        true => {
            format!("it has {past} bytes past the point where the history of epoch {epoch} began")
        }
        false => format!(
            "it is on history {}, which does not lead to history {} of epoch {epoch}",
            at.history, point.history
        ),
    }
}

enum Refusal {
    Pending(Exclusion, String),
    No(Exclusion, String),
    /// Only what it may lack is against it: a person may accept that.
    Lacks(Exclusion, String, MayLack),
}

impl Refusal {
    fn reason(self) -> (Exclusion, String) {
        match self {
            Self::Pending(kind, why) | Self::No(kind, why) | Self::Lacks(kind, why, _) => {
                (kind, why)
            }
        }
    }
}

/// One replica under judgement.
struct Case<'a> {
    scene: &'a Scene<'a>,
    id: &'a WorkloadId,
    spec: &'a WorkloadSpec,
    w: &'a WorkloadState,
    node: &'a NodeId,
}

impl Case<'_> {
    fn report(&self) -> Option<&ReplicaReport> {
        self.scene.replica(self.node, self.id)
    }

    /// Nobody holds the workload: only final positions count.
    fn ended(&self) -> bool {
        matches!(self.w.tenure, Tenure::Ended { .. })
    }

    /// Its final position after the end of an epoch, else the newest.
    fn position(&self) -> Option<&Position> {
        let report = self.report()?;
        // Whoever is held back goes no further, and says no last word.
        if self.ended() && self.w.held_back(self.node).is_none() {
            let settled = report.settled.as_ref();
            return settled
                .filter(|(e, _)| *e == self.w.epoch)
                .map(|(_, at)| at);
        }
        report.seen.as_ref()?.position.as_ref()
    }

    fn is_member(&self) -> bool {
        self.w.sync.sure.contains(self.node)
    }

    /// What the spec keeps the cluster from doing by itself; a person may.
    fn by_the_rules(&self, way: Way) -> Result<Way, Refusal> {
        let rules = &self.spec.rules;
        let lack = match (way, self.is_member()) {
            (Way::TakesOver, false) => self.lack(self.position().map(|at| at.number)),
            _ => MayLack::Bytes(0),
        };
        if rules.never.contains(self.node) {
            let why = "the spec keeps it from being primary".into();
            return Err(Refusal::Lacks(Exclusion::NeverPrimary, why, lack));
        }
        let standbys = self.standbys_beside();
        if way == Way::TakesOver && standbys < rules.keep as usize {
            let why = format!(
                "{standbys} standbys would run beside it, and the spec keeps {}",
                rules.keep
            );
            return Err(Refusal::Lacks(Exclusion::TooFewStandbys, why, lack));
        }
        Ok(way)
    }

    /// Others that run and are sound: in a planned move the old primary is one of them.
    fn standbys_beside(&self) -> usize {
        let runs = |n: &&NodeId| {
            let seen = self.scene.replica(n, self.id).and_then(|r| r.seen.as_ref());
            seen.is_some_and(|o| o.runs() && !o.has_exited())
                && self.scene.is_up(n)
                && self.w.unsound(n).is_none()
                && self.w.held_back(n).is_none()
        };
        let others = self.spec.replicas.keys().filter(|n| *n != self.node);
        others.filter(runs).count()
    }

    /// Of the workloads that are to be on the same node or on another one.
    fn fits(&self) -> usize {
        let here = |id: &&WorkloadId| self.scene.state.workload(id).holder() == Some(self.node);
        let rules = &self.spec.rules;
        let together = rules.together.iter().filter(here).count();
        together + rules.spread.iter().filter(|id| !here(id)).count()
    }

    fn verdict(&self) -> Result<Way, Refusal> {
        let no = |kind: Exclusion, why: &str| Err(Refusal::No(kind, why.into()));
        let unknown =
            |kind: Exclusion, why: String| Err(Refusal::Lacks(kind, why, MayLack::Unknown));
        let Some(opened) = &self.w.opened else {
            return no(Exclusion::NeverOpened, "the workload was never opened");
        };
        if self.scene.state.fenced(self.node).is_some() {
            return no(Exclusion::NodeFenced, "it is fenced: readmit it first");
        }
        if !self.scene.is_up(self.node) {
            return no(Exclusion::NotHeard, "its node is not heard");
        }
        let Some(report) = self.report() else {
            return no(Exclusion::NotReported, "it has not reported yet");
        };
        let Some(seen) = &report.seen else {
            return no(Exclusion::NotReported, "its server was not probed yet");
        };
        match &seen.data {
            Data::Present { .. } => {}
            Data::Empty => return no(Exclusion::NoData, "it has no data"),
            Data::Unusable(why) | Data::Foreign(why) => {
                return no(
                    Exclusion::DataUnusable,
                    &format!("its data cannot be started: {why}"),
                );
            }
        }
        if let Some(why) = self.w.unsound(self.node) {
            return unknown(
                Exclusion::MustBeRewound,
                format!("its data must be rewound or cloned first: {why}"),
            );
        }
        if opened.holder == *self.node {
            return self.resumes(seen);
        }
        if self.w.attempts.contains(self.node) {
            return self.tries_again(seen, opened);
        }
        if report.suspect {
            return unknown(
                Exclusion::PromotionInterrupted,
                "a promotion of it was never completed".into(),
            );
        }
        if let Some(held) = self.w.held_back(self.node) {
            let lack = self.lack(self.position().map(|at| at.number));
            let why = format!("it is held back at safety point {}", held.name);
            return Err(Refusal::Lacks(Exclusion::HeldBack, why, lack));
        }
        self.takes_over(report, seen, opened)
    }

    /// The holder of the last opened epoch: stopped, and its data as it left them.
    fn resumes(&self, seen: &Observation) -> Result<Way, Refusal> {
        match (seen.runs(), &seen.data) {
            (false, Data::Present { standby: false }) => Ok(Way::Resumes),
            (true, _) => Err(Refusal::Pending(
                Exclusion::StillStopping,
                "its server is still being stopped".into(),
            )),
            _ => Err(Refusal::Lacks(
                Exclusion::SetUpAsStandby,
                "its data are set up as a standby's".into(),
                MayLack::Unknown,
            )),
        }
    }

    /// It was eligible when it was assigned, and nothing was acknowledged since.
    fn tries_again(&self, seen: &Observation, opened: &Opened) -> Result<Way, Refusal> {
        if self.spec.loss == Loss::None && !self.is_member() {
            return Err(Refusal::Lacks(
                Exclusion::NotInSyncSet,
                "not in the sync set: it may lack acknowledged writes".into(),
                self.lack(None),
            ));
        }
        if seen.runs() && seen.role.is_none() {
            return Err(Refusal::Pending(
                Exclusion::ServerSilent,
                "its server does not answer".into(),
            ));
        }
        let position = self.position().or(seen.position.as_ref());
        self.within_loss(position, opened).map(|()| Way::TriesAgain)
    }

    fn takes_over(
        &self,
        report: &ReplicaReport,
        seen: &Observation,
        opened: &Opened,
    ) -> Result<Way, Refusal> {
        if !seen.runs() {
            // A standby that is starting may still make it.
            let why = "its server does not run".to_string();
            if report.doing.is_some() {
                return Err(Refusal::Pending(Exclusion::ServerStopped, why));
            }
            let lack = if self.is_member() {
                MayLack::Bytes(0)
            } else {
                MayLack::Unknown
            };
            return Err(Refusal::Lacks(Exclusion::ServerStopped, why, lack));
        }
        if seen.role.is_none() && self.is_member() {
            // One look without an answer is no verdict, and it may be ahead of everybody else.
            return Err(Refusal::Pending(
                Exclusion::ServerSilent,
                "its server does not answer".into(),
            ));
        }
        if seen.role != Some(Role::Standby) {
            return Err(Refusal::No(
                Exclusion::NotAStandby,
                "its server does not answer as a standby".into(),
            ));
        }
        let Some(position) = self.position() else {
            return Err(match self.ended() {
                true => Refusal::Pending(
                    Exclusion::PositionPending,
                    "its final position is not known yet".into(),
                ),
                false => Refusal::Lacks(
                    Exclusion::PositionUnknown,
                    "its position is not known".into(),
                    MayLack::Unknown,
                ),
            });
        };
        // D6: its history must contain the point where writing under the last epoch began. A member
        // has every acknowledged write since, however far it is: for it the history alone counts.
        let point = &opened.point;
        let since = if self.is_member() {
            point.began
        } else {
            point.writes_from
        };
        if !point.is_held_by(position, since) && !self.scene.breaks(Planted::PromoteLaggard) {
            return Err(Refusal::Lacks(
                Exclusion::HistoryParted,
                parted(position, since, opened),
                MayLack::Unknown,
            ));
        }
        self.within_loss(Some(position), opened)
            .map(|()| Way::TakesOver)
    }

    fn within_loss(&self, position: Option<&Position>, opened: &Opened) -> Result<(), Refusal> {
        let led_for = self.scene.now.since(self.scene.elected_at);
        if self.spec.loss != Loss::None
            && self.ended()
            && led_for < self.scene.spec.timings.heartbeat * 2
        {
            // Another may have heard more of the last primary than this coordinator, and says so
            // with its next beat (F2).
            return Err(Refusal::Pending(
                Exclusion::LastWordPending,
                "who heard the last primary last is still to be heard".into(),
            ));
        }
        let lack = self.lack(position.map(|at| at.number));
        let unprotected =
            self.w.sync.sure.is_empty() && self.scene.breaks(Planted::IgnoreUnprotected);
        match (self.spec.loss, lack) {
            (Loss::None, _)
                if self.is_member()
                    || unprotected
                    || self.scene.breaks(Planted::PromoteLaggard) =>
            {
                Ok(())
            }
            (Loss::None, lack) => Err(Refusal::Lacks(
                Exclusion::NotInSyncSet,
                "not in the sync set: it may lack acknowledged writes".into(),
                lack,
            )),
            (Loss::Bytes(allowed), MayLack::Bytes(bytes) | MayLack::AtLeast { bytes, .. })
                if bytes > allowed =>
            {
                Err(Refusal::Lacks(
                    Exclusion::TooFarBehind,
                    format!("{bytes} bytes behind; {allowed} may be lost"),
                    lack,
                ))
            }
            (Loss::Bytes(_), MayLack::Unknown) if !self.scene.breaks(Planted::UnknownIsZero) => {
                let why = format!(
                    "how far it is behind {} is not known: its position was not heard",
                    opened.holder
                );
                Err(Refusal::Lacks(Exclusion::LagUnknown, why, lack))
            }
            (Loss::Bytes(_), _) => Ok(()),
        }
    }

    /// What of the last primary's log it may lack. After a clean stop the end of that log is known;
    /// else only how far it was when it was last heard.
    fn lack(&self, position: Option<u64>) -> MayLack {
        let (Some(opened), Some(position)) = (&self.w.opened, position) else {
            return MayLack::Unknown;
        };
        if let Some(end) = self.w.clean_end {
            return MayLack::Bytes(end.saturating_sub(position));
        }
        let Some((head, at)) = self.scene.heads.under(self.id, opened.epoch) else {
            return MayLack::Unknown;
        };
        MayLack::AtLeast {
            bytes: head.saturating_sub(position),
            age: self.scene.now.since(at),
        }
    }
}
