//! How far a replica's data go, whatever program keeps them.
//!
//! A driver says what its program calls a line of writes and how it counts along it; what may take
//! over is one rule for all of them (D6).

use crate::ids::History;
use serde::{Deserialize, Serialize};

/// A place on a line of writes. Numbers grow along it and are counted as the driver counts (bytes
/// of log, for most); on two histories they say nothing of each other but where one is the other's
/// parent.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Position {
    pub history: History,
    pub number: u64,
}

/// Where a line of writes begins, and where an epoch begins to write on it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SwitchPoint {
    pub history: History,
    /// What it goes on from; none for the first history.
    pub parent: Option<History>,
    /// Where it parted from that; 0 for the first.
    pub began: u64,
    /// Where writing under the epoch begins: the position at opening, also where the history is an
    /// older one (F1).
    pub writes_from: u64,
}

impl Position {
    pub fn new(history: impl Into<History>, number: u64) -> Self {
        Self {
            history: history.into(),
            number,
        }
    }
}

impl SwitchPoint {
    /// Of a first history, from its beginning.
    pub fn first(history: impl Into<History>) -> Self {
        Self {
            history: history.into(),
            parent: None,
            began: 0,
            writes_from: 0,
        }
    }

    /// Whether data that go up to `at` hold everything of this history up to `number`: they are on
    /// it and that far, or on its parent and end exactly where it began, if no more is asked for
    /// (D6).
    pub fn is_held_by(&self, at: &Position, number: u64) -> bool {
        let on_parent = self.parent.as_ref() == Some(&at.history);
        if at.history == self.history {
            at.number >= number
        } else {
            on_parent && at.number == self.began && number == self.began
        }
    }

    /// Whether data of that history are a part of this one up to there: of an older one than its
    /// parent nobody knows here where it was left, and numbers say nothing.
    pub fn shares(&self, history: &History, upto: u64) -> bool {
        let on_parent = self.parent.as_ref() == Some(history);
        *history == self.history || (on_parent && upto <= self.began)
    }

    /// How far data are that have more than what this history began with, on another one: they
    /// hold what it will never have.
    pub fn is_passed_by(&self, at: &Position) -> bool {
        self.parent.is_some() && at.history != self.history && at.number > self.began
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_left_two_histories_ago_is_no_part_of_this_one() {
        let third = SwitchPoint {
            history: "3".into(),
            parent: Some("2".into()),
            began: 700,
            writes_from: 700,
        };
        let shares = |history: &str, upto| third.shares(&history.into(), upto);
        assert!(shares("3", 9_000) && shares("2", 700));
        assert!(!shares("2", 701) && !shares("1", 100));
    }
}
