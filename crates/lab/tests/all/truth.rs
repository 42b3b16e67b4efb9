//! A blind trial of what is shown: faults are done to a lab from outside, and for each the status,
//! the headline and the console say whether clients write, whether somebody is needed, and what to
//! do; checked against what writers really got, two seconds at the most behind it.

use crate::rig::TestLab;
use crate::rig::browser::{LIMIT, open_browser, sign_in};
use anyhow::{Context, Result, ensure};
use fantoccini::Client;
use karst_api::core::operation::Mode;
use karst_api::core::steward::outlook::Writes;
use karst_api::core::view::{Condition, NeedKind};
use karst_lab::drill::start_load;
use karst_lab::fault::{Fault, Frozen, Network, apply};
use karst_lab::journal::{Ending, Line};
use karst_lab::layout::WORKLOAD;
use karst_lab::steal::boot_nanos;
use karst_lab::{Lab, find};
use rustix::process::Signal;
use std::time::{Duration, Instant};

/// How far what is shown may be behind what is so.
const BEHIND: Duration = Duration::from_secs(2);
/// What is expected has to be shown within this time, a lost lease and a failover included, and
/// stays so.
const SETTLED_WITHIN: Duration = Duration::from_secs(20);
const STAYS: Duration = Duration::from_secs(3);
/// A client that was dialling gets through so long after it could.
const DIALS: Duration = Duration::from_millis(2_500);
/// Two writers that rest for 20 ms are served at least this often.
const NO_GAP: Duration = Duration::from_millis(100);
const LOOK: Duration = Duration::from_millis(100);

/// One fault, and what has to be shown of it in the end.
struct Scene {
    name: &'static str,
    mode: Mode,
    faults: Vec<Fault>,
    undo: Vec<Fault>,
    kills_server: bool,
    writes: Writes,
    need: Option<NeedKind>,
    conditions: &'static [Condition],
    next: &'static str,
}

/// What was shown at a moment of the steady clock, in nanoseconds.
#[derive(Clone, Debug, PartialEq)]
struct Shown {
    at: u64,
    writes: String,
    needs: usize,
    condition: String,
}

fn nanos(time: Duration) -> u64 {
    u64::try_from(time.as_nanos()).unwrap_or(u64::MAX)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_shown_is_so() {
    let lab = TestLab::start("test-truth", 9560).await.unwrap();
    let (_browser, page) = open_browser(9795).await.unwrap();
    let said = trial(&lab, &page).await;
    page.close().await.unwrap();
    said.unwrap();
}

async fn trial(lab: &Lab, page: &Client) -> Result<()> {
    // A page of the node without a vote: it is the last that a fault is done to.
    sign_in(page, &lab.layout.servers()[3], &lab.layout.token()?).await?;
    for number in 0..12 {
        let scene = scene(lab, number).await?;
        played(lab, page, &scene).await.context(scene.name)?;
    }
    Ok(())
}

/// The primary is where it is after the scene before; everything else follows from that.
async fn scene(lab: &Lab, number: usize) -> Result<Scene> {
    use Condition::{Degraded, Down, Healthy, Recovering, Unknown};
    let status = lab.healthy(LIMIT).await?.status;
    let w = &status.workloads[0];
    let primary = w.primary.as_ref().context("a primary")?.to_string();
    let standbys: Vec<String> = w
        .replicas
        .iter()
        .map(|r| r.node.to_string())
        .filter(|node| *node != primary)
        .collect();
    let coordinator = status.coordinator.context("a coordinator")?.to_string();
    let off = |host: &str| Fault::PowerOff { host: host.into() };
    let on = |host: &str| Fault::PowerOn { host: host.into() };
    let plain = Scene {
        name: "nothing happens",
        mode: Mode::Act,
        faults: vec![],
        undo: vec![],
        kills_server: false,
        writes: Writes::Accepted,
        need: None,
        conditions: &[Healthy],
        next: "",
    };
    let witness = "ponor";
    Ok(match number {
        0 => plain,
        1 => Scene {
            name: "the primary's server is killed",
            kills_server: true,
            conditions: &[Recovering, Degraded, Healthy],
            ..plain
        },
        2 => Scene {
            name: "a standby's host loses its power",
            faults: vec![off(&standbys[0])],
            undo: vec![on(&standbys[0])],
            conditions: &[Degraded],
            ..plain
        },
        3 => Scene {
            name: "both standbys' hosts lose their power",
            faults: standbys.iter().map(|host| off(host)).collect(),
            undo: standbys.iter().map(|host| on(host)).collect(),
            writes: Writes::Stopped,
            need: Some(NeedKind::BringStandby),
            conditions: &[Down],
            next: "standby",
            ..plain
        },
        4 => Scene {
            name: "the witness loses its power",
            faults: vec![off(witness)],
            undo: vec![on(witness)],
            conditions: &[Degraded],
            ..plain
        },
        5 => Scene {
            name: "the server is killed in mode watch",
            mode: Mode::Watch,
            kills_server: true,
            writes: Writes::Stopped,
            need: Some(NeedKind::TakeOver),
            conditions: &[Down],
            next: "karst failover",
            ..plain
        },
        6 => Scene {
            name: "the server is killed in mode ask",
            mode: Mode::Ask,
            kills_server: true,
            writes: Writes::Stopped,
            need: Some(NeedKind::Approve),
            conditions: &[Down],
            next: "karst operation approve",
            ..plain
        },
        7 => Scene {
            name: "the primary's host loses its power",
            faults: vec![off(&primary)],
            undo: vec![on(&primary)],
            conditions: &[Degraded, Recovering],
            ..plain
        },
        8 => Scene {
            name: "the primary's host is cut off",
            faults: vec![Fault::Cut {
                host: primary.clone(),
                network: None,
            }],
            undo: vec![Fault::Heal],
            conditions: &[Degraded, Recovering],
            ..plain
        },
        9 => Scene {
            name: "the primary's server stands still",
            faults: vec![Fault::Freeze {
                host: primary.clone(),
                what: Frozen::Server,
            }],
            undo: vec![Fault::Thaw { host: primary }],
            conditions: &[Degraded, Recovering, Healthy],
            ..plain
        },
        10 => Scene {
            name: "the coordinator is not heard by its peers",
            faults: vec![Fault::Cut {
                host: coordinator,
                network: Some(Network::Peer),
            }],
            undo: vec![Fault::Heal],
            conditions: &[Degraded, Recovering],
            ..plain
        },
        _ => Scene {
            name: "the majority is lost",
            faults: vec![off("doline"), off("polje")],
            undo: vec![on("doline"), on("polje")],
            writes: Writes::Unknown,
            need: Some(NeedKind::BringVoters),
            next: "bring",
            conditions: &[Unknown],
            ..plain
        },
    })
}

async fn played(lab: &Lab, page: &Client, scene: &Scene) -> Result<()> {
    let load = start_load(&lab.layout, "truth", 2, 20)?;
    tokio::time::sleep(BEHIND).await;
    if scene.mode != Mode::Act {
        lab.client.set_mode(WORKLOAD, &scene.mode.into()).await?;
    }
    let primary = lab.primary().await?;
    for fault in &scene.faults {
        apply(&lab.layout, fault)?;
    }
    if scene.kills_server {
        find::signal(find::postmaster(&lab.layout, &primary)?, Signal::KILL)?;
    }
    let (status, console) = looked_at(lab, page, scene).await?;
    for fault in &scene.undo {
        apply(&lab.layout, fault)?;
    }
    let waiting = lab.status().await?.status.operations;
    if let Some(waiting) = waiting.iter().find(|o| o.waits) {
        lab.client.approve(waiting.id).await?;
    }
    if scene.mode != Mode::Act {
        lab.client.set_mode(WORKLOAD, &Mode::Act.into()).await?;
    }
    lab.healthy(LIMIT).await?;
    let lines = load.finish()?;
    against_writers(&status, &lines).context("the status")?;
    against_writers(&console, &lines).context("the console")?;
    console_agrees(&status, &console)
}

/// Looks at both until what is expected has been shown for a while.
async fn looked_at(lab: &Lab, page: &Client, scene: &Scene) -> Result<(Vec<Shown>, Vec<Shown>)> {
    let (mut status, mut console) = (Vec::new(), Vec::new());
    let begun = Instant::now();
    let mut since: Option<Instant> = None;
    let mut last = String::new();
    while since.is_none_or(|since| since.elapsed() < STAYS) {
        ensure!(
            begun.elapsed() < SETTLED_WITHIN + STAYS,
            "it was never shown for {STAYS:?}; the last word was: {last}"
        );
        let as_it_should = match lab.status().await {
            Err(error) => {
                last = error.to_string();
                false
            }
            Ok(reply) => {
                let s = &reply.status;
                status.push(Shown {
                    at: boot_nanos(),
                    writes: s.writes.state.to_string(),
                    needs: s.needs_you.len(),
                    condition: s.condition.word().into(),
                });
                last = format!(
                    "{:?} {:?} {}: {:?}",
                    s.condition, s.writes, s.sentence, s.needs_you
                );
                let need = s.needs_you.first();
                let needed = need.map(|need| need.kind) == scene.need;
                let next = need.is_none_or(|need| need.next.contains(scene.next));
                let names_worst = !s.sentence.is_empty()
                    && (s.condition == Condition::Healthy) == s.sentence.starts_with("All is well");
                needed
                    && next
                    && names_worst
                    && s.writes.state == scene.writes
                    && scene.conditions.contains(&s.condition)
            }
        };
        since = since
            .filter(|_| as_it_should)
            .or(as_it_should.then(Instant::now));
        console.push(on_the_page(page).await?);
        tokio::time::sleep(LOOK).await;
    }
    Ok((status, console))
}

async fn on_the_page(page: &Client) -> Result<Shown> {
    let script = "const of = (css) => document.querySelector(css);
        return [of('#two-facts [data-writes-state]').dataset.writesState, Number(of('[data-needs-you]').dataset.needsYou),
                of('.band').dataset.condition]";
    let (writes, needs, condition) = serde_json::from_value(page.execute(script, vec![]).await?)?;
    Ok(Shown {
        at: boot_nanos(),
        writes,
        needs,
        condition,
    })
}

/// Nothing is called accepted all through a time without an acknowledgement, and nothing paused or
/// stopped after two seconds full of them.
fn against_writers(status: &[Shown], lines: &[Line]) -> Result<()> {
    let acknowledged = lines.iter().filter(|l| l.ending == Ending::Acknowledged);
    let mut ended: Vec<u64> = acknowledged.map(|l| l.ended).collect();
    ended.sort_unstable();
    let any = |from: u64, to: u64| {
        let first = ended.partition_point(|at| *at < from);
        ended.get(first).is_some_and(|at| *at <= to)
    };
    // Without a gap until after that moment: what has just stopped is rightly called so.
    let full = |from: u64, at: u64| {
        let first = ended.partition_point(|end| *end < from);
        let last = ended.partition_point(|end| *end <= at);
        let seen = ended.get(first.saturating_sub(1)..=last);
        seen.is_some_and(|seen| seen.windows(2).all(|two| two[1] - two[0] < nanos(NO_GAP)))
    };
    for (i, shown) in status.iter().enumerate() {
        let from = shown.at - nanos(BEHIND);
        let full = full(from, shown.at);
        let stood = status[..=i].iter().rev();
        let stood = stood.take_while(|before| before.writes == shown.writes);
        let since = stood.last().map_or(shown.at, |first| first.at);
        // Whoever was dialling meanwhile tries again when TCP does, after one second and three.
        let some = shown.at - since < nanos(DIALS) || any(shown.at - nanos(DIALS), shown.at);
        ensure!(
            some || shown.writes != "accepted",
            "accepted is shown for {DIALS:?}, and nothing was acknowledged"
        );
        ensure!(
            !full || !["paused", "stopped"].contains(&shown.writes.as_str()),
            "{} is shown, and writes were acknowledged for {BEHIND:?} all the time",
            shown.writes
        );
    }
    Ok(())
}

/// What stands on the page for two seconds is what the status says meanwhile; a page whose own node
/// is out of touch says that it does not know. What is shorter one of the two may well miss.
fn console_agrees(status: &[Shown], console: &[Shown]) -> Result<()> {
    let facts = |s: &Shown| (s.writes.clone(), s.needs, s.condition.clone());
    for (i, shown) in console.iter().enumerate() {
        let stood = console[..=i].iter().rev();
        let stood = stood.take_while(|before| facts(before) == facts(shown));
        let since = stood.last().map_or(shown.at, |first| first.at);
        let meanwhile = status.iter().filter(|s| s.at >= since && s.at <= shown.at);
        let known: Vec<&Shown> = meanwhile.collect();
        ensure!(
            shown.at - since < nanos(BEHIND)
                || shown.condition == "unknown"
                || known.iter().any(|s| facts(s) == facts(shown)),
            "the console shows {shown:?}, and the status was {:?}",
            known.last()
        );
    }
    Ok(())
}
