//! Something about a spec or a cluster that a guarantee or an expectation depends on, for people.

use serde::{Deserialize, Serialize};

/// `node.doline.zone` as its parts.
pub type KeyPath = Vec<String>;

#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// The spec is refused.
    Error,
    /// The spec is taken, and this stands until it is mended or acknowledged.
    Warning,
}

/// What a finding is about; `docs/runbook.md` has a section for each.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum FindingKind {
    SpecRefused,
    SpecDiffers,
    ReadmitAsks,
    ClockNotSaid,
    EvenVotes,
    FewVoters,
    ZoneHoldsMajority,
    NoGate,
    SingleReplica,
    OneZone,
    WritesUnprotected,
    TwoReplicasBlock,
    VoteNotCounted,
    Removed,
    SettingOverruled,
    RestartNeeded,
    PrimaryNotInSpec,
    ConnectionsNotListed,
    NoPacketGuard,
    PowerDeviceFails,
    PowerIsOff,
    CertificateEnds,
    ChangeNotTaken,
    SecretReadable,
    DiskFills,
    HostLacks,
    NoTarget,
    ReadersWait,
    NameFails,
    SafetyPointKept,
    LinkCut,
    GateCutOff,
    RestNotSafe,
}

impl FindingKind {
    pub const ALL: [FindingKind; 33] = [
        FindingKind::SpecRefused,
        FindingKind::SpecDiffers,
        FindingKind::ReadmitAsks,
        FindingKind::ClockNotSaid,
        FindingKind::EvenVotes,
        FindingKind::FewVoters,
        FindingKind::ZoneHoldsMajority,
        FindingKind::NoGate,
        FindingKind::SingleReplica,
        FindingKind::OneZone,
        FindingKind::WritesUnprotected,
        FindingKind::TwoReplicasBlock,
        FindingKind::VoteNotCounted,
        FindingKind::Removed,
        FindingKind::SettingOverruled,
        FindingKind::RestartNeeded,
        FindingKind::PrimaryNotInSpec,
        FindingKind::ConnectionsNotListed,
        FindingKind::NoPacketGuard,
        FindingKind::PowerDeviceFails,
        FindingKind::PowerIsOff,
        FindingKind::CertificateEnds,
        FindingKind::ChangeNotTaken,
        FindingKind::SecretReadable,
        FindingKind::DiskFills,
        FindingKind::HostLacks,
        FindingKind::NoTarget,
        FindingKind::ReadersWait,
        FindingKind::NameFails,
        FindingKind::SafetyPointKept,
        FindingKind::LinkCut,
        FindingKind::GateCutOff,
        FindingKind::RestNotSafe,
    ];
}

/// Something about the cluster that a guarantee or an expectation depends on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Finding {
    pub kind: FindingKind,
    pub severity: Severity,
    /// The key at fault; empty where it is about the whole.
    pub path: KeyPath,
    /// What is so, and what follows from it.
    pub what: String,
    /// What to do about it.
    pub remedy: String,
}

impl FindingKind {
    /// As it is written everywhere.
    pub fn word(self) -> &'static str {
        match self {
            FindingKind::SpecRefused => "spec-refused",
            FindingKind::SpecDiffers => "spec-differs",
            FindingKind::ReadmitAsks => "readmit-asks",
            FindingKind::ClockNotSaid => "clock-not-said",
            FindingKind::EvenVotes => "even-votes",
            FindingKind::FewVoters => "few-voters",
            FindingKind::ZoneHoldsMajority => "zone-holds-majority",
            FindingKind::NoGate => "no-gate",
            FindingKind::SingleReplica => "single-replica",
            FindingKind::OneZone => "one-zone",
            FindingKind::WritesUnprotected => "writes-unprotected",
            FindingKind::TwoReplicasBlock => "two-replicas-block",
            FindingKind::VoteNotCounted => "vote-not-counted",
            FindingKind::Removed => "removed",
            FindingKind::SettingOverruled => "setting-overruled",
            FindingKind::RestartNeeded => "restart-needed",
            FindingKind::PrimaryNotInSpec => "primary-not-in-spec",
            FindingKind::ConnectionsNotListed => "connections-not-listed",
            FindingKind::NoPacketGuard => "no-packet-guard",
            FindingKind::PowerDeviceFails => "power-device-fails",
            FindingKind::PowerIsOff => "power-is-off",
            FindingKind::CertificateEnds => "certificate-ends",
            FindingKind::ChangeNotTaken => "change-not-taken",
            FindingKind::SecretReadable => "secret-readable",
            FindingKind::DiskFills => "disk-fills",
            FindingKind::HostLacks => "host-lacks",
            FindingKind::NoTarget => "no-target",
            FindingKind::ReadersWait => "readers-wait",
            FindingKind::NameFails => "name-fails",
            FindingKind::SafetyPointKept => "safety-point-kept",
            FindingKind::LinkCut => "link-cut",
            FindingKind::GateCutOff => "gate-cut-off",
            FindingKind::RestNotSafe => "rest-not-safe",
        }
    }
}

impl Finding {
    /// What it is called where somebody speaks of it: `disk-fills:node.doline`.
    pub fn name(&self) -> String {
        if self.path.is_empty() {
            self.kind.word().into()
        } else {
            format!("{}:{}", self.kind.word(), self.path.join("."))
        }
    }
}

/// What was found so far.
pub(super) struct Findings(pub Vec<Finding>);

impl Findings {
    pub fn push(
        &mut self,
        (kind, severity): (FindingKind, Severity),
        path: &[&str],
        what: impl Into<String>,
        remedy: impl Into<String>,
    ) {
        let path = path.iter().map(|p| (*p).to_string()).collect();
        self.0.push(Finding {
            kind,
            severity,
            path,
            what: what.into(),
            remedy: remedy.into(),
        });
    }
    pub fn error(&mut self, path: &[&str], what: impl Into<String>, remedy: impl Into<String>) {
        let what_it_is = (FindingKind::SpecRefused, Severity::Error);
        self.push(what_it_is, path, what, remedy);
    }
    pub fn warn(
        &mut self,
        kind: FindingKind,
        path: &[&str],
        what: impl Into<String>,
        remedy: impl Into<String>,
    ) {
        self.push((kind, Severity::Warning), path, what, remedy);
    }
}

/// Names that a wrong one is compared with: who has more looks them up.
const COMPARED: usize = 200;
/// Letters of a wrong name that is compared at all: no name has more than 40.
const LONGEST: usize = 60;

/// The closest of the known names by edit distance, if it is close at all. It looks at the first 200
/// of them, so that a spec of thousands of wrong names is read in time.
pub fn nearest<'a>(wrong: &str, known: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    let is_short = |name: &&str| name.len() <= LONGEST;
    let known = known.take(COMPARED).filter(is_short);
    known
        .filter(|_| is_short(&wrong))
        .map(|k| (strsim::levenshtein(wrong, k), k))
        .filter(|(d, k)| *d <= 1 + k.len() / 3)
        .min()
        .map(|(_, k)| k)
}

pub(super) fn did_you_mean(near: Option<&str>, otherwise: &str) -> String {
    near.map_or_else(|| otherwise.to_string(), |n| format!("did you mean `{n}`?"))
}
