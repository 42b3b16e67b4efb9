//! A name in DNS at a real name server: clients that go by it reach whoever takes writes, after a move,
//! a lost host and a name server that was away.

use crate::rig::changes::{change, done, edited};
use crate::rig::clients::{pasted, psql};
use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::core::spec::FindingKind;
use karst_api::core::view::NameView;
use karst_api::{MoveBody, StatusReply};
use karst_lab::drill::start_load;
use karst_lab::fault::{self, Fault};
use karst_lab::layout::{CLIENT, CLIENT_ADDRESS, Host, WORKLOAD, host};
use karst_lab::shape::Shape;
use karst_lab::{Lab, find, named};
use rustix::process::Signal;
use std::collections::BTreeSet;
use std::net::IpAddr;
use std::process::Command;
use toml_edit::value;

#[tokio::test(flavor = "multi_thread")]
async fn a_name_leads_to_whoever_takes_writes() {
    let shape = Shape {
        name: true,
        ..Shape::default()
    };
    let lab = TestLab::shaped("test-name", 9880, shape).await.unwrap();
    let load = start_load(&lab.layout, "name", 2, 2).unwrap();
    to_the_gates(&lab).await.unwrap();
    not_anothers(&lab).await.unwrap();
    to_the_primary(&lab).await.unwrap();
    drop(load.finish().unwrap());
}

fn name_of(reply: &StatusReply) -> Option<&NameView> {
    reply.status.workloads.first()?.name.as_ref()
}

fn leads_to(reply: &StatusReply, nodes: &[&str]) -> bool {
    let wanted: BTreeSet<IpAddr> = nodes
        .iter()
        .filter_map(|n| host(n)?.client().parse().ok())
        .collect();
    let name = name_of(reply).and_then(|name| name.to.clone());
    name.is_some_and(|to| to.into_iter().collect::<BTreeSet<_>>() == wanted)
}

fn fails(reply: &StatusReply) -> Option<String> {
    let mut all = reply.status.findings.iter();
    let found = all.find(|f| f.finding.kind == FindingKind::NameFails)?;
    Some(found.finding.what.clone())
}

/// As a client's resolver reads it.
fn resolved(lab: &Lab, record: &str) -> Result<BTreeSet<String>> {
    let mut kdig = find::enter(&lab.layout, CLIENT)?;
    let output = kdig
        .args(["kdig", "+short"])
        .arg(format!("@{CLIENT_ADDRESS}"))
        .args([record, "A"])
        .output()?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    Ok(text.lines().map(String::from).collect())
}

fn addresses(nodes: &[&str]) -> BTreeSet<String> {
    let hosts = nodes.iter().filter_map(|n| host(n));
    hosts.map(|h: Host| h.client()).collect()
}

/// By the string that people paste, through the clients' own resolver.
async fn writes_by_name(lab: &Lab) -> Result<()> {
    let string = pasted(lab, "writes, the one name to keep").await?;
    ensure!(string.contains(named::RECORD), "{string}");
    let resolver = lab.layout.host(CLIENT).join("resolv.conf");
    std::fs::write(&resolver, format!("nameserver {CLIENT_ADDRESS}\n"))?;
    let query = "create temp table t (n int); select pg_is_in_recovery()";
    let plain = psql(lab, &string, query)?;
    // The same with a resolver of its own.
    let words: Vec<_> = plain.get_args().collect();
    let at = words
        .iter()
        .position(|w| w.to_string_lossy().ends_with("/psql"));
    let (enter, rest) = words.split_at(at.context("psql among the words")?);
    let mut own = Command::new(plain.get_program());
    own.args(enter).args(["unshare", "--mount", "sh", "-c"]);
    own.arg("mount --bind \"$0\" /etc/resolv.conf && exec \"$@\"");
    own.arg(&resolver).args(rest);
    own.env("PGPASSWORD", lab.layout.client_password()?);
    let output = own.output()?;
    let error = String::from_utf8_lossy(&output.stderr).into_owned();
    ensure!(output.status.success(), "by its name: {error}");
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    ensure!(text.trim().ends_with('f'), "it is a standby's: {text}");
    Ok(())
}

/// Both gates, then the one that is left, then both again; the name server is away meanwhile.
async fn to_the_gates(lab: &Lab) -> Result<()> {
    let both = |r: &StatusReply| leads_to(r, &["ponor", "uvala"]);
    lab.wait("it leads to both gates", LIMIT, both).await?;
    ensure!(resolved(lab, named::RECORD)? == addresses(&["ponor", "uvala"]));
    writes_by_name(lab).await?;
    fault::apply(
        &lab.layout,
        &Fault::PowerOff {
            host: "uvala".into(),
        },
    )?;
    let one = |r: &StatusReply| leads_to(r, &["ponor"]);
    lab.wait("it leads to the gate that is left", LIMIT, one)
        .await?;
    ensure!(resolved(lab, named::RECORD)? == addresses(&["ponor"]));
    let hold = lab.layout.host(CLIENT).join("hold");
    std::fs::write(&hold, "")?;
    find::signal(find::name_server(&lab.layout)?, Signal::KILL)?;
    fault::apply(
        &lab.layout,
        &Fault::PowerOn {
            host: "uvala".into(),
        },
    )?;
    let reply = lab
        .wait("it is said that it fails", LIMIT, |r| fails(r).is_some())
        .await?;
    let why = fails(&reply).unwrap_or_default();
    ensure!(why.contains("does not answer"), "{why}");
    std::fs::remove_file(hold)?;
    lab.wait("it leads to both again", LIMIT, both).await?;
    lab.wait("nothing is said any more", LIMIT, |r| fails(r).is_none())
        .await?;
    Ok(())
}

/// What others have made at the name server stays, and people are told.
async fn not_anothers(lab: &Lab) -> Result<()> {
    let taken = format!("timetable.{}", named::ZONE);
    let before = resolved(lab, &taken)?;
    let record = |to: &str| {
        let to = to.to_string();
        move |spec: &mut toml_edit::DocumentMut| {
            spec["workload"][WORKLOAD]["name"]["record"] = value(to.clone());
        }
    };
    let edit = record(&taken);
    let (body, based_on) = edited(lab, &edit).await?;
    let started = lab.client.submit(&body, based_on).await?;
    done(lab, started.operation).await?;
    let says = |r: &StatusReply| fails(r).is_some_and(|why| why.contains("somebody else"));
    lab.wait("it is said whose it is", LIMIT, says).await?;
    ensure!(resolved(lab, &taken)? == before, "it was changed");
    change(lab, &record(named::RECORD)).await?;
    lab.wait("nothing is said any more", LIMIT, |r| fails(r).is_none())
        .await?;
    Ok(())
}

/// It follows the primary: through a planned move, and through the end of one.
async fn to_the_primary(lab: &Lab) -> Result<()> {
    change(lab, &|spec| {
        spec["workload"][WORKLOAD]["name"]["leads"] = value("primary");
    })
    .await?;
    for planned in [true, false] {
        let from = lab.primary().await?;
        let at = |r: &StatusReply| leads_to(r, &[from.as_str()]);
        lab.wait("it leads to the primary", LIMIT, at).await?;
        writes_by_name(lab).await?;
        if planned {
            let body = MoveBody::default();
            lab.client.begin(WORKLOAD, "switchover", &body).await?;
        } else {
            find::signal(find::postmaster(&lab.layout, &from)?, Signal::KILL)?;
        }
        let follows = |r: &StatusReply| {
            let primary = r.status.workloads.first().and_then(|w| w.primary.as_ref());
            primary.is_some_and(|p| p.as_str() != from && leads_to(r, &[p.as_str()]))
        };
        lab.wait("it leads to the next", LIMIT, follows).await?;
        let primary = lab.primary().await?;
        ensure!(resolved(lab, named::RECORD)? == addresses(&[primary.as_str()]));
        lab.healthy(LIMIT).await?;
    }
    writes_by_name(lab).await
}
