//! Callers of each level send hostile requests: every call of the interface, with hostile values,
//! to every node, for as long as asked. Meanwhile nobody may lose the coordinator, no daemon may grow or
//! end, and nothing may be done for a caller that the level does not allow.

use super::steady::Steady;
use crate::cluster::Lab;
use crate::layout::{NODES, WORKLOAD};
use anyhow::{Context, Result, ensure};
use karst_api::ModeBody;
use karst_api::core::author::Level;
use karst_api::core::operation::Mode;
use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use reqwest::{Method, StatusCode};
use serde_json::{Map, Value, json};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::sync::Arc;
use std::time::{Duration, Instant};

const PATIENCE: Duration = Duration::from_secs(15);
/// What an administrator may do, and the lab would be no cluster any more.
const SPARED: [&str; 6] = [
    "fence",
    "power",
    "failover",
    "enrol",
    "go-back",
    "invitations",
];
/// Calls that no level below may make, with any body.
const ADMINISTERS: [&str; 5] = ["fence", "enrol", "go-back", "invitations", "certificates"];

/// Some of them have a plan for who operates, which is answered with 200; what is done, with 202.
const PLANNED: [&str; 2] = ["enrol", "go-back"];

/// A call of the interface.
#[derive(Clone, Debug)]
struct Call {
    method: Method,
    path: String,
    parameters: Vec<Value>,
    body: Option<Value>,
}

/// A caller, and all that it knows.
struct Caller {
    level: Level,
    token: String,
    servers: Vec<String>,
    document: Arc<Value>,
    calls: Arc<Vec<Call>>,
    chance: StdRng,
    client: reqwest::Client,
}

/// What it was answered, by status.
type Answers = BTreeMap<u16, u64>;

/// # Errors
/// If a promise was not kept.
pub async fn run(lab: &Lab, time: Duration, seed: u64) -> Result<()> {
    println!("callers: seed {seed}, {} s", time.as_secs());
    acts(lab).await?;
    let servers = lab.layout.servers();
    let client = reqwest::Client::builder()
        .timeout(PATIENCE)
        .no_proxy()
        .redirect(reqwest::redirect::Policy::none())
        .build()?;
    let document = client.get(format!("{}/openapi.json", servers[0])).send();
    let document: Value = document.await?.json().await?;
    let (document, calls) = (Arc::new(document.clone()), Arc::new(calls_of(&document)?));
    ensure!(calls.len() > 30, "{} calls are known", calls.len());
    let levels = [Level::Observe, Level::Operate, Level::Administer];
    let tokens = give_tokens(lab, &levels).await?;
    let mut steady = Steady::of(lab, NODES.iter().map(|node| node.name))?;
    let mut callers = Vec::new();
    for (i, (level, token)) in (0u64..).zip(levels.into_iter().zip(tokens)) {
        let caller = Caller {
            level,
            token,
            servers: servers.clone(),
            document: document.clone(),
            calls: calls.clone(),
            chance: StdRng::seed_from_u64(seed + i),
            client: client.clone(),
        };
        callers.push((level, tokio::spawn(caller.call_for(time))));
    }
    steady.watch(lab, time).await?;
    acts(lab).await?;
    for (level, caller) in callers {
        let answers = caller.await??;
        let all: u64 = answers.values().sum();
        let list: Vec<String> = answers.iter().map(|(s, n)| format!("{s}: {n}")).collect();
        println!("{:<11} {all} calls: {}", level.word(), list.join(", "));
    }
    steady.end(lab)
}

/// All is well, and earlier callers' settings are as they were.
pub(super) async fn acts(lab: &Lab) -> Result<()> {
    let status = lab.status().await?.status;
    for intent in status.intents {
        lab.client.end(intent.id).await?;
    }
    let body = ModeBody {
        mode: Mode::Act,
        why: None,
        for_seconds: None,
    };
    lab.client.set_mode(WORKLOAD, &body).await?;
    lab.healthy(Duration::from_secs(120)).await.map(drop)
}

/// Each level gets a token beside the captain's.
async fn give_tokens(lab: &Lab, levels: &[Level]) -> Result<Vec<String>> {
    let path = lab.layout.secret("tokens");
    let mut lines = std::fs::read_to_string(&path)?;
    let mut tokens = Vec::new();
    for level in levels {
        let token = format!("{:032x}", rand::random::<u128>());
        let digest = Sha256::digest(token.as_bytes());
        let digest: String = digest.iter().map(|byte| format!("{byte:02x}")).collect();
        let word = level.word();
        writeln!(lines, "caller-{word} {word} {digest}")?;
        tokens.push(token);
    }
    std::fs::write(&path, lines)?;
    let newest = tokens.last().context("a level")?;
    for server in lab.layout.servers() {
        let client = karst_api::Client::new(&[server], newest, None)?;
        let begun = Instant::now();
        while client.status().await.is_err() {
            ensure!(begun.elapsed() < PATIENCE, "the tokens are not read again");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }
    Ok(tokens)
}

fn calls_of(document: &Value) -> Result<Vec<Call>> {
    let paths = document["paths"].as_object().context("paths")?;
    let mut calls = Vec::new();
    for (path, methods) in paths {
        for (method, call) in methods.as_object().into_iter().flatten() {
            let Ok(method) = Method::from_bytes(method.to_uppercase().as_bytes()) else {
                continue;
            };
            // It does not end.
            if path.ends_with("/live") {
                continue;
            }
            let parameters = call["parameters"].as_array().cloned().unwrap_or_default();
            let body = &call["requestBody"]["content"]["application/json"]["schema"];
            calls.push(Call {
                method,
                path: path.clone(),
                parameters,
                body: (!body.is_null()).then(|| body.clone()),
            });
        }
    }
    Ok(calls)
}

impl Caller {
    async fn call_for(mut self, time: Duration) -> Result<Answers> {
        let (begun, mut answers) = (Instant::now(), Answers::new());
        while begun.elapsed() < time {
            let calls = self.calls.clone();
            let call = calls.choose(&mut self.chance).context("there are calls")?;
            let spared = SPARED.iter().any(|word| call.path.contains(word));
            if self.level == Level::Administer && spared && self.chance.random_bool(0.9) {
                continue;
            }
            // The others of these calls go to nodes and workloads that are not there.
            let strange = self.level == Level::Administer && spared;
            let Some(status) = self.call(call, strange).await? else {
                continue;
            };
            *answers.entry(status.as_u16()).or_default() += 1;
            self.is_allowed(call, status)?;
        }
        Ok(answers)
    }

    fn is_allowed(&self, call: &Call, status: StatusCode) -> Result<()> {
        let Call { method, path, .. } = call;
        let what = || format!("{} {method} {path}: {status}", self.level.word());
        ensure!(status != StatusCode::INTERNAL_SERVER_ERROR, what());
        let signs = path.ends_with("/session");
        if self.level == Level::Observe && *method != Method::GET && !signs {
            ensure!(!status.is_success(), what());
        }
        let administers = ADMINISTERS.iter().any(|word| path.contains(word));
        let revises = path.ends_with("/spec") && *method == Method::PUT;
        let planned = PLANNED.iter().any(|word| path.contains(word)) && status == StatusCode::OK;
        if self.level == Level::Operate && (administers || revises) && !planned {
            ensure!(!status.is_success(), what());
        }
        Ok(())
    }

    /// None where there was no answer: the client's own library refused the call, or a node was busy for
    /// longer than this waits.
    async fn call(&mut self, call: &Call, strange: bool) -> Result<Option<StatusCode>> {
        let mut path = call.path.clone();
        let mut query = Vec::new();
        let mut headers = Vec::new();
        for parameter in &call.parameters {
            let name = parameter["name"].as_str().unwrap_or_default();
            let value = if strange {
                "nowhere".into()
            } else {
                self.text()
            };
            match parameter["in"].as_str() {
                Some("path") => path = path.replace(&format!("{{{name}}}"), &escaped(&value)),
                Some("query") if self.chance.random_bool(0.4) => query.push((name, value)),
                Some("header") => headers.push((name, value)),
                _ => {}
            }
        }
        let server = self.servers.choose(&mut self.chance).context("a server")?;
        let mut request = self
            .client
            .request(call.method.clone(), format!("{server}{path}"))
            .bearer_auth(&self.token)
            .query(&query);
        for (name, value) in headers {
            request = request.header(name, value.replace(|c: char| !c.is_ascii_graphic(), "3"));
        }
        if let Some(schema) = &call.body {
            request = match self.chance.random_range(0..12) {
                0 => request.body("{\"\u{0}"),
                1 => request.json(&self.nested()),
                2 => request
                    .header("Content-Type", "application/json")
                    .body("[".repeat(60_000)),
                _ => {
                    let schema = schema.clone();
                    let body = self.value(&schema, 0);
                    request.json(&body)
                }
            };
        }
        match request.send().await {
            Ok(response) => Ok(Some(response.status())),
            Err(error) if error.is_builder() || error.is_timeout() => Ok(None),
            // A node closes a connection that sends too much.
            Err(error) if error.is_request() || error.is_body() => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    /// Something of that schema, now and then of another.
    fn value(&mut self, schema: &Value, depth: u32) -> Value {
        if depth > 6 || self.chance.random_bool(0.05) {
            return self.nested();
        }
        if let Some(name) = schema["$ref"].as_str() {
            let document = self.document.clone();
            let known = document.pointer(name.trim_start_matches('#'));
            return known.map_or(Value::Null, |schema| self.value(schema, depth + 1));
        }
        for key in ["oneOf", "anyOf", "allOf"] {
            if let Some(all) = schema[key].as_array() {
                let one = all.choose(&mut self.chance).cloned().unwrap_or_default();
                return self.value(&one, depth + 1);
            }
        }
        if let Some(words) = schema["enum"].as_array() {
            let word = words.choose(&mut self.chance).cloned();
            return word.unwrap_or_default();
        }
        if let Some(properties) = schema["properties"].as_object() {
            let mut object = Map::new();
            for (name, schema) in properties {
                if self.chance.random_bool(0.85) {
                    object.insert(name.clone(), self.value(schema, depth + 1));
                }
            }
            return Value::Object(object);
        }
        let kind = match &schema["type"] {
            Value::Array(all) => all.choose(&mut self.chance).cloned().unwrap_or_default(),
            kind => kind.clone(),
        };
        match kind.as_str() {
            Some("array") => {
                let count = self.chance.random_range(0..4);
                let items = schema["items"].clone();
                (0..count).map(|_| self.value(&items, depth + 1)).collect()
            }
            Some("boolean") => json!(self.chance.random_bool(0.5)),
            Some("integer" | "number") => {
                let all = [json!(0), json!(1), json!(-1), json!(u64::MAX), json!(1.5)];
                all.choose(&mut self.chance).cloned().unwrap_or_default()
            }
            Some("null") => Value::Null,
            _ => json!(self.text()),
        }
    }

    fn nested(&mut self) -> Value {
        let deep = (0..self.chance.random_range(1..100)).fold(json!(null), |v, _| json!([v]));
        let all = [
            json!({}),
            json!([]),
            json!("x"),
            json!(1e308),
            json!({"plan_only": 7}),
            deep,
        ];
        all.choose(&mut self.chance).cloned().unwrap_or_default()
    }

    fn text(&mut self) -> String {
        let long = "x".repeat(5_000);
        let spec = "[zone.a]\n".repeat(2_000) + "[workload.a.replica.b]\n";
        let all = [
            "doline",
            "polje",
            "ponor",
            "uvala",
            "sailings",
            "op-1",
            "2",
            "watch",
            "",
            ".",
            "..",
            "../../etc/passwd",
            "%2e%2e",
            "\u{0}",
            "\u{1b}[2J",
            "a\nb",
            "🐦",
            "'; drop table x; --",
            "18446744073709551616",
            "-1",
            "file:/etc/shadow",
            "\"1\"",
            &long,
            &spec,
        ];
        let one = all.choose(&mut self.chance).copied();
        one.unwrap_or_default().into()
    }
}

/// As a part of a path (RFC 3986, section 2.1).
fn escaped(text: &str) -> String {
    let mut all = String::new();
    for byte in text.bytes() {
        if byte.is_ascii_alphanumeric() || b"-_~".contains(&byte) {
            all.push(char::from(byte));
        } else {
            let _ = write!(all, "%{byte:02X}");
        }
    }
    all
}
