//! Rules broken on purpose, so that a test can show that the check which guards each of them can
//! fail.

/// One rule that is not kept. Never set in the daemon.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Planted {
    /// A1: a restarted voter votes at once.
    ForgetPromise,
    /// A2: a primary is replaced without waiting for its lease.
    SkipLeaseWait,
    /// A2: the lease of an epoch is granted although its end is in the log already.
    GrantWhatEnds,
    /// A3: a coordinator goes on without acknowledgements of a majority.
    NeverSilent,
    /// A4: what cannot go the direct way is not sent round it.
    NoRelay,
    /// V3: whoever gains a vote need not have anything.
    VoteUnready,
    /// V4: how long a promise may last is forgotten at a restart.
    OwnWindow,
    /// G2: an answer counts for as long as messages ask for now, and not as its own message did.
    LongerThanAsked,
    /// G1: what changes the ground of other decisions is committed together with them.
    GroundInBatch,
    /// G4: a move goes on although what asked for it was ended.
    EndedGoesOn,
    /// G4: what a person accepted to give up is given up whenever that can be done.
    ConsentForEver,
    /// G6: the setting of the sync set waits for a checkpoint, and for a back-off.
    SettingWaits,
    /// G5: a node that rests may be switched off; other rests and lost voters do not count.
    RestsAlone,
    /// V5: any node with a vote may have another node take over.
    TakesFromAnybody,
    /// V5: a coordinator that hands over keeps its lease.
    HandOverWithLease,
    /// R2: the longest lease that may still be valid is the one that is granted now.
    RetireAtOnce,
    /// R8: a revision is in force before anybody has looked whether the hosts can take it.
    AdoptUnseen,
    /// P1: whoever knows less of the log after a start than before takes nothing for held back.
    HeldGoesOn,
    /// K4: a standby is restarted while writes wait for it.
    RestartInSet,
    /// A5, S2: messages leave before what they say is durable.
    SendBeforeDurable,
    /// A6: a follower whose store went back in time still counts.
    CountExpelled,
    /// A7: a daemon that starts takes what the deadman counts down for a lease without an end.
    LeaseForEver,
    /// C1: a server is taken for stopped when its first process has exited.
    FirstProcessOnly,
    /// C2: neither the daemon nor its deadman ends a primary before its lease does.
    OutliveLease,
    /// C3: packets pass whatever the deadman says.
    NoGuard,
    /// C4: a lease's end counts also of a host whose clock may stand still.
    TrustStoppedClock,
    /// C5: an epoch is surrendered while its server runs.
    SurrenderEarly,
    /// C6: a lease that the deadman has not confirmed covers a primary.
    TrustWithoutDeadman,
    /// C7: a power device's order is taken for its effect.
    AssumeOff,
    /// C8: a gate forwards without a lease.
    GateWithoutLease,
    /// S7: an address is given on without waiting for its old holder's lease.
    AddressAtOnce,
    /// D1: the primary waits for one member of the set, and not for all.
    WaitForOne,
    /// D2: a newcomer counts before it has everything.
    GrowAtOnce,
    /// D2: a setting is said to be made before the server has taken it up.
    UnprovenSetting,
    /// D2: a member leaves the primary's setting before it leaves the log.
    ShrinkLate,
    /// K4: a standby joins the sync set while its own node goes on with a stop of it.
    JoinsWhileStopped,
    /// D3: writes were unprotected, and another is promoted all the same.
    IgnoreUnprotected,
    /// D4: a new primary waits for its standbys only, before its epoch is opened.
    OpenEarly,
    /// D5: a promotion that was never opened leaves no trace.
    ForgetAttempt,
    /// D6: any standby may be promoted, and the one that has least is.
    PromoteLaggard,
    /// D7: a server that was restarted serves before a write of it is replicated.
    ServeAtOnce,
    /// F1: whoever may follow has every write when an epoch is opened.
    OpenCountsLaggards,
    /// F2: a position that is not known is zero.
    UnknownIsZero,
    /// F3: an empty store votes.
    EmptyStoreVotes,
    /// F4: a refusal says nothing of the refuser's term.
    RefuseWithoutTerm,
    /// F5: what takes authority away waits for the disk.
    HoldBackStops,
    /// F6: an action may take for ever, and so may its holder.
    NoDeadlines,
    /// F7: a primary that answers nobody is left alone.
    IgnoreSilence,
    /// F8: power is cut where nobody may take over.
    FenceForNothing,
    /// A node's word is taken for that of the node that it names.
    SpeaksForOthers,
    /// A node asks in the name of anybody, at any level.
    BelievesLevels,
    /// A lease is taken from whoever grants it, and for as long as it says.
    GrantsFromAnybody,
    /// A node without a vote may lead.
    LeadsWithoutVote,
    /// A2: a shorter lease is taken to end a longer one that was granted before.
    LastGrantCounts,
    /// A read gate goes on by what it was told once.
    ReadersForEver,
    /// What a name server was told is taken for what it has.
    NameTakenAsOrdered,
    /// V7: a node may vouch for itself.
    VouchesForItself,
    /// What a check-in changes is taken whatever it refers to.
    MixReports,
}
