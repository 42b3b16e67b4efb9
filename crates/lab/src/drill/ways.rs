//! The way between a gate's host and the primary is cut, and all others hear both: nothing moves by
//! itself for that, and clients of that gate would wait until their segments have backed off.

use super::in_host::LIMIT;
use super::load::{Running, start_through};
use super::scenes::apply;
use crate::cluster::Lab;
use crate::fault::Fault;
use crate::journal::{self, Ending, longest_pause};
use crate::layout::{FLOATING, host};
use crate::steal::{boot_nanos, millis as steal_millis};
use anyhow::{Context, Result, ensure};
use karst_api::core::NodeId;
use karst_api::core::spec::FindingKind;
use karst_api::{MaintenanceBody, StatusReply};
use std::time::Duration;

/// From the cut until clients of the gate, and of the address that was there, write again.
pub const GATE_CUT_OFF: Duration = Duration::from_millis(1_200);

/// The waits of clients: of the gate, and of the floating address.
#[derive(Clone, Copy, Debug)]
pub struct Waited {
    pub gate: Duration,
    pub address: Duration,
    /// Taken from this machine meanwhile.
    pub stolen: Duration,
}

/// The gate beside no replica: where the host of a gate has a standby too, writes wait until that has
/// left the sync set, which is another promise.
const GATE: &str = "ponor";

fn holder(reply: &StatusReply) -> Option<NodeId> {
    let address = reply.status.workloads[0].address.as_ref();
    address.and_then(|a| a.holder.clone().filter(|_| a.held))
}

/// The address is on that node: whichever has it rests for a moment.
async fn place_address(lab: &Lab) -> Result<()> {
    let now = holder(&lab.status().await?).context("the address is nowhere")?;
    if now.as_str() == GATE {
        return Ok(());
    }
    let body = MaintenanceBody {
        nodes: vec![now],
        ..MaintenanceBody::default()
    };
    let rest = lab.client.maintenance(&body).await?.operation;
    let here = |r: &StatusReply| holder(r).is_some_and(|now| now.as_str() == GATE);
    lab.wait("the address is on the gate", LIMIT, here).await?;
    let rests = |r: &StatusReply| r.status.intents.iter().any(|i| i.id == rest && i.empty);
    lab.wait("the other gate rests", LIMIT, rests).await?;
    lab.client.end(rest).await?;
    let over = |r: &StatusReply| r.status.intents_over.iter().any(|o| o.id == rest);
    lab.wait("the rest is over", LIMIT, over).await?;
    lab.healthy(LIMIT).await.map(drop)
}

/// Cuts the way between the address's gate and the primary, and mends it.
///
/// # Errors
/// Where the screens do not say it, or a client never writes again.
pub async fn gate_cut_off(lab: &Lab) -> Result<Waited> {
    lab.healthy(LIMIT).await?;
    place_address(lab).await?;
    let primary = lab.primary().await?;
    let gate = NodeId::from(GATE);
    let listens = host(gate.as_str()).context("a host of the lab")?.client();
    let ways = [
        ("gate", format!("{listens}:26900")),
        ("address", format!("{FLOATING}:26900")),
    ];
    let start = |(name, to): &(&str, String)| {
        start_through(&lab.layout, &format!("cut-off-{name}"), to.parse()?)
    };
    let loads: Vec<Running> = ways.iter().map(start).collect::<Result<_>>()?;
    for load in &loads {
        writes_since(lab, load, 0).await?;
    }
    let connected = |r: &StatusReply| {
        let address = r.status.workloads[0].address.as_ref();
        address.is_some_and(|a| a.connections > 0) && holder(r).as_ref() == Some(&gate)
    };
    lab.wait("a client is on the address", LIMIT, connected)
        .await?;
    let steal = steal_millis();
    let cut = boot_nanos();
    apply(
        lab,
        Fault::CutPair {
            from: gate.to_string(),
            to: primary.clone(),
            one_way: false,
            network: None,
        },
    )?;
    let said = |kind: FindingKind| {
        move |r: &StatusReply| r.status.findings.iter().any(|f| f.finding.kind == kind)
    };
    lab.wait("the gate says so", LIMIT, said(FindingKind::GateCutOff))
        .await?;
    for load in &loads {
        writes_since(lab, load, cut).await?;
    }
    let links = lab
        .wait("the link is named", LIMIT, said(FindingKind::LinkCut))
        .await?;
    let sentence = &links.status.sentence;
    ensure!(!sentence.contains("All is well"), "{sentence}");
    let elsewhere = |r: &StatusReply| holder(r).is_some_and(|now| now != gate);
    lab.wait("the address is elsewhere", LIMIT, elsewhere)
        .await?;
    apply(lab, Fault::Heal)?;
    let mended = |r: &StatusReply| {
        let lasts = [FindingKind::GateCutOff, FindingKind::LinkCut];
        let mut findings = r.status.findings.iter();
        !findings.any(|f| lasts.contains(&f.finding.kind))
    };
    lab.wait("the way is mended", LIMIT, mended).await?;
    lab.healthy(LIMIT).await?;
    let stolen = Duration::from_millis(steal_millis() - steal);
    let waited: Vec<Duration> = loads
        .into_iter()
        .map(|load| Ok(longest_pause(&load.finish()?)))
        .collect::<Result<_>>()?;
    Ok(Waited {
        gate: waited[0],
        address: waited[1],
        stolen,
    })
}

/// The same as a promise.
///
/// # Errors
/// It was not kept.
pub async fn is_kept(lab: &Lab) -> Result<String> {
    let Waited {
        gate,
        address,
        stolen,
    } = gate_cut_off(lab).await?;
    let text = format!(
        "clients of the gate waited {} ms, of the address {} ms",
        gate.as_millis(),
        address.as_millis()
    );
    ensure!(gate.max(address) < GATE_CUT_OFF + stolen, "{text}");
    Ok(text)
}

/// Returns once a write that began after that moment was acknowledged.
async fn writes_since(lab: &Lab, load: &Running, since: u64) -> Result<()> {
    let wrote = |_: &StatusReply| {
        let lines = journal::read(&load.journal).unwrap_or_default();
        let since = |l: &&journal::Line| l.ending == Ending::Acknowledged && l.began > since;
        lines.iter().rev().any(|l| since(&l))
    };
    lab.wait("a client writes", LIMIT, wrote).await.map(drop)
}
