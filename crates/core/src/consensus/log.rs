//! The entries, in memory. Index 1 is the first; what a snapshot stands for is not there any more.

use crate::command::Command;
use crate::ids::{Index, Term};
use crate::votes::Voters;
use serde::{Deserialize, Serialize};

/// An entry's place: the log that has the newer last one is the newer log (Raft paper, 5.4.1).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct LogId {
    pub term: Term,
    pub index: Index,
}

impl LogId {
    pub fn new(term: Term, index: Index) -> Self {
        Self { term, index }
    }
}

/// One decision in the log.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    pub term: Term,
    pub index: Index,
    pub command: Command,
}

impl Entry {
    pub fn id(&self) -> LogId {
        LogId {
            term: self.term,
            index: self.index,
        }
    }
}

#[derive(Clone, Debug, Default)]
pub struct Log {
    /// Of the last entry that is not there any more. It is committed, and so is everything before
    /// it.
    base: LogId,
    entries: Vec<Entry>,
}

impl Log {
    pub(super) fn new(base: LogId, entries: Vec<Entry>) -> Self {
        Self { base, entries }
    }

    /// Term and index of the last entry that a snapshot stands for.
    pub fn base(&self) -> LogId {
        self.base
    }

    /// Term and index of the last entry.
    pub fn last(&self) -> LogId {
        self.entries.last().map_or(self.base, Entry::id)
    }

    /// `None` past the end, and before the base.
    pub fn term_at(&self, index: Index) -> Option<Term> {
        if index == self.base.index {
            Some(self.base.term)
        } else {
            self.get(index).map(|e| e.term)
        }
    }

    /// Whether the entry is here, or was: before the base everything is committed, and so the same
    /// for everyone.
    pub(super) fn holds(&self, id: LogId) -> bool {
        id.index < self.base.index || self.term_at(id.index) == Some(id.term)
    }

    pub fn get(&self, index: Index) -> Option<&Entry> {
        self.entries
            .get(index.0.checked_sub(self.base.index.0 + 1)? as usize)
    }

    /// The newest entry that says who votes, and what it says.
    pub(super) fn newest_voters(&self) -> Option<(Index, &Voters)> {
        let says = |e: &'_ Entry| e.command.voters().is_some();
        let newest = self.entries.iter().rfind(|e| says(e))?;
        Some((newest.index, newest.command.voters()?))
    }

    /// Entries after `index`.
    pub fn after(&self, index: Index) -> &[Entry] {
        let skipped = index.0.saturating_sub(self.base.index.0) as usize;
        self.entries.get(skipped..).unwrap_or(&[])
    }

    pub(super) fn append(&mut self, term: Term, command: Command) -> Entry {
        let entry = Entry {
            term,
            index: self.last().index.next(),
            command,
        };
        self.entries.push(entry.clone());
        entry
    }

    /// Whether these entries, the first of which may be here, leave everything as it is that is
    /// committed.
    pub(super) fn keeps(&self, entries: &[Entry], committed: Index) -> bool {
        entries
            .iter()
            .take_while(|e| e.index <= committed)
            .all(|e| self.holds(e.id()))
    }

    /// Takes a leader's entries; returns those that were new here. What conflicts with them is
    /// dropped.
    pub(super) fn merge(&mut self, entries: Vec<Entry>) -> Vec<Entry> {
        let known = entries.iter().take_while(|e| self.holds(e.id())).count();
        let fresh: Vec<Entry> = entries.into_iter().skip(known).collect();
        if let Some(first) = fresh.first() {
            let kept = first.index.0.saturating_sub(self.base.index.0 + 1);
            self.entries
                .truncate(usize::try_from(kept).unwrap_or(usize::MAX));
            self.entries.extend(fresh.iter().cloned());
        }
        fresh
    }

    /// Forgets the entries up to this one, which is here and committed.
    pub(super) fn forget_up_to(&mut self, base: LogId) {
        self.entries.retain(|e| e.index > base.index);
        self.base = base;
    }
}
