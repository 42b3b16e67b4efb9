//! What is made anew while everything runs: certificates, what the CA took back, tokens. Nothing is
//! started again for it, and nothing moves.

mod rig;

use anyhow::{Context, Result, ensure};
use karst_api::core::view::NodeState;
use karst_api::{Client, StatusReply};
use karst_lab::layout::{NODES, WORKLOAD};
use karst_lab::{Lab, certs, find};
use rig::{LIMIT, TestLab};
use rustix::process::Signal;
use sha2::{Digest, Sha256};
use std::time::{Duration, Instant};

/// A certificate that ends sooner than in thirty days is to be seen.
const SHORT: time::Duration = time::Duration::hours(9 * 24 + 1);
const LONG: time::Duration = time::Duration::days(400);

#[tokio::test(flavor = "multi_thread")]
async fn certificates_and_tokens_are_taken_up_by_a_running_cluster() {
    let lab = TestLab::start("test-renewal", 9980).await.unwrap();
    let before = lab.healthy(LIMIT).await.unwrap().status.workloads[0].epoch;
    certificates(&lab).await.unwrap();
    tokens(&lab).await.unwrap();
    one_is_taken_back(&lab).await.unwrap();
    assert_eq!(
        lab.workload().await.unwrap().epoch,
        before,
        "the primary moved for it"
    );
}

/// Each node by itself: what is wrong with its files only it can see.
fn each(lab: &Lab) -> Result<Vec<Client>> {
    let token = lab.layout.token()?;
    lab.layout
        .servers()
        .into_iter()
        .map(|server| Ok(Client::new(&[server], &token, None)?))
        .collect()
}

async fn all_find(lab: &Lab, what: &str, is_there: bool) -> Result<()> {
    let begun = Instant::now();
    for node in each(lab)? {
        let finds = |r: &StatusReply| {
            r.status
                .findings
                .iter()
                .any(|f| f.finding.what.contains(what))
        };
        while !node
            .status()
            .await
            .is_ok_and(|reply| finds(&reply) == is_there)
        {
            ensure!(
                begun.elapsed() < LIMIT,
                "`{what}` is not {}",
                if is_there { "found" } else { "gone" }
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    Ok(())
}

async fn certificates(lab: &Lab) -> Result<()> {
    for (valid, ends) in [(SHORT, true), (LONG, false)] {
        for node in NODES {
            certs::renew(&lab.layout, node.name, valid)?;
        }
        all_find(lab, "ends in 9 days", ends).await?;
        lab.healthy(LIMIT).await?;
    }
    // The servers have them too, and whoever connects anew believes them.
    let primary = lab.primary().await?;
    let standby = NODES
        .iter()
        .find(|n| n.rank.is_some() && n.name != primary)
        .context("a standby")?
        .name;
    let own = |path: &str| std::fs::read_to_string(lab.layout.host(standby).join(path));
    ensure!(
        own("tls/server.pem")? == own(&format!("run/{WORKLOAD}/server.pem"))?,
        "{standby}'s server has the old one"
    );
    find::signal(find::postmaster(&lab.layout, standby)?, Signal::KILL)?;
    let gone = |r: &StatusReply| {
        r.status.workloads[0]
            .sync
            .sure
            .iter()
            .all(|n| n.as_str() != standby)
    };
    lab.wait("the standby leaves", LIMIT, gone).await?;
    lab.healthy(LIMIT).await?;
    Ok(())
}

async fn tokens(lab: &Lab) -> Result<()> {
    let path = lab.layout.secret("tokens");
    let had = std::fs::read_to_string(&path)?;
    let digest: String = Sha256::digest(b"a mate's token")
        .iter()
        .map(|b| format!("{b:02x}"))
        .collect();
    let mate = Client::new(&lab.layout.servers()[..1], "a mate's token", None)?;
    for (text, enters) in [
        (format!("{had}mate observe {digest}\n"), true),
        (had, false),
    ] {
        std::fs::write(&path, text)?;
        let begun = Instant::now();
        while mate.status().await.is_ok() != enters {
            ensure!(begun.elapsed() < LIMIT, "the tokens are not read again");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    lab.status().await?;
    Ok(())
}

/// Whoever has the key of a host that was taken out speaks for nobody any more, however long it was
/// connected.
async fn one_is_taken_back(lab: &Lab) -> Result<()> {
    let primary = lab.primary().await?;
    let taken = NODES
        .iter()
        .rfind(|n| n.rank.is_some() && n.name != primary)
        .context("a standby")?
        .name;
    certs::revoke(&lab.layout, taken)?;
    let silent = |r: &StatusReply| {
        r.status
            .nodes
            .iter()
            .any(|n| n.node.as_str() == taken && n.state != NodeState::Up)
    };
    lab.wait("nobody hears it", LIMIT, silent).await?;
    let left = |r: &StatusReply| {
        r.status.workloads[0]
            .sync
            .sure
            .iter()
            .all(|n| n.as_str() != taken)
    };
    lab.wait("it leaves the sync set", LIMIT, left).await?;
    // Longer than any connection lives without a word: it does not find its way back.
    tokio::time::sleep(Duration::from_secs(10)).await;
    ensure!(silent(&lab.status().await?), "{taken} is heard again");
    certs::renew(&lab.layout, taken, LONG)?;
    lab.healthy(LIMIT).await?;
    Ok(())
}
