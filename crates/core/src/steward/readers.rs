//! Who serves readers: the standbys whose view of the data is not too old.
//!
//! A standby that has replayed everything that the primary had at some moment shows at least the
//! data of that moment. So how old its view is can be told from where the primary was when, and
//! where the standby is now, whatever the clocks of the two say; and while the primary is not
//! heard every view grows older.

use super::Heard;
use crate::ids::{Epoch, History, NodeId, WorkloadId};
use crate::replica::{Observation, Role};
use crate::spec::{Reads, WorkloadSpec};
use crate::state::{Tenure, WorkloadState};
use crate::text;
use crate::time::Time;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::fmt;
use std::time::Duration;

/// Why a replica serves no readers now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Unfit {
    /// The spec says so.
    Excepted,
    Primary,
    Fenced,
    NotHeard,
    NoStandby,
    /// At a safety point.
    HeldBack,
    /// Its data are not known to be of the primary's history.
    Apart,
    /// How old its view is is not known.
    Unknown,
    Old(Duration),
    Far(u64),
}

impl fmt::Display for Unfit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Excepted => write!(f, "the spec leaves it out"),
            Self::Primary => write!(f, "it is the primary"),
            Self::Fenced => write!(f, "it is fenced"),
            Self::NotHeard => write!(f, "it is not heard"),
            Self::NoStandby => write!(f, "it is no standby that runs"),
            Self::HeldBack => write!(f, "it is held back at a safety point"),
            Self::Apart => write!(f, "its data are not known to be the primary's"),
            Self::Unknown => write!(f, "how old its data are is not known"),
            Self::Old(age) => write!(f, "its data are {} old", text::span(*age)),
            Self::Far(bytes) => write!(f, "it lacks {}", text::size(*bytes)),
        }
    }
}

/// Where a primary was when. What is left out makes views older and never younger.
#[derive(Debug, Default)]
struct Trail(VecDeque<(Time, u64)>);

impl Trail {
    /// Moments that are remembered.
    const MOST: usize = 64;

    fn note(&mut self, at: Time, head: u64, age: Duration) {
        let apart = age / (Self::MOST as u32 / 2);
        if self.0.back().is_some_and(|(last, _)| at <= *last) {
            return;
        }
        // The newest one moves along until it is far enough from the one before.
        let before = self.0.len().checked_sub(2).map(|i| self.0[i].0);
        if before.is_some_and(|before| at.since(before) < apart) {
            self.0.pop_back();
        }
        self.0.push_back((at, head));
        if self.0.len() > Self::MOST {
            self.0.pop_front();
        }
    }

    /// Nothing that the next primary does not have was ever there.
    fn cut(&mut self, point: u64) {
        self.0.retain(|(_, head)| *head <= point);
    }

    /// How old the view of somebody is who is that far.
    fn age(&self, replayed: u64, now: Time) -> Option<Duration> {
        let all = self.0.iter().rev();
        let mut had = all.filter(|(_, head)| *head <= replayed);
        had.next().map(|(at, _)| now.since(*at))
    }

    fn head(&self) -> Option<u64> {
        self.0.back().map(|(_, head)| *head)
    }
}

/// A workload's readers, as the coordinator judges them with each heartbeat.
#[derive(Debug, Default)]
pub(crate) struct Readers {
    trail: Trail,
    epoch: Epoch,
    history: Option<History>,
    fit: BTreeSet<NodeId>,
    unfit: BTreeMap<NodeId, Unfit>,
    since: Option<Time>,
    is_known: bool,
}

/// What they are judged by.
pub(crate) struct Subject<'a> {
    pub id: &'a WorkloadId,
    pub spec: &'a WorkloadSpec,
    pub limits: &'a Reads,
    pub w: &'a WorkloadState,
    pub reports: &'a BTreeMap<NodeId, Heard>,
    pub is_heard: &'a dyn Fn(&NodeId) -> bool,
    pub is_fenced: &'a dyn Fn(&NodeId) -> bool,
    pub now: Time,
}

impl Subject<'_> {
    /// What was seen of a replica, and when.
    fn seen(&self, node: &NodeId) -> Option<(&Observation, Time)> {
        let heard = self.reports.get(node)?;
        let replica = heard.report.parts.replicas.get(self.id)?;
        let at = heard.at - replica.age;
        Some((replica.seen.as_ref()?, at))
    }
}

impl Readers {
    /// Whether enough was heard to say who serves readers and who does not: a new coordinator knows
    /// of nobody, and that is no reason to let anybody go.
    pub fn is_known(&self) -> bool {
        self.is_known
    }

    /// Who serves readers.
    pub fn fit(&self) -> &BTreeSet<NodeId> {
        &self.fit
    }

    pub fn unfit(&self, node: &NodeId) -> Option<&Unfit> {
        self.unfit.get(node)
    }

    pub fn judge(&mut self, s: &Subject) {
        if let Some(opened) = s.w.opened.as_ref().filter(|o| o.epoch != self.epoch) {
            let point = &opened.point;
            let goes_on = self.history.as_ref() == Some(&point.history);
            self.trail.cut(if goes_on {
                point.writes_from
            } else {
                point.began
            });
            (self.epoch, self.history) = (opened.epoch, Some(point.history.clone()));
        }
        let open = match &s.w.tenure {
            Tenure::Open { holder, serving } => Some((holder, *serving)),
            _ => None,
        };
        if let Some((seen, at)) = open.and_then(|(holder, _)| s.seen(holder))
            && seen.is(Role::Primary)
            && let Some(head) = seen.number()
        {
            self.trail.note(at, head, s.limits.age);
        }
        let mut fit = BTreeSet::new();
        self.unfit.clear();
        for node in s.spec.replicas.keys() {
            match self.verdict(node, s) {
                Ok(()) => drop(fit.insert(node.clone())),
                Err(why) => drop(self.unfit.insert(node.clone(), why)),
            }
        }
        if let Some((holder, true)) = open.filter(|_| fit.is_empty() && s.limits.primary) {
            self.unfit.remove(holder);
            fit.insert(holder.clone());
        }
        self.fit = fit;
        // Nobody is taken in later than that by what was heard until then.
        let since = *self.since.get_or_insert(s.now);
        let open_question = self.unfit.values().any(|why| *why == Unfit::Unknown);
        self.is_known = !open_question || s.now.since(since) > s.limits.age / 2;
    }

    fn verdict(&self, node: &NodeId, s: &Subject) -> Result<(), Unfit> {
        if s.limits.except.contains(node) {
            return Err(Unfit::Excepted);
        }
        if (s.is_fenced)(node) {
            return Err(Unfit::Fenced);
        }
        if !(s.is_heard)(node) {
            return Err(Unfit::NotHeard);
        }
        let (seen, _) = s.seen(node).ok_or(Unfit::Unknown)?;
        if s.w.holder() == Some(node) {
            return Err(Unfit::Primary);
        }
        if !seen.runs() || !seen.is(Role::Standby) {
            return Err(Unfit::NoStandby);
        }
        if s.w.held_back(node).is_some() {
            return Err(Unfit::HeldBack);
        }
        let opened = s.w.opened.as_ref().ok_or(Unfit::Apart)?;
        let replayed = seen.replayed.ok_or(Unfit::Unknown)?;
        let at = seen.position.as_ref().ok_or(Unfit::Unknown)?;
        if s.w.unsound(node).is_some() || !opened.point.shares(&at.history, replayed) {
            return Err(Unfit::Apart);
        }
        let age = self.trail.age(replayed, s.now).ok_or(Unfit::Unknown)?;
        // Whoever was let go comes back well within the limits, and not to be let go again at once.
        let part = if self.fit.contains(node) { 1 } else { 2 };
        if age > s.limits.age / part {
            return Err(Unfit::Old(age));
        }
        let lacks = self
            .trail
            .head()
            .unwrap_or(replayed)
            .saturating_sub(replayed);
        match s.limits.behind {
            Some(limit) if lacks > limit / u64::from(part) => Err(Unfit::Far(lacks)),
            _ => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const AGE: Duration = Duration::from_secs(10);

    #[test]
    fn a_view_is_as_old_as_the_last_moment_of_which_it_has_everything() {
        let mut trail = Trail::default();
        let second = |n: u64| Time::from_millis(n * 1_000);
        assert_eq!(trail.age(7, second(0)), None, "nothing is known yet");
        for n in 1..=20 {
            trail.note(second(n), n * 100, AGE);
        }
        assert_eq!(trail.age(2_000, second(21)), Some(Duration::from_secs(1)));
        assert_eq!(trail.age(1_999, second(21)), Some(Duration::from_secs(2)));
        assert_eq!(trail.age(1_000, second(21)), Some(Duration::from_secs(11)));
        assert_eq!(
            trail.age(99, second(21)),
            None,
            "older than all that is known"
        );
        // An idle primary: whoever has everything goes on having it.
        trail.note(second(30), 2_000, AGE);
        assert_eq!(trail.age(2_000, second(30)), Some(Duration::ZERO));
        // The next one went on from before the last of it.
        trail.cut(1_500);
        assert_eq!(trail.age(9_000, second(30)), Some(Duration::from_secs(15)));
    }

    #[test]
    fn what_is_left_out_makes_no_view_younger() {
        let mut trail = Trail::default();
        for n in 1..=2_000u64 {
            trail.note(Time::from_millis(n * 10), n, AGE);
        }
        assert!(trail.0.len() <= Trail::MOST);
        let now = Time::from_millis(20_000);
        for replayed in [1_200, 1_500, 1_999] {
            let true_age = Duration::from_millis(20_000 - replayed * 10);
            let age = trail.age(replayed, now).unwrap();
            assert!(
                age >= true_age && age <= true_age + AGE / 16,
                "{replayed}: {age:?}"
            );
        }
        assert_eq!(trail.age(2_000, now), Some(Duration::ZERO));
    }
}
