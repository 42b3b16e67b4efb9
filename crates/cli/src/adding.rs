//! A workload more: an edit of the spec's text that is looked at as a plan, like any other.

use crate::arguments::NewWorkload;
use crate::client_lists;
use crate::ending::Ending;
use crate::intents;
use crate::output::Format;
use anyhow::{Context, Result, bail};
use karst_api::Client;
use std::net::SocketAddr;
use toml_edit::{DocumentMut, Item, Table, value};

/// Between the ranks of replicas, in the order in which they are given.
const RANKS: i64 = 10;

pub async fn add(client: &Client, new: Box<NewWorkload>, format: Format) -> Result<Ending> {
    let text = with_workload(&client.spec().await?.text, &new)?;
    let typed = ("workload", new.name.as_str());
    let (why, consent) = (new.change.why, new.change.consent);
    intents::submit(client, text, why, &consent, typed, format).await
}

fn with_workload(text: &str, new: &NewWorkload) -> Result<String> {
    let mut document: DocumentMut = text.parse().context("the spec in force")?;
    let all = document.entry("workload").or_insert_with(|| {
        let mut table = Table::new();
        table.set_implicit(true);
        Item::Table(table)
    });
    let Some(all) = all.as_table_like_mut() else {
        bail!("the spec in force has no table `workload`");
    };
    if all.contains_key(&new.name) {
        bail!(
            "nothing was changed: there is a workload `{}`; change it with `karst spec submit`",
            new.name
        );
    }
    let mut table = Table::new();
    table["driver"] = value(&new.driver);
    table["loss"] = value("none");
    if new.adopt {
        table["adopt"] = value(true);
    }
    table["settings"] = Item::Table(settings(new)?);
    table["replica"] = Item::Table(replicas(new)?);
    if !new.gates.is_empty() {
        let mut gates = Table::new();
        for gate in &new.gates {
            let (node, at) = placed(gate)?;
            gates[node] = value(at.to_string());
        }
        table["gate"] = Item::Table(gates);
    }
    all.insert(&new.name, Item::Table(table));
    Ok(document.to_string())
}

fn settings(new: &NewWorkload) -> Result<Table> {
    let mut settings = Table::new();
    if let Some(secret) = &new.secret {
        settings["secret"] = value(secret);
    }
    if let Some(programs) = &new.programs {
        settings["programs"] = value(programs);
    }
    if let Some(user) = &new.user {
        settings["user"] = value(user);
    }
    if let Some(file) = &new.clients {
        settings["clients"] = value(client_lists::written_out(file)?);
    }
    if let Some(ca) = &new.clients_ca {
        settings["clients-ca"] = value(ca);
    }
    if let Some(sockets) = &new.sockets {
        settings["sockets"] = value(sockets);
    }
    let mut set = Table::new();
    for given in &new.set {
        let Some((name, to)) = given.split_once('=') else {
            bail!("--set {given}: write NAME=VALUE, such as max_connections=300");
        };
        set[name] = value(to);
    }
    if !set.is_empty() {
        settings["set"] = Item::Table(set);
    }
    Ok(settings)
}

/// The first is preferred.
fn replicas(new: &NewWorkload) -> Result<Table> {
    let mut all = Table::new();
    all.set_implicit(true);
    for (given, rank) in new.replicas.iter().zip(1..) {
        let (node, at) = placed(given)?;
        let mut replica = Table::new();
        replica["rank"] = value(RANKS * rank);
        replica["address"] = value(at.to_string());
        replica["data"] = value(&new.data);
        all[node] = Item::Table(replica);
    }
    let sources = [
        ("copy_from", "--copy-from", &new.copy_from),
        ("base_backup", "--base-backup", &new.base_backup),
    ];
    for (key, option, given) in sources {
        for given in given {
            let parts = given.split_once('=');
            let (node, from) = parts
                .filter(|(node, _)| all.contains_key(node))
                .with_context(|| {
                    format!("{option} {given}: write NODE=..., with a node that --replica names")
                })?;
            all[node][key] = value(from);
        }
    }
    Ok(all)
}

fn placed(given: &str) -> Result<(&str, SocketAddr)> {
    let parts = given.split_once('=');
    let placed = parts.and_then(|(node, at)| Some((node, at.parse().ok()?)));
    placed.with_context(|| {
        format!("`{given}`: write NODE=ADDRESS:PORT, such as doline=10.30.0.11:5440")
    })
}

#[cfg(test)]
mod tests {
    use super::with_workload;
    use crate::arguments::{Cli, Command, WorkloadCommand};
    use clap::Parser;
    use karst_api::specfile;

    fn added(words: &str) -> anyhow::Result<String> {
        let spec = "cluster = \"skerry\" # ours\n[zone.quay]\n[node.doline]\nzone = \"quay\"\npeer = \"10.20.0.11:26700\"\n";
        let cli = Cli::try_parse_from(words.split(' '))?;
        let Command::Workload(WorkloadCommand::Add(new)) = cli.command else {
            panic!("another command");
        };
        with_workload(spec, &new)
    }

    /// What comes of it is a spec, with everybody's comments.
    #[test]
    fn a_workload_is_added_to_the_text() {
        let text = added(
            "karst workload add fares --replica doline=10.30.0.11:5440 --data /srv/fares --gate doline=10.30.0.11:26910 \
             --secret file:/etc/karst/fares --set max_connections=300 --adopt --base-backup doline=/srv/backup",
        )
        .unwrap();
        assert!(text.contains("# ours"), "{text}");
        let read = specfile::read(&text);
        let errors: Vec<String> = read.errors().map(ToString::to_string).collect();
        let spec = read.spec.unwrap_or_else(|| panic!("{errors:?}\n{text}"));
        let fares = &spec.workloads[&"fares".into()];
        assert!(fares.adopt && fares.settings["set.max_connections"] == "300");
        let doline = &fares.replicas[&"doline".into()];
        assert_eq!(doline.data, "/srv/fares");
        assert_eq!(doline.base_backup.as_deref(), Some("/srv/backup"));
        assert_eq!(fares.gates.len(), 1);
    }

    #[test]
    fn what_is_given_wrongly_is_named() {
        let words = "karst workload add fares --secret file:/x --data /srv/fares";
        for (more, says) in [
            ("--replica doline", "`doline`: write NODE=ADDRESS:PORT"),
            ("--replica doline=quay:1", "`doline=quay:1`: write NODE="),
            (
                "--replica doline=10.0.0.1:1 --set max",
                "--set max: write NAME=VALUE",
            ),
            ("--replica doline=10.0.0.1:1 --gate x", "`x`: write NODE="),
            (
                "--replica doline=10.0.0.1:1 --base-backup polje=/srv/backup",
                "--base-backup polje=/srv/backup: write NODE=..., with a node that --replica names",
            ),
        ] {
            let refused = added(&format!("{words} {more}")).unwrap_err().to_string();
            assert!(refused.contains(says), "{refused}");
        }
    }
}
