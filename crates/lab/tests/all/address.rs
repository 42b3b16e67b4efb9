//! The floating address on the wire: it follows the primary itself, and is not fought over with a
//! host that nobody knows.

use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::StatusReply;
use karst_api::core::event::FactKind;
use karst_api::core::view::AddressView;
use karst_lab::capture::{self, Capture};
use karst_lab::dial::Dial;
use karst_lab::drill::scenes::{ADDRESS_ANSWERS, answered_after, told_after};
use karst_lab::fault::{self, Fault};
use karst_lab::layout::{CLIENT, FLOATING, FLOATING6};
use karst_lab::shape::Shape;
use karst_lab::steal::{millis as steal_millis, wall_nanos};
use karst_lab::waiting::Waiting;
use karst_lab::{Lab, find};
use rustix::process::Signal;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

#[tokio::test(flavor = "multi_thread")]
async fn it_is_where_the_primary_is_and_not_where_a_stranger_is() {
    let shape = Shape {
        address_on_primary: true,
        ..Shape::default()
    };
    let lab = TestLab::shaped("test-address", 9880, shape).await.unwrap();
    fault::apply(&lab.layout, &Fault::ControllerStart).unwrap();
    follows_the_primary(&lab).await.unwrap();
    who_waits_is_told(&lab).await.unwrap();
    a_stranger_is_seen_and_not_fought(&lab).await.unwrap();
}

fn address(reply: &StatusReply) -> Option<&AddressView> {
    reply.status.workloads[0].address.as_ref()
}

fn holder(reply: &StatusReply) -> Option<String> {
    Some(address(reply)?.holder.as_ref()?.to_string())
}

fn remarks(reply: &StatusReply) -> String {
    address(reply)
        .and_then(|a| a.remark.clone())
        .unwrap_or_default()
}

/// Clients that dial the primary's own address are answered again soon after the promotion, over
/// IPv4 and IPv6, and by one host at a time (S7).
async fn follows_the_primary(lab: &Lab) -> Result<()> {
    let well = lab.healthy(LIMIT).await?;
    let primary = lab.primary().await?;
    ensure!(
        holder(&well).as_ref() == Some(&primary),
        "{primary} is primary, its address is on {:?}",
        holder(&well)
    );
    let mut capture = Capture::start(&lab.layout)?;
    let to = |ip: &str| anyhow::Ok(SocketAddr::from((ip.parse::<IpAddr>()?, 5432)));
    let dials = [
        Dial::start(&lab.layout, to(FLOATING)?)?,
        Dial::start(&lab.layout, to(FLOATING6)?)?,
    ];
    lab.wait("it is answered", LIMIT, |_| {
        dials.iter().all(|d| d.answers().len() > 20)
    })
    .await?;
    let (at, steal) = (wall_nanos(), steal_millis());
    find::signal(find::postmaster(&lab.layout, &primary)?, Signal::KILL)?;
    let elsewhere = |r: &StatusReply| {
        holder(r).is_some_and(|h| h != primary) && address(r).is_some_and(|a| a.held)
    };
    let moved = lab
        .wait("the address is elsewhere", LIMIT, elsewhere)
        .await?;
    ensure!(
        holder(&moved)
            == moved.status.workloads[0]
                .primary
                .as_ref()
                .map(ToString::to_string),
        "{moved:?}"
    );
    let opened = lab.first_record(FactKind::Opened, at).await?;
    let placed = lab.first_record(FactKind::AddressPlaced, at).await?;
    ensure!(
        opened < placed,
        "the address came before the promotion was confirmed"
    );
    lab.wait("it is answered again", LIMIT, |_| {
        dials.iter().all(|d| d.answers().last() > Some(&placed))
    })
    .await?;
    for dial in &dials {
        let allowed = ADDRESS_ANSWERS + Duration::from_millis(steal_millis() - steal);
        let after = answered_after(lab, dial, placed, allowed).await?;
        println!(
            "answered {after:?} after the log's word, {:?} after the promotion's",
            { after + Duration::from_nanos(u64::try_from(placed - opened)?) }
        );
    }
    if let Some(capture) = &mut capture {
        let clashes = capture::clashes(&capture.seen()?);
        ensure!(clashes.is_empty(), "{}", clashes[0]);
    }
    lab.healthy(LIMIT).await?;
    Ok(())
}

/// The primary's host loses its power, and says nothing to clients that wait for its answer:
/// whoever has the address next does.
async fn who_waits_is_told(lab: &Lab) -> Result<()> {
    let primary = lab.primary().await?;
    let alone = |r: &StatusReply| address(r).is_some_and(|a| a.held && a.connections == 0);
    lab.wait("the dials are counted no more", LIMIT, alone)
        .await?;
    let waiting = Waiting::start(lab, 5432).await?;
    let (at, steal) = (wall_nanos(), steal_millis());
    fault::apply(
        &lab.layout,
        &Fault::PowerOff {
            host: primary.clone(),
        },
    )?;
    let placed = lab.first_record(FactKind::AddressPlaced, at).await?;
    println!(
        "told {:?} after the log's word",
        told_after(waiting, placed, steal).await?
    );
    fault::apply(&lab.layout, &Fault::PowerOn { host: primary })?;
    lab.healthy(LIMIT).await?;
    Ok(())
}

/// What a stranger on the client network does to an address.
fn stranger(lab: &Lab, what: &str) -> Result<()> {
    let done = find::enter(&lab.layout, CLIENT)?
        .args([
            "ip",
            "address",
            what,
            &format!("{FLOATING}/32"),
            "dev",
            "client",
        ])
        .status()?;
    ensure!(done.success(), "the stranger cannot {what} it");
    Ok(())
}

/// RFC 5227: whoever else answers is named by its MAC; nothing flaps. Nobody takes an address up
/// that a stranger has, and it is taken up once the stranger has gone.
async fn a_stranger_is_seen_and_not_fought(lab: &Lab) -> Result<()> {
    let before = lab.healthy(LIMIT).await?;
    let had = holder(&before).context("a holder")?;
    let mac = find::enter(&lab.layout, CLIENT)?
        .args(["cat", "/sys/class/net/client/address"])
        .output()?
        .stdout;
    let mac = String::from_utf8(mac)?.trim().to_string();
    let placed = || async { anyhow::Ok(lab.records(FactKind::AddressPlaced).await?.len()) };
    let (at, moves) = (wall_nanos(), placed().await?);
    stranger(lab, "add")?;
    let seen = |r: &StatusReply| remarks(r).contains(&mac);
    lab.wait("the stranger is seen", LIMIT, seen).await?;
    lab.first_record(FactKind::AddressConflict, at).await?;
    ensure!(placed().await? == moves, "the address moved for a stranger");

    // The holder's server dies: whoever is next finds the stranger before it takes the address up.
    let at = wall_nanos();
    find::signal(find::postmaster(&lab.layout, &had)?, Signal::KILL)?;
    lab.first_record(FactKind::AddressTrouble, at).await?;
    let next = |r: &StatusReply| holder(r).is_some_and(|now| now != had);
    let refused = |r: &StatusReply| {
        next(r) && address(r).is_some_and(|a| !a.held) && remarks(r).contains(&mac)
    };
    let stays = lab.wait("it is not taken up", LIMIT, refused).await?;
    stranger(lab, "del")?;
    let well = lab.healthy(LIMIT).await?;
    ensure!(
        holder(&well) == holder(&stays),
        "it went from {:?} to {:?} meanwhile",
        holder(&stays),
        holder(&well)
    );
    ensure!(placed().await? == moves + 1, "it was placed more than once");
    ensure!(remarks(&well).is_empty(), "{}", remarks(&well));
    Ok(())
}
