//! What else can happen to hosts: each scene does it to a running lab under load, looks at what
//! must hold, undoes it, and says in a few words what it saw. An error is a promise that was not
//! kept.

use super::in_host::{InHost, LIMIT, server_ends};
use super::load::start_direct;
use crate::capture::{self, Capture};
use crate::cluster::Lab;
use crate::dial::{Call, Dial};
use crate::disk::Volume;
use crate::fault::{self, Fault, Frozen, Network};
use crate::find;
use crate::journal::{self, Ending};
use crate::layout::{FLOATING, FLOATING6, NODES};
use crate::steal::{boot_nanos, millis as steal_millis, wall_nanos};
use crate::waiting::Waiting;
use crate::watchdogs;
use anyhow::{Context, Result, ensure};
use karst_api::core::event::FactKind;
use karst_api::core::spec::FindingKind;
use karst_api::core::view::{NodeView, ReplicaState};
use karst_api::{Client, StatusReply};
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};

/// From the log's word to the answer to the next client.
pub const ADDRESS_ANSWERS: Duration = Duration::from_millis(50);
/// From the log's word until a client that waits for an answer over the address knows that it waits
/// in vain.
pub const STRAYED_KNOW: Duration = Duration::from_millis(250);
/// A SYN that is lost is sent again after this long (RFC 6298, section 2).
const SYN_AGAIN: Duration = Duration::from_secs(1);

/// Two write probes, the suspicion's ceiling and the move, generously.
const DISK_FULL_MOVES: Duration = Duration::from_secs(6);

pub(super) fn apply(lab: &Lab, fault: Fault) -> Result<()> {
    fault::apply(&lab.layout, &fault).map(drop)
}

pub(super) fn is_elsewhere<'a>(primary: &'a str) -> impl Fn(&StatusReply) -> bool + 'a {
    move |r| {
        r.status.workloads[0]
            .primary
            .as_ref()
            .is_some_and(|p| p.as_str() != primary)
    }
}

/// Cut off from everyone, the old primary stops itself before its lease ends, though a client on
/// its own host writes on.
pub async fn cut_off_with_a_writer_on_it(lab: &Lab) -> Result<String> {
    apply(lab, Fault::ControllerStop)?;
    lab.healthy(LIMIT).await?;
    let primary = lab.primary().await?;
    let longest = longest_authority(lab, &[&primary]).await?;
    let writing = InHost::start(lab, &primary).await?;
    apply(
        lab,
        Fault::Cut {
            host: primary.clone(),
            network: None,
        },
    )?;
    let cut = boot_nanos();
    let after = server_ends(lab, &primary, cut, longest, writing).await?;
    apply(lab, Fault::Heal)?;
    lab.healthy(LIMIT).await?;
    Ok(format!(
        "its last process had ended {} ms after the cut; it came home by itself",
        after.as_millis()
    ))
}

/// C3: frozen as a whole past its lease, the old primary accepts no write after the new epoch has
/// begun, though its server is the first to run again and a client has the connection still open;
/// and it answers for no address that another has.
pub async fn frozen_whole_and_thawed(lab: &Lab) -> Result<String> {
    apply(lab, Fault::ControllerStop)?;
    let well = lab.healthy(LIMIT).await?;
    ensure!(
        well.status
            .findings
            .iter()
            .all(|f| f.finding.kind != FindingKind::NoPacketGuard),
        "{:?}",
        well.status.findings
    );
    let primary = lab.primary().await?;
    let mut capture = Capture::start(&lab.layout)?;
    let direct = start_direct(&lab.layout, "direct", &primary)?;
    let wrote = |after: u64| {
        let lines = journal::read(&direct.journal).unwrap_or_default();
        lines
            .iter()
            .filter(|l| l.ending == Ending::Acknowledged && l.ended > after)
            .map(|l| l.ended)
            .max()
    };
    lab.wait("it writes", LIMIT, |_| wrote(0).is_some()).await?;
    apply(
        lab,
        Fault::Freeze {
            host: primary.clone(),
            what: Frozen::Host,
        },
    )?;
    let moved = lab
        .wait("a new primary", LIMIT, is_elsewhere(&primary))
        .await?;
    let steps = &moved
        .status
        .operations
        .first()
        .context("an operation")?
        .steps;
    let assigned = steps
        .iter()
        .find(|s| s.kind == FactKind::Assigned)
        .context("the assignment")?
        .at
        .0;
    apply(
        lab,
        Fault::Thaw {
            host: primary.clone(),
        },
    )?;
    lab.healthy(LIMIT).await?;
    let late = wrote(assigned);
    direct.finish()?;
    ensure!(
        late.is_none(),
        "the old primary accepted a write {:?} after the new epoch began",
        late.map(|at| Duration::from_nanos(at - assigned))
    );
    one_answer(capture.as_mut())?;
    Ok(
        "no write of the old primary after the new epoch had begun; one answer for each address"
            .into(),
    )
}

/// From a cut to the end of the last lease: the lease, and where the coordinator is left with the
/// primary one window of election_timeout more, in which it goes on granting and nobody else can be
/// elected (A3).
pub(super) async fn longest_authority(lab: &Lab, left: &[&str]) -> Result<Duration> {
    let (timings, status) = (lab.timings().await?, lab.status().await?.status);
    let coordinator = status.coordinator.context("a coordinator")?;
    let grants = left.contains(&coordinator.as_str());
    Ok(timings.lease
        + if grants {
            timings.election_timeout
        } else {
            Duration::ZERO
        })
}

fn one_answer(capture: Option<&mut Capture>) -> Result<()> {
    let Some(capture) = capture else {
        return Ok(());
    };
    let clashes = capture::clashes(&capture.seen()?);
    ensure!(clashes.is_empty(), "{}", clashes[0]);
    Ok(())
}

/// The primary, its epoch, and a node that hears it and that it hears.
async fn primary_and_another(lab: &Lab) -> Result<(String, karst_api::core::Epoch, String)> {
    let before = lab.healthy(LIMIT).await?;
    let (primary, epoch) = (lab.primary().await?, before.status.workloads[0].epoch);
    let coordinator = before
        .status
        .coordinator
        .context("a coordinator")?
        .to_string();
    let third = NODES
        .iter()
        .map(|n| n.name)
        .find(|n| *n != primary && *n != coordinator)
        .context("a third node")?;
    let far = if coordinator == primary {
        third.to_string()
    } else {
        coordinator
    };
    Ok((primary, epoch, far))
}

/// Whether `node` is shown as one that `from` does not get through to.
fn is_deaf(reply: &StatusReply, node: &str, from: &str) -> bool {
    let deaf = |n: &NodeView| {
        n.node.as_str() == node && n.does_not_hear.iter().any(|d| d.as_str() == from)
    };
    reply.status.nodes.iter().any(deaf)
}

/// L2: one direction is cut, then the other: it is shown as what it is, and the primary stays.
pub async fn one_way_cuts(lab: &Lab) -> Result<String> {
    let (primary, epoch, far) = primary_and_another(lab).await?;
    for (from, to) in [(&primary, &far), (&far, &primary)] {
        let network = Some(Network::Peer);
        apply(
            lab,
            Fault::CutPair {
                from: from.clone(),
                to: to.clone(),
                one_way: true,
                network,
            },
        )?;
        lab.wait("the one-way cut is shown", LIMIT, |r| is_deaf(r, to, from))
            .await
            .with_context(|| format!("{from} -> {to} is cut"))?;
        // Longer than any lease, and than any connection goes on by itself.
        tokio::time::sleep(lab.timings().await?.lease * 3 / 2).await;
        let one_way = |r: &StatusReply| is_deaf(r, to, from) && !is_deaf(r, from, to);
        lab.wait("it is shown as one way", LIMIT, one_way).await?;
        ensure!(
            lab.workload().await?.epoch == epoch,
            "it moved for {from} -> {to} cut"
        );
        apply(lab, Fault::Heal)?;
        lab.healthy(LIMIT).await?;
    }
    Ok(format!(
        "{primary} -> {far} and back: shown, and nothing moved"
    ))
}

/// L2: a fifth of what the nodes send each other is lost, and the primary stays.
pub async fn loss_of_a_fifth(lab: &Lab, time: Duration) -> Result<String> {
    let (primary, epoch, _) = primary_and_another(lab).await?;
    apply(
        lab,
        Fault::Loss {
            percent: 20,
            network: Some(Network::Peer),
        },
    )?;
    let begun = Instant::now();
    let mut most = 0;
    while begun.elapsed() < time {
        if let Ok(reply) = lab.status().await {
            let moved = reply.status.workloads[0].epoch != epoch;
            ensure!(!moved, "it moved after {} s", begun.elapsed().as_secs());
            most = reply
                .status
                .nodes
                .iter()
                .flat_map(|n| n.misses.values())
                .fold(most, |a, b| a.max(*b));
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    ensure!(most > 0, "nobody says that links lose packets");
    apply(lab, Fault::Heal)?;
    let after = lab.healthy(LIMIT).await?;
    ensure!(
        after.status.workloads[0].epoch == epoch,
        "it moved when the loss had ended"
    );
    Ok(format!(
        "{primary} stayed primary for {} s; a link was said to lose {most} %",
        time.as_secs()
    ))
}

/// Both other voters lose their power: the server ends before its lease, the survivor says what is
/// missing, nothing is promoted; when they return, it heals alone.
pub async fn majority_lost(lab: &Lab) -> Result<String> {
    lab.healthy(LIMIT).await?;
    let primary = lab.primary().await?;
    let voters: Vec<&str> = NODES
        .iter()
        .filter(|n| n.votes > 0 && n.name != primary)
        .map(|n| n.name)
        .collect();
    // With the primary on the node without a vote all three voters but one go.
    let off = &voters[..2];
    let left: Vec<&str> = NODES
        .iter()
        .map(|n| n.name)
        .filter(|n| !off.contains(n))
        .collect();
    let longest = longest_authority(lab, &left).await?;
    for host in off {
        apply(
            lab,
            Fault::PowerOff {
                host: (*host).into(),
            },
        )?;
    }
    let at = boot_nanos();
    while !find::working_in(&lab.layout.data(&primary)).is_empty() {
        ensure!(
            boot_nanos() - at < 10_000_000_000,
            "a server without a majority goes on"
        );
        tokio::time::sleep(Duration::from_millis(2)).await;
    }
    let after = Duration::from_nanos(boot_nanos() - at);
    ensure!(
        after < longest,
        "the server ended {after:?} after the majority was lost, and may go on for {longest:?}"
    );
    let index = NODES
        .iter()
        .position(|n| n.name == primary)
        .context("the primary's place")?;
    let survivor = Client::new(
        &lab.layout.servers()[index..=index],
        &lab.layout.token()?,
        None,
    )?;
    let begun = Instant::now();
    let said = loop {
        let status = survivor.status().await?.status;
        let says = status.sentence.starts_with("No majority")
            && off.iter().all(|h| status.sentence.contains(h));
        let own = status.workloads[0]
            .replicas
            .iter()
            .find(|r| r.node.as_str() == primary)
            .context("its own replica")?;
        if says && own.state == ReplicaState::Stopped {
            break status.sentence;
        }
        ensure!(
            begun.elapsed() < LIMIT,
            "the survivor says: {}; {own:?}",
            status.sentence
        );
        tokio::time::sleep(Duration::from_millis(20)).await;
    };
    for host in off {
        apply(
            lab,
            Fault::PowerOn {
                host: (*host).into(),
            },
        )?;
    }
    lab.healthy(LIMIT).await?;
    Ok(format!(
        "the server ended {} ms after; {primary} said: {said} It healed alone",
        after.as_millis()
    ))
}

/// How long after the log's word somebody was answered. From then on everybody is at once: no SYN
/// has to be sent again.
pub async fn answered_after(
    lab: &Lab,
    dial: &Dial,
    word: u128,
    allowed: Duration,
) -> Result<Duration> {
    let steal = steal_millis();
    let first = dial
        .answers()
        .into_iter()
        .find(|at| *at > word)
        .context("nobody answered")?;
    let after = Duration::from_nanos(u64::try_from(first - word)?);
    // What the machine took from all of us is nobody's delay.
    ensure!(
        after < allowed,
        "answered only {after:?} after the log's word"
    );
    // A dial that began before has ended by then, its own repeated SYN included.
    let watched = first + SYN_AGAIN.as_nanos();
    lab.wait("its calls have ended", LIMIT, |_| {
        dial.calls()
            .iter()
            .any(|c| c.begun > watched + SYN_AGAIN.as_nanos())
    })
    .await?;
    let calls = dial
        .calls()
        .into_iter()
        .filter(|c| (first..watched).contains(&c.begun))
        .collect::<Vec<_>>();
    ensure!(
        calls.len() > 20,
        "only {} dials in {SYN_AGAIN:?}",
        calls.len()
    );
    // Sooner than a repeated SYN could be answered; what the machine took meanwhile comes on top.
    let stolen = Duration::from_millis(steal_millis() - steal);
    let soon = (SYN_AGAIN / 2 + stolen).min(SYN_AGAIN).as_nanos();
    let late = |call: &&Call| call.answered.is_none_or(|at| at - call.begun >= soon);
    let slow: Vec<String> = calls
        .iter()
        .filter(late)
        .map(|c| {
            let after = |at: u128| (at.saturating_sub(first)) / 1_000_000;
            let answered = c
                .answered
                .map_or("never".into(), |at| after(at).to_string());
            format!("begun {}, answered {answered}", after(c.begun))
        })
        .collect();
    ensure!(
        slow.is_empty(),
        "{} of {} dials waited too long; in milliseconds after the first answer: {}. {} ms were stolen",
        slow.len(),
        calls.len(),
        slow.join("; "),
        stolen.as_millis()
    );
    Ok(after)
}

/// The host that has the floating address loses its power, and another one has it: who dials it is
/// answered again soon after the log's word, over IPv4 and IPv6, nobody is answered by two (S7),
/// and who waited for an answer over it is told.
pub async fn address_moves(lab: &Lab) -> Result<String> {
    apply(lab, Fault::ControllerStart)?;
    let well = lab.healthy(LIMIT).await?;
    let place = |r: &StatusReply| {
        r.status.workloads[0]
            .address
            .clone()
            .filter(|a| a.held)
            .and_then(|a| a.holder)
    };
    let holder = place(&well).context("nobody has the address")?.to_string();
    let waiting = Waiting::start(lab, 26900).await?;
    let mut capture = Capture::start(&lab.layout)?;
    let to = |ip: &str| anyhow::Ok(SocketAddr::from((ip.parse::<IpAddr>()?, 26900)));
    let dials = [
        Dial::start(&lab.layout, to(FLOATING)?)?,
        Dial::start(&lab.layout, to(FLOATING6)?)?,
    ];
    lab.wait("it is answered", LIMIT, |_| {
        dials.iter().all(|d| d.answers().len() > 20)
    })
    .await?;
    let steal = steal_millis();
    apply(
        lab,
        Fault::PowerOff {
            host: holder.clone(),
        },
    )?;
    let off = wall_nanos();
    lab.wait("it is elsewhere", LIMIT, |r| {
        place(r).is_some_and(|p| p.as_str() != holder)
    })
    .await?;
    let again = |d: &Dial| d.answers().last().is_some_and(|at| *at > off + 500_000_000);
    lab.wait("it is answered again", LIMIT, |_| dials.iter().all(again))
        .await?;
    let placed = lab.first_record(FactKind::AddressPlaced, off).await?;
    let mut answered = Vec::new();
    for dial in &dials {
        let allowed = ADDRESS_ANSWERS + Duration::from_millis(steal_millis() - steal);
        answered.push(format!(
            "{} ms",
            answered_after(lab, dial, placed, allowed)
                .await?
                .as_millis()
        ));
    }
    let told = told_after(waiting, placed, steal).await?;
    let stolen = steal_millis() - steal;
    drop(dials);
    one_answer(capture.as_mut())?;
    // What shows that nobody else answers shows here who does.
    if let Some(capture) = &mut capture {
        let answers =
            |f: &capture::Frame| f.at >= placed && matches!(f.what, capture::What::Answer(_));
        ensure!(
            capture.seen()?.iter().any(answers),
            "the capture saw nobody say that it has the address"
        );
    }
    apply(lab, Fault::PowerOn { host: holder })?;
    lab.healthy(LIMIT).await?;
    Ok(format!(
        "answered {} after the log's word (IPv4, IPv6); who waited for an answer was told {} ms after it; the machine \
         was taken away for {stolen} ms meanwhile, which is allowed for",
        answered.join(" and "),
        told.as_millis()
    ))
}

/// How long after the log's word, so many milliseconds of steal included, those were told who
/// waited for an answer.
pub async fn told_after(waiting: Waiting, word: u128, steal: u64) -> Result<Duration> {
    let after = Duration::from_nanos(u64::try_from(waiting.told().await?.saturating_sub(word))?);
    let allowed = STRAYED_KNOW + Duration::from_millis(steal_millis() - steal);
    ensure!(
        after < allowed,
        "whoever waited for an answer was told only {after:?} after the log's word"
    );
    Ok(after)
}

/// A deadman that stands still for long feeds no watchdog: the host is reset, under a new boot id,
/// and comes home.
pub async fn watchdog_silent(lab: &Lab) -> Result<String> {
    apply(lab, Fault::ControllerStart)?;
    let well = lab.healthy(LIMIT).await?;
    let primary = lab.primary().await?;
    // A standby's: nothing has to move for it.
    let standby = well.status.workloads[0]
        .sync
        .sure
        .iter()
        .find(|n| n.as_str() != primary);
    let standby = standby.context("a standby")?.to_string();
    let boot =
        || std::fs::read_to_string(lab.layout.host(&standby).join("boot_id")).unwrap_or_default();
    let before = boot();
    let frozen = Instant::now();
    apply(
        lab,
        Fault::Freeze {
            host: standby.clone(),
            what: Frozen::Deadman,
        },
    )?;
    lab.wait("the host is reset", LIMIT, |_| boot() != before)
        .await?;
    let after = frozen.elapsed();
    ensure!(
        after >= watchdogs::PATIENCE - Duration::from_secs(2),
        "it was reset already after {after:?}"
    );
    lab.healthy(LIMIT).await?;
    Ok(format!(
        "{standby} was reset {} s after, and came home",
        after.as_secs()
    ))
}

/// A disk of the primary is full: its server still answers, and writes fail or soon will. It is
/// moved, the reason says so, and the host comes home when there is room again.
pub async fn disk_full(lab: &Lab, volume: Volume) -> Result<String> {
    lab.healthy(LIMIT).await?;
    let primary = lab.primary().await?;
    let full = boot_nanos();
    apply(
        lab,
        Fault::FillDisk {
            host: primary.clone(),
            volume,
        },
    )?;
    let moved = lab
        .wait("a new primary", LIMIT, is_elsewhere(&primary))
        .await?;
    let took = Duration::from_nanos(boot_nanos() - full);
    ensure!(took < DISK_FULL_MOVES, "it moved only after {took:?}");
    let steps = &moved
        .status
        .operations
        .first()
        .context("an operation")?
        .steps;
    let why = steps
        .iter()
        .find(|s| s.text.contains("No space left"))
        .map(|s| s.text.clone());
    let why = why.with_context(|| format!("the reason is not given: {steps:?}"))?;
    apply(
        lab,
        Fault::FreeDisk {
            host: primary.clone(),
        },
    )?;
    lab.healthy(LIMIT).await?;
    Ok(format!("moved {} ms after; {why}", took.as_millis()))
}
