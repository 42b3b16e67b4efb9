//! The entries, in memory. Index 1 is the first.

use crate::ids::{Index, Term};
use crate::state::Command;
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
    entries: Vec<Entry>,
}

impl Log {
    pub(super) fn from_entries(entries: Vec<Entry>) -> Self {
        Self { entries }
    }

    /// Term and index of the last entry.
    pub fn last(&self) -> (Term, Index) {
        self.entries.last().map_or((Term(0), Index(0)), |e| (e.term, e.index))
    }

    /// `None` past the end.
    pub fn term_at(&self, index: Index) -> Option<Term> {
        if index == Index(0) { Some(Term(0)) } else { self.get(index).map(|e| e.term) }
    }

    pub fn get(&self, index: Index) -> Option<&Entry> {
        self.entries.get((index.0 as usize).checked_sub(1)?)
    }

    /// Entries after `index`.
    pub fn after(&self, index: Index) -> &[Entry] {
        self.entries.get(index.0 as usize..).unwrap_or(&[])
    }

    pub(super) fn append(&mut self, term: Term, command: Command) -> Entry {
        let entry = Entry { term, index: self.last().1.next(), command };
        self.entries.push(entry.clone());
        entry
    }

    /// Takes a leader's entries; returns those that were new here. What conflicts with them is dropped.
    pub(super) fn merge(&mut self, entries: Vec<Entry>) -> Vec<Entry> {
        let known = entries.iter().take_while(|e| self.term_at(e.index) == Some(e.term)).count();
        let fresh: Vec<Entry> = entries.into_iter().skip(known).collect();
        if let Some(first) = fresh.first() {
            self.entries.truncate(first.index.0 as usize - 1);
            self.entries.extend(fresh.iter().cloned());
        }
        fresh
    }
}
