//! A daemon by itself: who may do what with which token, what hostile requests are told, and what
//! it says of files that are wrong before anything starts.

use crate::rig::clients::code_of;
use anyhow::{Context, Result, ensure};
use karst_lab::shape::Shape;
use karst_lab::{Layout, certs, find};
use serde_json::Value;
use sha2::{Digest, Sha256};
use std::net::UdpSocket;
use std::path::PathBuf;
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

const NODE: &str = "ponor";
const LIMIT: Duration = Duration::from_secs(30);

/// Everything that one daemon needs, in a directory of its own.
struct Host {
    dir: PathBuf,
    layout: Layout,
    running: Option<Child>,
}

impl Host {
    fn new(name: &str) -> Result<Self> {
        let dir = PathBuf::from(format!("/var/tmp/karst-access-{name}"));
        let _ = std::fs::remove_dir_all(&dir);
        std::fs::create_dir_all(dir.join("run"))?;
        let layout = Layout::new(&dir.join("lab"), 9960, Shape::default())?;
        layout.prepare(karst_lab::layout::RunAs::now())?;
        certs::prepare(&layout)?;
        let host = Self {
            dir,
            layout,
            running: None,
        };
        // A peer's port that nobody has.
        let port = UdpSocket::bind("127.0.0.1:0")?.local_addr()?.port();
        host.write(
            "spec.toml",
            &format!("cluster = \"skerry\"\n[zone.lighthouse]\n[node.{NODE}]\nzone = \"lighthouse\"\npeer = \"127.0.0.1:{port}\"\n"),
        )?;
        let digest = |token: &str| {
            Sha256::digest(token.as_bytes())
                .iter()
                .map(|b| format!("{b:02x}"))
                .collect::<String>()
        };
        let line = |level: &str| format!("{level}r {level} {}\n", digest(level));
        host.write(
            "tokens",
            &["observe", "operate", "administer"].map(line).concat(),
        )?;
        Ok(host)
    }

    fn write(&self, name: &str, text: &str) -> Result<()> {
        Ok(std::fs::write(self.dir.join(name), text)?)
    }

    fn command(&self) -> Result<Command> {
        let mut command = Command::new(find::sibling("karstd")?);
        command.args([
            "run",
            "--form",
            "--node",
            NODE,
            "--system-uuid",
            "/nonexistent",
        ]);
        for (option, name) in [
            ("--spec", "spec.toml"),
            ("--runtime", "run"),
            ("--state", "state"),
            ("--tokens", "tokens"),
        ] {
            command.arg(option).arg(self.dir.join(name));
        }
        command
            .arg("--tls")
            .arg(self.layout.host(NODE).join("tls"))
            .stdin(Stdio::null());
        Ok(command)
    }

    fn spawn(&mut self) -> Result<()> {
        let log = std::fs::File::create(self.dir.join("log"))?;
        let mut command = self.command()?;
        let command = command.stdout(log.try_clone()?).stderr(log);
        self.running = Some(command.spawn()?);
        Ok(())
    }

    fn stop(&mut self) -> Result<()> {
        let mut child = self.running.take().context("it runs")?;
        let pid = rustix::process::Pid::from_child(&child);
        rustix::process::kill_process(pid, rustix::process::Signal::TERM)?;
        child.wait()?;
        Ok(())
    }

    /// Starts it, and waits until it answers.
    fn start(&mut self) -> Result<()> {
        self.spawn()?;
        let begun = Instant::now();
        // It elects itself; until then it answers for itself alone.
        let leads = |a: &Answer| a.status == 200 && a.body.contains("\"complete\":true");
        while !self
            .ask("observe", "GET", "/api/v1/status", None)
            .is_ok_and(|a| leads(&a))
        {
            let log = || std::fs::read_to_string(self.dir.join("log")).unwrap_or_default();
            ensure!(begun.elapsed() < LIMIT, "it does not answer: {}", log());
            std::thread::sleep(Duration::from_millis(20));
        }
        Ok(())
    }

    fn process(&self) -> i32 {
        let running = self.running.as_ref().expect("it runs");
        running.id().cast_signed()
    }

    /// What it says where it cannot start.
    fn refuses_to_start(&self) -> Result<String> {
        let Output {
            status,
            stderr,
            stdout,
        } = self.command()?.output()?;
        ensure!(
            !status.success(),
            "it ran: {}",
            String::from_utf8_lossy(&stdout)
        );
        Ok(String::from_utf8_lossy(&stderr).into_owned())
    }

    fn ask(&self, token: &str, method: &str, path: &str, body: Option<&str>) -> Result<Answer> {
        self.ask_with(token, method, path, body, &[])
    }

    fn ask_with(
        &self,
        token: &str,
        method: &str,
        path: &str,
        body: Option<&str>,
        headers: &[&str],
    ) -> Result<Answer> {
        let mut curl = Command::new("curl");
        headers.iter().for_each(|header| {
            curl.args(["-H", header]);
        });
        curl.args([
            "-s",
            "-X",
            method,
            "-w",
            "\n%{http_code} %{content_type}",
            "--max-time",
            "10",
        ]);
        if !token.is_empty() {
            curl.arg("-H").arg(format!("Authorization: Bearer {token}"));
        }
        if let Some(body) = body {
            curl.args([
                "-H",
                "Content-Type: application/json",
                "--data-binary",
                body,
            ]);
        }
        curl.arg("--unix-socket")
            .arg(self.dir.join("run/api.sock"))
            .arg(format!("http://node{path}"));
        let text = String::from_utf8(curl.output()?.stdout)?;
        let (body, last) = text.rsplit_once('\n').context("curl's last line")?;
        let (status, kind) = last.split_once(' ').unwrap_or((last, ""));
        Ok(Answer {
            status: status.parse()?,
            kind: kind.into(),
            body: body.into(),
        })
    }
}

impl Drop for Host {
    fn drop(&mut self) {
        if let Some(mut child) = self.running.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
        let _ = std::fs::remove_dir_all(&self.dir);
    }
}

#[derive(Debug)]
struct Answer {
    status: u16,
    kind: String,
    body: String,
}

impl Answer {
    /// RFC 9457: every refusal has this form, and says something.
    fn problem(&self) -> Result<String> {
        ensure!(
            self.kind.starts_with("application/problem+json"),
            "{self:?}"
        );
        let problem: Value = serde_json::from_str(&self.body)?;
        ensure!(problem["status"] == self.status, "{self:?}");
        let kind = problem["type"].as_str().unwrap_or_default();
        ensure!(kind.starts_with("/problems/"), "{self:?}");
        Ok(problem["detail"]
            .as_str()
            .filter(|d| d.len() > 10)
            .context("a detail")?
            .into())
    }
}

/// Whoever may open the socket needs no token, if it says so: what only passes calls on to it, a
/// browser's among them, does not.
#[test]
fn the_socket_is_for_whoever_may_open_it() {
    let mut host = Host::new("socket").unwrap();
    host.start().unwrap();
    let answer = host.ask("", "GET", "/api/v1/self", None).unwrap();
    assert_eq!(answer.status, 401, "{answer:?}");
    let socket = format!("unix:{}", host.dir.join("run/api.sock").display());
    let karst = |words: &[&str]| {
        let mut command = Command::new(find::sibling("karst").unwrap());
        let command = command.env_clear().args(["--node", &socket]).args(words);
        let Output { status, stdout, .. } = command.output().unwrap();
        (status.code(), String::from_utf8(stdout).unwrap())
    };
    let (code, text) = karst(&["status"]);
    assert!(code == Some(0) && text.contains("All is well"), "{text}");
    let (code, text) = karst(&["node", "show", NODE]);
    assert!(code == Some(0) && text.contains("node store"), "{text}");
    let (code, text) = karst(&["history", "--audit", "only", "--output", "json"]);
    assert_eq!((code, text.trim()), (Some(0), "[]"));
    karst(&["node", "readmit", NODE]);
    let (_, text) = karst(&["history", "--audit", "only"]);
    assert!(
        text.contains("asks ponor to readmit ponor, from the host itself"),
        "{text}"
    );
    assert!(
        text.contains("local-") && text.contains("(administer)"),
        "{text}"
    );
}

/// A committed entry that no run could bear ended every run at its start, and nobody was told why.
#[test]
fn a_node_that_only_panics_says_so() {
    let mut host = Host::new("panics").unwrap();
    host.start().unwrap();
    host.stop().unwrap();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    let now = now.unwrap().as_secs();
    let panic = format!("{{\"at\": {now}, \"said\": \"overflow in the heart\"}}");
    host.write("state/panics.json", &format!("[{panic}, {panic}, {panic}]"))
        .unwrap();
    host.spawn().unwrap();
    let begun = Instant::now();
    let answer = loop {
        if let Ok(answer) = host.ask("observe", "GET", "/api/v1/status", None) {
            break answer;
        }
        assert!(begun.elapsed() < LIMIT, "it answers");
        std::thread::sleep(Duration::from_millis(50));
    };
    assert_eq!(answer.status, 503, "{answer:?}");
    let why = answer.problem().unwrap();
    let says = ["does not act", "overflow in the heart", "karst node enrol"];
    assert!(says.iter().all(|word| why.contains(word)), "{why}");
    host.stop().unwrap();
    host.start().unwrap();
}

/// What a host lacks is named with a way out, and what it has as well.
#[test]
fn the_doctor_says_what_a_host_lacks() {
    let host = Host::new("doctor").unwrap();
    let doctor = |spec: &str| {
        let mut command = Command::new(find::sibling("karst").unwrap());
        command.arg("doctor").arg("--spec").arg(host.dir.join(spec));
        command.args(["--as", NODE, "--output", "json", "--"]);
        for (option, name) in [
            ("--runtime", "run"),
            ("--state", "state"),
            ("--tokens", "tokens"),
        ] {
            command.arg(option).arg(host.dir.join(name));
        }
        let tls = host.layout.host(NODE).join("tls");
        let Output { status, stdout, .. } = command.arg("--tls").arg(tls).output().unwrap();
        let needs: Vec<Value> = serde_json::from_slice(&stdout).unwrap();
        let unmet = needs.iter().filter(|need| need["met"] == "no");
        let unmet: Vec<String> = unmet.map(|need| need["what"].to_string()).collect();
        assert!(
            needs
                .iter()
                .all(|n| n["met"] == "yes" || n["remedy"].is_string())
        );
        (status.code(), unmet.join(", "), needs.len())
    };
    let (code, unmet, all) = doctor("spec.toml");
    assert_eq!((code, unmet.as_str()), (Some(0), ""));
    assert!(all > 8, "{all} things were looked at");
    let (code, unmet, _) = doctor("no.toml");
    assert_eq!(code, Some(3));
    assert!(unmet.contains("the spec file"), "{unmet}");
    host.write("tokens", "captain rule nothing").unwrap();
    let (code, unmet, _) = doctor("spec.toml");
    assert_eq!(code, Some(3));
    assert!(unmet.contains("the token file"), "{unmet}");
}

#[test]
fn each_level_may_do_its_own_and_no_more() {
    let mut host = Host::new("levels").unwrap();
    host.start().unwrap();
    let calls = [
        ("GET", "/api/v1/status", None, [200, 200, 200]),
        ("GET", "/api/v1/spec", None, [200, 200, 200]),
        (
            "POST",
            "/api/v1/spec/plan",
            Some("{\"text\": \"\"}"),
            [403, 404, 404],
        ),
        (
            "PUT",
            "/api/v1/workloads/sailings/mode",
            Some("{\"mode\": \"ask\"}"),
            [403, 404, 404],
        ),
        (
            "POST",
            "/api/v1/workloads/sailings/switchover",
            Some("{}"),
            [403, 404, 404],
        ),
        (
            "POST",
            "/api/v1/workloads/sailings/failover",
            Some("{\"to\": \"polje\", \"accept_loss\": \"all\"}"),
            [403, 403, 404],
        ),
        ("POST", "/api/v1/nodes/polje/fence", None, [403, 403, 404]),
        (
            "POST",
            "/api/v1/operations/7/approve",
            None,
            [403, 404, 404],
        ),
    ];
    for (method, path, body, expected) in calls {
        for (token, status) in ["observe", "operate", "administer"]
            .into_iter()
            .zip(expected)
        {
            let answer = host.ask(token, method, path, body).unwrap();
            // What is refused for another reason than the level is refused as a conflict, as unusable or as
            // unknown.
            let fits = answer.status == status
                || status == 404 && matches!(answer.status, 404 | 409 | 422);
            assert!(fits, "{token} {method} {path}: {answer:?}");
            if status == 403 {
                assert!(
                    answer.problem().unwrap().contains("needs a token that may"),
                    "{answer:?}"
                );
            }
        }
        for stranger in ["", "herring"] {
            let answer = host.ask(stranger, method, path, body).unwrap();
            assert_eq!(answer.status, 401, "{method} {path}: {answer:?}");
            let why = answer.problem().unwrap();
            assert!(!why.contains("herring"), "{why}");
        }
    }
}

/// An event stream that `curl` listens to.
struct Stream {
    curl: Child,
    heard: std::io::BufReader<std::process::ChildStdout>,
}

impl Stream {
    /// Returns when its first event is there.
    fn open(host: &Host, shows: &[&str]) -> Self {
        let limit = (2 * LIMIT).as_secs().to_string();
        let mut curl = Command::new("curl")
            .args(["-sN", "--max-time", &limit, "--unix-socket"])
            .arg(host.dir.join("run/api.sock"))
            .args(shows)
            .arg("http://node/api/v1/live")
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let heard = std::io::BufReader::new(curl.stdout.take().unwrap());
        let mut stream = Self { curl, heard };
        stream.goes_on();
        stream
    }

    fn goes_on(&mut self) {
        let mut line = String::new();
        std::io::BufRead::read_line(&mut self.heard, &mut line).unwrap();
        assert_ne!(line, "", "it has ended");
    }

    /// The node ends the stream, well before curl would.
    fn ends(&mut self) {
        let begun = Instant::now();
        std::io::Read::read_to_end(&mut self.heard, &mut Vec::new()).unwrap();
        assert!(begun.elapsed() < LIMIT, "it went on");
    }
}

impl Drop for Stream {
    fn drop(&mut self) {
        let _ = self.curl.kill();
        let _ = self.curl.wait();
    }
}

/// A browser that is signed in serves no other site, and what was asked for is on record whether or
/// not whoever asked waits.
#[test]
fn a_change_is_asked_for_on_purpose_and_is_on_record() {
    let mut host = Host::new("purpose").unwrap();
    host.start().unwrap();
    let jar = host.dir.join("jar");
    let socket = host.dir.join("run/api.sock");
    let curl = |words: &[&str]| code_of(&socket, words).unwrap();
    let (jar, json) = (jar.display().to_string(), "Content-Type: application/json");
    let sign_in = [
        "-c",
        &jar,
        "-H",
        json,
        "-d",
        "{\"token\": \"administer\"}",
        "http://node/api/v1/session",
    ];
    assert_eq!(curl(&sign_in), "204");
    assert_eq!(
        curl(&["-b", &jar, "http://node/api/v1/status"]),
        "200",
        "it may read"
    );
    let changing = [
        ("POST", "workloads/sailings/switchover"),
        ("POST", "workloads/sailings/failover"),
        ("PUT", "workloads/sailings/mode"),
        ("POST", "operations/7/approve"),
        ("POST", "nodes/polje/fence"),
        ("POST", "nodes/polje/power"),
        ("POST", "nodes/polje/readmit"),
        ("POST", "nodes/polje/enrol"),
    ];
    let stream = Command::new("curl")
        .args(["-s", "-b", &jar, "--max-time", "2", "--unix-socket"])
        .arg(host.dir.join("run/api.sock"))
        .arg("http://node/api/v1/live")
        .output()
        .unwrap();
    let stream = String::from_utf8(stream.stdout).unwrap();
    let ticket = stream
        .split_once("event: ticket\ndata: ")
        .expect("a ticket")
        .1;
    let ticket = ticket.lines().next().unwrap();
    let go_on = |ticket: &str| {
        let body = format!("{{\"ticket\": \"{ticket}\"}}");
        curl(&["-H", json, "-d", &body, "http://node/api/v1/session"])
    };
    let part = |token: &str| -> String {
        let digest = Sha256::digest(token.as_bytes());
        let part = digest.iter().take(16);
        part.map(|byte| format!("{byte:02x}")).collect()
    };
    // Another person's token, which is known as well: what is sealed is not that token.
    let forged = ticket.replace(&part("administer"), &part("operate"));
    assert_ne!(forged, ticket, "it names another token");
    assert_eq!(go_on(&forged), "401", "it names another token");
    assert_eq!(go_on("bm90aGluZw"), "401", "no ticket");
    assert_eq!(go_on(ticket), "204", "the ticket itself");
    assert_eq!(go_on(ticket), "401", "it was used");
    let form = "Content-Type: application/x-www-form-urlencoded";
    for (method, path) in changing {
        let url = format!("http://node/api/v1/{path}");
        let asked =
            |more: &[&str]| curl(&[&["-X", method, "-b", &jar, "-d", "{}", &url], more].concat());
        assert_eq!(asked(&["-H", json]), "403", "{path}: no browser's own call");
        assert_eq!(
            asked(&["-H", json, "-H", "Sec-Fetch-Site: cross-site"]),
            "403",
            "{path}"
        );
        assert_eq!(
            asked(&["-H", form, "-H", "Sec-Fetch-Site: same-origin"]),
            "403",
            "{path}: a form"
        );
        let own = asked(&["-H", json, "-H", "Sec-Fetch-Site: same-origin"]);
        assert!(
            ["400", "404", "409"].contains(&own.as_str()),
            "{path}: the console's own call was answered {own}"
        );
    }
    let sign_out = [
        "-X",
        "DELETE",
        "-b",
        &jar,
        "-H",
        json,
        "-H",
        "Sec-Fetch-Site: same-origin",
        "http://node/api/v1/session",
    ];
    let mut watching = Stream::open(&host, &["-b", &jar]);
    let mut by_token = Stream::open(&host, &["-H", "Authorization: Bearer observe"]);
    assert_eq!(curl(&sign_out), "204");
    watching.ends();
    by_token.goes_on();
    assert_eq!(
        curl(&["-b", &jar, "http://node/api/v1/status"]),
        "401",
        "signed out"
    );

    let body = "{\"mode\": \"watch\"}";
    let request = format!(
        "PUT /api/v1/workloads/sailings/mode HTTP/1.1\r\nHost: node\r\nAuthorization: Bearer operate\r\n\
         Content-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    );
    let mut stream =
        std::os::unix::net::UnixStream::connect(host.dir.join("run/api.sock")).unwrap();
    std::io::Write::write_all(&mut stream, request.as_bytes()).unwrap();
    drop(stream);
    let begun = Instant::now();
    let on_record = || {
        let answer = host
            .ask("observe", "GET", "/api/v1/history?limit=10000", None)
            .unwrap();
        let reply: Value = serde_json::from_str(&answer.body).unwrap();
        let texts: Vec<String> = reply["records"]
            .as_array()
            .unwrap()
            .iter()
            .filter_map(|r| r["text"].as_str().map(String::from))
            .collect();
        texts
            .iter()
            .any(|t| t.contains("(operate) asks") && t.contains("to set the mode of sailings"))
    };
    while !on_record() {
        assert!(
            begun.elapsed() < LIMIT,
            "what was asked for is not on record"
        );
        std::thread::sleep(Duration::from_millis(20));
    }
    // A token that is taken away takes its streams along.
    let tokens = std::fs::read_to_string(host.dir.join("tokens")).unwrap();
    let left: Vec<&str> = tokens
        .lines()
        .filter(|l| !l.starts_with("observe"))
        .collect();
    host.write("tokens", &format!("{}\n", left.join("\n")))
        .unwrap();
    find::signal(host.process(), rustix::process::Signal::HUP).unwrap();
    by_token.ends();
}

#[test]
fn hostile_requests_are_told_what_is_wrong_with_them() {
    let mut host = Host::new("hostile").unwrap();
    host.start().unwrap();
    let deep = "[".repeat(60_000);
    let long = format!("{{\"to\": \"{}\"}}", "x".repeat(70_000));
    let move_it = "/api/v1/workloads/sailings/switchover";
    let cases = [
        ("POST", move_it, Some("{")),
        ("POST", move_it, Some("{\"to\": 7}")),
        ("POST", move_it, Some("null")),
        ("POST", move_it, Some("[]")),
        ("POST", move_it, Some(deep.as_str())),
        ("POST", move_it, Some(long.as_str())),
        ("POST", move_it, Some("{\"accept_loss\": \"all\"}")),
        // What a name cannot be is never passed on: another node would take it for a forgery.
        ("POST", move_it, Some("{\"to\": \"a\\u001eb\"}")),
        ("POST", "/api/v1/nodes/%1F/readmit", None),
        ("POST", "/api/v1/workloads/sailings/failover", Some("{}")),
        ("GET", "/api/v1/history?limit=0", None),
        ("GET", "/api/v1/history?operation=9223372036854775808", None),
        ("GET", "/api/v1/history?limit=many", None),
        ("GET", "/api/v1/history?limit=-1", None),
        ("POST", "/api/v1/operations/seven/approve", None),
        (
            "POST",
            "/api/v1/operations/99999999999999999999999/approve",
            None,
        ),
        ("GET", "/api/v1/workloads/%00/endpoints", None),
        ("GET", "/api/v1/nothing", None),
        // A reason that clears the screen of its readers.
        (
            "PUT",
            "/api/v1/findings/two-replicas-block/acknowledgement",
            Some("{\"note\": \"a\\u001b[2J\"}"),
        ),
    ];
    for (method, path, body) in cases {
        let answer = host.ask("administer", method, path, body).unwrap();
        assert!(
            (400..500).contains(&answer.status),
            "{method} {path}: {answer:?}"
        );
        answer
            .problem()
            .unwrap_or_else(|error| panic!("{method} {path}: {error}"));
    }
    // The size of a packed body is not known before it is unpacked, so that it is refused.
    let packed = ["Content-Encoding: gzip"];
    let packed = host.ask_with("", "POST", "/api/v1/join", Some("{}"), &packed);
    assert_eq!(packed.unwrap().status, 415);
    // It goes on as if nothing had happened.
    assert_eq!(
        host.ask("observe", "GET", "/api/v1/status", None)
            .unwrap()
            .status,
        200
    );
}

/// What the document names is there, and wants a token unless it is a probe.
#[test]
fn the_document_and_the_service_agree() {
    let mut host = Host::new("document").unwrap();
    host.start().unwrap();
    let document: Value =
        serde_json::from_str(&host.ask("", "GET", "/openapi.json", None).unwrap().body).unwrap();
    let paths = document["paths"].as_object().expect("paths");
    assert!(paths.len() > 10, "{}", paths.len());
    for (path, methods) in paths {
        let concrete = path
            .replace("{workload}", "sailings")
            .replace("{node}", "polje")
            .replace("{operation}", "7");
        let concrete = concrete.replace("{role}", "primary");
        let answer = host.ask("administer", "PATCH", &concrete, None).unwrap();
        assert_eq!(answer.status, 405, "{path}: {answer:?}");
        assert!(answer.problem().unwrap().contains("it knows"), "{answer:?}");
        for (method, call) in methods.as_object().expect("methods") {
            let body = (method != "get").then_some("{\"token\": \"herring\"}");
            let answer = host
                .ask("", &method.to_uppercase(), &concrete, body)
                .unwrap();
            let open = call["security"] == serde_json::json!([{}]);
            assert!(answer.status == 401 || open, "{method} {path}: {answer:?}");
            let told = &call["responses"][answer.status.to_string()];
            assert!(told.is_object(), "{method} {path} does not name {answer:?}");
        }
    }
}

#[test]
fn files_that_are_wrong_are_named_before_anything_starts() {
    let host = Host::new("files").unwrap();
    let spec = std::fs::read_to_string(host.dir.join("spec.toml")).unwrap();
    let tokens = std::fs::read_to_string(host.dir.join("tokens")).unwrap();
    let secret = "0123456789abcdef";
    let cases = [
        ("spec.toml", spec.replace("zone = ", "zoon = "), "4:1"),
        (
            "spec.toml",
            spec.replace("[node.ponor]", "[node.pomor]"),
            "pomor",
        ),
        ("spec.toml", String::new(), "cluster"),
        ("tokens", format!("captain rule {secret}\n"), "line 1"),
        (
            "tokens",
            format!("{tokens}\nmate operate {secret}\n"),
            "line 5",
        ),
    ];
    for (name, text, words) in cases {
        host.write(name, &text).unwrap();
        let why = host.refuses_to_start().unwrap();
        let file = name.trim_end_matches(".toml");
        assert!(
            why.contains(words) && why.contains(file),
            "{name}: `{words}` is not in: {why}"
        );
        assert!(
            !why.contains(secret),
            "what may be a secret is not repeated: {why}"
        );
        host.write("spec.toml", &spec).unwrap();
        host.write("tokens", &tokens).unwrap();
    }
    let tls = host.layout.host(NODE).join("tls");
    for file in ["ca.pem", "node.pem", "node.key"] {
        let good = std::fs::read(tls.join(file)).unwrap();
        std::fs::write(tls.join(file), "no certificate\n").unwrap();
        let why = host.refuses_to_start().unwrap();
        assert!(why.contains(file), "{file} is not named: {why}");
        std::fs::write(tls.join(file), good).unwrap();
    }
}
