//! The first node and the next ones: a host becomes a cluster by itself, another joins it by one line,
//! and whatever is wrong with either is said.

use crate::rig::command::{karst, karst_on, karst_on_a_full_disk, karst_reads};
use crate::rig::{LIMIT, TestLab, own_status};
use anyhow::{Context, Result, ensure};
use karst_api::StatusReply;
use karst_api::core::spec::FindingKind;
use karst_api::core::view::NodeState;
use karst_api::invitation::Line;
use karst_lab::fault::{self, Fault, Held};
use karst_lab::{Lab, find};
use std::net::UdpSocket;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// One daemon and its files.
struct Host {
    dir: PathBuf,
    running: Option<Child>,
}

impl Drop for Host {
    fn drop(&mut self) {
        self.stop();
        let _ = std::fs::remove_dir_all(&self.dir);
    }
}

impl Host {
    fn new() -> Result<Self> {
        let dir = PathBuf::from("/var/tmp/karst-first-node");
        let _ = std::fs::remove_dir_all(&dir);
        std::fs::create_dir_all(dir.join("run"))?;
        let port = || -> Result<u16> { Ok(UdpSocket::bind("127.0.0.1:0")?.local_addr()?.port()) };
        let node = |name: &str| -> Result<String> {
            Ok(format!(
                "[node.{name}]\nzone = \"quay\"\npeer = \"127.0.0.1:{}\"\n",
                port()?
            ))
        };
        let nodes = [node("doline")?, node("polje")?, node("ponor")?].concat();
        let spec = format!("cluster = \"skerry\"\n[zone.quay]\n{nodes}");
        std::fs::write(dir.join("first.toml"), spec)?;
        Ok(Self { dir, running: None })
    }

    fn path(&self, name: &str) -> String {
        self.dir.join(name).display().to_string()
    }

    fn init(&self) -> Result<(bool, String)> {
        let (file, dir) = (self.path("first.toml"), self.path("etc"));
        karst(&["init", &file, "--as", "doline", "--dir", &dir])
    }

    fn start(&mut self) -> Result<()> {
        let log = std::fs::File::create(self.dir.join("log"))?;
        let mut command = Command::new(find::sibling("karstd")?);
        command.args(["run", "--node", "doline", "--system-uuid", "/nonexistent"]);
        for (option, name) in [
            ("--spec", "etc/spec.toml"),
            ("--tls", "etc/tls"),
            ("--tokens", "etc/tokens"),
            ("--runtime", "run"),
            ("--state", "state"),
        ] {
            command.arg(option).arg(self.dir.join(name));
        }
        let command = command
            .stdin(Stdio::null())
            .stdout(log.try_clone()?)
            .stderr(log);
        self.running = Some(command.spawn()?);
        Ok(())
    }

    fn stop(&mut self) {
        if let Some(mut child) = self.running.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }

    /// Until its status says so.
    fn wait(&self, what: &str, says: impl Fn(&str) -> bool) -> Result<String> {
        let socket = format!("unix:{}", self.path("run/api.sock"));
        let begun = Instant::now();
        loop {
            let (_, text) = karst(&["--node", &socket, "status"])?;
            if says(&text) {
                return Ok(text);
            }
            let log = || std::fs::read_to_string(self.dir.join("log")).unwrap_or_default();
            ensure!(begun.elapsed() < LIMIT, "{what}: {text}\n{}", log());
            std::thread::sleep(Duration::from_millis(30));
        }
    }
}

/// One host is a cluster of one vote; the others are expected. It forms nothing a second time.
#[test]
fn the_first_node_is_up_alone() {
    let mut host = Host::new().unwrap();
    let (done, text) = host.init().unwrap();
    assert!(done && text.contains("polje, ponor"), "{text}");
    let key = std::fs::metadata(host.dir.join("etc/tls/ca.key")).unwrap();
    let mode = std::os::unix::fs::PermissionsExt::mode(&key.permissions());
    assert_eq!(mode & 0o777, 0o600);
    let (done, text) = host.init().unwrap();
    assert!(!done && text.contains("is there; move it away"), "{text}");
    host.start().unwrap();
    let alone = |text: &str| text.contains("1 of 1 votes heard") && text.contains("never heard");
    host.wait("it is up alone", alone).unwrap();
    assert!(!host.dir.join("etc/tls/forms-alone").exists());
    host.stop();
    host.start().unwrap();
    host.wait("it is up again", alone).unwrap();
    host.stop();
    // As where its volume is not mounted: it does not know of any cluster, and makes none.
    std::fs::remove_dir_all(host.dir.join("state")).unwrap();
    host.start().unwrap();
    let silent = |text: &str| text.contains("0 of 3 votes heard") || text.contains("No majority");
    host.wait("it forms nothing", silent).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_host_joins_by_a_line() {
    let lab = TestLab::start("test-join", 9680).await.unwrap();
    let text = lab.client.spec().await.unwrap().text;
    out(&lab).await.unwrap();
    let line = invited(&lab).await.unwrap();
    wrong_lines(&lab, &line).unwrap();
    let host = lab.layout.host("uvala");
    cut_short(&lab, &line, &host).unwrap();
    let (done, said) = join(&lab, &line, &host).unwrap();
    assert!(
        done && said.contains("This host is uvala of skerry"),
        "{said}"
    );
    let (done, said) = join(&lab, &line, &host).unwrap();
    assert!(!done && said.contains("is a node already"), "{said}");
    let elsewhere = lab.layout.dir.join("elsewhere");
    let (done, said) = join(&lab, &line, &elsewhere).unwrap();
    assert!(!done && said.contains("was used already"), "{said}");
    fault::apply(
        &lab.layout,
        &Fault::Release {
            host: "uvala".into(),
        },
    )
    .unwrap();
    let votes = |r: &StatusReply| {
        let mut nodes = r.status.nodes.iter();
        nodes.any(|n| n.node.as_str() == "uvala" && n.votes == 1 && n.votes_count == Some(true))
    };
    lab.wait("uvala votes", LIMIT, votes).await.unwrap();
    renewed(&lab).await.unwrap();
    the_key_of_before(&lab).await.unwrap();
    // Its replica and its gate come back with the spec that had them.
    let body = karst_api::SpecBody {
        text,
        ..karst_api::SpecBody::default()
    };
    let revision = lab.client.spec().await.unwrap().revision;
    lab.client.submit(&body, revision).await.unwrap();
    lab.healthy(LIMIT).await.unwrap();
}

/// Its keys are others from then on, and nobody notices.
async fn renewed(lab: &Lab) -> Result<()> {
    let host = lab.layout.host("uvala");
    let read = |name: &str| std::fs::read_to_string(host.join("tls").join(name));
    let before = (read("node.pem")?, read("node.key")?);
    let config = lab.layout.dir.join("client.toml").display().to_string();
    let dir = host.display().to_string();
    let renew = |node: &str, dir: &str| {
        karst(&[
            "--config", &config, "node", "renew", "--as", node, "--dir", dir,
        ])
    };
    let (done, said) = renew("uvala", "/nonexistent")?;
    ensure!(!done && said.contains("this host is no node yet"), "{said}");
    let (done, said) = renew("cenote", &dir)?;
    ensure!(
        !done && said.contains("there is no node `cenote`"),
        "{said}"
    );
    ensure!(
        before == (read("node.pem")?, read("node.key")?),
        "something was written"
    );
    let (done, said) = renew("uvala", &dir)?;
    ensure!(done && said.contains("has new certificates"), "{said}");
    ensure!(read("node.pem")? != before.0 && read("node.key")? != before.1);
    let log = host.join("log/karstd.log");
    let taken_up = |r: &StatusReply| {
        let mut nodes = r.status.nodes.iter();
        let log = std::fs::read_to_string(&log).unwrap_or_default();
        log.contains("certificates and tokens are read again")
            && nodes.any(|n| n.node.as_str() == "uvala" && n.state == NodeState::Up)
    };
    lab.wait("they are taken up", LIMIT, taken_up)
        .await
        .map(drop)
}

/// It is out of the spec, and its disk is another one.
async fn out(lab: &Lab) -> Result<()> {
    let config = lab.layout.dir.join("client.toml").display().to_string();
    let (done, said) = karst(&["--config", &config, "node", "remove", "uvala", "--yes"])?;
    ensure!(done, "{said}");
    let gone = |r: &StatusReply| r.status.nodes.iter().all(|n| n.node.as_str() != "uvala");
    lab.wait("uvala is out", LIMIT, gone).await?;
    let (host, what) = ("uvala".into(), Held::Daemon);
    fault::apply(&lab.layout, &Fault::Hold { host, what })?;
    let begun = Instant::now();
    while find::daemon(&lab.layout, "uvala", "run").is_ok() {
        ensure!(begun.elapsed() < LIMIT, "its daemon ends");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let host = lab.layout.host("uvala");
    copied(&host.join("tls"), &host.join("tls-before"))?;
    std::fs::remove_dir_all(host.join("tls"))?;
    std::fs::remove_dir_all(host.join("state"))?;
    Ok(())
}

/// Whoever has the key with which the name spoke before another host took it speaks for nobody.
async fn the_key_of_before(lab: &Lab) -> Result<()> {
    let host = lab.layout.host("uvala");
    let (now, before) = (host.join("tls-now"), host.join("tls-before"));
    copied(&host.join("tls"), &now)?;
    copied(&before, &host.join("tls"))?;
    let silent = |r: &StatusReply| {
        let mut nodes = r.status.nodes.iter();
        nodes.any(|n| n.node.as_str() == "uvala" && n.state != NodeState::Up)
    };
    lab.wait("it is not heard", LIMIT, silent).await?;
    own_status(lab, "it is told", |r| {
        let findings = r.status.findings.iter();
        let mut kinds = findings.map(|f| f.finding.kind);
        kinds.any(|kind| kind == FindingKind::Removed)
    })
    .await?;
    copied(&now, &host.join("tls"))?;
    lab.wait("it is heard again", LIMIT, |r| !silent(r))
        .await
        .map(drop)
}

fn copied(from: &Path, to: &Path) -> Result<()> {
    std::fs::create_dir_all(to)?;
    for entry in std::fs::read_dir(from)? {
        let entry = entry?;
        std::fs::copy(entry.path(), to.join(entry.file_name()))?;
    }
    Ok(())
}

async fn invited(lab: &Lab) -> Result<String> {
    let config = lab.layout.dir.join("client.toml").display().to_string();
    let here = ["--config", &config, "node", "add"];
    let (done, said) = karst(&[&here[..], &["uvala", "--yes"]].concat())?;
    ensure!(!done && said.contains("say --zone and --peer"), "{said}");
    let (done, said) = karst(&[&here[..], &["doline", "--yes"]].concat())?;
    ensure!(!done && said.contains("doline is here already"), "{said}");
    let new = [
        "uvala",
        "--zone",
        "southquay",
        "--peer",
        "10.20.0.14:26700",
        "--api",
        "10.40.0.14:26780",
        "--yes",
    ];
    let (done, said) = karst(&[&here[..], &new].concat())?;
    ensure!(done, "{said}");
    let expected = |r: &StatusReply| {
        let mut nodes = r.status.nodes.iter();
        nodes.any(|n| n.node.as_str() == "uvala" && n.state == NodeState::Unheard && n.votes == 0)
    };
    lab.wait("uvala is expected", LIMIT, expected).await?;
    let line = said.lines().find(|l| l.starts_with(Line::BEGINS));
    Ok(line.context(said.clone())?.to_string())
}

fn join(lab: &Lab, line: &str, dir: &Path) -> Result<(bool, String)> {
    let dir = dir.display().to_string();
    karst_reads(lab, "uvala", &["join", "--dir", &dir], line)
}

/// A file that is in the way is named before the invitation is used up; and where the answer came and
/// could not be written, the same line is good for the same host.
fn cut_short(lab: &Lab, line: &str, host: &Path) -> Result<()> {
    let [tokens, spec] = ["tokens", "spec.toml"].map(|name| host.join(name));
    std::os::unix::fs::symlink("/nowhere", &tokens)?;
    let (done, said) = join(lab, line, host)?;
    ensure!(!done && said.contains("tokens is there"), "{said}");
    std::fs::remove_file(&tokens)?;
    let dir = host.display().to_string();
    let file = lab.layout.dir.join("line");
    std::fs::write(&file, line)?;
    let words = ["join", &file.display().to_string(), "--dir", &dir];
    ensure!(
        !karst_on_a_full_disk(lab, "uvala", 2, &words)?,
        "it has room"
    );
    ensure!(spec.exists(), "no answer came");
    std::fs::remove_file(&spec)?;
    Ok(())
}

/// None of these uses the invitation up.
fn wrong_lines(lab: &Lab, line: &str) -> Result<()> {
    let dir = lab.layout.dir.join("elsewhere");
    let refused = |line: &str, says: &str| -> Result<()> {
        let (done, said) = join(lab, line, &dir)?;
        ensure!(!done && said.contains(says), "{said} does not say `{says}`");
        Ok(())
    };
    refused("nothing", "this is no line to join by")?;
    let (done, said) = karst_on(lab, "uvala", &["join", line])?;
    ensure!(!done && said.contains("is seen by every user"), "{said}");
    refused(&line[..line.len() - 30], "the line is not whole")?;
    let mut other: Line = line.parse()?;
    other.secret = "07".repeat(32);
    refused(&other.to_string(), "there is no such invitation of uvala")?;
    other = line.parse()?;
    other.ca = karst_api::pki::Authority::make("elsewhere")?.certificate;
    refused(&other.to_string(), "is not of skerry")?;
    // The keys for another try with that line are all that is there.
    let keys = dir.join("tls/joining.json");
    ensure!(keys.exists(), "its keys are gone");
    std::fs::remove_file(keys)?;
    std::fs::remove_dir(dir.join("tls"))?;
    std::fs::remove_dir(&dir).context("something was written")
}
