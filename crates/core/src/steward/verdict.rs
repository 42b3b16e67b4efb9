//! Why a holder counts as lost: it says so itself, its server serves nobody, or nobody hears it.

use super::scene::{Desk, Notes};
use crate::ids::NodeId;
use crate::operation::Cause;
use crate::planted::Planted;
use crate::replica::{Observation, ReplicaReport, Role};
use crate::state::Tenure;
use crate::time::Time;

/// That a holder is lost, and how it was seen.
pub(super) struct Lost {
    pub cause: Cause,
    pub why: String,
}

impl Lost {
    pub fn to(cause: Cause, why: String) -> Self {
        Self { cause, why }
    }
}

/// What a server that ended said of it, to put behind the fact.
fn said(report: &ReplicaReport) -> String {
    let trouble = report.seen.as_ref().and_then(|o| o.trouble.as_ref());
    trouble.map_or(String::new(), |why| format!("; {why}"))
}

impl Desk<'_> {
    /// Why the holder counts as lost, if it does.
    pub(super) fn lost(&self, holder: &NodeId, notes: &mut Notes) -> Option<Lost> {
        let ended = self.ended(holder, notes);
        ended
            .or_else(|| self.serves_nobody(holder, notes))
            .or_else(|| self.is_out_of_reach(holder, notes))
    }

    /// Its own node says that the server has ended.
    fn ended(&self, holder: &NodeId, notes: &mut Notes) -> Option<Lost> {
        let report = self.report(holder)?;
        let down_since = report.down_for.map(|down| self.scene.now - down);
        if report.surrendered.is_some_and(|(e, _)| e == self.w.epoch) {
            notes.lost = down_since.or(notes.lost);
            let why = format!(
                "{holder} reports: no server process is left{}",
                said(report)
            );
            return Some(Lost::to(Cause::ServerEnded, why));
        }
        report.seen.as_ref().filter(|o| o.has_exited())?;
        notes.lost = down_since;
        let why = format!(
            "{holder} reports: the server's first process has exited{}",
            said(report)
        );
        Some(Lost::to(Cause::ServerEnded, why))
    }

    /// It runs, and for longer than the patience of its probe it has taken no write, or answered
    /// nobody (F7).
    fn serves_nobody(&self, holder: &NodeId, notes: &mut Notes) -> Option<Lost> {
        // Before it is open there may be nothing yet to write to.
        let open = matches!(self.w.tenure, Tenure::Open { .. }) && self.scene.is_up(holder);
        let seen = self
            .report(holder)
            .and_then(|r| r.seen.as_ref())
            .filter(|o| open && o.runs())?;
        let (now, timings) = (self.scene.now, &self.scene.spec.timings);
        let since = |cannot: bool, since: &mut Option<Time>| {
            *since = cannot.then(|| since.unwrap_or(now));
            since.map(|at| now.since(at))
        };
        let unanswered = since(seen.role.is_none(), &mut notes.unanswered_since);
        let unwritten = since(
            seen.can_write == Some(false) || seen.is(Role::Standby),
            &mut notes.no_write_since,
        );
        if unanswered.is_some_and(|time| time >= timings.answer_limit)
            && !self.scene.breaks(Planted::IgnoreSilence)
        {
            notes.lost = notes.unanswered_since;
            let ms = unanswered.unwrap_or_default().as_millis();
            let why =
                format!("{holder} reports: its server runs and has answered nobody for {ms} ms");
            return Some(Lost::to(Cause::ServerSilent, why));
        }
        unwritten.filter(|time| *time >= timings.suspicion_ceiling)?;
        notes.lost = notes.no_write_since;
        let why = |o: &Observation| match o.is(Role::Standby) {
            true => "its server runs as a standby".to_string(),
            false => o.trouble.clone().unwrap_or_else(|| "writes fail".into()),
        };
        let why = format!("{holder} reports: {}", why(seen));
        Some(Lost::to(Cause::WritesFail, why))
    }

    /// It is fenced, its host may be fenced, or its lease is over.
    fn is_out_of_reach(&self, holder: &NodeId, notes: &mut Notes) -> Option<Lost> {
        let (now, timings) = (self.scene.now, &self.scene.spec.timings);
        let silent = self
            .scene
            .reports
            .get(holder)
            .map_or(now.since(self.scene.elected_at), |h| now.since(h.at));
        if let Some(fenced) = self.scene.state.fenced(holder) {
            notes.lost = Some(now - silent);
            let why = format!("{holder} is fenced: {}", fenced.why);
            return Some(Lost::to(Cause::NodeFenced, why));
        }
        if self.may_fence(holder) {
            let unheard = self.scene.health.silence(holder, now);
            notes.lost = Some(now - unheard);
            let ms = unheard.as_millis();
            let why =
                format!("no heartbeat from {holder} for {ms} ms; cutting its power to be sure");
            return Some(Lost::to(Cause::NodeSilent, why));
        }
        // A holder that was just assigned has not asked for its lease yet.
        let since = notes.tenure_since.as_ref().map_or(now, |(_, at)| *at);
        let had_time = now.since(since) >= timings.lease_is_over_after();
        if self.lease_over_at() <= now && (had_time || !self.scene.is_up(holder)) {
            notes.lost = Some(now - silent);
            let why = format!(
                "{holder}'s lease has expired; last heartbeat {} ms ago",
                silent.as_millis()
            );
            return Some(Lost::to(Cause::LeaseOver, why));
        }
        None
    }
}
