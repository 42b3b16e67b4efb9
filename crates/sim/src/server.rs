//! A replicated server, as far as the guarantees depend on it: a log of writes with timelines, what
//! of it is flushed, synchronous waiting, and the ways in which a former primary can have what
//! nobody else has.

use karst_core::replica::{Data, Downstream, Observation, Presence, Promotion, Role};
use karst_core::{History, NodeId, Position, RunId, SwitchPoint};

/// What a primary waits for before a commit returns.
#[derive(Clone, Debug, Default, PartialEq)]
pub enum Sync {
    /// A name that nobody has: no commit returns (D4).
    #[default]
    Impossible,
    Names(Vec<NodeId>),
    Unprotected,
}

/// A timeline: its number, the position where it began, and a number unique to that promotion: two
/// promotions may both make "timeline 2" (D5).
pub type Timeline = (u32, usize, u64);

#[derive(Clone, Debug)]
pub struct Server {
    pub has_data: bool,
    /// How often it was started.
    pub starts: u64,
    pub standby: bool,
    pub runs: bool,
    pub primary: bool,
    /// Its first process has exited; what it left behind still serves (C1).
    pub first_gone: bool,
    /// It runs, and answers nobody.
    pub hung: bool,
    pub upstream: Option<NodeId>,
    pub receiving: bool,
    /// The numbers of the writes, in order. The position of a server is the length.
    pub wal: Vec<u64>,
    /// So much of it survives a power cut.
    pub flushed: usize,
    pub timelines: Vec<Timeline>,
    pub sync: Sync,
    pub sync_number: (u64, u64),
    /// How much was written when that setting came into force.
    pub barrier: usize,
    /// Writes whose commit has not returned yet: position and number.
    pub waiting: Vec<(usize, u64)>,
    /// A standby goes up to there, and no further.
    pub target: Option<(String, usize)>,
}

impl Default for Server {
    fn default() -> Self {
        Self {
            has_data: false,
            starts: 0,
            standby: false,
            runs: false,
            primary: false,
            first_gone: false,
            hung: false,
            upstream: None,
            receiving: false,
            wal: Vec::new(),
            flushed: 0,
            timelines: vec![(1, 0, 0)],
            sync: Sync::Impossible,
            sync_number: (0, 0),
            barrier: 0,
            waiting: Vec::new(),
            target: None,
        }
    }
}

/// As a real server names it: two promotions may both make "2".
fn history(timeline: Timeline) -> History {
    timeline.0.to_string().into()
}

impl Server {
    pub fn timeline(&self) -> Timeline {
        *self
            .timelines
            .last()
            .expect("there is always a first timeline")
    }

    /// How far it is.
    pub fn length(&self) -> u64 {
        self.wal.len() as u64
    }

    /// The newest history, up to a number.
    fn position(&self, number: u64) -> Position {
        Position {
            history: history(self.timeline()),
            number,
        }
    }

    /// All that it has.
    pub fn end(&self) -> Position {
        self.position(self.length())
    }

    /// What a promotion comes to: numbered one after the other, so that a name that is no newer
    /// than what was open before may be another's (D5).
    pub fn promotion(&self, after: Option<&History>) -> Promotion {
        let (number, began, _) = self.timeline();
        let before = self.timelines.len().checked_sub(2);
        let parent = before.map(|before| history(self.timelines[before]));
        let older = |after: &History| after.as_str().parse::<u32>().is_ok_and(|a| a < number);
        Promotion {
            point: SwitchPoint {
                history: history(self.timeline()),
                parent,
                began: began as u64,
                writes_from: self.length(),
            },
            unique: after.is_none_or(older),
        }
    }

    fn run(&self) -> RunId {
        self.starts.to_string().into()
    }

    pub fn start(&mut self) {
        self.runs = true;
        self.starts += 1;
        self.target = None;
    }

    /// The point that it was started for.
    pub fn goes_up_to(&self) -> Option<&String> {
        let (label, _) = self.target.as_ref()?;
        (self.runs && !self.primary).then_some(label)
    }

    /// The point that it has gone up to and stays at.
    pub fn held_at(&self) -> Option<&String> {
        let (_, at) = self.target.as_ref()?;
        self.goes_up_to().filter(|_| self.wal.len() == *at)
    }

    pub fn is_primary(&self) -> bool {
        self.runs && self.primary
    }

    pub fn stop(&mut self) {
        (self.runs, self.primary, self.receiving) = (false, false, false);
        (self.first_gone, self.hung) = (false, false);
        self.waiting.clear();
        // A start reads back what the operating system still had: only a power cut loses it.
        self.flushed = self.wal.len();
    }

    /// Its host lost its power: what was not flushed is gone.
    pub fn lose_power(&mut self) {
        let flushed = self.flushed;
        self.stop();
        self.wal.truncate(flushed);
        self.flushed = flushed.min(self.wal.len());
    }

    /// Whether this standby can stream from that primary: its history is a part of the primary's,
    /// and it has nothing past the point where they part. A real server goes by the timelines'
    /// numbers: of twins it streams (D5).
    pub fn can_stream_from(&self, primary: &Server) -> bool {
        let same = |(a, b): &(&Timeline, &Timeline)| (a.0, a.1) == (b.0, b.1);
        let shared = self
            .timelines
            .iter()
            .zip(&primary.timelines)
            .take_while(same)
            .count();
        let own_ends = self.timelines.len() == shared;
        let parts_at = primary
            .timelines
            .get(shared)
            .map_or(primary.wal.len(), |(_, at, _)| *at);
        own_ends && self.wal.len() <= parts_at
    }

    /// As a rewind does it: histories are compared by number and switch point only, so that of
    /// twins it says "nothing to do" and leaves what the other one never had (D5).
    pub fn rewind(&mut self, source: &Server) {
        let same = |(a, b): &(&Timeline, &Timeline)| (a.0, a.1) == (b.0, b.1);
        let shared = self
            .timelines
            .iter()
            .zip(&source.timelines)
            .take_while(same)
            .count();
        let ends = |s: &Server| {
            s.timelines
                .get(shared)
                .map_or(s.wal.len(), |(_, at, _)| *at)
        };
        let parts_at = ends(self).min(ends(source));
        self.wal.truncate(parts_at);
        self.wal.extend_from_slice(&source.wal[parts_at..]);
        self.timelines = source.timelines.clone();
        (self.standby, self.flushed) = (true, self.wal.len());
    }

    pub fn observe(&self, standbys: Vec<Downstream>) -> Observation {
        let data = if self.has_data {
            Data::Present {
                standby: self.standby,
            }
        } else {
            Data::Empty
        };
        // A standby names the data that it is a copy of; a primary's word is tried on real servers.
        let identity = (self.has_data && !self.primary).then(|| "skerry".to_string());
        if !self.runs {
            return Observation {
                identity,
                ..Observation::down(data)
            };
        }
        if self.first_gone {
            return Observation {
                presence: Presence::Exited,
                ..Observation::down(data)
            };
        }
        if self.hung {
            let trouble = Some("the server did not answer within 1s".into());
            return Observation {
                presence: Presence::Runs,
                run: Some(self.run()),
                trouble,
                ..Observation::down(data)
            };
        }
        let at = if self.primary {
            self.flushed as u64
        } else {
            self.length()
        };
        Observation {
            presence: Presence::Runs,
            run: Some(self.run()),
            strange: false,
            data,
            identity,
            role: Some(if self.primary {
                Role::Primary
            } else {
                Role::Standby
            }),
            position: Some(self.position(at)),
            received: Some(at),
            replayed: Some(at),
            place: None,
            upstream: self.upstream.clone(),
            streaming: self.receiving,
            standbys,
            can_write: self.primary.then_some(true),
            overruled: Vec::new(),
            pending: Vec::new(),
            can_hold_back: true,
            goes_up_to: self.goes_up_to().cloned(),
            held_at: self.held_at().cloned(),
            trouble: None,
            copied: None,
        }
    }
}
