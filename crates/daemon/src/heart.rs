//! The heart: the core's node on a real clock. It takes inputs, and hands every effect to whoever
//! carries it out; it never waits for any of them.

use crate::lock::lock;
use crate::measured::Measured;
use crate::store::Store;
use crate::whole::Moves;
use crate::{clock, pulse};
use karst_core::author::{Level, Token};
use karst_core::replica::Role;
use karst_core::request::{Answer, Request};
use karst_core::state::{Past, Tenure};
use karst_core::{Effect, Epoch, Index, Input, Node, NodeId, Term, Time, WorkloadId};
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::{mpsc, oneshot, watch};

/// What is cheap to know of this node at any time; for probes and metrics.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Glance {
    pub term: Term,
    pub coordinator: Option<NodeId>,
    pub is_coordinator: bool,
    pub applied: u64,
    pub workloads: BTreeMap<WorkloadId, WorkloadGlance>,
    /// Whose power this node may cut, under which entry, and until when it may without asking again
    /// (C7).
    pub cutting: Option<(Time, Vec<(NodeId, Index)>)>,
}

impl Glance {
    /// Asked just before the request.
    pub fn may_cut(&self, node: &NodeId, fence: Index) -> bool {
        let allows = |(until, cuts): &(Time, Vec<(NodeId, Index)>)| {
            *until > clock::now() && cuts.iter().any(|(n, f)| n == node && *f == fence)
        };
        self.cutting.as_ref().is_some_and(allows)
    }
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WorkloadGlance {
    pub epoch: Epoch,
    /// The open primary.
    pub primary: Option<NodeId>,
    /// What this node's own server is, under a lease if it is a primary.
    pub role: Option<Role>,
    /// This node's own server serves readers.
    pub reads: bool,
    pub sync_set: usize,
}

/// What the heart is told.
pub enum Told {
    Input(Box<Input>),
    /// Somebody wants to know how far primaries are.
    Heads(oneshot::Sender<Vec<Reached>>),
    /// Somebody wants to read earlier specs.
    Past(oneshot::Sender<Vec<Past>>),
    Stop,
}

/// How far the primary of a workload was, and when that was heard.
pub type Reached = (WorkloadId, u64, Time);

/// Whoever has something to say to the heart.
#[derive(Clone)]
pub struct Tell(mpsc::UnboundedSender<Told>);

impl Tell {
    /// One that has ended hears nothing, and its daemon ends with it.
    pub fn input(&self, input: Input) {
        let _ = self.0.send(Told::Input(Box::new(input)));
    }
}

/// The way to the heart, and its end there.
pub fn channel() -> (Tell, mpsc::UnboundedReceiver<Told>) {
    let (tell, told) = mpsc::unbounded_channel();
    (Tell(tell), told)
}

/// A handle to the heart; clones reach the same one.
#[derive(Clone)]
pub struct Heart {
    tell: Tell,
    answers: Arc<Mutex<BTreeMap<u64, oneshot::Sender<Answer>>>>,
    tickets: Arc<AtomicU64>,
    pub glance: watch::Receiver<Glance>,
}

impl Heart {
    pub fn input(&self, input: Input) {
        self.tell.input(input);
    }

    pub fn stop(&self) {
        let _ = self.tell.0.send(Told::Stop);
    }

    /// Asks the cluster, for a person who may ask so much; `None` if no node answered in time.
    pub async fn ask(
        &self,
        request: Request,
        (level, token): (Level, Option<Token>),
        patience: Duration,
    ) -> Option<Answer> {
        let ticket = self.tickets.fetch_add(1, Ordering::Relaxed);
        let (reply, answer) = oneshot::channel();
        lock(&self.answers).insert(ticket, reply);
        self.input(Input::Asked {
            ticket,
            request,
            level,
            token,
        });
        let answer = tokio::time::timeout(patience, answer).await;
        lock(&self.answers).remove(&ticket);
        answer.ok()?.ok()
    }

    /// How far each primary is, as this node has heard; none where the heart is too busy to say.
    pub async fn heads(&self) -> Option<Vec<Reached>> {
        let (reply, answer) = oneshot::channel();
        let _ = self.tell.0.send(Told::Heads(reply));
        let answer = tokio::time::timeout(Duration::from_secs(1), answer).await;
        answer.ok()?.ok()
    }

    /// Earlier revisions of the spec, the oldest first; none where the heart is too busy to say.
    pub async fn past_revisions(&self) -> Option<Vec<Past>> {
        let (reply, answer) = oneshot::channel();
        let _ = self.tell.0.send(Told::Past(reply));
        let answer = tokio::time::timeout(Duration::from_secs(1), answer).await;
        answer.ok()?.ok()
    }

    /// What this node knows by itself.
    pub async fn own_status(&self) -> Option<Answer> {
        let nobody = (Level::Observe, None);
        self.ask(Request::OwnStatus, nobody, Duration::from_secs(1))
            .await
    }
}

/// What the heart needs besides its node.
pub struct Around {
    pub told: mpsc::UnboundedReceiver<Told>,
    pub tell: Tell,
    pub store: Store,
    pub show: watch::Sender<Glance>,
    pub glance: watch::Receiver<Glance>,
    pub moves: Moves,
    pub measured: Arc<Measured>,
}

/// A handle, and the heart itself: it beats while it is polled, until it is told to stop.
/// `carry_out` gets every effect that is not the heart's own; where it cannot, the heart ends.
pub fn new(
    mut node: Node,
    around: Around,
    mut carry_out: impl FnMut(Effect) -> anyhow::Result<()>,
) -> (Heart, impl Future<Output = ()>) {
    let Around {
        mut told,
        tell,
        store,
        show,
        glance,
        moves,
        measured,
    } = around;
    let answers = Arc::new(Mutex::new(BTreeMap::new()));
    let heart = Heart {
        tell,
        answers: answers.clone(),
        tickets: Arc::default(),
        glance,
    };
    let beats = async move {
        let mut lives = false;
        loop {
            let wait = node.poll_timeout().since(clock::now());
            let heard = tokio::time::timeout(wait, told.recv()).await;
            moves.count();
            match heard {
                Ok(Some(Told::Input(input))) => node.handle(clock::now(), *input),
                Ok(Some(Told::Heads(reply))) => {
                    let heads = node
                        .heads()
                        .map(|(id, head, at)| (id.clone(), head.position, at));
                    let _: Result<(), _> = reply.send(heads.collect());
                    continue;
                }
                Ok(Some(Told::Past(reply))) => {
                    let _: Result<(), _> = reply.send(node.state().charter.past.clone());
                    continue;
                }
                Err(_) => node.handle(clock::now(), Input::Woke),
                Ok(Some(Told::Stop) | None) => return,
            }
            // Shown before anything is carried out: a permit that comes with an effect is there
            // when it is asked for.
            show.send_if_modified(|shown| {
                let changed = !is_so(shown, &node);
                if changed {
                    *shown = glance_of(&node);
                }
                changed
            });
            let mut beats = false;
            while let Some(effect) = node.poll_effect() {
                beats |= matches!(&effect, Effect::Send { message, .. } if message.is_beat());
                match effect {
                    Effect::Persist { number, writes } => store.persist(number, writes),
                    Effect::Record(event) => {
                        tracing::info!(kind = %event.kind, "{}", event.text);
                        // What was there when it started is not of this run.
                        if lives {
                            measured.note(&event);
                        }
                        store.record(event);
                    }
                    Effect::Answer { ticket, answer } => {
                        let asker = lock(&answers).remove(&ticket);
                        if let Some(reply) = asker {
                            let _: Result<(), Answer> = reply.send(answer);
                        }
                    }
                    other => {
                        if let Err(error) = carry_out(other) {
                            tracing::error!("{error:#}");
                            return;
                        }
                    }
                }
            }
            lives |= node.state().applied.0 > 0;
            // In the middle of a move somebody waits for each step.
            if beats && node.is_calm() {
                pulse::beaten(node.spec().timings.heartbeat, node.is_coordinator());
            }
        }
    };
    (heart, beats)
}

/// What of a workload may be different at any time without the log's doing.
fn role_of(node: &Node, id: &WorkloadId, primary: Option<&NodeId>) -> Option<Role> {
    let leased = node
        .authority_until(id)
        .is_some_and(|until| until > clock::now());
    node.role_of(id)
        .filter(|role| *role == Role::Standby || (leased && primary == Some(node.me())))
}

fn glance_of(node: &Node) -> Glance {
    let workload = |id: &WorkloadId| {
        let w = node.state().workload(id);
        let primary = match &w.tenure {
            Tenure::Open { holder, .. } => Some(holder.clone()),
            _ => None,
        };
        let role = role_of(node, id, primary.as_ref());
        WorkloadGlance {
            epoch: w.epoch,
            primary,
            role,
            reads: node.serves_readers(id),
            sync_set: w.sync.sure.len(),
        }
    };
    Glance {
        term: node.term(),
        coordinator: node.coordinator().cloned(),
        is_coordinator: node.is_coordinator(),
        applied: node.state().applied.0,
        cutting: cutting(node),
        workloads: node
            .spec()
            .workloads
            .keys()
            .map(|id| (id.clone(), workload(id)))
            .collect(),
    }
}

fn cutting(node: &Node) -> Option<(Time, Vec<(NodeId, Index)>)> {
    node.cutting().filter(|(_, cuts)| !cuts.is_empty())
}

/// Whether a glance would show the same: asked after each input, and most of them change nothing.
fn is_so(shown: &Glance, node: &Node) -> bool {
    (shown.term, shown.applied, shown.is_coordinator)
        == (node.term(), node.state().applied.0, node.is_coordinator())
        && shown.coordinator.as_ref() == node.coordinator()
        && shown.cutting == cutting(node)
        && shown.workloads.len() == node.spec().workloads.len()
        && node.replicas().all(|id| {
            shown.workloads.get(id).is_some_and(|w| {
                let role = role_of(node, id, w.primary.as_ref());
                (w.role, w.reads) == (role, node.serves_readers(id))
            })
        })
}
