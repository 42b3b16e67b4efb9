//! Committed entries take effect: the state, the record, the running operation's steps, the answers that waited.

use super::{Node, ask};
use crate::event::{Event, Level};
use crate::ids::{Index, OperationId};
use crate::operation::{Outcome, Phase, Step};
use crate::state::{Command, Ended, Standing};
use crate::steward::Stamps;

impl Node {
    /// Not before this run knows what is committed by now: a node that was away must not act on what it knew then, and be
    /// the standby of a primary that is none any more.
    pub(super) fn apply_committed(&mut self) {
        if !self.consensus.is_current() {
            return;
        }
        self.restore();
        while self.state.applied < self.consensus.commit() {
            let index = self.state.applied.next();
            let Some(entry) = self.consensus.log().get(index).cloned() else { return };
            let changed = self.state.apply(index, &entry.command);
            self.answer_committed(index, &entry.command, changed);
            if changed {
                self.put_on_agenda(&entry.command);
                self.on_applied(index, &entry.command);
            }
        }
        // Everything that the others committed is here, and they take this store in (A6).
        let enrolled = self.state.nodes.get(&self.me).and_then(|n| n.enrolled.as_ref());
        if enrolled.is_some() && enrolled == self.consensus.store() && !self.consensus.counts() {
            self.consensus.enrol(self.now);
        }
    }

    /// What was decided is looked at for what follows from it.
    fn put_on_agenda(&mut self, command: &Command) {
        if let Some(id) = command.workload() {
            self.agenda.add_workload(id);
        }
        if let Some(node) = command.node() {
            self.agenda.add_node(node);
        }
    }

    /// Begins anew with what the log's snapshot says, where entries are missing that led there.
    fn restore(&mut self) {
        let Some(snapshot) = self.consensus.snapshot().filter(|s| s.last.1 > self.state.applied) else { return };
        self.state = snapshot.state.clone();
        self.agenda.add_all();
        for (id, agent) in &mut self.agents {
            if let Some(opened) = &self.state.workload(id).opened {
                agent.on_opened(opened.epoch, &opened.holder);
            }
        }
    }

    /// Whoever waits for an entry to be committed hears that this node cannot say any more what becomes of it.
    pub(super) fn leave_unanswered(&mut self) {
        for asker in std::mem::take(&mut self.answers_due).into_values() {
            let why = "the coordinator changed before this was decided; look at the status, and ask again if need be";
            self.answer(asker, ask::Answer::Refused { why: why.into() });
        }
    }

    fn on_applied(&mut self, index: Index, command: &Command) {
        let Some(id) = command.workload().cloned() else { return self.on_applied_to_node(index, command) };
        let now = self.now;
        let stamps = {
            let notes = self.notes.entry(id.clone()).or_default();
            if let Command::Begin(_) = command {
                let (operation, lost) = (Some(OperationId(index.0)), notes.lost.take());
                notes.stamps = Stamps { operation, lost, began: Some(now), ..Stamps::default() };
            }
            &mut notes.stamps
        };
        let phase = match command {
            Command::Begin(_) => Some(Phase::Detect),
            Command::Revoke { .. } => Some(Phase::Decide),
            Command::End { .. } => Some(Phase::Isolate),
            Command::Open { .. } => Some(Phase::Promote),
            _ => None,
        };
        if let Some(phase) = phase {
            stamps.reach(phase, now);
        }
        if let (Command::Open { epoch, .. }, Some(opened)) = (command, &self.state.workload(&id).opened) {
            let holder = opened.holder.clone();
            if let Some(agent) = self.agents.get_mut(&id) {
                agent.on_opened(*epoch, &holder);
            }
        }
        let operation = match command {
            Command::Begin(_) => Some(OperationId(index.0)),
            Command::Finish { operation, .. } => Some(*operation),
            _ => self.state.workload(&id).operation,
        };
        let (level, kind, text) = describe(command);
        if let Some(operation) = operation {
            self.steps.entry(operation).or_default().push(Step { text: text.clone(), phase, at: now });
            while self.steps.len() > 50 {
                self.steps.pop_first();
            }
        }
        let mut event = Event::new(level, kind, format!("{id}: {text}")).about(&id).within(operation);
        event.index = Some(index);
        if let Command::Finish { phases, .. } = command {
            for (phase, took) in phases {
                event = event.with(&format!("{}_us", phase.name().replace(' ', "_")), took.as_micros());
            }
        }
        self.record(event);
    }

    fn on_applied_to_node(&mut self, index: Index, command: &Command) {
        if matches!(command, Command::Noop | Command::System { .. }) {
            return;
        }
        let (level, kind, text) = describe(command);
        let mut event = Event::new(level, kind, text.clone());
        event.index = Some(index);
        // A fence is a step of whatever is under way because of it.
        if let Command::Fence { node, .. } | Command::PowerOff { node, .. } = command {
            let held = |(id, w): (_, &crate::state::WorkloadState)| {
                Some((id, w.operation?)).filter(|_| w.holder() == Some(node))
            };
            let under_way: Vec<OperationId> = self.state.workloads.iter().filter_map(held).map(|(_, o)| o).collect();
            for operation in under_way {
                event = event.within(Some(operation));
                let step = Step { text: text.clone(), phase: None, at: self.now };
                self.steps.entry(operation).or_default().push(step);
            }
        }
        self.record(event);
    }

    fn answer_committed(&mut self, index: Index, command: &Command, changed: bool) {
        if let Some(asker) = self.answers_due.remove(&index) {
            let answer = match command {
                _ if !changed => ask::Answer::Refused {
                    why: "something else was decided first; look at the status and ask again".into(),
                },
                Command::Begin(_) => ask::Answer::Started { operation: OperationId(index.0) },
                _ => ask::Answer::Done { index, text: describe(command).2 },
            };
            self.answer(asker, answer);
        }
    }
}

/// The decision in words, its kind and level.
fn describe(command: &Command) -> (Level, &'static str, String) {
    let names = |list: &[crate::ids::NodeId]| {
        let names: Vec<&str> = list.iter().map(|n| n.as_str()).collect();
        if names.is_empty() { "nobody".to_string() } else { names.join(", ") }
    };
    match command {
        Command::Noop => (Level::Info, "term", "a coordinator's first entry".into()),
        Command::Begin(o) => {
            let to = o.to.as_ref().map(|t| format!(" to {t}")).unwrap_or_default();
            let from = o.from.as_ref().map(|f| format!(" from {f}")).unwrap_or_default();
            let waits = if o.asks { "; it waits for approval" } else { "" };
            (Level::Notice, "operation-began", format!("{}{from}{to} began, by {}: {}{waits}", o.kind, o.by, o.why))
        }
        Command::Place { number, holder, why, .. } => {
            (Level::Notice, "address-placed", format!("its address goes to {holder} (number {number}; {why})"))
        }
        Command::Withdraw { why, .. } => (Level::Notice, "address-leaves", format!("its address leaves: {why}")),
        Command::Vacate { how, .. } => {
            let how = match how {
                Ended::Surrender { .. } => "its node gave it up",
                Ended::PowerOff => "its host's power is off, read back from its device",
                Ended::LeaseOver => "no lease of it can be valid any more",
            };
            (Level::Notice, "address-gone", format!("its address is nowhere: {how}"))
        }
        Command::Approve { by, .. } => (Level::Notice, "approved", format!("approved by {by}")),
        Command::Mode { mode, by, .. } => {
            (Level::Notice, "mode", format!("mode is {} from here on, set by {by}", mode.word()))
        }
        Command::Fence { node, why, by, .. } => (Level::Notice, "fenced", format!("{node} is fenced by {by}: {why}")),
        Command::PowerOff { node, .. } => {
            (Level::Notice, "power-off", format!("the power of {node} is off, read back from its device"))
        }
        Command::TurnOn { node, by } => (Level::Notice, "turn-on", format!("{node} is to be turned on, as {by} asked")),
        Command::TurnedOn { node, .. } => {
            (Level::Notice, "power-on", format!("the power of {node} is on, read back from its device"))
        }
        Command::Readmit { node, why, by, .. } => {
            (Level::Notice, "readmitted", format!("{node} is readmitted by {by}: {why}"))
        }
        Command::Enrol { node, by, .. } => {
            (Level::Notice, "enrolled", format!("{node}'s node store counts from here on, enrolled by {by}"))
        }
        Command::System { node, system } => (Level::Info, "system", format!("{node} is hardware {system}")),
        Command::Revoke { epoch, why, .. } => (Level::Notice, "revoked", format!("epoch {epoch} is revoked: {why}")),
        Command::End { epoch, how, .. } => {
            let how = match how {
                Ended::Surrender { clean_at: Some(at), .. } => format!("the old primary stopped cleanly at {at}"),
                Ended::Surrender { .. } => "the old primary surrendered: nothing of it runs any more".into(),
                Ended::PowerOff => "the power of the old primary's host is off, read back from its device".into(),
                Ended::LeaseOver => "no lease of the old primary can be valid any more".into(),
            };
            (Level::Notice, "isolated", format!("epoch {epoch} has ended: {how}"))
        }
        Command::Assign { epoch, holder, why, .. } => {
            (Level::Notice, "assigned", format!("epoch {epoch} goes to {holder} ({why})"))
        }
        Command::Open { epoch, timeline, switch, sync, .. } => {
            let text = format!("epoch {epoch} is open on timeline {timeline} from {switch}; sync set: {}", names(sync));
            (Level::Notice, "opened", text)
        }
        Command::Serve { epoch, .. } => {
            (Level::Notice, "serving", format!("epoch {epoch} serves: a write is replicated"))
        }
        Command::Sync { sure, asked, why, number, .. } if sure.len() < asked.len() => (
            Level::Info,
            "sync-set",
            format!("sync set {number} grows to {}: {why}; guaranteed so far: {}", names(asked), names(sure)),
        ),
        Command::Sync { sure, why, number, .. } => {
            (Level::Notice, "sync-set", format!("sync set {number} is {}: {why}", names(sure)))
        }
        Command::Mark { node, standing: Standing::NeedsClone(why), .. } => {
            (Level::Notice, "needs-clone", format!("{node} comes back by a fresh clone: {why}"))
        }
        Command::Mark { node, standing: Standing::Diverged(why), .. } => {
            (Level::Notice, "diverged", format!("{node} comes back by a rewind, or a clone: {why}"))
        }
        Command::Mark { node, standing: Standing::Sound, .. } => {
            (Level::Notice, "sound", format!("{node} has a sound copy"))
        }
        Command::Finish { outcome, .. } => match outcome {
            Outcome::Done => (Level::Notice, "operation-done", "done".into()),
            Outcome::Undone(why) => (Level::Warning, "operation-undone", format!("not done: {why}")),
            Outcome::Diverted(why) => (Level::Warning, "operation-diverted", format!("done otherwise: {why}")),
        },
    }
}
