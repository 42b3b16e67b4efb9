//! The report of an operation: what it was, where its time went, and what it left behind; for
//! whoever was asleep.

use crate::types::Record;
use karst_core::OperationId;
use karst_core::fact::FactKind;
use karst_core::operation::{Cause, Kind, Operation, Outcome, Phase};
use karst_core::outage::{Case, WorstCase};
use karst_core::progress::{PhaseTime, Progress};
use karst_core::text::span;
use serde::{Deserialize, Serialize};
use std::fmt::Write as _;
use std::time::Duration;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use utoipa::ToSchema;

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OperationReport {
    pub cluster: String,
    pub id: OperationId,
    pub workload: String,
    /// None where the coordinator does not know it any more: then the timeline has it in words.
    pub what: Option<Operation>,
    /// The node that became primary.
    pub target: Option<String>,
    pub outcome: Option<Outcome>,
    /// RFC 3339, as its first and last step were recorded.
    pub began: Option<String>,
    pub ended: Option<String>,
    pub phases: Vec<PhaseTime>,
    /// The longest that writes may pause for such a cause, in milliseconds; none for what is
    /// planned.
    #[serde(rename = "worst_case_ms")]
    pub worst_case: Option<u64>,
    pub timeline: Vec<Line>,
    /// Who became coordinator meanwhile or shortly before, with who voted.
    pub elections: Vec<Line>,
    /// What became of acknowledged writes.
    pub data: String,
    /// When all standbys had every write again, RFC 3339.
    pub protected: Option<String>,
}

/// One line of the record, and how long after the first one it was.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Line {
    /// RFC 3339.
    pub at: String,
    /// Milliseconds since the operation's first step; negative before it.
    pub ms: i64,
    pub node: String,
    pub kind: String,
    pub text: String,
}

/// What happened around it.
#[derive(Clone, Debug, Default)]
pub struct Around {
    /// Elections and sync sets, oldest first.
    pub records: Vec<Record>,
    /// So many of the workload's replicas are not its primary.
    pub standbys: usize,
    /// Bytes of log that a failover of it may lose.
    pub loss: u64,
}

/// How many standbys have every write from then on.
fn sure(record: &Record) -> Option<usize> {
    record.data.get("sure")?.parse().ok()
}

impl OperationReport {
    /// From its own records, and from those of elections and sync sets around it. None where
    /// nothing is known of it.
    pub fn new(
        cluster: &str,
        id: OperationId,
        progress: Option<&Progress>,
        own: &[Record],
        around: &Around,
        worst_cases: &[WorstCase],
    ) -> Option<Self> {
        let workload = progress.map(|p| p.what.workload.to_string());
        let workload = workload.or_else(|| own.iter().find_map(|r| r.workload.clone()))?;
        let began = own.first().map(|r| r.at.clone());
        let line = |record: &Record| line(record, began.as_deref());
        let ended = own
            .iter()
            .rev()
            .find(|r| ENDS.map(FactKind::word).contains(&r.kind.as_str()))
            .map(|r| r.at.clone());
        let what = progress.map(|p| p.what.clone());
        let elections = around
            .records
            .iter()
            .filter(|r| r.kind == FactKind::Elected.word())
            .filter(|r| ended.as_ref().is_none_or(|end| r.at <= *end));
        let elections: Vec<Line> = elections.map(line).collect();
        let opening = own.iter().find(|r| r.kind == FactKind::Opened.word());
        let full = |r: &&Record| sure(r).is_some_and(|sure| sure >= around.standbys);
        let protected = opening.and_then(|opening| {
            let later = around.records.iter();
            let later = later.filter(|r| r.kind == FactKind::SyncSet.word());
            let later = later.filter(|r| r.workload == opening.workload && r.at >= opening.at);
            std::iter::once(opening).chain(later).find(full)
        });
        Some(Self {
            cluster: cluster.into(),
            id,
            target: progress.and_then(|p| p.target.as_ref().map(ToString::to_string)),
            outcome: progress.and_then(|p| p.outcome.clone()),
            phases: progress.map_or_else(|| phases_of(own), |p| p.phases.clone()),
            worst_case: what
                .as_ref()
                .and_then(|what| worst_case(what.cause, !elections.is_empty(), worst_cases)),
            timeline: own.iter().map(line).collect(),
            elections,
            data: data(what.as_ref(), opening.is_some(), around.loss),
            protected: protected.map(|r| r.at.clone()),
            began,
            ended,
            workload,
            what,
        })
    }

    pub fn total(&self) -> Duration {
        self.phases.iter().map(|p| p.took).sum()
    }

    pub fn title(&self) -> String {
        let kind = self.what.as_ref().map(|what| what.kind.to_string());
        let kind = kind.unwrap_or_else(|| "operation".into());
        format!("{} {kind} of {} ({})", self.id, self.workload, self.cluster)
    }

    /// For a ticket or a page of what was learnt.
    pub fn markdown(&self) -> String {
        let mut text = format!("# {}\n\n", self.title());
        let mut row = |name: &str, value: &str| {
            let _ = writeln!(text, "- **{name}**: {value}");
        };
        if let Some(what) = &self.what {
            row("Why", &what.why);
            row("By", &what.by.to_string());
            let from = what
                .from
                .as_ref()
                .map_or("nobody".into(), ToString::to_string);
            let to = self.target.clone().unwrap_or_else(|| "nobody yet".into());
            row("From, to", &format!("{from}, {to}"));
        }
        row("Began", self.began.as_deref().unwrap_or("not on record"));
        row(
            "Ended",
            self.ended.as_deref().unwrap_or("not yet, or not on record"),
        );
        row("Came to", &outcome_text(self.outcome.as_ref()));
        let most = self.worst_case.map(|ms| span(Duration::from_millis(ms)));
        let most = most.map_or(String::new(), |most| {
            format!("; {most} at most for this cause")
        });
        row("Took", &format!("{}{most}", span(self.total())));
        row("Acknowledged writes", &self.data);
        let protected = self.protected.as_deref();
        row("Protected again", protected.unwrap_or("not on record"));
        text += "\n## Where the time went\n\n| Phase | ms |\n|---|---:|\n";
        for PhaseTime { phase, took } in &self.phases {
            let _ = writeln!(
                text,
                "| {} | {:.1} |",
                phase.name(),
                took.as_secs_f64() * 1e3
            );
        }
        text += "\n## What happened\n\n| UTC | ms | Node | What |\n|---|---:|---|---|\n";
        for line in &self.timeline {
            text += &line.row();
        }
        if !self.elections.is_empty() {
            text += "\n## Who voted\n\n| UTC | ms | Node | What |\n|---|---:|---|---|\n";
            for line in &self.elections {
                text += &line.row();
            }
        }
        text
    }

    /// The phases as one bar, with the worst case where it fits.
    pub fn svg(&self) -> String {
        const WIDE: f64 = 900.0;
        let total = self.total().as_secs_f64() * 1e3;
        let scale = WIDE / total.max(1.0);
        let mut body = format!(
            "<text x=\"0\" y=\"20\" font-size=\"16\" font-weight=\"600\">{}</text>\
             <text x=\"0\" y=\"42\" font-size=\"13\">{}, from {}; {}</text>",
            escaped(&self.title()),
            escaped(&span(self.total())),
            escaped(self.began.as_deref().unwrap_or("an unknown moment")),
            escaped(&self.data),
        );
        let mut x = 0.0;
        for (i, PhaseTime { phase, took }) in self.phases.iter().enumerate() {
            let ms = took.as_secs_f64() * 1e3;
            let wide = (ms * scale).max(1.0);
            let _ = write!(
                body,
                "<rect x=\"{x:.1}\" y=\"60\" width=\"{wide:.1}\" height=\"32\" fill=\"{}\"/>\
                 <rect x=\"0\" y=\"{}\" width=\"12\" height=\"12\" fill=\"{0}\"/>\
                 <text x=\"20\" y=\"{}\" font-size=\"13\">{}: {ms:.1} ms</text>",
                FILLS[i % FILLS.len()],
                108 + 20 * i,
                119 + 20 * i,
                phase.name(),
            );
            x += wide;
        }
        let tall = 120 + 20 * self.phases.len();
        format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"-16 -4 {:.0} {tall}\" font-family=\"sans-serif\" \
             fill=\"#20282d\"><rect x=\"-16\" y=\"-4\" width=\"100%\" height=\"100%\" fill=\"#fffdf8\"/>{body}</svg>\n",
            WIDE + 32.0
        )
    }
}

/// Stone and water, dark to light in turn: neighbours are told apart in grey too.
const FILLS: [&str; 6] = [
    "#0a3f4f", "#7fb3c0", "#0a5a70", "#c9b98f", "#3f93a6", "#e3d9bd",
];

const ENDS: [FactKind; 3] = [
    FactKind::OperationDone,
    FactKind::OperationUndone,
    FactKind::OperationDiverted,
];

impl Line {
    fn row(&self) -> String {
        let clock = self.at.get(11..23).unwrap_or(&self.at);
        let text = self.text.replace('|', "\\|");
        format!("| {clock} | {} | {} | {text} |\n", self.ms, self.node)
    }
}

fn line(record: &Record, began: Option<&str>) -> Line {
    let at = |text: &str| OffsetDateTime::parse(text, &Rfc3339).ok();
    let since = at(&record.at).zip(began.and_then(at));
    let ms = since.map_or(0, |(now, begun)| (now - begun).whole_milliseconds());
    Line {
        at: record.at.clone(),
        ms: i64::try_from(ms).unwrap_or_default(),
        node: record.node.to_string(),
        kind: record.kind.clone(),
        text: record.text.clone(),
    }
}

/// As the record of its end has them.
fn phases_of(own: &[Record]) -> Vec<PhaseTime> {
    let value = |phase: Phase| {
        let us = own.iter().rev().find_map(|r| r.data.get(&phase.key()))?;
        Some(PhaseTime {
            phase,
            took: Duration::from_micros(us.parse().ok()?),
        })
    };
    Phase::ALL.into_iter().filter_map(value).collect()
}

fn outcome_text(outcome: Option<&Outcome>) -> String {
    match outcome {
        None => "not known here: see what happened".into(),
        Some(Outcome::Done) => "done".into(),
        Some(Outcome::Undone(why)) => format!("not carried out: {why}"),
        Some(Outcome::Diverted(why)) => format!("finished otherwise: {why}"),
    }
}

/// What became of acknowledged writes; `opened` where another primary has been open.
fn data(what: Option<&Operation>, opened: bool, loss: u64) -> String {
    match what {
        None => "not known here".into(),
        Some(what) if what.accept_loss == u64::MAX => {
            format!("{} accepted the loss of any number", what.by)
        }
        Some(what) if what.accept_loss > 0 => {
            let bytes = karst_core::text::size(what.accept_loss);
            format!("{} accepted the loss of up to {bytes} of log", what.by)
        }
        Some(what) if what.kind == Kind::FirstStart => "there were none yet".into(),
        Some(_) if !opened => "none lost by it: nobody has taken over".into(),
        Some(_) if loss == 0 => "none lost: whoever took over had every one".into(),
        Some(_) => {
            let bytes = karst_core::text::size(loss);
            format!("at most {bytes} of log lost, as the spec allows")
        }
    }
}

/// Whether or not the coordinator was lost as well, and another one elected first.
fn worst_case(cause: Cause, both: bool, known: &[WorstCase]) -> Option<u64> {
    let case = match (cause, both) {
        (Cause::ServerEnded, _) => Case::ServerLost,
        (Cause::ServerSilent | Cause::WritesFail, _) => Case::ServerHangs,
        (Cause::NodeSilent, false) => Case::HostLostAndOff,
        (Cause::NodeSilent, true) => Case::BothLostAndOff,
        (Cause::LeaseOver, false) => Case::HostLost,
        (Cause::LeaseOver, true) => Case::BothLost,
        (Cause::AskedFor | Cause::NoPrimaryYet | Cause::NodeFenced | Cause::NeverOpened, _) => {
            return None;
        }
    };
    let found = known.iter().find(|worst| worst.kind == case)?;
    u64::try_from(found.total().as_millis()).ok()
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
}
