//! The hands: one task per replica that drives its server, one gate per workload that this node
//! serves, one task per floating address, one per power device.

use crate::heart::{Glance, Tell};
use crate::lock::lock;
use crate::steps::OwnSteps;
use karst_adapters::{Address, Bounds, Gate, Name, Order, Power, Server};
use karst_core::address::{AddressOrder, AddressSeen, Connection};
use karst_core::name::NameOrder;
use karst_core::node::CALM_LOOKS;
use karst_core::ownstep::{Occasion, Point};
use karst_core::power::PowerOrder;
use karst_core::replica::{Action, Done, Observation, Role};
use karst_core::{Input, NodeId, OperationId, WorkloadId};
use std::net::SocketAddr;
use std::sync::{Arc, LazyLock, Mutex};
use std::time::Duration;
use tokio::sync::mpsc::UnboundedReceiver;
use tokio::sync::watch;
use tokio::task::JoinHandle;
use tokio::time::{Instant, Interval, MissedTickBehavior};

/// How often an address is looked after, and every how many looks it is asked for again, or who
/// else answers for it.
const LOOK_EVERY: Duration = Duration::from_secs(1);
const TRY_AGAIN: u32 = 5;
/// Before each time that clients are roused after their address has come here: again, as a segment
/// may be lost, and later, as a client limits how often it answers one that it did not expect (RFC
/// 5961, section 7).
const ROUSE_PAUSES: [Duration; 3] = [
    Duration::ZERO,
    Duration::from_millis(600),
    Duration::from_millis(1_400),
];

/// What a replica's task is told.
pub enum Hand {
    Act {
        id: u64,
        action: Action,
        operation: Option<OperationId>,
    },
    Cancel {
        id: u64,
    },
    Attend {
        closely: bool,
    },
    /// The spec says something else of it now: what is begun from here on goes by that.
    Serve {
        server: Arc<Server>,
    },
    /// The spec has another heartbeat.
    Pace {
        heartbeat: Duration,
    },
}

/// Heartbeats until the next look at a primary some of whose standbys have not everything yet:
/// while there are writes, a stream that is dead is to be seen before they have waited for long.
const LOOKS_IF_OWED: u32 = 2;

fn owes(seen: &Observation) -> bool {
    seen.is(Role::Primary)
        && seen
            .standbys
            .iter()
            .any(|standby| standby.flushed < seen.number())
}

/// Whether others wait for this action's own result, and what can be seen of it comes later. Of all
/// others what can be seen has to come first: it says that they need not be done again.
fn is_awaited(action: &Action) -> bool {
    matches!(
        action,
        Action::Promote { .. } | Action::Settle { .. } | Action::SetSync(_)
    )
}

/// What a look has seen, once it is over; for ever while none is under way.
async fn ended(look: &mut Option<JoinHandle<Observation>>) -> Option<Observation> {
    match look {
        Some(look) => look.await.ok(),
        None => std::future::pending().await,
    }
}

/// The next moment for something that is done this often, the same for all of it: a daemon that has
/// nothing else to do is woken once for all its hands.
fn together(every: Duration) -> Instant {
    static SINCE: LazyLock<Instant> = LazyLock::new(Instant::now);
    let passed = SINCE.elapsed().as_nanos() / every.as_nanos().max(1);
    *SINCE + every * u32::try_from(passed + 1).unwrap_or(u32::MAX)
}

/// What the tasks of one replica share.
#[derive(Clone)]
struct Driven {
    workload: WorkloadId,
    server: Arc<Server>,
    heart: Tell,
    /// The server may be another one now, whose exit is waited for.
    rewatch: watch::Sender<()>,
    steps: OwnSteps,
}

impl Driven {
    fn observed(&self, observation: Observation) {
        self.heart.input(Input::Observed {
            workload: self.workload.clone(),
            observation,
        });
    }

    /// Runs beside the probes, so that an exit is seen when it happens and not at the next probe.
    async fn watch_exits(self, mut watched: watch::Receiver<()>) {
        loop {
            tokio::select! {
                () = self.server.exited() => {
                    self.observed(self.server.just_exited());
                    self.server.end_rest().await;
                    self.observed(self.server.observe().await);
                }
                changed = watched.changed() => if changed.is_err() { return },
            }
        }
    }

    /// The site's own steps at that point of it; why it is not to be done, if one says so.
    async fn own_steps(&self, at: Option<Point>, operation: Option<OperationId>) -> Option<String> {
        let (workload, node) = (self.workload.clone(), self.steps.here.me.clone());
        let occasion = Occasion {
            operation,
            ..Occasion::of(at?, Some(workload), node)
        };
        self.steps.run(occasion).await
    }

    async fn act(self, id: u64, action: Action, operation: Option<OperationId>) {
        let awaited = is_awaited(&action);
        let (before, after) = match &action {
            Action::Checkpoint => (Some(Point::BeforeSwitchover), None),
            Action::Promote { .. } => (Some(Point::BeforePromotion), None),
            Action::Clone { .. } | Action::Restore { .. } => {
                (Some(Point::BeforeClone), Some(Point::AfterClone))
            }
            _ => (None, None),
        };
        let result = match self.own_steps(before, operation).await {
            Some(why) => Ok(Done::Refused { why }),
            None => self.server.act(action).await.map_err(|e| e.to_string()),
        };
        if matches!(result, Ok(Done::Ok)) {
            self.own_steps(after, operation).await;
        }
        let _ = self.rewatch.send(());
        let stopped = matches!(result, Ok(Done::Stopped { .. }));
        let acted = Input::Acted {
            workload: self.workload.clone(),
            id,
            result,
        };
        if awaited {
            self.heart.input(acted);
            self.observed(self.server.observe().await);
        } else {
            let observation = if stopped {
                self.server.stopped()
            } else {
                self.server.observe().await
            };
            self.observed(observation);
            self.heart.input(acted);
        }
    }
}

/// Looks at a server this often from that moment on, however late one look comes.
fn looks_from(first: Instant, every: Duration) -> Interval {
    let mut looks = tokio::time::interval_at(first, every);
    looks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    looks
}

/// Drives one server until it is dismissed or the daemon ends: probes it, watches it, carries out what it is told, one
/// action at a time.
pub async fn replica(
    workload: WorkloadId,
    server: Arc<Server>,
    mut heartbeat: Duration,
    mut told: UnboundedReceiver<Hand>,
    heart: Tell,
    steps: OwnSteps,
) {
    let (rewatch, watched) = watch::channel(());
    let mut driven = Driven {
        workload,
        server,
        heart,
        rewatch,
        steps,
    };
    let mut exits = tokio::spawn(driven.clone().watch_exits(watched.clone()));
    let mut acting: Option<(u64, JoinHandle<()>)> = None;
    let mut calm = heartbeat * CALM_LOOKS;
    let mut probe = looks_from(Instant::now(), heartbeat);
    let mut pid_known = false;
    // A look may hang as long as its server does: nothing that is told waits for it (F5).
    let mut look: Option<JoinHandle<Observation>> = None;
    loop {
        tokio::select! {
            hand = told.recv() => match hand {
                None => break,
                Some(Hand::Attend { closely: true }) => probe = looks_from(Instant::now(), heartbeat),
                Some(Hand::Attend { closely: false }) => probe = looks_from(together(calm), calm),
                Some(Hand::Serve { server }) => {
                    exits.abort();
                    driven.server = server;
                    exits = tokio::spawn(driven.clone().watch_exits(watched.clone()));
                }
                Some(Hand::Pace { heartbeat: next }) => {
                    (heartbeat, calm) = (next, next * CALM_LOOKS);
                    probe = looks_from(Instant::now(), heartbeat);
                }
                Some(Hand::Cancel { id }) => {
                    if let Some((_, task)) = acting.take_if(|(a, _)| *a == id) {
                        task.abort();
                    }
                }
                Some(Hand::Act { id, action, operation }) => {
                    if let Some((_, task)) = acting.take() {
                        task.abort();
                    }
                    // What it sees may be over by the time that the action is.
                    if let Some(look) = look.take() {
                        look.abort();
                    }
                    acting = Some((id, tokio::spawn(driven.clone().act(id, action, operation))));
                }
            },
            _ = probe.tick(), if look.is_none() => {
                let server = driven.server.clone();
                look = Some(tokio::spawn(async move { server.observe().await }));
            }
            seen = ended(&mut look) => {
                look = None;
                let Some(observation) = seen else { continue };
                if observation.runs() != pid_known {
                    pid_known = observation.runs();
                    let _ = driven.rewatch.send(());
                }
                if owes(&observation) && probe.period() == calm {
                    probe.reset_at(together(heartbeat * LOOKS_IF_OWED));
                }
                driven.observed(observation);
            }
        }
    }
    exits.abort();
}

/// Keeps one workload's floating address: takes it up or gives it up as ordered, looks now and then
/// whether it is still here and answered only here, and says what came of it.
pub async fn address(
    workload: WorkloadId,
    address: Address,
    mut orders: UnboundedReceiver<(AddressOrder, Vec<Connection>)>,
    heart: Tell,
) {
    let mut order: Option<AddressOrder> = None;
    // Of those who were connected to the last holder, until they are told.
    let mut strayed = Vec::new();
    let mut seen = AddressSeen::default();
    let mut look = tokio::time::interval_at(together(LOOK_EVERY), LOOK_EVERY);
    look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut looks = 0u32;
    loop {
        let fresh = tokio::select! {
            next = orders.recv() => {
                let Some((next, connections)) = next else { return };
                (order, strayed) = (Some(next), connections);
                true
            }
            _ = look.tick() => false,
        };
        let Some(AddressOrder { turn, hold }) = order else {
            continue;
        };
        looks = looks.wrapping_add(1);
        let before = seen.clone();
        seen.turn = turn;
        // Clients that have come since the last look are told by the next holder, too. The kernel
        // answers from its own list, so this look blocks no step (F5).
        if fresh
            && hold.is_none()
            && before.held
            && let Ok(last) = address.connections()
        {
            seen.connections = last;
            heart.input(Input::AddressSeen {
                workload: workload.clone(),
                seen: seen.clone(),
            });
        }
        let done = match hold {
            Some(_) if fresh || address.here().is_empty() => {
                // Whoever else had it may keep it: it is asked for again, and not fought over (RFC
                // 5227, 2.4).
                let wait = before.trouble.is_some() && !fresh && !looks.is_multiple_of(TRY_AGAIN);
                if wait {
                    Err(before.trouble.clone().unwrap_or_default())
                } else {
                    address.take_up().await.map_err(|e| e.to_string())
                }
            }
            Some(_) => Ok(()),
            None if fresh || !address.left().is_empty() => {
                address.give_up().await.map_err(|e| e.to_string())
            }
            None => Ok(()),
        };
        seen.trouble = done.err();
        // Gone is what has left as a whole.
        seen.on = if hold.is_some() {
            address.here()
        } else {
            address.left()
        };
        seen.held = !seen.on.is_empty();
        if seen.held && hold.is_some() && !strayed.is_empty() {
            tokio::spawn(rouse(workload.clone(), std::mem::take(&mut strayed)));
        }
        let connections = if seen.held {
            address.connections()
        } else {
            Ok(Vec::new())
        };
        seen.unlisted = connections.as_ref().err().map(ToString::to_string);
        seen.connections = connections.unwrap_or_default();
        if seen.held && hold.is_some() && !fresh && looks.is_multiple_of(TRY_AGAIN) {
            seen.conflict = address.conflict().await.unwrap_or_default();
        } else if !seen.held {
            seen.conflict = None;
        }
        let again = !seen.connections.is_empty() && looks.is_multiple_of(TRY_AGAIN);
        if fresh || again || seen != before {
            heart.input(Input::AddressSeen {
                workload: workload.clone(),
                seen: seen.clone(),
            });
        }
    }
}

/// Has clients that were connected to the last holder notice that it is another one now.
async fn rouse(workload: WorkloadId, connections: Vec<Connection>) {
    tracing::info!(%workload, "{} clients were connected to the address elsewhere; they are told", connections.len());
    for pause in ROUSE_PAUSES {
        tokio::time::sleep(pause).await;
        if let Err(error) = Address::rouse(&connections) {
            tracing::warn!(%workload, %error, "clients that wait for an answer over the address cannot be told");
            return;
        }
    }
}

/// Has one workload's name lead where it is ordered to, one order after the other.
pub async fn name(
    workload: WorkloadId,
    name: Name,
    mut orders: UnboundedReceiver<NameOrder>,
    heart: Tell,
) {
    while let Some(order) = orders.recv().await {
        let result = name.carry_out(&order).await.map_err(|e| e.to_string());
        let workload = workload.clone();
        heart.input(Input::Named {
            workload,
            order,
            result,
        });
    }
}

/// Asks one node's power device, one task for each order: a cut does not wait for a look.
pub async fn power(
    node: NodeId,
    device: Arc<Power>,
    mut orders: UnboundedReceiver<(PowerOrder, Option<String>)>,
    glance: watch::Receiver<Glance>,
    heart: Tell,
    steps: OwnSteps,
) {
    // The last fence before which, and after which, the site's own steps have run.
    let mut begun = None;
    let over = Arc::new(Mutex::new(None));
    while let Some((order, system)) = orders.recv().await {
        let (node, device, glance, heart) =
            (node.clone(), device.clone(), glance.clone(), heart.clone());
        let fence = match order {
            PowerOrder::Off { fence } => Some(fence),
            PowerOrder::On { .. } | PowerOrder::Look => None,
        };
        let about = |at| Occasion {
            fence,
            ..Occasion::of(at, None, node.clone())
        };
        let before = fence
            .filter(|_| begun != fence)
            .map(|_| about(Point::BeforeFence));
        let after = fence.map(|_| about(Point::AfterFence));
        begun = fence.or(begun);
        let (steps, over) = (steps.clone(), over.clone());
        tokio::spawn(async move {
            if let Some(before) = before {
                steps.run(before).await;
            }
            let permit = || match order {
                PowerOrder::Off { fence } => glance.borrow().may_cut(&node, fence),
                PowerOrder::On { .. } => glance.borrow().is_coordinator,
                PowerOrder::Look => false,
            };
            let result = device
                .carry_out(order, system.as_deref(), permit)
                .await
                .map_err(|e| e.to_string());
            let off = matches!(&result, Ok(seen) if !seen.on);
            heart.input(Input::Powered {
                node,
                order,
                result,
            });
            let first = off && std::mem::replace(&mut *lock(&over), fence) != fence;
            if let Some(after) = after.filter(|_| first) {
                steps.run(after).await;
            }
        });
    }
    device.close().await;
}

/// Keeps one gate: passes orders on and reports, at once after an order, and now and then what it
/// counts.
pub async fn gate<O: Order>(
    workload: WorkloadId,
    (address, bounds): (SocketAddr, Bounds),
    report_every: Duration,
    mut orders: UnboundedReceiver<O>,
    say: impl Fn(O::Report),
) {
    let gate = loop {
        match Gate::<O>::open(address, bounds).await {
            Ok(gate) => break gate,
            Err(error) => {
                tracing::error!(%workload, %address, %error, "the gate cannot listen; trying again");
                tokio::time::sleep(Duration::from_secs(1)).await;
            }
        }
    };
    let mut tick = tokio::time::interval_at(together(report_every), report_every);
    let (mut at_once, mut last) = (true, None);
    loop {
        let report = gate.report();
        if at_once || last.as_ref() != Some(&report) {
            last = Some(report.clone());
            say(report);
        }
        at_once = tokio::select! {
            order = orders.recv() => {
                let Some(order) = order else { return };
                gate.order(order);
                true
            }
            () = gate.changed() => true,
            _ = tick.tick() => false,
        };
    }
}
