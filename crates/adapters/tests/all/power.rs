//! C7 against devices that misbehave: only a state that was read as off counts, nothing is cut
//! without a permit or on another host's hardware, and what is refused is told in the device's own
//! words, never with a secret.

use karst_adapters::Power;
use karst_core::Index;
use karst_core::power::{PowerOrder, PowerSeen};
use karst_core::spec::{After, PowerSpec};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

const OFF: PowerOrder = PowerOrder::Off { fence: Index(7) };
const HARDWARE: &str = "2f1d6b0a-58c9-4d2e-9b7a-0c4f8e6a1d35";
const PASSWORD: &str = "low-water-mark";

/// How a controller behaves, and what it was asked.
#[derive(Default)]
struct Controller {
    /// What it says of the power, one word each time it is asked; the last one again and again.
    states: Vec<&'static str>,
    /// How it answers a reset; 204 where none is given.
    reset: Option<(u16, Value)>,
    /// The reset types it offers.
    offers: Vec<&'static str>,
    uuid: Option<&'static str>,
    /// Sessions that it forgets after one request.
    forgets: usize,
    asked: Vec<String>,
}

impl Controller {
    fn of(states: &[&'static str]) -> Self {
        Self {
            states: states.to_vec(),
            offers: vec!["On", "ForceOff"],
            uuid: Some(HARDWARE),
            ..Self::default()
        }
    }

    fn answer(&mut self, method: &str, path: &str, token: Option<&str>) -> (u16, Value) {
        self.asked.push(format!("{method} {path}"));
        match (method, path) {
            ("GET", "/redfish/v1/") => (
                200,
                json!({ "Systems": { "@odata.id": "/redfish/v1/Systems" } }),
            ),
            ("POST", "/redfish/v1/SessionService/Sessions") => (201, json!({})),
            _ if token.is_none() => (401, json!({})),
            _ if self.forgets > 0 => {
                self.forgets -= 1;
                (401, json!({}))
            }
            ("GET", "/redfish/v1/Systems") => (
                200,
                json!({ "Members": [{ "@odata.id": "/redfish/v1/Systems/1" }] }),
            ),
            ("GET", "/redfish/v1/Systems/1") => {
                let state = if self.states.len() > 1 {
                    self.states.remove(0)
                } else {
                    self.states[0]
                };
                let reset =
                    json!({ "target": "/reset", "ResetType@Redfish.AllowableValues": self.offers });
                let system = json!({
                    "@odata.id": "/redfish/v1/Systems/1", "Id": "1", "UUID": self.uuid, "PowerState": state,
                    "Actions": { "#ComputerSystem.Reset": reset },
                });
                (200, system)
            }
            ("POST", "/reset") => self.reset.clone().unwrap_or((204, json!({}))),
            _ => (404, json!({})),
        }
    }

    fn resets(&self) -> usize {
        self.asked.iter().filter(|a| *a == "POST /reset").count()
    }
}

async fn serve(mut stream: TcpStream, controller: Arc<Mutex<Controller>>) -> std::io::Result<()> {
    let (mut seen, mut chunk) = (Vec::new(), [0; 4096]);
    loop {
        let end = loop {
            if let Some(end) = seen.windows(4).position(|w| w == b"\r\n\r\n") {
                break end + 4;
            }
            match stream.read(&mut chunk).await? {
                0 => return Ok(()),
                n => seen.extend_from_slice(&chunk[..n]),
            }
        };
        let head = String::from_utf8_lossy(&seen[..end]).to_lowercase();
        let header = |name: &str| {
            head.lines()
                .find_map(|l| l.strip_prefix(name))
                .map(|v| v.trim().to_string())
        };
        let length: usize = header("content-length:")
            .and_then(|n| n.parse().ok())
            .unwrap_or(0);
        while seen.len() < end + length {
            let n = stream.read(&mut chunk).await?;
            seen.extend_from_slice(&chunk[..n]);
        }
        let line = String::from_utf8_lossy(&seen[..end]).into_owned();
        let mut words = line.split(' ');
        let (method, path) = (
            words.next().unwrap_or_default(),
            words.next().unwrap_or_default(),
        );
        let (status, body) =
            controller
                .lock()
                .unwrap()
                .answer(method, path, header("x-auth-token:").as_deref());
        let body = if status == 204 {
            String::new()
        } else {
            body.to_string()
        };
        let session = if status == 201 {
            "X-Auth-Token: t\r\nLocation: /s/1\r\n"
        } else {
            ""
        };
        let reply = format!(
            "HTTP/1.1 {status} x\r\n{session}Content-Length: {}\r\n\r\n{body}",
            body.len()
        );
        stream.write_all(reply.as_bytes()).await?;
        seen.drain(..end + length);
    }
}

fn device(driver: &str, settings: &[(&str, &str)]) -> Power {
    let settings = settings
        .iter()
        .map(|(k, v)| ((*k).to_string(), (*v).to_string()))
        .collect::<BTreeMap<_, _>>();
    Power::from_spec(&PowerSpec {
        driver: driver.into(),
        settings,
        after: After::On,
    })
    .unwrap()
}

/// Asks the controller to cut, with a permit or without; what came of it, and the controller
/// afterwards.
async fn cut(
    controller: Controller,
    permit: bool,
) -> (Result<PowerSeen, String>, Arc<Mutex<Controller>>, usize) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let controller = Arc::new(Mutex::new(controller));
    let shared = controller.clone();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            tokio::spawn(serve(stream, shared.clone()));
        }
    });
    let secret =
        PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join(format!("power-{}", std::process::id()));
    std::fs::write(&secret, PASSWORD).unwrap();
    let reference = format!("file:{}", secret.display());
    let device = device(
        "redfish",
        &[("url", &url), ("user", "karst"), ("secret", &reference)],
    );
    let permits = AtomicUsize::new(0);
    let before = controller.clone();
    let ask = || {
        assert_eq!(
            before.lock().unwrap().resets(),
            0,
            "the permit comes before the request"
        );
        permits.fetch_add(1, Ordering::Relaxed);
        permit
    };
    let seen = device
        .carry_out(OFF, Some(HARDWARE), ask)
        .await
        .map_err(|e| e.to_string());
    (seen, controller, permits.load(Ordering::Relaxed))
}

fn is_off(seen: &Result<PowerSeen, String>) -> bool {
    seen.as_ref().is_ok_and(|s| !s.on)
}

#[tokio::test]
async fn off_is_what_was_read_and_not_what_was_asked() {
    // Found on; again for the reset; then on its way.
    let (seen, controller, permits) = cut(
        Controller::of(&["On", "On", "PoweringOff", "PoweringOff", "Off"]),
        true,
    )
    .await;
    assert!(is_off(&seen), "{seen:?}");
    assert_eq!((controller.lock().unwrap().resets(), permits), (1, 1));

    let (seen, controller, permits) = cut(Controller::of(&["Off"]), true).await;
    assert!(is_off(&seen), "{seen:?}");
    assert_eq!(
        (controller.lock().unwrap().resets(), permits),
        (0, 0),
        "it was off already"
    );

    let (seen, controller, _) = cut(Controller::of(&["On"]), false).await;
    assert!(seen.is_err(), "{seen:?}");
    assert_eq!(
        controller.lock().unwrap().resets(),
        0,
        "nothing is cut without a permit"
    );
}

#[tokio::test]
async fn a_refusal_is_told_in_the_controllers_own_words_unless_it_went_off_all_the_same() {
    let words =
        json!({ "error": { "@Message.ExtendedInfo": [{ "Message": "The chassis is locked." }] } });
    let (seen, _, _) = cut(
        Controller {
            reset: Some((409, words)),
            ..Controller::of(&["On"])
        },
        true,
    )
    .await;
    let why = seen.unwrap_err();
    assert!(
        why.contains("The chassis is locked.") && !why.contains(PASSWORD),
        "{why}"
    );

    let failing = Controller {
        reset: Some((500, json!({}))),
        ..Controller::of(&["On", "On", "Off"])
    };
    let (seen, _, _) = cut(failing, true).await;
    assert!(is_off(&seen), "{seen:?}");

    let (seen, controller, _) = cut(
        Controller {
            offers: vec!["On", "Nmi"],
            ..Controller::of(&["On"])
        },
        true,
    )
    .await;
    assert!(seen.unwrap_err().contains("does not offer it, but On, Nmi"));
    assert_eq!(controller.lock().unwrap().resets(), 0);
}

#[tokio::test]
async fn another_hosts_hardware_is_not_touched() {
    let other = Controller {
        uuid: Some("9a3c1e77-4b2d-4f80-8d15-6e0b7c2f9a41"),
        ..Controller::of(&["On"])
    };
    let (seen, controller, permits) = cut(other, true).await;
    assert!(seen.unwrap_err().contains(HARDWARE));
    assert_eq!((controller.lock().unwrap().resets(), permits), (0, 0));
}

#[tokio::test]
async fn a_state_that_is_none_is_never_off() {
    for state in ["off", "Unknown", ""] {
        let (seen, _, _) = cut(Controller::of(&[state]), true).await;
        assert!(seen.unwrap_err().contains("PowerState"), "{state}");
    }
}

/// An answer without end would take all of the host's memory.
#[tokio::test]
async fn an_answer_that_is_too_long_is_not_read_to_its_end() {
    let (seen, _, _) = cut(Controller::of(&["On".repeat(1 << 20).leak()]), true).await;
    assert!(seen.unwrap_err().contains("more than 1048576 bytes"));
}

#[tokio::test]
async fn a_session_that_was_forgotten_is_opened_anew_and_one_that_always_is_is_an_error() {
    let (seen, controller, _) = cut(
        Controller {
            forgets: 1,
            ..Controller::of(&["On", "On", "Off"])
        },
        true,
    )
    .await;
    assert!(is_off(&seen), "{seen:?}");
    let sessions = |c: &Controller| c.asked.iter().filter(|a| a.ends_with("Sessions")).count();
    assert_eq!(sessions(&controller.lock().unwrap()), 2);

    let (seen, _, _) = cut(
        Controller {
            forgets: usize::MAX,
            ..Controller::of(&["On"])
        },
        true,
    )
    .await;
    assert!(seen.unwrap_err().contains("401"));
}

/// A controller that accepts a connection and says nothing more holds nobody up for long.
#[tokio::test]
async fn silence_is_an_error_in_time() {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let device = device(
        "redfish",
        &[("url", &url), ("user", "karst"), ("secret", "env:PATH")],
    );
    let begun = Instant::now();
    let seen = device.carry_out(OFF, Some(HARDWARE), || true).await;
    assert!(
        seen.is_err() && begun.elapsed() < Duration::from_secs(6),
        "{seen:?} after {:?}",
        begun.elapsed()
    );
}

/// A program that is a power device, in a directory of its own.
fn program(name: &str, script: &str) -> (Power, PathBuf) {
    let dir = PathBuf::from(env!("CARGO_TARGET_TMPDIR"))
        .join(format!("device-{}-{name}", std::process::id()));
    std::fs::create_dir_all(&dir).unwrap();
    let path = dir.join("device");
    std::fs::write(
        &path,
        format!("#!/bin/sh\ncd '{}'\n{script}", dir.display()),
    )
    .unwrap();
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
    (
        device("command", &[("run", &path.display().to_string())]),
        dir,
    )
}

#[tokio::test]
async fn a_program_cuts_and_says_so() {
    let script = "case $1 in off) touch cut;; state) [ -e cut ] && s=off || s=on; echo '{\"power\": \"'$s'\"}';; esac";
    let (device, dir) = program("good", script);
    let seen = device
        .carry_out(PowerOrder::Look, Some(HARDWARE), || false)
        .await
        .unwrap();
    assert!(seen.on && !dir.join("cut").exists());
    let seen = device
        .carry_out(OFF, Some(HARDWARE), || true)
        .await
        .unwrap();
    assert!(!seen.on && dir.join("cut").exists());
    std::fs::remove_dir_all(dir).unwrap();
}

#[tokio::test]
async fn a_program_that_fails_is_never_off() {
    let cases = [
        (
            "refuses",
            "echo 'first line' >&2; echo 'the feeder is tripped' >&2; exit 3",
            "the feeder is tripped",
        ),
        ("mumbles", "echo off", "no such JSON"),
        (
            "babbles",
            "head -c 9000000 /dev/zero; echo '{\"power\": \"off\"}'",
            "no such JSON",
        ),
        (
            "invents",
            "echo '{\"power\": \"sleeping\"}'",
            "power `sleeping`",
        ),
        (
            "strange",
            "echo '{\"power\": \"off\", \"system\": \"somebody-else\"}'",
            HARDWARE,
        ),
    ];
    for (name, script, expected) in cases {
        let (device, dir) = program(name, script);
        let why = device
            .carry_out(OFF, Some(HARDWARE), || true)
            .await
            .unwrap_err()
            .to_string();
        assert!(why.contains(expected), "{name}: {why}");
        std::fs::remove_dir_all(dir).unwrap();
    }
}

/// Whatever a controller answers, its password goes to the address in the spec and nowhere else,
/// and never readable for others.
#[tokio::test]
async fn the_password_goes_nowhere_else() {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let elsewhere = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let (here, there) = (
        listener.local_addr().unwrap(),
        elsewhere.local_addr().unwrap(),
    );
    let visited = Arc::new(AtomicUsize::new(0));
    let count = visited.clone();
    tokio::spawn(async move {
        while elsewhere.accept().await.is_ok() {
            count.fetch_add(1, Ordering::Relaxed);
        }
    });
    let secret = PathBuf::from(env!("CARGO_TARGET_TMPDIR"))
        .join(format!("elsewhere-{}", std::process::id()));
    std::fs::write(&secret, PASSWORD).unwrap();
    let reference = format!("file:{}", secret.display());
    let redirect =
        format!("HTTP/1.1 307 x\r\nLocation: http://{there}/\r\nContent-Length: 0\r\n\r\n");
    let place = |path: String| {
        let body = json!({ "Links": { "Sessions": { "@odata.id": path } } }).to_string();
        format!(
            "HTTP/1.1 200 x\r\nContent-Length: {}\r\n\r\n{body}",
            body.len()
        )
    };
    let answers = [
        redirect,
        place(format!("@{there}/s")),
        place(format!("//{there}/s")),
        place(format!("http://{there}/s")),
    ];
    let url = format!("http://{here}");
    for answer in answers {
        let serve = async {
            // Its root, and whatever is asked there besides.
            while let Ok((mut stream, _)) = listener.accept().await {
                let mut chunk = [0; 4096];
                let _ = stream.read(&mut chunk).await;
                let _ = stream.write_all(answer.as_bytes()).await;
            }
        };
        let device = device(
            "redfish",
            &[("url", &url), ("user", "karst"), ("secret", &reference)],
        );
        let seen = tokio::select! {
            seen = device.carry_out(PowerOrder::Look, None, || false) => seen,
            () = serve => unreachable!("it is served until the answer is there"),
        };
        let why = seen.unwrap_err().to_string();
        assert!(!why.contains(PASSWORD), "{why}");
        assert_eq!(visited.load(Ordering::Relaxed), 0, "{why}");
    }
    let settings = [
        ("url", "http://10.40.0.90"),
        ("user", "karst"),
        ("secret", reference.as_str()),
    ];
    let settings = settings
        .iter()
        .map(|(k, v)| ((*k).to_string(), (*v).to_string()))
        .collect();
    let spec = PowerSpec {
        driver: "redfish".into(),
        settings,
        after: After::On,
    };
    let refused = Power::from_spec(&spec).unwrap_err().to_string();
    assert!(refused.contains("https"), "{refused}");
}
