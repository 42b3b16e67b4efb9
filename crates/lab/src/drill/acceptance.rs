//! The acceptance run: every fault in turn on one lab under load, with what was promised and what
//! was seen of each.

use super::compare::compare;
use super::load::{Running, start_load};
use super::loss::Loss;
use super::report::Report;
use super::rounds::{Course, lose_primary, switchover};
use super::{doors, picture, scenes, stalls, ways};
use crate::cluster::Lab;
use crate::disk::{self, Volume};
use crate::fault::{self, Fault};
use crate::journal::Ending;
use crate::layout::NODES;
use crate::power;
use anyhow::{Result, ensure};
use serde::Serialize;
use std::fmt;
use std::path::Path;
use std::time::Duration;

/// How much of everything.
#[derive(Clone, Debug)]
pub struct Extent {
    /// Of each kind of loss.
    pub rounds: u32,
    /// How long a fifth of all packets is lost.
    pub loss: Duration,
    /// Only faults whose name contains this.
    pub only: Option<String>,
}

impl Extent {
    /// Twenty rounds go with five minutes of loss, fewer with less.
    pub fn of(rounds: u32) -> Self {
        Self {
            rounds,
            loss: Duration::from_secs(15 * u64::from(rounds.min(20))),
            only: None,
        }
    }
}

/// One promise.
#[derive(Clone, Debug, Serialize)]
pub struct Finding {
    pub fault: String,
    pub promise: String,
    pub seen: String,
    pub kept: bool,
}

/// Everything that was seen.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Acceptance {
    pub findings: Vec<Finding>,
    pub drills: Vec<Report>,
    /// Faults that were not asked for.
    #[serde(skip)]
    skipped: Vec<String>,
}

impl Acceptance {
    pub fn broken(&self) -> usize {
        self.findings.iter().filter(|f| !f.kept).count()
    }

    /// # Errors
    /// If a file cannot be written.
    pub fn save(&self, dir: &Path) -> Result<()> {
        std::fs::create_dir_all(dir)?;
        std::fs::write(dir.join("report.txt"), self.to_string())?;
        std::fs::write(dir.join("report.json"), serde_json::to_string_pretty(self)?)?;
        picture::draw(&dir.join("phases.svg"), &self.drills)
    }

    fn note(&mut self, fault: &str, promise: &str, seen: impl Into<String>, kept: bool) {
        let (fault, promise, seen) = (fault.to_string(), promise.to_string(), seen.into());
        println!(
            "{} {fault}: {promise}: {seen}",
            if kept { "kept  " } else { "BROKEN" }
        );
        self.findings.push(Finding {
            fault,
            promise,
            seen,
            kept,
        });
    }

    /// Whether this fault is asked for.
    fn plays(&mut self, extent: &Extent, fault: &str) -> bool {
        let wanted = extent
            .only
            .as_ref()
            .is_none_or(|part| fault.contains(part.as_str()));
        if !wanted {
            self.skipped.push(fault.into());
        }
        wanted
    }

    /// What every loss of a primary has to keep.
    fn judge(&mut self, loss: Loss, limit: Option<Duration>, report: &Report) {
        let name = loss.name();
        let (missing, refused) = (report.missing_total(), report.refused());
        self.note(
            name,
            "no acknowledged row is missing",
            format!("{missing} of {}", report.acknowledged),
            missing == 0,
        );
        self.note(
            name,
            "no gate refuses a connection",
            refused.to_string(),
            refused == 0,
        );
        let late = report.late();
        let worst = report.worst.unwrap_or_default();
        let seen = format!("{worst} ms printed, longest {:.0} ms", report.longest());
        self.note(
            name,
            "never over the worst case that is printed beforehand",
            seen,
            late.is_none(),
        );
        if let Some(limit) = limit {
            let within = |ms: f64| ms < limit.as_secs_f64() * 1e3;
            let seen = format!(
                "median {:.0} ms, longest {:.0} ms",
                report.median(),
                report.longest()
            );
            let kept = report
                .rounds
                .iter()
                .all(|r| within(r.pause - r.steal as f64));
            self.note(name, &format!("under {} ms", limit.as_millis()), seen, kept);
        }
        if matches!(loss, Loss::Power | Loss::PowerAlone) {
            self.judge_power(name, report);
        }
        if report.rounds.iter().any(|r| r.goodbyes.is_none()) {
            return;
        }
        let clashes: Vec<&str> = report
            .rounds
            .iter()
            .flat_map(|r| &r.clashes)
            .map(String::as_str)
            .collect();
        let seen = clashes.first().map_or("one".into(), ToString::to_string);
        self.note(
            name,
            "one host at a time answers for an address",
            seen,
            clashes.is_empty(),
        );
    }

    /// What a host without power has to keep besides.
    fn judge_power(&mut self, name: &str, report: &Report) {
        let rounds = report.rounds.len();
        let goodbyes = report.rounds.iter().map(|r| r.goodbyes);
        if let Some(goodbyes) = goodbyes.sum::<Option<usize>>() {
            let seen = format!("{goodbyes} in {rounds} rounds");
            let what = "no FIN or RST leaves a host without power";
            self.note(name, what, seen, goodbyes == 0);
        }
        let together = report.rounds.iter().filter(|r| r.coordinator_too).count();
        let seen = format!("{together} of {rounds}");
        let what = "in a quarter of the rounds it is the coordinator too";
        self.note(name, what, seen, together >= rounds / 4);
    }
}

impl fmt::Display for Acceptance {
    fn fmt(&self, f: &mut fmt::Formatter) -> fmt::Result {
        let mut fault = "";
        for finding in &self.findings {
            if finding.fault != fault {
                fault = &finding.fault;
                writeln!(f, "{fault}")?;
            }
            let mark = if finding.kept { "kept  " } else { "BROKEN" };
            writeln!(f, "  {mark}  {}: {}", finding.promise, finding.seen)?;
        }
        writeln!(
            f,
            "\nfault                    rounds  median  longest  of which detect / decide / isolate / promote / route / first write (medians, ms)"
        )?;
        for report in &self.drills {
            let phases: Vec<String> = report
                .phases()
                .iter()
                .map(|(_, ms)| format!("{ms:.0}"))
                .collect();
            let (name, rounds) = (report.name(), report.rounds.len());
            writeln!(
                f,
                "{name:<24} {rounds:>6}  {:>6.0}  {:>7.0}  {}",
                report.median(),
                report.longest(),
                phases.join(" / ")
            )?;
        }
        writeln!(
            f,
            "\n{} promises, {} broken",
            self.findings.len(),
            self.broken()
        )
    }
}

/// Does everything, one fault after the other; a promise that is broken ends nothing.
///
/// # Errors
/// If the lab cannot be used any more: it does not heal after a fault was undone.
pub async fn run(lab: &Lab, extent: &Extent) -> Result<Acceptance> {
    let mut found = Acceptance::default();
    let timings = lab.timings().await?;
    let brisk = timings.lease < karst_api::core::spec::Timings::default().lease;
    let confirmed = Duration::from_millis(if brisk { 700 } else { 3_000 });
    for (loss, limit) in [
        (Loss::Server, None),
        (Loss::Power, Some(confirmed)),
        (Loss::PowerAlone, None),
        (Loss::Peers, None),
    ] {
        if !found.plays(extent, loss.name()) {
            continue;
        }
        let together = if matches!(loss, Loss::Power | Loss::PowerAlone) {
            extent.rounds.div_ceil(4)
        } else {
            0
        };
        match lose_primary(
            lab,
            loss,
            Course {
                together,
                ..Course::of(extent.rounds)
            },
        )
        .await
        {
            Ok(report) => {
                found.judge(loss, limit, &report);
                found.drills.push(report);
            }
            Err(error) => found.note(loss.name(), "it heals", format!("{error:#}"), false),
        }
        undo_everything(lab).await?;
    }
    if found.plays(extent, "switchover") {
        match switchover(lab, Course::of(extent.rounds)).await {
            Ok(report) => {
                let (missing, refused) = (report.missing_total(), report.refused());
                found.note(
                    "switchover",
                    "no acknowledged row is missing",
                    missing.to_string(),
                    missing == 0,
                );
                found.note(
                    "switchover",
                    "no gate refuses a connection",
                    refused.to_string(),
                    refused == 0,
                );
                found.drills.push(report);
            }
            Err(error) => found.note(
                "switchover",
                "it moves there and back",
                format!("{error:#}"),
                false,
            ),
        }
        undo_everything(lab).await?;
    }
    play(lab, extent, &mut found).await?;
    let part = extent.only.as_deref().unwrap_or_default();
    ensure!(
        !found.findings.is_empty(),
        "no fault's name contains `{part}`; known: {}",
        found.skipped.join("; ")
    );
    Ok(found)
}

/// Of the scenes.
const LOAD: &str = "scenes";

/// The scenes, with one load through all of them.
/// The scenes, beside one load.
struct Play<'a> {
    lab: &'a Lab,
    extent: &'a Extent,
    found: &'a mut Acceptance,
    load: Option<Running>,
}

impl Play<'_> {
    async fn scene(
        &mut self,
        fault: &str,
        promise: &str,
        scene: impl Future<Output = Result<String>>,
    ) -> Result<()> {
        if !self.found.plays(self.extent, fault) {
            return Ok(());
        }
        if self.load.is_none() {
            self.load = Some(start_load(&self.lab.layout, LOAD, 2, 2)?);
        }
        let seen = scene.await;
        let kept = seen.is_ok();
        let seen = seen.unwrap_or_else(|error| format!("{error:#}"));
        self.found.note(fault, promise, seen, kept);
        undo_everything(self.lab).await
    }

    /// Hosts, links and disks.
    async fn hosts(&mut self) -> Result<()> {
        let lab = self.lab;
        let loss = self.extent.loss;
        self.scene(
            "host cut off from everyone, a client on it",
            "its server ends before its lease, and nobody writes on it after the new epoch began",
            scenes::cut_off_with_a_writer_on_it(lab),
        )
        .await?;
        self.scene(
            "whole host frozen past its lease, thawed",
            "it accepts no write after the new epoch began, and answers for no address",
            scenes::frozen_whole_and_thawed(lab),
        )
        .await?;
        self.scene(
            "one-way cuts",
            "shown as what they are, and nothing moves",
            scenes::one_way_cuts(lab),
        )
        .await?;
        self.scene(
            "a fifth of all packets lost",
            "nothing moves",
            scenes::loss_of_a_fifth(lab, loss),
        )
        .await?;
        self.scene(
            "power of two voters cut",
            "the server ends before its lease, nothing is promoted, and it heals alone",
            scenes::majority_lost(lab),
        )
        .await?;
        self.scene(
            "way between gate and primary cut",
            "clients of the gate and of the address write again within 1,200 ms, and the screens name the link",
            ways::is_kept(lab),
        )
        .await?;
        self.scene(
            "power of the address's host cut",
            "clients are answered within 50 ms of the log's word, by one host",
            scenes::address_moves(lab),
        )
        .await?;
        self.scene(
            "deadman stands still",
            "the watchdog resets its host, which comes home",
            scenes::watchdog_silent(lab),
        )
        .await?;
        self.scene(
            "primary's data volume full",
            "seen, moved and explained",
            scenes::disk_full(lab, Volume::Data),
        )
        .await?;
        self.scene(
            "primary's log volume full",
            "seen, moved and explained",
            scenes::disk_full(lab, Volume::Log),
        )
        .await?;
        Ok(())
    }

    /// What stands still or hangs.
    async fn servers(&mut self) -> Result<()> {
        let lab = self.lab;
        self.scene(
            "primary's server hangs",
            "replaced once it has answered nobody for its limit",
            stalls::hung_primary(lab),
        )
        .await?;
        self.scene(
            "standby's log volume full",
            "it leaves the set, and nothing moves",
            stalls::full_standby(lab),
        )
        .await?;
        self.scene(
            "node store moved away",
            "an empty one does not vote until it is enrolled",
            stalls::store_moved_away(lab),
        )
        .await?;
        self.scene(
            "deadman gone for good",
            "the server ends before its lease, and is moved",
            stalls::deadman_gone(lab),
        )
        .await?;
        self.scene(
            "primary's node store hangs, then it is cut off",
            "nothing moves for the disk; the server ends before its lease",
            stalls::disk_hangs(lab),
        )
        .await?;
        self.scene(
            "promotion hangs",
            "it is given up, and another is promoted",
            stalls::promotion_hangs(lab),
        )
        .await?;
        self.scene(
            "deadman of the address's host stands still",
            "the address moves, the primary does not",
            stalls::address_without_deadman(lab, LOAD),
        )
        .await?;
        self.scene(
            "power cut right after another fault",
            "whoever copied from the lost host turns to the next",
            stalls::struck_twice(lab, LOAD),
        )
        .await?;
        Ok(())
    }

    /// Streams, strangers and switches.
    async fn doors(&mut self) -> Result<()> {
        let lab = self.lab;
        self.scene(
            "a standby's stream is dead",
            "writes wait for a second at most",
            doors::stream_is_dead(lab, LOAD),
        )
        .await?;
        self.scene(
            "a planned move's target dies",
            "all is well within seconds",
            doors::target_dies(lab),
        )
        .await?;
        self.scene(
            "strangers knock",
            "nobody is suspected, nothing moves, no memory grows",
            doors::strangers_knock(lab),
        )
        .await?;
        self.scene(
            "many consoles",
            "nobody is suspected, nothing moves",
            doors::many_consoles(lab),
        )
        .await?;
        self.scene(
            "a heart stands still",
            "its daemon ends and is back, nothing moves",
            doors::heart_stands_still(lab),
        )
        .await?;
        self.scene(
            "power off and on",
            "the host comes back as a standby by itself",
            doors::power_cycled(lab),
        )
        .await?;
        Ok(())
    }
}

async fn play(lab: &Lab, extent: &Extent, found: &mut Acceptance) -> Result<()> {
    let mut play = Play {
        lab,
        extent,
        found,
        load: None,
    };
    play.hosts().await?;
    play.servers().await?;
    play.doors().await?;
    let Some(load) = play.load else { return Ok(()) };
    let lines = load.finish()?;
    let (acknowledged, missing) = compare(lab, &lines).await?;
    let missing: usize = missing.iter().map(|(_, n)| n).sum();
    found.note(
        "all of these",
        "no acknowledged row is missing",
        format!("{missing} of {acknowledged}"),
        missing == 0,
    );
    let refused = lines.iter().filter(|l| l.ending == Ending::Refused).count();
    found.note(
        "all of these",
        "no gate refuses a connection",
        refused.to_string(),
        refused == 0,
    );
    Ok(())
}

/// Whatever a scene left behind.
async fn undo_everything(lab: &Lab) -> Result<()> {
    for fault in [Fault::Heal, Fault::ControllerStart] {
        fault::apply(&lab.layout, &fault)?;
    }
    power::power_on_all(&lab.layout, Duration::ZERO)?;
    for node in NODES {
        if crate::find::host_init(&lab.layout, node.name).is_ok() {
            fault::apply(
                &lab.layout,
                &Fault::Thaw {
                    host: node.name.into(),
                },
            )?;
        }
        fault::apply(
            &lab.layout,
            &Fault::Release {
                host: node.name.into(),
            },
        )?;
        let full = Volume::BOTH
            .into_iter()
            .any(|volume| disk::is_full(&lab.layout, node.name, volume));
        if full || crate::hang::is_on(&lab.layout, node.name) {
            fault::apply(
                &lab.layout,
                &Fault::FreeDisk {
                    host: node.name.into(),
                },
            )?;
        }
    }
    lab.healthy(Duration::from_secs(180)).await.map(drop)
}
