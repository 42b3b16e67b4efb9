//! What is made anew while everything runs: certificates, what the CA took back, tokens. Nothing is
//! started again for it, and nothing moves.

use crate::rig::command::karst;
use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::core::about::Authorities;
use karst_api::core::view::NodeState;
use karst_api::pki::{Trusted, short};
use karst_api::{Client, StatusReply};
use karst_lab::drill::start_load;
use karst_lab::journal::{self, Ending, longest_pause};
use karst_lab::layout::{NODES, WORKLOAD};
use karst_lab::{Lab, certs, find};
use rustix::process::Signal;
use sha2::{Digest, Sha256};
use std::time::{Duration, Instant};

/// A certificate that ends sooner than in thirty days is to be seen.
const SHORT: time::Duration = time::Duration::hours(9 * 24 + 1);
const LONG: time::Duration = time::Duration::days(400);
/// Nothing moves, and nobody waits for more than a busy machine.
const PAUSE: Duration = Duration::from_millis(1_500);

#[tokio::test(flavor = "multi_thread")]
async fn certificates_and_tokens_are_taken_up_by_a_running_cluster() {
    let lab = TestLab::start("test-renewal", 9980).await.unwrap();
    let before = lab.healthy(LIMIT).await.unwrap().status.workloads[0].epoch;
    certificates(&lab).await.unwrap();
    tokens(&lab).await.unwrap();
    one_is_taken_back(&lab).await.unwrap();
    another_ca(&lab).await.unwrap();
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

/// In three steps, none of which is taken before every node has taken the one before; a client goes on
/// writing meanwhile. What was revoked before is in a list, so that the new one needs a list too.
async fn another_ca(lab: &Lab) -> Result<()> {
    let load = start_load(&lab.layout, "ca", 2, 2)?;
    let config = lab.layout.dir.join("client.toml").display().to_string();
    let dir = |node: &str| lab.layout.host(node).display().to_string();
    let signs = NODES[0].name;
    let step = |more: &[&str]| {
        let dir = dir(signs);
        let call = ["--config", &config, "ca", "renew", "--dir", &dir];
        karst(&[&call[..], more].concat())
    };
    let everywhere = |but: Option<&str>| {
        for node in NODES.iter().filter(|n| Some(n.name) != but) {
            let (name, dir) = (node.name, dir(node.name));
            let call = [
                "--config", &config, "node", "renew", "--as", name, "--dir", &dir,
            ];
            let (done, said) = karst(&call)?;
            ensure!(done, "{said}");
        }
        anyhow::Ok(())
    };
    let number = |r: &StatusReply, of: fn(&Authorities) -> usize| {
        let about = r.status.nodes.iter().map(|n| n.about.as_ref());
        about
            .map(|a| a.map(|a| of(&a.authorities)))
            .collect::<Vec<_>>()
    };
    let all = |many| vec![Some(many); NODES.len()];
    let ca = || std::fs::read_to_string(lab.layout.host(signs).join("tls/ca.pem"));
    let old = ca()?;

    let (done, said) = step(&["--plan"])?;
    ensure!(done && said.contains("makes another CA"), "{said}");
    ensure!(ca()? == old, "a plan changed something");
    let (done, said) = step(&["--yes"])?;
    ensure!(done && said.contains("signs nothing yet"), "{said}");
    std::fs::copy(
        lab.layout.host(signs).join("tls/ca.pem"),
        lab.layout.dir.join("ca.pem"),
    )?;
    let last = NODES[NODES.len() - 1].name;
    everywhere(Some(last))?;
    let but_one = |r: &StatusReply| {
        let seen = number(r, |a| a.trusted.len());
        seen.iter().filter(|many| **many == Some(2)).count() == NODES.len() - 1
    };
    lab.wait("all but one believe both", LIMIT, but_one).await?;
    let (done, said) = step(&["--yes"])?;
    ensure!(
        !done && said.contains("believes CA") && said.contains(&format!(": {last} (")),
        "{said}"
    );
    everywhere(None)?;
    let both = |r: &StatusReply| number(r, |a| a.trusted.len()) == all(2);
    lab.wait("all believe both", LIMIT, both).await?;

    let (done, said) = step(&["--yes"])?;
    ensure!(done && said.contains("signs from now on"), "{said}");
    // They show the old one's certificates, and would not be believed any more.
    let (done, said) = step(&["--yes"])?;
    ensure!(!done && said.contains("has certificates of CA"), "{said}");
    everywhere(None)?;
    let new = ca()?;
    let signer = Trusted::read(&new)?.swap_remove(0).print;
    let by_it = |r: &StatusReply| {
        let mut about = r.status.nodes.iter().map(|n| n.about.as_ref());
        about.all(|a| a.is_some_and(|a| a.authorities.signed_by == [signer.clone()]))
    };
    lab.wait("all have its certificates", LIMIT, by_it).await?;

    let (done, said) = step(&["--yes"])?;
    ensure!(done && said.contains("alone"), "{said}");
    everywhere(None)?;
    let one = |r: &StatusReply| number(r, |a| a.trusted.len()) == all(1);
    lab.wait("all believe it alone", LIMIT, one).await?;
    let (done, said) = karst(&["--config", &config, "ca", "show"])?;
    let line = said.lines().filter(|line| line.contains(short(&signer)));
    ensure!(
        done && line.count() == 1 && said.lines().count() == 2,
        "{said}"
    );
    // Whoever has the old one's certificate speaks as nobody: what is in force is what is believed.
    ensure!(
        !old.contains(ca()?.trim()) && ca()? != new,
        "it is the old one still"
    );
    lab.healthy(LIMIT).await?;
    let lines = load.finish()?;
    let refused = lines.iter().filter(|l| l.ending == Ending::Refused).count();
    let (rows, pause) = (journal::acknowledged(&lines).len(), longest_pause(&lines));
    println!("{rows} rows while the CA became another, {refused} refused, longest pause {pause:?}");
    ensure!(rows > 1_000 && refused == 0 && pause < PAUSE);
    Ok(())
}
