//! The client as a person at a terminal meets it: exit codes, and errors that say what, where and
//! what to do.

use std::io::{Read, Write};
use std::net::TcpListener;
use std::path::PathBuf;
use std::process::{Command, Output};

const TOKEN: &str = "spring-tide-token";

/// Runs the client with nothing of this machine's own configuration.
fn karst(words: &[&str]) -> Output {
    let mut command = Command::new(env!("CARGO_BIN_EXE_karst"));
    command.env_clear().env("HOME", "/nonexistent").args(words);
    command.output().expect("the client starts")
}

fn errors(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

fn said(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn file(name: &str, text: &str) -> PathBuf {
    let path =
        PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join(format!("{}-{name}", std::process::id()));
    std::fs::write(&path, text).expect("a file of the test's own");
    path
}

/// A server that answers every request with this; its address.
fn server(status: u16, body: &'static str) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = format!("http://{}", listener.local_addr().expect("its address"));
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let mut seen = Vec::new();
            let mut chunk = [0; 4096];
            while !seen.windows(4).any(|w| w == b"\r\n\r\n") {
                match stream.read(&mut chunk) {
                    Ok(n) if n > 0 => seen.extend_from_slice(&chunk[..n]),
                    _ => break,
                }
            }
            let length = body.len();
            let head = format!(
                "HTTP/1.1 {status} x\r\nContent-Type: application/json\r\nContent-Length: {length}\r\n"
            );
            let _ = stream.write_all(format!("{head}Connection: close\r\n\r\n{body}").as_bytes());
        }
    });
    address
}

fn ask(server: &str, words: &[&str]) -> Output {
    let token = file("token", TOKEN);
    let token = token.display().to_string();
    karst(&[&["--node", server, "--token-file", &token], words].concat())
}

#[test]
fn who_is_to_be_asked_and_with_what_is_said_where_it_is_missing() {
    let output = karst(&["status"]);
    assert_eq!(output.status.code(), Some(1));
    assert!(
        errors(&output).contains("--node") && errors(&output).contains("KARST_NODES"),
        "{}",
        errors(&output)
    );
    let output = karst(&["--node", "127.0.0.1:1", "status"]);
    assert_eq!(output.status.code(), Some(1));
    assert!(
        errors(&output).contains("--token-file"),
        "{}",
        errors(&output)
    );
    let output = karst(&[
        "--node",
        "127.0.0.1:1",
        "--token-file",
        "/nonexistent/token",
        "status",
    ]);
    assert!(
        errors(&output).contains("/nonexistent/token"),
        "{}",
        errors(&output)
    );
    let config = file("client.toml", "nodes = [\n");
    let output = karst(&["--config", &config.display().to_string(), "status"]);
    assert_eq!(output.status.code(), Some(1));
    assert!(
        errors(&output).contains(&config.display().to_string()),
        "{}",
        errors(&output)
    );
}

#[test]
fn a_wrong_command_line_is_told_from_a_failure() {
    for words in [
        &["flood"][..],
        &["switchover"],
        &["mode", "sleep"],
        &["status", "--output", "xml"],
    ] {
        let output = karst(words);
        assert_eq!(
            output.status.code(),
            Some(2),
            "{words:?}: {}",
            errors(&output)
        );
    }
}

#[test]
fn each_server_that_did_not_answer_is_named_and_the_token_never_is() {
    let output = ask("127.0.0.1:1,127.0.0.1:2", &["status"]);
    assert_eq!(output.status.code(), Some(5));
    let why = errors(&output);
    assert!(
        why.contains("127.0.0.1:1") && why.contains("127.0.0.1:2") && !why.contains(TOKEN),
        "{why}"
    );
}

#[test]
fn a_refusal_comes_in_the_clusters_own_words() {
    let problem = r#"{"type":"about:blank","title":"Conflict","status":409,"detail":"operation op-7 runs already"}"#;
    let output = ask(&server(409, problem), &["switchover", "sailings", "--yes"]);
    assert_eq!(output.status.code(), Some(4), "{}", errors(&output));
    assert!(
        errors(&output).contains("operation op-7 runs already"),
        "{}",
        errors(&output)
    );
    assert!(!errors(&output).contains(TOKEN));
}

/// Something that is no Karst answers at the address.
#[test]
fn an_answer_that_is_none_is_an_error_that_names_the_server() {
    let address = server(200, "<html>welcome to the harbour office</html>");
    let output = ask(&address, &["history"]);
    assert_eq!(output.status.code(), Some(1), "{}", said(&output));
    assert!(errors(&output).contains(&address), "{}", errors(&output));
}

/// A server that is cut off from the coordinator says so, and another one may know better.
#[test]
fn another_server_is_asked_where_one_has_no_coordinator() {
    let problem = r#"{"type":"about:blank","title":"x","status":503,"detail":"no coordinator is known here"}"#;
    let records = r#"{"records":[],"own_only":false}"#;
    let servers = format!("{},{}", server(503, problem), server(200, records));
    let output = ask(&servers, &["history", "--output", "json"]);
    assert_eq!(output.status.code(), Some(0), "{}", errors(&output));
    let reply: serde_json::Value = serde_json::from_str(&said(&output)).expect("JSON for programs");
    assert!(reply.to_string().contains("[]"), "{reply}");
}

const SPEC: &str = r#"cluster = "skerry"
[zone.northquay]
[node.doline]
zone = "northquay"
peer = "10.20.0.11:26700"
"#;

#[test]
fn a_spec_is_checked_without_any_server() {
    let good = file("good.toml", SPEC);
    let output = karst(&["spec", "check", &good.display().to_string()]);
    assert_eq!(
        output.status.code(),
        Some(0),
        "{}{}",
        said(&output),
        errors(&output)
    );
    let bad = file("bad.toml", &SPEC.replace("zone = ", "zoon = "));
    let output = karst(&["spec", "check", &bad.display().to_string()]);
    assert_eq!(output.status.code(), Some(3));
    let text = said(&output) + &errors(&output);
    assert!(
        text.contains("4:1") && text.contains("zone"),
        "line and column, and the nearest name: {text}"
    );
    let output = karst(&[
        "spec",
        "check",
        "--output",
        "json",
        &bad.display().to_string(),
    ]);
    assert_eq!(output.status.code(), Some(3));
    serde_json::from_str::<serde_json::Value>(&said(&output)).expect("JSON for programs");
    assert_eq!(
        karst(&["spec", "check", "/nonexistent/spec.toml"])
            .status
            .code(),
        Some(1)
    );
}

/// As in `karst spec check FILE | head -1`.
#[test]
fn a_reader_that_has_seen_enough_is_no_error() {
    let spec = file("enough.toml", SPEC);
    let (reader, writer) = std::io::pipe().expect("a pipe");
    drop(reader);
    let mut command = Command::new(env!("CARGO_BIN_EXE_karst"));
    let output = command
        .args(["spec", "check"])
        .arg(spec)
        .stdout(writer)
        .output()
        .expect("the client starts");
    assert_eq!(
        (output.status.code(), errors(&output).as_str()),
        (Some(141), "")
    );
    // A disk without room is one.
    let full = std::fs::File::options()
        .write(true)
        .open("/dev/full")
        .expect("a full device");
    let output = command.stdout(full).output().expect("the client starts");
    assert_eq!(output.status.code(), Some(1));
    assert!(
        errors(&output).contains("cannot be written: No space left"),
        "{}",
        errors(&output)
    );
}

#[test]
fn shells_are_told_every_command() {
    for shell in ["bash", "zsh", "fish"] {
        let output = karst(&["completions", shell]);
        assert!(
            output.status.success() && said(&output).contains("switchover"),
            "{shell}"
        );
    }
}

#[test]
fn a_first_spec_is_written_once_and_can_be_used() {
    let path = file("first.toml", "");
    std::fs::remove_file(&path).unwrap();
    let words = [
        "spec",
        "init",
        "--write",
        path.to_str().unwrap(),
        "--cluster",
        "skerry",
        "--host",
        "doline=10.20.0.11@northquay",
        "--host",
        "polje=10.20.0.12@southquay",
        "--witness",
        "ponor=10.20.0.13@lighthouse",
        "--workload",
        "sailings",
        "--address",
        "10.20.0.50/24",
    ];
    let output = karst(&words);
    assert_eq!(output.status.code(), Some(0), "{}", errors(&output));
    let checked = karst(&["spec", "check", path.to_str().unwrap()]);
    assert_eq!(checked.status.code(), Some(0), "{}", said(&checked));
    let again = karst(&words);
    assert_eq!(again.status.code(), Some(1));
    assert!(
        errors(&again).contains("nothing was written"),
        "{}",
        errors(&again)
    );
    let output = karst(&["spec", "init", "--cluster", "skerry"]);
    assert!(errors(&output).contains("--host"), "{}", errors(&output));
    let output = karst(&[
        "spec",
        "init",
        "--cluster",
        "Skerry!",
        "--host",
        "doline=10.0.0.1",
    ]);
    assert!(
        errors(&output).contains("is not a name"),
        "{}",
        errors(&output)
    );
}
