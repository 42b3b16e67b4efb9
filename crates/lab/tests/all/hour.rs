//! A newcomer's first hour, from empty hosts: a cluster of one, the next ones, a database that runs
//! already with its standby and a client, a third copy, moves, other settings, hosts that rest, one
//! that is replaced and one that leaves. No acknowledged row is missing.

use crate::rig::changes::change;
use crate::rig::command::{karst, karst_on, karst_reads};
use crate::rig::own::{
    FARES, GATE_PORT, Load, OWN_CLIENTS, PASSWORD, PORT, data, fares, moves, nothing_is_missing,
    sockets, somebodys_own,
};
use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::core::view::{Condition, NodeState};
use karst_api::invitation::Line;
use karst_api::{Endpoint, StatusReply, WishBody};
use karst_lab::fault::{self, Fault};
use karst_lab::layout::{CLIENT, GATES, RunAs, SERVER_PROGRAMS, host};
use karst_lab::{Lab, find};
use std::process::Stdio;
use std::time::{Duration, Instant};
use toml_edit::{DocumentMut, Item, Table, value};

/// What clients may wait for, in milliseconds, on a machine that others share.
const ADOPTED: u64 = 6_000;
const LONGEST: u64 = 2_000;

/// A host that the first spec does not have.
const UVALA: [&str; 8] = [
    "--zone",
    "southquay",
    "--peer",
    "10.20.0.14:26700",
    "--api",
    "10.20.0.14:26780",
    "--votes",
    "0",
];

#[tokio::test(flavor = "multi_thread")]
async fn from_empty_hosts_to_a_cluster_that_changes() {
    let lab = TestLab::empty("test-hour", 10040).await.unwrap();
    alone(&lab).await.unwrap();
    // They get their votes together: two would be no better than one.
    for node in ["polje", "ponor"] {
        joins(&lab, node, &[]).await.unwrap();
    }
    for node in ["polje", "ponor"] {
        votes(&lab, node).await.unwrap();
    }
    checked(&lab).unwrap();
    somebodys_own(&lab, OWN_CLIENTS).unwrap();
    let load = Load::start(&lab).unwrap();
    load.goes_on(&lab).await.unwrap();
    adopted(&lab).await.unwrap();
    load.goes_on(&lab).await.unwrap();
    let (since, before) = (load.lines().len(), load.why_refused().len());
    let adopted = load.longest_pause(0);

    third(&lab).await.unwrap();
    by_pasted_strings(&lab).await.unwrap();
    for to in ["polje", "doline"] {
        moves(&lab, to).await.unwrap();
        load.goes_on(&lab).await.unwrap();
    }
    settings(&lab).await.unwrap();
    rests(&lab).await.unwrap();
    load.goes_on(&lab).await.unwrap();
    replaced(&lab).await.unwrap();
    removed(&lab).await.unwrap();
    load.goes_on(&lab).await.unwrap();

    let (longest, refused) = (load.longest_pause(since), load.why_refused());
    eprintln!(
        "longest pause: {adopted} ms by the adoption, {longest} ms afterwards; {} connections cut off",
        refused[before..].matches("psql: error").count()
    );
    let lines = load.finish().unwrap();
    nothing_is_missing(&lab, &lines).await.unwrap();
    assert!(
        adopted < ADOPTED && longest < LONGEST,
        "clients waited for too long"
    );
    // Who was let through to a primary that is stopped just then is cut off, as everybody is there.
    let since = &refused[before..];
    let turned_away = ["refused", "timeout", "starting up", "too many"];
    let nobody = !turned_away.iter().any(|word| since.contains(word));
    assert!(nobody, "after the adoption nobody is turned away: {since}");
}

fn local(lab: &Lab) -> String {
    let socket = lab.layout.runtime("doline").join("api.sock");
    format!("unix:{}", socket.display())
}

/// On doline, by its own socket.
fn here(lab: &Lab, words: &[&str]) -> Result<String> {
    let (done, said) = karst(&[&["--node", &local(lab)], words].concat())?;
    ensure!(done, "{words:?}: {said}");
    Ok(said)
}

/// Its daemon is started once it has what people reach it by.
fn starts(lab: &Lab, node: &str) -> Result<()> {
    let tokens = std::fs::read_to_string(lab.layout.secret("tokens"))?;
    std::fs::write(lab.layout.host(node).join("tokens"), tokens)?;
    let host = node.into();
    fault::apply(&lab.layout, &Fault::Release { host }).map(drop)
}

async fn alone(lab: &Lab) -> Result<()> {
    let file = lab.layout.dir.join("first.toml").display().to_string();
    let (done, said) = karst(&[
        "spec",
        "init",
        "--cluster",
        "skerry",
        "--host",
        "doline=10.20.0.11@northquay",
        "--host",
        "polje=10.20.0.12@southquay",
        "--witness",
        "ponor=10.20.0.13@lighthouse",
        "--write",
        &file,
    ])?;
    ensure!(done, "{said}");
    let dir = lab.layout.host("doline").display().to_string();
    let (done, said) = karst_on(
        lab,
        "doline",
        &["init", &file, "--as", "doline", "--dir", &dir],
    )?;
    ensure!(done && said.contains("karst node add polje"), "{said}");
    starts(lab, "doline")?;
    let begun = Instant::now();
    loop {
        let (_, said) = karst(&["--node", &local(lab), "status"])?;
        if said.contains("1 of 1 votes heard") && said.contains("never heard") {
            break;
        }
        ensure!(begun.elapsed() < LIMIT, "it is up alone: {said}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let decides = |r: &StatusReply| r.status.coordinator.is_some();
    lab.wait("it decides", LIMIT, decides).await.map(drop)
}

async fn joins(lab: &Lab, node: &str, new: &[&str]) -> Result<()> {
    let said = here(lab, &[&["node", "add", node, "--yes"], new].concat())?;
    let line = said.lines().find(|l| l.starts_with(Line::BEGINS));
    let line = line.context(said.clone())?;
    let dir = lab.layout.host(node).display().to_string();
    // Its network may have come up just now: whoever reads that asks again.
    let begun = Instant::now();
    loop {
        let (done, said) = karst_reads(lab, node, &["join", "--dir", &dir], line)?;
        if done {
            break;
        }
        let again = said.contains("cannot be reached") && begun.elapsed() < LIMIT;
        ensure!(again, "{said}");
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    starts(lab, node)?;
    let up = |r: &StatusReply| {
        let mut nodes = r.status.nodes.iter();
        nodes.any(|n| n.node.as_str() == node && n.state == NodeState::Up)
    };
    lab.wait(&format!("{node} is up"), LIMIT, up)
        .await
        .map(drop)
}

async fn votes(lab: &Lab, node: &str) -> Result<()> {
    let votes = |r: &StatusReply| {
        let mut nodes = r.status.nodes.iter();
        nodes.any(|n| n.node.as_str() == node && n.votes == 1 && n.votes_count == Some(true))
    };
    lab.wait(&format!("{node} votes"), LIMIT, votes)
        .await
        .map(drop)
}

/// Each host looks at itself and at the others: what is missed is known to be so in a lab.
fn checked(lab: &Lab) -> Result<()> {
    let (ca, token) = (
        lab.layout.host("doline").join("tls/ca.pem"),
        lab.layout.secret("captain"),
    );
    let (ca, token) = (ca.display().to_string(), token.display().to_string());
    let node = "https://10.20.0.11:26780";
    let words = ["--node", node, "--ca", &ca, "--token-file", &token, "check"];
    let (_, said) = karst_on(lab, "doline", &words)?;
    for node in ["doline", "polje", "ponor"] {
        let counted = said
            .lines()
            .any(|l| l.starts_with(node) && l.contains(" met"));
        ensure!(counted, "{said}");
    }
    ensure!(!said.contains("does not answer"), "{said}");
    Ok(())
}

fn workload(lab: &Lab, nodes: &[&str]) -> Result<Table> {
    let mut table = Table::new();
    table["driver"] = value("postgres");
    table["loss"] = value("none");
    table["adopt"] = value(true);
    let own = format!(
        "secret = \"file:{}\"\n{}set.max_connections = \"210\"\nset.work_mem = \"6MB\"\nset.max_wal_size = \"1GB\"\n\
         clients = '''\n{OWN_CLIENTS}'''\nsockets = \"{}\"\n",
        lab.layout.secret("replication").display(),
        RunAs::now().spec_line(),
        sockets(lab).display()
    );
    table["settings"] = Item::Table(own.parse::<DocumentMut>()?.as_table().clone());
    let mut replicas = Table::new();
    for node in nodes {
        replicas[node] = Item::Table(replica(lab, node)?);
    }
    table["replica"] = Item::Table(replicas);
    Ok(table)
}

fn replica(lab: &Lab, node: &str) -> Result<Table> {
    let mut table = Table::new();
    let client = host(node).context("a host")?.client();
    table["address"] = value(format!("{client}:{PORT}"));
    table["data"] = value(data(lab, node).display().to_string());
    Ok(table)
}

fn has_copies(reply: &StatusReply, copies: usize) -> bool {
    fares(reply).is_some_and(|w| {
        w.condition == Condition::Healthy
            && w.replicas.len() == copies
            && w.sync.sure.len() + 1 == copies
    })
}

/// A database that runs, with its standby; what it has as settings is said in the spec.
async fn adopted(lab: &Lab) -> Result<()> {
    let table = workload(lab, &["doline", "polje"])?;
    change(lab, &|spec| {
        let mut all = Table::new();
        all[FARES] = Item::Table(table.clone());
        spec["workload"] = Item::Table(all);
    })
    .await?;
    lab.wait("both follow", LIMIT, |r| has_copies(r, 2))
        .await
        .map(drop)
}

/// Another host, which gets a copy, gates and an address.
async fn third(lab: &Lab) -> Result<()> {
    joins(lab, "uvala", &UVALA).await?;
    with_copy(lab, "uvala").await?;
    change(lab, &|spec| {
        let mut gates = Table::new();
        for node in GATES.into_iter().filter_map(host) {
            gates[node.name] = value(format!("{}:{GATE_PORT}", node.client()));
        }
        let workload = &mut spec["workload"][FARES];
        workload["gate"] = Item::Table(gates);
        workload["address"] = Item::Table(Table::new());
        workload["address"]["on"] = value("10.30.0.50/24");
    })
    .await
    .map(drop)
}

async fn with_copy(lab: &Lab, node: &str) -> Result<()> {
    let table = replica(lab, node)?;
    change(lab, &|spec| {
        spec["workload"][FARES]["replica"][node] = Item::Table(table.clone());
    })
    .await?;
    lab.wait(&format!("{node} has a copy"), LIMIT, |r| has_copies(r, 3))
        .await
        .map(drop)
}

/// Each string for writes leads to the primary, that with several hosts among them.
async fn by_pasted_strings(lab: &Lab) -> Result<()> {
    let there = |r: &StatusReply| {
        let address = fares(r).and_then(|w| w.address.as_ref());
        address.is_some_and(|a| a.held)
    };
    lab.wait("the address is held", LIMIT, there).await?;
    let all: Vec<Endpoint> = lab.client.endpoints(FARES).await?;
    let writes = all
        .iter()
        .filter(|e| e.client == "psql" && e.purpose.starts_with("writes"));
    let mut count = 0;
    for endpoint in writes {
        let text = endpoint.text.strip_prefix("psql \"");
        let text = text
            .and_then(|t| t.strip_suffix('"'))
            .context("what psql takes")?;
        let text = text
            .replace("DATABASE", "postgres")
            .replace("USER", "clerk");
        let mut psql = find::enter(&lab.layout, CLIENT)?;
        let query = "select pg_is_in_recovery()";
        let psql = psql
            .arg(format!("{SERVER_PROGRAMS}/psql"))
            .args(["-XAtw", &text, "-c", query])
            .env("PGPASSWORD", PASSWORD)
            .stdin(Stdio::null());
        let output = psql.output()?;
        let said = [output.stdout, output.stderr].concat();
        let said = String::from_utf8_lossy(&said).into_owned();
        ensure!(said.trim() == "f", "{}: {said}", endpoint.text);
        count += 1;
    }
    ensure!(count >= 4, "{all:?}");
    Ok(())
}

/// Other timings and back, and a setting that takes a start of each server.
async fn settings(lab: &Lab) -> Result<()> {
    for name in ["brisk", "default"] {
        change(lab, &|spec| spec["timings"] = value(name)).await?;
    }
    change(lab, &|spec| {
        spec["workload"][FARES]["settings"]["set"]["max_connections"] = value("220");
    })
    .await?;
    here(lab, &["workload", "restart", FARES, "--yes"])?;
    let in_force = |r: &StatusReply| {
        let all = r.status.intents.is_empty() && has_copies(r, 3);
        let findings = r.status.findings.iter();
        let mut pending = findings.filter(|f| f.name.starts_with("restart-needed"));
        all && pending.next().is_none()
    };
    lab.wait("it is in force everywhere", LIMIT, in_force)
        .await
        .map(drop)
}

/// A host is switched off while it rests, a zone rests as well, and all is as it was.
async fn rests(lab: &Lab) -> Result<()> {
    let primary = fares(&lab.status().await?).and_then(|w| w.primary.clone());
    let primary = primary.context("a primary")?.to_string();
    rested(lab, &["node", "maintenance", &primary, "--back", "--yes"]).await?;
    let host = || primary.clone();
    fault::apply(&lab.layout, &Fault::PowerOff { host: host() })?;
    let silent = |r: &StatusReply| {
        let mut nodes = r.status.nodes.iter();
        nodes.any(|n| n.node.as_str() == primary && n.state != NodeState::Up)
    };
    lab.wait("it is off", LIMIT, silent).await?;
    fault::apply(&lab.layout, &Fault::PowerOn { host: host() })?;
    over(lab).await?;
    let back = |r: &StatusReply| {
        fares(r).is_some_and(|w| w.primary.as_ref().is_some_and(|p| p.as_str() == primary))
    };
    lab.wait("it is back where it was", LIMIT, back).await?;
    rested(
        lab,
        &["node", "maintenance", "--zone", "lighthouse", "--yes"],
    )
    .await?;
    over(lab).await
}

async fn rested(lab: &Lab, words: &[&str]) -> Result<()> {
    let (done, said) = karst(&[&["--node", &local(lab)], words].concat())?;
    ensure!(done, "{words:?}: {said}");
    let empty = |r: &StatusReply| r.status.intents.iter().any(|i| i.empty);
    lab.wait("nothing is held there", LIMIT, empty)
        .await
        .map(drop)
}

async fn over(lab: &Lab) -> Result<()> {
    ends(lab).await?;
    lab.wait("all is as it was", LIMIT, |r| has_copies(r, 3))
        .await
        .map(drop)
}

async fn ends(lab: &Lab) -> Result<()> {
    let reply = lab.status().await?;
    let intent = reply.status.intents.first().context("a maintenance")?.id;
    lab.client.end(intent).await?;
    let over = |r: &StatusReply| r.status.intents.is_empty();
    lab.wait("nobody rests", LIMIT, over).await.map(drop)
}

/// A host is switched off while it rests, and comes back with an empty disk and its old name.
async fn replaced(lab: &Lab) -> Result<()> {
    let polje = || "polje".to_string();
    rested(lab, &["node", "maintenance", "polje", "--yes"]).await?;
    fault::apply(&lab.layout, &Fault::PowerOff { host: polje() })?;
    let silent = |r: &StatusReply| {
        let mut nodes = r.status.nodes.iter();
        nodes.any(|n| n.node.as_str() == "polje" && n.state != NodeState::Up)
    };
    lab.wait("it is off", LIMIT, silent).await?;
    // Nothing of Karst is started there by itself.
    let dir = lab.layout.host("polje");
    std::fs::write(dir.join("hold-daemon"), "")?;
    for name in ["tls", "state"] {
        std::fs::remove_dir_all(dir.join(name))?;
    }
    for name in ["spec.toml", "tokens"] {
        std::fs::remove_file(dir.join(name))?;
    }
    let root = format!("/proc/{}/root", find::inside(&lab.layout)?);
    let copy = data(lab, "polje");
    std::fs::remove_dir_all(std::path::Path::new(&root).join(copy.strip_prefix("/")?))?;
    fault::apply(&lab.layout, &Fault::PowerOn { host: polje() })?;
    joins(lab, "polje", &[]).await?;
    let look = WishBody {
        plan_only: true,
        ..WishBody::default()
    };
    let begun = Instant::now();
    while let Err(not_yet) = lab.client.enrol_plan("polje", &look).await {
        ensure!(begun.elapsed() < LIMIT, "{not_yet}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    here(lab, &["node", "enrol", "polje", "--yes"])?;
    over(lab).await?;
    votes(lab, "polje").await
}

/// It leaves the cluster for good.
async fn removed(lab: &Lab) -> Result<()> {
    here(lab, &["node", "remove", "uvala", "--yes"])?;
    let gone = |r: &StatusReply| {
        let named = r.status.nodes.iter().any(|n| n.node.as_str() == "uvala");
        !named && r.status.intents.is_empty() && has_copies(r, 2)
    };
    lab.wait("it is out", LIMIT, gone).await.map(drop)
}
