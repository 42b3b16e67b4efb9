//! End to end over a real lab: real daemons, real servers, real clients; driven through `karst` and
//! HTTP.

use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::core::event::FactKind;
use karst_lab::cluster::is_well;
use karst_lab::drill::{InHost, server_ends};
use karst_lab::layout::{ARCHIVE, NODES, WORKLOAD};
use karst_lab::{Lab, drill, find};
use rustix::process::Signal;
use std::process::Command;

fn karst(lab: &Lab, words: &[&str]) -> Result<(i32, String)> {
    let program = find::sibling("karst")?;
    let output = Command::new(program)
        .args(words)
        .env("KARST_CONFIG", lab.layout.client_config())
        .output()?;
    let text = format!(
        "{}{}",
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    );
    Ok((output.status.code().context("an exit code")?, text))
}

/// The primary's server dies, clients carry on, the old one comes back; then it is moved back on
/// purpose.
#[tokio::test(flavor = "multi_thread")]
async fn the_server_dies_and_clients_carry_on() {
    let lab = TestLab::start("test-failover", 9500).await.unwrap();
    first_failover(&lab).await.unwrap();
    switch_back(&lab).await.unwrap();
    answers_and_refusals(&lab).await.unwrap();
    crate::rig::history_is_complete(&lab).await.unwrap();
    who_asked_is_on_record(&lab).await.unwrap();
    nothing_secret_is_shown(&lab).await.unwrap();
}

async fn first_failover(lab: &Lab) -> Result<()> {
    let (code, text) = karst(lab, &["status"])?;
    ensure!(code == 0 && text.contains("All is well"), "{code}: {text}");
    let report = drill::lose_primary(lab, drill::Loss::Server, drill::Course::of(3)).await?;
    ensure!(
        report.missing_total() == 0,
        "rows are missing: {:?}",
        report.missing
    );
    ensure!(
        report.acknowledged > 100 && report.refused() == 0 && report.late().is_none(),
        "{report:?}"
    );
    // What shows that a host without power says nothing shows here that one with power does.
    ensure!(
        report
            .rounds
            .iter()
            .all(|r| r.goodbyes.is_none_or(|n| n > 0)),
        "the capture saw nobody hang up: {report:?}"
    );
    let history = karst(lab, &["history", "--limit", "500"])?.1;
    ensure!(
        history.contains("rewound to the history of"),
        "nobody was rewound: {history}"
    );
    written_up(lab).await?;
    for round in &report.rounds {
        ensure!(round.from != round.to && round.pause < 5_000.0, "{round:?}");
        let sum: f64 = round.phases.iter().map(|(_, ms)| ms).sum();
        ensure!(
            (sum - round.pause).abs() < 10.0,
            "phases do not add up: {round:?}"
        );
    }
    Ok(())
}

/// For whoever was asleep, and for a spreadsheet.
async fn written_up(lab: &Lab) -> Result<()> {
    let operations = lab.status().await?.status.operations;
    let newest = operations.first().context("an operation")?.id.to_string();
    let begun = std::time::Instant::now();
    // The record arrives a little later than what it is of.
    loop {
        let (code, text) = karst(lab, &["operation", "report", &newest])?;
        let whole = [
            "**Why**: ",
            "none lost",
            "| promote | ",
            "is open",
            "finished",
        ];
        if code == 0 && whole.iter().all(|part| text.contains(part)) {
            break;
        }
        ensure!(begun.elapsed() < LIMIT, "{code}: {text}");
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    let (code, svg) = karst(lab, &["operation", "report", &newest, "--as", "svg"])?;
    ensure!(
        code == 0 && svg.starts_with("<svg") && svg.contains("promote"),
        "{svg}"
    );
    let (code, csv) = karst(lab, &["history", "--export", "csv", "--kind", "opened"])?;
    let lines: Vec<&str> = csv.lines().collect();
    ensure!(
        code == 0 && lines[0].starts_with("at,node,level,kind") && lines.len() > 3,
        "{csv}"
    );
    ensure!(
        lines[1..].iter().all(|line| line.contains("\"opened\"")),
        "{csv}"
    );
    let (_, first) = karst(
        lab,
        &[
            "history",
            "--limit",
            "1",
            "--newest-first",
            "--output",
            "json",
        ],
    )?;
    let first: serde_json::Value = serde_json::from_str(&first)?;
    ensure!(
        first.as_array().is_some_and(|list| list.len() == 1),
        "{first}"
    );
    Ok(())
}

async fn switch_back(lab: &Lab) -> Result<()> {
    let from = lab.primary().await?;
    let to = if from == "doline" { "polje" } else { "doline" };
    let (code, text) = karst(lab, &["switchover", WORKLOAD, "--to", to, "--plan"])?;
    ensure!(
        code == 0 && text.contains("may take over: met"),
        "{code}: {text}"
    );
    ensure!(lab.primary().await? == from, "a plan changes nothing");
    let (code, text) = karst(lab, &["switchover", WORKLOAD, "--to", to, "--yes"])?;
    ensure!(
        code == 0 && text.contains("stopped cleanly"),
        "{code}: {text}"
    );
    ensure!(lab.primary().await? == to);
    let well = lab.healthy(LIMIT).await?;
    let old = well.status.workloads[0]
        .replicas
        .iter()
        .find(|r| r.node.as_str() == from)
        .context("the old primary")?;
    // It followed as it was: no rewind, no clone.
    let rejoined = old.rejoined;
    ensure!(
        old.in_sync_set && rejoined != Some(well.status.workloads[0].epoch),
        "{old:?}"
    );
    Ok(())
}

async fn answers_and_refusals(lab: &Lab) -> Result<()> {
    let primary = lab.primary().await?;
    let (code, text) = karst(lab, &["switchover", WORKLOAD, "--to", &primary, "--yes"])?;
    ensure!(
        code == 4 && text.contains("is the primary of sailings already"),
        "{code}: {text}"
    );
    let (code, text) = karst(lab, &["switchover", "sailing", "--yes"])?;
    ensure!(
        code == 4 && text.contains("known: sailings"),
        "{code}: {text}"
    );
    let (code, text) = karst(lab, &["status", "--node", "http://127.0.0.1:1"])?;
    ensure!(
        code == 5 && text.contains("cannot be reached"),
        "{code}: {text}"
    );
    let get_of = |node: &str, path: &str| {
        let socket = lab.layout.runtime(node).join("api.sock");
        let output = Command::new("curl")
            .args(["-s", "-w", "\n%{http_code}", "--unix-socket"])
            .arg(socket)
            .arg(format!("http://node{path}"))
            .output();
        output.map(|o| String::from_utf8_lossy(&o.stdout).into_owned())
    };
    let get = |path: &str| get_of(&primary, path);
    let token = format!("Authorization: Bearer {}", lab.layout.token()?);
    let post = |path: &str, body: &str| {
        let socket = lab.layout.runtime(&primary).join("api.sock");
        let mut curl = Command::new("curl");
        curl.args([
            "-s",
            "-w",
            "\n%{http_code}",
            "-H",
            &token,
            "-H",
            "Content-Type: application/json",
            "-d",
            body,
        ]);
        let output = curl
            .arg("--unix-socket")
            .arg(socket)
            .arg(format!("http://node{path}"))
            .output();
        output.map(|o| String::from_utf8_lossy(&o.stdout).into_owned())
    };
    let switchover = "/api/v1/workloads/sailings/switchover";
    for (body, words) in [
        ("{", "cannot be read"),
        ("{\"to\": 7}", "cannot be read"),
        ("{\"to\": \"poljee\"}", "has no replica"),
    ] {
        let answer = post(switchover, body)?;
        let refused = answer.ends_with("400") || answer.ends_with("409");
        ensure!(
            refused && answer.contains(words) && answer.contains("\"title\""),
            "{body}: {answer}"
        );
    }
    ensure!(
        get("/api/v1/nothing")?.contains("there is no call"),
        "an unknown call is refused in words"
    );
    let unsigned = get("/api/v1/status")?;
    ensure!(
        unsigned.ends_with("401") && unsigned.contains("no valid token"),
        "{unsigned}"
    );
    ensure!(get("/role/sailings/primary")?.ends_with("200"));
    ensure!(get("/role/sailings/standby")?.ends_with("503"));
    let metrics = get("/metrics")?;
    ensure!(
        metrics.contains("karst_workload_role{workload=\"sailings\",role=\"primary\"} 1.0")
            && metrics.contains("# EOF"),
        "{metrics}"
    );
    // Whoever watches by the rules that are given looks at what there is.
    let mut rules = String::new();
    for file in ["alerts.yml", "dashboard.json"] {
        let docs = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
        rules += &std::fs::read_to_string(docs.join(file))?;
    }
    let coordinator = lab
        .status()
        .await?
        .status
        .coordinator
        .context("a coordinator")?;
    let named = rules.split(|c: char| !c.is_ascii_alphanumeric() && c != '_');
    let named: Vec<&str> = named.filter(|word| word.starts_with("karst_")).collect();
    // Some are there only while there is something to measure: a lag, while somebody writes.
    let load = drill::start_load(&lab.layout, "measured", 1, 2)?;
    let begun = std::time::Instant::now();
    let mut seen: std::collections::BTreeSet<&str> = Default::default();
    loop {
        let known = get_of(coordinator.as_str(), "/metrics")?;
        seen.extend(named.iter().filter(|name| {
            // What a histogram and a counter are made of has no type of its own.
            let family = ["_bucket", "_total"];
            let family = family.iter().find_map(|end| name.strip_suffix(end));
            known.contains(&format!("# TYPE {} ", family.unwrap_or(name)))
        }));
        let missing = named.iter().find(|name| !seen.contains(*name));
        let Some(missing) = missing else { break };
        ensure!(
            begun.elapsed() < LIMIT,
            "{missing} is not exported: {known}"
        );
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    drop(load.finish()?);
    ensure!(get("/runbook")?.contains("### `choose-data`"));
    ensure!(get("/openapi.json")?.contains("/api/v1/workloads/{workload}/switchover"));
    over_tls(lab)
}

/// The audit trail: who asks, from where, and then the answer; a stranger too, and neither token
/// nor body.
async fn who_asked_is_on_record(lab: &Lab) -> Result<()> {
    let socket = lab.layout.runtime(NODES[0].name).join("api.sock");
    let stranger = Command::new("curl")
        .args([
            "-s",
            "-X",
            "POST",
            "-H",
            "Authorization: Bearer herring-gull",
            "--unix-socket",
        ])
        .arg(socket)
        .arg("http://node/api/v1/nodes/polje/fence")
        .output()?;
    ensure!(
        String::from_utf8_lossy(&stranger.stdout).contains("no valid token"),
        "a stranger was let in"
    );
    let asked = |text: &str, what: &[&str]| what.iter().all(|w| text.contains(w));
    let begun = std::time::Instant::now();
    loop {
        let records = lab.client.history("limit=500").await?.records;
        let lines: Vec<&str> = records
            .iter()
            .filter(|r| {
                [FactKind::Asked, FactKind::Answered]
                    .iter()
                    .any(|kind| r.kind == kind.word())
            })
            .map(|r| r.text.as_str())
            .collect();
        let all = [
            &[
                "captain (administer) asks doline",
                "for a switchover of sailings, from",
            ][..],
            &[
                "answers captain (administer) yes (202)",
                "for a switchover of sailings",
            ],
            &["somebody without a valid token asks", "to fence polje"],
            &[
                "answers somebody without a valid token no, nobody is signed in (401)",
                "to fence polje",
            ],
        ];
        if all
            .iter()
            .all(|words| lines.iter().any(|l| asked(l, words)))
        {
            ensure!(
                lines.iter().all(|l| !l.contains("herring")),
                "a token is on record: {lines:?}"
            );
            return Ok(());
        }
        ensure!(begun.elapsed() < LIMIT, "not on record: {lines:?}");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
}

/// None of the lab's secrets is in a log, in the history, or in the words of a process.
async fn nothing_secret_is_shown(lab: &Lab) -> Result<()> {
    let secrets = ["captain", "replication", "client", "history", "power"].map(|name| {
        (
            name,
            std::fs::read_to_string(lab.layout.secret(name))
                .unwrap_or_default()
                .trim()
                .to_string(),
        )
    });
    ensure!(
        secrets.iter().all(|(_, s)| s.len() > 20),
        "the secrets cannot be read"
    );
    let shown =
        |what: &str, text: &str| match secrets.iter().find(|(_, s)| text.contains(s.as_str())) {
            Some((name, _)) => anyhow::bail!("the secret `{name}` is in {what}"),
            None => Ok(()),
        };
    let logs = NODES
        .iter()
        .map(|n| lab.layout.host(n.name).join("log"))
        .chain([lab.layout.dir.join("logs")]);
    let mut looked = 0;
    for dir in logs {
        for entry in std::fs::read_dir(&dir)? {
            let path = entry?.path();
            shown(
                &path.display().to_string(),
                &String::from_utf8_lossy(&std::fs::read(&path)?),
            )?;
            looked += 1;
        }
    }
    ensure!(looked >= 12, "only {looked} logs");
    let records = lab.client.history("limit=1000").await?.records;
    records
        .iter()
        .try_for_each(|r| shown("the history", &format!("{r:?}")))?;
    for pid in find::of_lab(&lab.layout) {
        let words = std::fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
        shown("a process's words", &String::from_utf8_lossy(&words))?;
    }
    Ok(())
}

/// The listener on the management network: with the cluster's CA it is trusted, without it is not.
fn over_tls(lab: &Lab) -> Result<()> {
    let ca = lab.layout.dir.join("ca.pem");
    let ask = |more: &[&std::ffi::OsStr]| -> Result<(i32, String)> {
        let mut command = find::enter(&lab.layout, ARCHIVE)?;
        let server = format!("https://{}:26780", NODES[2].management());
        command.arg(find::sibling("karst")?).args([
            "status",
            "--node",
            &server,
            "--config",
            "/dev/null",
        ]);
        let output = command
            .arg("--token-file")
            .arg(lab.layout.secret("captain"))
            .args(more)
            .output()?;
        let text = format!(
            "{}{}",
            String::from_utf8_lossy(&output.stdout),
            String::from_utf8_lossy(&output.stderr)
        );
        Ok((output.status.code().context("an exit code")?, text))
    };
    let (code, text) = ask(&["--ca".as_ref(), ca.as_os_str()])?;
    ensure!(code == 0 && text.contains("All is well"), "{code}: {text}");
    let (code, text) = ask(&[])?;
    ensure!(code == 5 && text.contains("certificate"), "{code}: {text}");
    Ok(())
}

/// The primary's daemon is killed (its server is picked up again) or stands still past its lease
/// (its server ends before the lease does); nothing acknowledged is missing and everything heals.
#[tokio::test(flavor = "multi_thread")]
async fn the_primarys_daemon_dies_or_stands_still() {
    let lab = TestLab::start("test-daemon", 9600).await.unwrap();
    let load = drill::start_load(&lab.layout, "daemon", 2, 5).unwrap();
    killed_daemon(&lab).await.unwrap();
    frozen_daemon(&lab).await.unwrap();
    let lines = load.finish().unwrap();
    let (acknowledged, missing) = drill::compare(&lab, &lines).await.unwrap();
    assert!(
        acknowledged > 100 && missing.iter().all(|(_, n)| *n == 0),
        "{acknowledged}: {missing:?}"
    );
}

async fn killed_daemon(lab: &Lab) -> Result<()> {
    let before = lab.workload().await?;
    let primary = before.primary.context("a primary")?.to_string();
    let server = find::postmaster(&lab.layout, &primary)?;
    let daemon = find::daemon(&lab.layout, &primary, "run")?;
    find::signal(daemon, Signal::KILL)?;
    lab.wait("a new daemon", LIMIT, |_| {
        find::daemon(&lab.layout, &primary, "run").is_ok_and(|pid| pid != daemon)
    })
    .await?;
    let well = lab.healthy(LIMIT).await?;
    ensure!(
        well.status.workloads[0].epoch == before.epoch,
        "the epoch did not change"
    );
    ensure!(
        find::postmaster(&lab.layout, &primary)? == server,
        "the running server was picked up"
    );
    Ok(())
}

async fn frozen_daemon(lab: &Lab) -> Result<()> {
    let primary = lab.primary().await?;
    let daemon = find::daemon(&lab.layout, &primary, "run")?;
    let writing = InHost::start(lab, &primary).await?;
    let frozen = karst_lab::steal::boot_nanos();
    find::signal(daemon, Signal::STOP)?;
    let lease = lab.timings().await?.lease;
    server_ends(lab, &primary, frozen, lease, writing).await?;
    find::signal(daemon, Signal::CONT)?;
    lab.wait("all is well again", LIMIT, is_well).await?;
    Ok(())
}
