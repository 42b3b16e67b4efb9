//! The entries, in memory. Index 1 is the first; what a snapshot stands for is not there any more.

use crate::command::Command;
use crate::ids::{Index, Term};
use serde::{Deserialize, Serialize};

/// One decision in the log.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    pub term: Term,
    pub index: Index,
    pub command: Command,
}

#[derive(Clone, Debug, Default)]
pub struct Log {
    /// Of the last entry that is not there any more. It is committed, and so is everything before
    /// it.
    base: (Term, Index),
    entries: Vec<Entry>,
}

impl Log {
    pub(super) fn new(base: (Term, Index), entries: Vec<Entry>) -> Self {
        Self { base, entries }
    }

    /// Term and index of the last entry that a snapshot stands for.
    pub fn base(&self) -> (Term, Index) {
        self.base
    }

    /// Term and index of the last entry.
    pub fn last(&self) -> (Term, Index) {
        self.entries.last().map_or(self.base, |e| (e.term, e.index))
    }

    /// `None` past the end, and before the base.
    pub fn term_at(&self, index: Index) -> Option<Term> {
        if index == self.base.1 {
            Some(self.base.0)
        } else {
            self.get(index).map(|e| e.term)
        }
    }

    /// Whether the entry is here, or was: before the base everything is committed, and so the same
    /// for everyone.
    pub(super) fn holds(&self, (term, index): (Term, Index)) -> bool {
        index < self.base.1 || self.term_at(index) == Some(term)
    }

    pub fn get(&self, index: Index) -> Option<&Entry> {
        self.entries
            .get(index.0.checked_sub(self.base.1.0 + 1)? as usize)
    }

    /// Entries after `index`.
    pub fn after(&self, index: Index) -> &[Entry] {
        let skipped = index.0.saturating_sub(self.base.1.0) as usize;
        self.entries.get(skipped..).unwrap_or(&[])
    }

    pub(super) fn append(&mut self, term: Term, command: Command) -> Entry {
        let entry = Entry {
            term,
            index: self.last().1.next(),
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
            .all(|e| self.holds((e.term, e.index)))
    }

    /// Takes a leader's entries; returns those that were new here. What conflicts with them is
    /// dropped.
    pub(super) fn merge(&mut self, entries: Vec<Entry>) -> Vec<Entry> {
        let known = entries
            .iter()
            .take_while(|e| self.holds((e.term, e.index)))
            .count();
        let fresh: Vec<Entry> = entries.into_iter().skip(known).collect();
        if let Some(first) = fresh.first() {
            let kept = first.index.0.saturating_sub(self.base.1.0 + 1);
            self.entries
                .truncate(usize::try_from(kept).unwrap_or(usize::MAX));
            self.entries.extend(fresh.iter().cloned());
        }
        fresh
    }

    /// Forgets the entries up to this one, which is here and committed.
    pub(super) fn forget_up_to(&mut self, base: (Term, Index)) {
        self.entries.retain(|e| e.index > base.1);
        self.base = base;
    }
}
