//! A replicated server, as far as the guarantees depend on it: a log of writes with timelines, synchronous waiting, and
//! the ways in which a former primary can have what nobody else has.

use karst_core::NodeId;
use karst_core::ids::Lsn;
use karst_core::replica::{Data, Downstream, Observation, Role};

/// What a primary waits for before a commit returns.
#[derive(Clone, Debug, PartialEq)]
pub enum Sync {
    /// A name that nobody has: no commit returns (D4).
    Impossible,
    Names(Vec<NodeId>),
    Unprotected,
}

#[derive(Clone, Debug)]
pub struct Server {
    pub has_data: bool,
    pub standby: bool,
    pub runs: bool,
    pub primary: bool,
    pub upstream: Option<NodeId>,
    pub receiving: bool,
    /// The numbers of the writes, in order. The position of a server is the length.
    pub wal: Vec<u64>,
    /// Each timeline with the position where it began and a number unique to that promotion: two promotions may both
    /// make "timeline 2" (D5).
    pub timelines: Vec<(u32, usize, u64)>,
    pub sync: Sync,
    pub sync_number: (u64, u64),
    /// How much was written when that setting came into force.
    pub barrier: usize,
    /// Writes whose commit has not returned yet: position and number.
    pub waiting: Vec<(usize, u64)>,
    pub replayed: usize,
}

impl Server {
    pub fn new() -> Self {
        Self {
            has_data: false,
            standby: false,
            runs: false,
            primary: false,
            upstream: None,
            receiving: false,
            wal: Vec::new(),
            timelines: vec![(1, 0, 0)],
            sync: Sync::Impossible,
            sync_number: (0, 0),
            barrier: 0,
            waiting: Vec::new(),
            replayed: 0,
        }
    }

    pub fn timeline(&self) -> (u32, usize, u64) {
        *self.timelines.last().expect("there is always a first timeline")
    }

    pub fn position(&self) -> Lsn {
        Lsn(self.wal.len() as u64)
    }

    pub fn stop(&mut self) {
        (self.runs, self.primary, self.receiving) = (false, false, false);
        self.waiting.clear();
    }

    /// Whether this standby can stream from that primary: its history is a part of the primary's, and it has nothing
    /// past the point where they part.
    pub fn can_stream_from(&self, primary: &Server) -> bool {
        let shared = self.timelines.iter().zip(&primary.timelines).take_while(|(a, b)| a == b).count();
        let own_ends = self.timelines.len() == shared;
        let parts_at = primary.timelines.get(shared).map_or(primary.wal.len(), |(_, at, _)| *at);
        own_ends && self.wal.len() <= parts_at
    }

    /// As a rewind does it: histories are compared by number and switch point only, so that of twins it says "nothing to do"
    /// and leaves what the other one never had (D5).
    pub fn rewind(&mut self, source: &Server) {
        let same = |(a, b): &(&(u32, usize, u64), &(u32, usize, u64))| (a.0, a.1) == (b.0, b.1);
        let shared = self.timelines.iter().zip(&source.timelines).take_while(same).count();
        let ends = |s: &Server| s.timelines.get(shared).map_or(s.wal.len(), |(_, at, _)| *at);
        let parts_at = ends(self).min(ends(source));
        self.wal.truncate(parts_at);
        self.wal.extend_from_slice(&source.wal[parts_at..]);
        self.timelines = source.timelines.clone();
        (self.standby, self.replayed) = (true, self.wal.len());
    }

    pub fn observe(&self, standbys: Vec<Downstream>) -> Observation {
        if !self.runs {
            let data = if self.has_data { Data::Present { standby: self.standby } } else { Data::Empty };
            return Observation::down(data);
        }
        Observation {
            runs: true,
            exited: false,
            data: Data::Present { standby: self.standby },
            role: Some(if self.primary { Role::Primary } else { Role::Standby }),
            timeline: self.timeline().0,
            position: self.position(),
            received: self.position(),
            replayed: Lsn(self.replayed as u64),
            upstream: self.upstream.clone(),
            streaming: self.receiving,
            standbys,
            can_write: self.primary.then_some(true),
            trouble: None,
            copied: None,
        }
    }
}
