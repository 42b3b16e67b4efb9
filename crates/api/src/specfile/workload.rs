//! What a spec file says of a workload.

use super::{Level, Reader, joined, nowhere};
use crate::serversettings;
use karst_core::NodeId;
use karst_core::spec::{
    AddressSpec, Algorithm, Alone, Follows, Leads, Loss, NameSpec, Reads, ReplicaSpec, Rules,
    WorkloadSpec,
};
use karst_core::text::read_size;
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::path::Path;
use std::time::Duration;
use toml_edit::Item;

impl Reader {
    pub(super) fn workload(&mut self, mut level: Level) -> WorkloadSpec {
        let driver = self
            .choice(
                &mut level,
                "driver",
                &[("postgres", "postgres"), ("lines", "lines")],
            )
            .unwrap_or("postgres")
            .to_string();
        let loss = self.loss(&mut level);
        let alone = self.choice(
            &mut level,
            "alone",
            &[("block", Alone::Block), ("continue", Alone::Continue)],
        );
        let restart = self.flag(&mut level, "restart");
        let adopt = self.flag(&mut level, "adopt");
        let replicas = self.tables(&mut level, "replica");
        let mut never = BTreeSet::new();
        let replicas = replicas
            .into_iter()
            .map(|(name, mut level)| {
                if self.flag(&mut level, "standby_only") {
                    never.insert(NodeId::from(name.as_str()));
                }
                (name.into(), self.replica(level))
            })
            .collect();
        let gates = self.gates(&mut level);
        let reads = self.reads(&mut level);
        let address = self.floating(&mut level);
        let best = match (&address, gates.is_empty()) {
            (Some(_), _) => Leads::Address,
            (None, false) => Leads::Gates,
            (None, true) => Leads::Primary,
        };
        let name = self.name(&mut level, best);
        let settings = self.settings(&mut level, &driver);
        let rules = self.rules(&mut level, never);
        self.finish(&level);
        WorkloadSpec {
            driver,
            loss,
            alone: alone.unwrap_or_default(),
            restart,
            adopt,
            replicas,
            gates,
            reads,
            address,
            name,
            settings,
            rules,
        }
    }

    fn gates(&mut self, level: &mut Level) -> BTreeMap<NodeId, SocketAddr> {
        let gate = self.table(level, "gate");
        let mut gates = BTreeMap::new();
        for (name, item) in gate.table.iter().flat_map(|t| t.iter()) {
            let path = joined(&gate.path, name);
            if item.as_str().is_none() {
                self.error(
                    path.clone(),
                    "not an address",
                    "write it as \"10.30.0.13:26900\"",
                );
            }
            if let Some(address) = self.address(path, item.as_str()) {
                gates.insert(name.into(), address);
            }
        }
        gates
    }

    fn reads(&mut self, level: &mut Level) -> Option<Reads> {
        let mut inner = self.table(level, "reads");
        inner.table?;
        let mut age = Duration::from_secs(10);
        self.duration(&mut inner, "age", &mut age);
        let behind = self.text(&mut inner, "behind");
        let behind = behind.and_then(|text| self.size(&inner, "behind", &text, "a size"));
        let gates = self.gates(&mut inner);
        let primary = self.flag(&mut inner, "primary");
        let except = self.names(&mut inner, "except", "\"uvala\"");
        self.finish(&inner);
        Some(Reads {
            gates,
            age,
            behind,
            primary,
            except,
        })
    }

    fn size(&mut self, level: &Level, key: &'static str, text: &str, wanted: &str) -> Option<u64> {
        let size = read_size(text);
        if size.is_none() {
            let what = format!("`{text}` is not {wanted}");
            self.error(
                joined(&level.path, key),
                what,
                "write a number and a unit, \"16MiB\" (B, KiB, MiB, GiB)",
            );
        }
        size
    }

    fn rules(&mut self, level: &mut Level, never: BTreeSet<NodeId>) -> Rules {
        let [spread, together, needs] = ["spread", "together", "needs"]
            .map(|key| self.names(level, key, "\"fares\", \"crew\""));
        Rules {
            keep: self.number(level, "keep", 0),
            never,
            spread,
            together,
            needs,
        }
    }

    /// A list of names.
    pub(super) fn names<N: Ord + for<'n> From<&'n str>>(
        &mut self,
        level: &mut Level,
        key: &'static str,
        example: &str,
    ) -> BTreeSet<N> {
        let path = joined(&level.path, key);
        let Some(item) = level.get(key) else {
            return BTreeSet::new();
        };
        let list = item.as_array().map(|list| {
            let names = list.iter().map(|name| Some(N::from(name.as_str()?)));
            names.collect::<Option<BTreeSet<_>>>()
        });
        list.flatten().unwrap_or_else(|| {
            let remedy = format!("write it as [{example}]");
            self.error(path, "not a list of names", remedy);
            BTreeSet::new()
        })
    }

    fn floating(&mut self, level: &mut Level) -> Option<AddressSpec> {
        let mut inner = self.table(level, "address");
        inner.table?;
        let path = joined(&inner.path, "on");
        let list = inner.get("on");
        let items: Vec<Option<&str>> = match list.and_then(Item::as_array) {
            Some(array) => array.iter().map(|v| v.as_str()).collect(),
            None => list.map(Item::as_str).into_iter().collect(),
        };
        self.need(&inner, "on", list.map(|_| ()));
        let mut on = Vec::new();
        for item in items {
            match item.and_then(|text| text.parse().ok()) {
                Some(subnet) => on.push(subnet),
                None => {
                    let what = format!(
                        "`{}` is not an address with its subnet's prefix",
                        item.unwrap_or_default()
                    );
                    self.error(
                        path.clone(),
                        what,
                        "write it as \"10.30.0.50/24\" or \"fd30::50/64\"",
                    );
                }
            }
        }
        let words = [("gate", Follows::Gate), ("primary", Follows::Primary)];
        let follows = self
            .choice(&mut inner, "follows", &words)
            .unwrap_or_default();
        self.finish(&inner);
        Some(AddressSpec { on, follows })
    }

    fn name(&mut self, level: &mut Level, best: Leads) -> Option<NameSpec> {
        let mut inner = self.table(level, "name");
        inner.table?;
        let keys = ["record", "zone", "key", "secret"];
        let texts = self.texts(&mut inner, &keys);
        let [record, zone, key, secret] =
            keys.map(|key| self.need(&inner, key, texts.get(key).cloned()));
        let server = self.address_at(&mut inner, "server");
        self.need(&inner, "server", server.map(|_| ()));
        let mut ttl = Duration::from_secs(5);
        self.duration(&mut inner, "ttl", &mut ttl);
        let leads = [
            ("address", Leads::Address),
            ("gates", Leads::Gates),
            ("primary", Leads::Primary),
        ];
        let leads = self.choice(&mut inner, "leads", &leads).unwrap_or(best);
        let algorithms = [
            ("hmac-sha256", Algorithm::HmacSha256),
            ("hmac-sha384", Algorithm::HmacSha384),
            ("hmac-sha512", Algorithm::HmacSha512),
        ];
        let algorithm = self.choice(&mut inner, "algorithm", &algorithms);
        self.finish(&inner);
        Some(NameSpec {
            record,
            zone,
            server: server.unwrap_or_else(nowhere),
            ttl,
            leads,
            key,
            secret,
            algorithm: algorithm.unwrap_or_default(),
        })
    }

    fn settings(&mut self, level: &mut Level, driver: &str) -> BTreeMap<String, String> {
        let known: &[&str] = match driver {
            "lines" => &["program", "user", "launcher"],
            _ => &[
                "programs",
                "user",
                "launcher",
                "secret",
                "database",
                "client",
                "client-secret",
                "clients",
                "clients-ca",
                "sockets",
            ],
        };
        let mut inner = self.table(level, "settings");
        let mut settings = self.texts(&mut inner, known);
        let wrong = settings
            .get("clients")
            .and_then(|text| serversettings::wrong_client(text));
        if let Some(line) = wrong {
            self.error(
                joined(&inner.path, "clients"),
                format!("`{line}` is no line of a list of clients"),
                "write lines such as `host fares all 10.30.0.0/24 scram-sha-256`, with what they include written out",
            );
        }
        let set = self.table(&mut inner, "set");
        for (key, item) in set.table.iter().flat_map(|t| t.iter()) {
            let refused = item
                .as_str()
                .and_then(|value| serversettings::refused(key, value));
            if let Some((what, remedy)) = refused {
                self.error(joined(&set.path, key), what, remedy);
                continue;
            }
            match item.as_str() {
                Some(value) => {
                    settings.insert(format!("set.{key}"), value.to_string());
                }
                None => self.error(
                    joined(&set.path, key),
                    "not a text",
                    "write the setting in double quotes",
                ),
            }
        }
        self.finish(&inner);
        settings
    }

    fn loss(&mut self, level: &mut Level) -> Loss {
        let Some(text) = self.text(level, "loss") else {
            return Loss::None;
        };
        if text == "none" {
            return Loss::None;
        }
        let size = read_size(&text);
        if size.is_none() {
            let what = format!("`{text}` is neither `none` nor a size");
            self.error(
                joined(&level.path, "loss"),
                what,
                "write \"none\", or a size such as \"16MiB\"",
            );
        }
        size.map_or(Loss::None, Loss::Bytes)
    }

    fn replica(&mut self, mut level: Level) -> ReplicaSpec {
        let rank = self.number(&mut level, "rank", 50);
        let address = self.address_at(&mut level, "address");
        self.need(&level, "address", address.map(|_| ()));
        let data = self.path(&mut level, "data");
        let data = self.need(&level, "data", data);
        let log = self.path(&mut level, "log");
        let within = |log: &String| !data.is_empty() && Path::new(log).starts_with(&data);
        if log.as_ref().is_some_and(within) {
            self.error(
                joined(&level.path, "log"),
                "within the data directory",
                "leave it out, or name one elsewhere",
            );
        }
        let copy_from = self.text(&mut level, "copy_from");
        let base_backup = self.path(&mut level, "base_backup");
        self.finish(&level);
        ReplicaSpec {
            rank,
            address: address.unwrap_or_else(nowhere),
            data,
            log,
            copy_from: copy_from.map(|node| node.as_str().into()),
            base_backup,
        }
    }
}
