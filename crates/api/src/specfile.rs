//! The spec file: TOML, the same on every node. Every finding has a line and a column.
//!
//! ```toml
//! cluster = "skerry"
//! timings = "default"            # or "brisk"
//! [timing]                       # any one by itself
//! lease = "2s"
//! [zone.northquay]
//! [node.doline]
//! zone = "northquay"
//! votes = 1
//! peer = "10.20.0.11:26700"
//! readmit = "auto"               # or "ask"
//! clock = "steady"               # or "may-stop": a machine that may be suspended without noticing
//! local = "observe"              # or "operate", "administer": what root there may ask other hosts for
//! [node.doline.power]
//! driver = "redfish"             # or "command" with `run`
//! url = "https://10.40.0.90"
//! user = "karst"
//! secret = "file:/etc/karst/secrets/power"
//! [workload.sailings]
//! driver = "postgres"            # or "lines": a program for trials
//! loss = "none"                  # or a size, "16MiB"
//! [workload.sailings.settings]
//! secret = "file:/etc/karst/secrets/replication"
//! [workload.sailings.replica.doline]
//! address = "10.30.0.11:5432"
//! data = "/var/lib/karst/sailings"
//! [workload.sailings.gate]
//! ponor = "10.30.0.13:26900"
//! [workload.sailings.reads]
//! age = "10s"                    # so old may be what readers see
//! [workload.sailings.reads.gate]
//! ponor = "10.30.0.13:26950"
//! [workload.sailings.address]
//! on = ["10.30.0.50/24", "fd30::50/64"]
//! follows = "gate"               # or "primary"
//! [workload.sailings.name]
//! record = "sailings.ferries.example"
//! zone = "ferries.example"
//! server = "10.30.0.53:53"
//! key = "karst-update"           # whose secret is in base64
//! secret = "file:/etc/karst/secrets/dns"
//! [step.warm]                    # the site's own program, at a named point
//! at = "after-promotion"
//! program = "warm"               # a file of the hosts' directory of steps
//! limit = "10s"
//! ```

mod step;
mod workload;

use karst_core::author::Level as Trust;
use karst_core::spec::{
    After, Clock, Finding, FindingKind, KeyPath, NodeSpec, PowerSpec, Readmit, Severity, Spec,
    Timings, check, may_carry_secrets, nearest,
};
use serde::Serialize;
use std::collections::BTreeMap;
use std::fmt;
use std::net::SocketAddr;
use std::ops::Range;
use std::time::Duration;
use toml_edit::{ImDocument, Item, TableLike};

/// Bytes of a spec's text that nodes take from elsewhere: 5,000 workloads on 1,000 nodes have half of that.
pub const LONGEST: usize = 4 << 20;

/// A finding with its place in the file. Lines and columns count from 1.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Located {
    pub line: usize,
    pub column: usize,
    #[serde(flatten)]
    pub finding: Finding,
}

impl fmt::Display for Located {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = match self.finding.severity {
            Severity::Error => "error",
            Severity::Warning => "warning",
        };
        let path = self.finding.path.join(".");
        let at = if path.is_empty() {
            String::new()
        } else {
            format!(" in `{path}`")
        };
        write!(
            f,
            "{}:{}: {word}{at}: {}; {}",
            self.line, self.column, self.finding.what, self.finding.remedy
        )
    }
}

/// What reading a file gave: a spec if there is no error among the findings.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Read {
    pub spec: Option<Spec>,
    pub findings: Vec<Located>,
}

impl Read {
    pub fn errors(&self) -> impl Iterator<Item = &Located> {
        self.findings
            .iter()
            .filter(|f| f.finding.severity == Severity::Error)
    }
}

/// Reads and checks a spec file's text. Never panics, whatever the text.
pub fn read(text: &str) -> Read {
    let document = match ImDocument::parse(text) {
        Ok(document) => document,
        Err(error) => {
            let (line, column) = Lines::of(text).place(error.span().map_or(0, |s| s.start));
            let what = format!("not TOML: {}", error.message().replace('\n', ", "));
            let finding = Finding {
                kind: FindingKind::SpecRefused,
                severity: Severity::Error,
                path: Vec::new(),
                what,
                remedy: "mend the syntax at this place".into(),
            };
            return Read {
                spec: None,
                findings: vec![Located {
                    line,
                    column,
                    finding,
                }],
            };
        }
    };
    let mut reader = Reader {
        spans: BTreeMap::new(),
        findings: Vec::new(),
    };
    let spec = reader.spec(document.as_table());
    let mut findings = std::mem::take(&mut reader.findings);
    let parsed = findings.is_empty();
    if parsed {
        findings = check(&spec);
    }
    let lines = Lines::of(text);
    let findings: Vec<Located> = findings
        .into_iter()
        .map(|finding| {
            let (line, column) = lines.place(reader.span_of(&finding.path));
            Located {
                line,
                column,
                finding,
            }
        })
        .collect();
    let sound = parsed
        && findings
            .iter()
            .all(|f| f.finding.severity != Severity::Error);
    Read {
        spec: sound.then_some(spec),
        findings,
    }
}

/// Where the lines of a text begin: found once, as a long spec may have as many findings as lines.
struct Lines<'a> {
    text: &'a str,
    starts: Vec<usize>,
}

impl<'a> Lines<'a> {
    fn of(text: &'a str) -> Self {
        let ends = text.match_indices('\n').map(|(at, _)| at + 1);
        let starts = std::iter::once(0).chain(ends).collect();
        Self { text, starts }
    }

    /// The line and the column of an offset, counted from 1.
    fn place(&self, offset: usize) -> (usize, usize) {
        let offset = offset.min(self.text.len());
        let line = self.starts.partition_point(|start| *start <= offset);
        let start = line.checked_sub(1).map_or(0, |i| self.starts[i]);
        let before = self.text.get(start..offset).unwrap_or_default();
        (line, before.chars().count() + 1)
    }
}

struct Reader {
    spans: BTreeMap<KeyPath, usize>,
    findings: Vec<Finding>,
}

/// One table under reading: which keys it knows is known when all were asked for.
struct Level<'a> {
    table: Option<&'a dyn TableLike>,
    path: KeyPath,
    known: Vec<&'static str>,
}

impl Reader {
    fn error(&mut self, path: KeyPath, what: impl Into<String>, remedy: impl Into<String>) {
        self.findings.push(Finding {
            kind: FindingKind::SpecRefused,
            severity: Severity::Error,
            path,
            what: what.into(),
            remedy: remedy.into(),
        });
    }

    /// The place of a key, or of the nearest table around it.
    fn span_of(&self, path: &KeyPath) -> usize {
        (0..=path.len())
            .rev()
            .find_map(|n| self.spans.get(&path[..n]).copied())
            .unwrap_or(0)
    }

    fn level<'a>(&mut self, table: &'a dyn TableLike, path: KeyPath) -> Level<'a> {
        for (key, item) in table.iter() {
            let start = |span: Option<Range<usize>>| span.map(|s| s.start);
            let key_span = table.key(key).and_then(|k| start(k.span()));
            if let Some(at) = key_span.or_else(|| start(item.span())) {
                self.spans.insert(joined(&path, key), at);
            }
        }
        Level {
            table: Some(table),
            path,
            known: Vec::new(),
        }
    }

    /// The table at `key`, or an empty one.
    fn table<'a>(&mut self, level: &mut Level<'a>, key: &'static str) -> Level<'a> {
        let path = joined(&level.path, key);
        match level.get(key) {
            None => Level {
                table: None,
                path,
                known: Vec::new(),
            },
            Some(item) => self.as_table(item, path),
        }
    }

    fn as_table<'a>(&mut self, item: &'a Item, path: KeyPath) -> Level<'a> {
        if let Some(table) = item.as_table_like() {
            return self.level(table, path);
        }
        let name = path.join(".");
        self.error(
            path.clone(),
            "not a table",
            format!("write it as [{name}] with keys below"),
        );
        Level {
            table: None,
            path,
            known: Vec::new(),
        }
    }

    /// The tables below `key`, by name.
    fn tables<'a>(&mut self, level: &mut Level<'a>, key: &'static str) -> Vec<(String, Level<'a>)> {
        let outer = self.table(level, key);
        let Some(table) = outer.table else {
            return Vec::new();
        };
        table
            .iter()
            .map(|(name, item)| {
                (
                    name.to_string(),
                    self.as_table(item, joined(&outer.path, name)),
                )
            })
            .collect()
    }

    fn text(&mut self, level: &mut Level, key: &'static str) -> Option<String> {
        let item = level.get(key)?;
        if item.as_str().is_none() {
            self.error(
                joined(&level.path, key),
                "not a text",
                "write it in double quotes",
            );
        }
        item.as_str().map(String::from)
    }

    fn need<T: Default>(&mut self, level: &Level, key: &'static str, value: Option<T>) -> T {
        if level.table.is_some_and(|t| t.get(key).is_none()) {
            self.error(
                level.path.clone(),
                format!("`{key}` is missing"),
                format!("add `{key} = ...`"),
            );
        }
        value.unwrap_or_default()
    }

    fn number(&mut self, level: &mut Level, key: &'static str, default: u32) -> u32 {
        let Some(item) = level.get(key) else {
            return default;
        };
        let number = item.as_integer().and_then(|n| u32::try_from(n).ok());
        if number.is_none() {
            self.error(
                joined(&level.path, key),
                "not a whole number of 0 or more",
                format!("the default is {default}"),
            );
        }
        number.unwrap_or(default)
    }

    fn flag(&mut self, level: &mut Level, key: &'static str) -> bool {
        let Some(item) = level.get(key) else {
            return false;
        };
        if item.as_bool().is_none() {
            self.error(
                joined(&level.path, key),
                "neither `true` nor `false`",
                "the default is false",
            );
        }
        item.as_bool().unwrap_or(false)
    }

    /// One of a few words.
    fn choice<T: Copy>(
        &mut self,
        level: &mut Level,
        key: &'static str,
        choices: &[(&'static str, T)],
    ) -> Option<T> {
        let given = self.text(level, key)?;
        let found = choices
            .iter()
            .find(|(word, _)| *word == given)
            .map(|(_, value)| *value);
        if found.is_none() {
            let words: Vec<String> = choices.iter().map(|(w, _)| format!("`{w}`")).collect();
            let near = nearest(&given, choices.iter().map(|(w, _)| *w));
            let remedy = near.map_or_else(
                || format!("use {}", words.join(" or ")),
                |n| format!("did you mean `{n}`?"),
            );
            self.error(
                joined(&level.path, key),
                format!("`{given}` is not known here"),
                remedy,
            );
        }
        found
    }

    fn address(&mut self, path: KeyPath, text: Option<&str>) -> Option<SocketAddr> {
        let parsed = text?.parse().ok();
        if parsed.is_none() {
            let what = format!(
                "`{}` is not an address with a port",
                text.unwrap_or_default()
            );
            self.error(
                path,
                what,
                "write it as \"10.20.0.11:26700\" or \"[fd00::11]:26700\"",
            );
        }
        parsed
    }

    fn address_at(&mut self, level: &mut Level, key: &'static str) -> Option<SocketAddr> {
        let text = self.text(level, key)?;
        self.address(joined(&level.path, key), Some(&text))
    }

    fn duration(&mut self, level: &mut Level, key: &'static str, value: &mut Duration) {
        let Some(text) = self.text(level, key) else {
            return;
        };
        let bounds = Duration::from_millis(10)..=Duration::from_secs(3600);
        match humantime::parse_duration(&text) {
            Ok(d) if bounds.contains(&d) => *value = d,
            Ok(_) => self.error(
                joined(&level.path, key),
                format!("{text} is out of bounds"),
                "use 10ms to 1h",
            ),
            Err(_) => {
                let what = format!("`{text}` is not a duration");
                self.error(
                    joined(&level.path, key),
                    what,
                    "write a number and a unit, \"400ms\" or \"2s\"",
                );
            }
        }
    }

    fn finish(&mut self, level: &Level) {
        let Some(table) = level.table else { return };
        for (key, _) in table.iter().filter(|(key, _)| !level.known.contains(key)) {
            let near = nearest(key, level.known.iter().copied());
            let known = level.known.join("`, `");
            let remedy = near.map_or_else(
                || format!("known here: `{known}`"),
                |n| format!("did you mean `{n}`?"),
            );
            self.error(
                joined(&level.path, key),
                format!("unknown key `{key}`"),
                remedy,
            );
        }
    }

    fn spec(&mut self, root: &dyn TableLike) -> Spec {
        let mut top = self.level(root, Vec::new());
        let cluster = self.text(&mut top, "cluster");
        let cluster = self.need(&top, "cluster", cluster);
        let timings = self.timings(&mut top);
        let zones = self
            .tables(&mut top, "zone")
            .into_iter()
            .map(|(name, level)| {
                self.finish(&level);
                name
            });
        let zones = zones.collect();
        let nodes = self
            .tables(&mut top, "node")
            .into_iter()
            .map(|(name, level)| (name.into(), self.node(level)));
        let nodes = nodes.collect();
        let workloads = self.tables(&mut top, "workload");
        let workloads = workloads
            .into_iter()
            .map(|(name, level)| (name.into(), self.workload(level)))
            .collect();
        let steps = self.tables(&mut top, "step");
        let steps = steps
            .into_iter()
            .map(|(name, level)| (name, self.step(level)))
            .collect();
        self.finish(&top);
        Spec {
            cluster,
            timings,
            zones,
            nodes,
            workloads,
            steps,
        }
    }

    fn timings(&mut self, top: &mut Level) -> Timings {
        let sets = [("default", false), ("brisk", true)];
        let brisk = self.choice(top, "timings", &sets).unwrap_or(false);
        let mut t = if brisk {
            Timings::brisk()
        } else {
            Timings::default()
        };
        let mut level = self.table(top, "timing");
        let fields: [(&'static str, &mut Duration); 11] = [
            ("heartbeat", &mut t.heartbeat),
            ("suspicion_floor", &mut t.suspicion_floor),
            ("suspicion_ceiling", &mut t.suspicion_ceiling),
            ("election_timeout", &mut t.election_timeout),
            ("election_jitter", &mut t.election_jitter),
            ("lease", &mut t.lease),
            ("kill_bound", &mut t.kill_bound),
            ("stop_limit", &mut t.stop_limit),
            ("settle_limit", &mut t.settle_limit),
            ("answer_limit", &mut t.answer_limit),
            ("keep_up_limit", &mut t.keep_up_limit),
        ];
        for (key, value) in fields {
            self.duration(&mut level, key, value);
        }
        self.finish(&level);
        t
    }

    fn node(&mut self, mut level: Level) -> NodeSpec {
        let zone = self.text(&mut level, "zone");
        let zone = self.need(&level, "zone", zone);
        let votes = self.number(&mut level, "votes", 1);
        let witness = self.flag(&mut level, "witness");
        let peer = self.address_at(&mut level, "peer");
        self.need(&level, "peer", peer.map(|_| ()));
        let api = self.address_at(&mut level, "api");
        let console = self.origin(&mut level, "console");
        let power = self.power(&mut level);
        let words = [("auto", Readmit::Auto), ("ask", Readmit::Ask)];
        let readmit = self
            .choice(&mut level, "readmit", &words)
            .unwrap_or_default();
        let words = [("steady", Clock::Steady), ("may-stop", Clock::MayStop)];
        let clock = self.choice(&mut level, "clock", &words).unwrap_or_default();
        let words = Trust::ALL.map(|trust| (trust.word(), trust));
        let local = self.choice(&mut level, "local", &words).unwrap_or_default();
        self.finish(&level);
        NodeSpec {
            zone,
            votes,
            witness,
            peer: peer.unwrap_or_else(nowhere),
            api,
            console,
            power,
            readmit,
            clock,
            local,
        }
    }

    /// A URL of scheme, host and port alone.
    fn origin(&mut self, level: &mut Level, key: &'static str) -> Option<String> {
        let text = self.text(level, key)?;
        let remedy = "write scheme, host and port alone, as https://karst1.example:26780";
        match may_carry_secrets(&text) {
            Err(why) => self.error(joined(&level.path, key), why, remedy),
            Ok(())
                if text.matches('/').count() != 2 || text.contains(['?', '#', '\'', ';', ',']) =>
            {
                let what = format!("`{text}` has more than an origin");
                self.error(joined(&level.path, key), what, remedy);
            }
            Ok(()) => return Some(text),
        }
        None
    }

    fn power(&mut self, level: &mut Level) -> Option<PowerSpec> {
        let mut inner = self.table(level, "power");
        inner.table?;
        let driver = self.choice(
            &mut inner,
            "driver",
            &[("redfish", "redfish"), ("command", "command")],
        );
        let driver = self.need(&inner, "driver", driver).to_string();
        let (needed, known): (&[&'static str], &[&'static str]) = match driver.as_str() {
            "redfish" => (
                &["url", "user", "secret"],
                &["url", "user", "secret", "ca", "system"],
            ),
            "command" => (&["run"], &["run"]),
            _ => return None,
        };
        let mut settings = self.texts(&mut inner, known);
        for key in needed {
            let given = settings.get(*key).cloned();
            self.need(&inner, key, given);
        }
        if driver == "redfish"
            && let Some(login) = self.choice(
                &mut inner,
                "login",
                &[("session", "session"), ("basic", "basic")],
            )
        {
            settings.insert("login".into(), login.into());
        }
        let after = self
            .choice(
                &mut inner,
                "after",
                &[("on", After::On), ("off", After::Off)],
            )
            .unwrap_or_default();
        self.finish(&inner);
        Some(PowerSpec {
            driver,
            settings,
            after,
        })
    }

    /// The texts at these keys; a secret among them has to be a reference.
    fn texts(&mut self, level: &mut Level, keys: &[&'static str]) -> BTreeMap<String, String> {
        let mut texts = BTreeMap::new();
        for key in keys {
            if let Some(value) = self.text(level, key) {
                if key.ends_with("secret")
                    && !(value.starts_with("file:") || value.starts_with("env:"))
                {
                    let remedy = "write a reference, \"file:PATH\" or \"env:NAME\"";
                    self.error(
                        joined(&level.path, key),
                        "a secret is never written in the spec",
                        remedy,
                    );
                }
                texts.insert((*key).to_string(), value);
            }
        }
        texts
    }

    fn path(&mut self, level: &mut Level, key: &'static str) -> Option<String> {
        let path = self.text(level, key)?;
        if !path.is_empty() && !path.starts_with('/') {
            self.error(
                joined(&level.path, key),
                "not an absolute path",
                "begin it with a slash",
            );
        }
        Some(path)
    }
}

impl<'a> Level<'a> {
    fn get(&mut self, key: &'static str) -> Option<&'a Item> {
        self.known.push(key);
        self.table?.get(key)
    }
}

fn joined(path: &KeyPath, key: &str) -> KeyPath {
    path.iter().cloned().chain([key.to_string()]).collect()
}

/// Stands in where an address could not be read; a spec with one never leaves [`read`].
fn nowhere() -> SocketAddr {
    SocketAddr::from(([0, 0, 0, 0], 0))
}
