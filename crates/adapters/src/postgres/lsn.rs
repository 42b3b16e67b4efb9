//! Positions as PostgreSQL writes them: a place in the log (`pg_lsn`) on a timeline, whose number is
//! the history's name.

use karst_core::{History, Position};
use std::fmt;

/// A byte position in the write-ahead log.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Lsn(pub u64);

impl Lsn {
    /// Reads the `XXXXXXXX/XXXXXXXX` form; `None` if the text is not a position.
    pub fn parse(text: &str) -> Option<Self> {
        let (high, low) = text.split_once('/')?;
        let high = u64::from(u32::from_str_radix(high, 16).ok()?);
        let low = u64::from(u32::from_str_radix(low, 16).ok()?);
        Some(Self(high << 32 | low))
    }

    pub(super) fn on(self, timeline: u32) -> Position {
        Position {
            history: name(timeline),
            number: self.0,
        }
    }
}

impl fmt::Display for Lsn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:X}/{:X}", self.0 >> 32, self.0 & 0xffff_ffff)
    }
}

/// Timelines are numbered one after the other by whoever promotes, as far as it knows: two may have
/// the same number (D5).
pub(super) fn name(timeline: u32) -> History {
    timeline.to_string().into()
}

/// Whether no timeline can have had this number when `after` was the newest that was open.
pub(super) fn is_unique(timeline: u32, after: Option<&History>) -> bool {
    let older = |after: &History| after.as_str().parse::<u32>().is_ok_and(|a| a < timeline);
    after.is_none_or(older)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_position_is_read_as_it_is_written() {
        for (text, number) in [("0/3000148", 0x300_0148), ("1F/A0", 0x1F_0000_00A0)] {
            assert_eq!(Lsn::parse(text), Some(Lsn(number)));
            assert_eq!(Lsn(number).to_string(), text);
        }
        assert_eq!(
            ["", "0", "0/", "x/1", "0/100000000"].map(Lsn::parse),
            [None; 5]
        );
    }

    #[test]
    fn only_a_number_past_the_open_one_is_nobody_elses() {
        assert!(is_unique(2, None) && is_unique(3, Some(&name(2))));
        assert!(!is_unique(2, Some(&name(2))) && !is_unique(2, Some(&name(3))));
        assert!(
            !is_unique(2, Some(&"unreadable".into())),
            "not known is not no"
        );
    }
}
