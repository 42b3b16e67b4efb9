//! Another CA in the place of the cluster's, without anybody being cut off: first every node believes
//! both, then every node gets certificates of the new one, then nobody believes the old one any more.
//! What was done already is in the files of the host that signs; what the others have taken up they
//! say themselves, and no step is taken on a guess.

use crate::act::approved;
use crate::arguments::{CaRenewal, Place};
use crate::ending::Ending;
use crate::joining::{replace, tls};
use crate::output::{Format, columns, print, remark, say};
use anyhow::{Context, Result, anyhow, bail};
use karst_api::Client;
use karst_api::core::about::Authorities;
use karst_api::core::spec::FindingKind;
use karst_api::core::view::{NodeState, Status};
use karst_api::pki::{Authority, Trusted, short};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::io::ErrorKind;

/// The next CA's key, until that one signs.
const NEXT_KEY: &str = "ca-next.key";

/// What this host has.
struct Held {
    trusted: Vec<Trusted>,
    key: String,
    next_key: Option<String>,
    revoked: Option<String>,
}

/// The next step, by what this host has.
enum Step<'a> {
    /// Every node is to believe another one too.
    Make { old: &'a Trusted },
    /// Which of the two signs from now on.
    Sign { new: &'a Trusted, old: &'a Trusted },
    /// Half done before: the key is not in its place yet.
    PutKey { new: &'a Trusted },
    /// The old one is believed no more.
    Retire { new: &'a Trusted, old: &'a Trusted },
}

impl Held {
    fn read(place: &Place) -> Result<Self> {
        let read = |name: &str| {
            let path = tls(place, name);
            std::fs::read_to_string(&path).map_err(|error| {
                anyhow!(
                    "nothing was changed: {}: {error}; the CA is renewed on the host that has its key",
                    path.display()
                )
            })
        };
        let maybe = |name: &str| match std::fs::read_to_string(tls(place, name)) {
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
            other => other.map(Some).with_context(|| name.to_string()),
        };
        Ok(Self {
            trusted: Trusted::read(&read("ca.pem")?)?,
            key: read("ca.key")?,
            next_key: maybe(NEXT_KEY)?,
            revoked: maybe("crl.pem")?,
        })
    }

    fn step(&self) -> Result<Step<'_>> {
        let has = |ca: &Trusted, key: Option<&String>| match key {
            Some(key) => ca.has_key(key),
            None => Ok(false),
        };
        let (key, next) = (Some(&self.key), self.next_key.as_ref());
        match self.trusted.as_slice() {
            // A key without a certificate signs nothing.
            [old] if has(old, key)? => return Ok(Step::Make { old }),
            [old, new] if has(old, key)? && has(new, next)? => return Ok(Step::Sign { new, old }),
            [new, _] if has(new, next)? => return Ok(Step::PutKey { new }),
            [new, old] if has(new, key)? => return Ok(Step::Retire { new, old }),
            _ => {}
        }
        bail!(
            "nothing was changed: ca.pem has {} certificates, and ca.key and {NEXT_KEY} are not the keys of the first two: put back what was there",
            self.trusted.len()
        )
    }
}

/// What each node says; none of a node that has said nothing.
fn said(status: &Status) -> impl Iterator<Item = (&str, Option<&Authorities>)> {
    status.nodes.iter().map(|node| {
        let about = node.about.as_ref().filter(|_| node.state == NodeState::Up);
        (node.node.as_str(), about.map(|about| &about.authorities))
    })
}

/// Who has not taken the step before, and why that is known, or not.
fn unmet(
    status: &Status,
    without: &[String],
    wanted: &str,
    has: impl Fn(&Authorities) -> bool,
) -> Vec<String> {
    let (mut silent, mut lacking) = (Vec::new(), Vec::new());
    for (node, authorities) in said(status).filter(|(node, _)| !without.iter().any(|w| w == node)) {
        match authorities {
            None => silent.push(node),
            Some(authorities) if !has(authorities) => lacking.push(node),
            Some(_) => {}
        }
    }
    let mut all = Vec::new();
    if !silent.is_empty() {
        let who = silent.join(", ");
        all.push(format!("nobody knows whether {who} {wanted}: not heard"));
    }
    if !lacking.is_empty() {
        let who = lacking.join(", ");
        all.push(format!(
            "it is not seen yet that each {wanted}: {who} (karst node renew, on that host; it is taken up within seconds)"
        ));
    }
    let mut findings = status.findings.iter().map(|f| &f.finding);
    let untaken = findings.find(|f| f.kind == FindingKind::ChangeNotTaken);
    all.extend(untaken.map(|f| f.what.clone()));
    all
}

pub async fn renew(client: &Client, renewal: &CaRenewal, format: Format) -> Result<Ending> {
    let CaRenewal {
        place,
        without,
        consent,
    } = renewal;
    let status = client.status().await?.status;
    for name in without {
        if !status.nodes.iter().any(|n| n.node.as_str() == name) {
            bail!("nothing was changed: there is no node `{name}`");
        }
    }
    let held = Held::read(place)?;
    let step = held.step()?;
    let (what, unmet) = match &step {
        Step::Make { old } => {
            let alone = |a: &Authorities| a.trusted == [old.print.clone()];
            let wanted = format!("believes CA {} alone", short(&old.print));
            (
                "makes another CA, which every node is to believe beside the one that there is"
                    .into(),
                unmet(&status, without, &wanted, alone),
            )
        }
        Step::Sign { new, .. } | Step::PutKey { new } => {
            let believes = |a: &Authorities| a.trusted.contains(&new.print);
            let wanted = format!("believes CA {}", short(&new.print));
            (
                format!("has CA {} sign from now on", short(&new.print)),
                unmet(&status, without, &wanted, believes),
            )
        }
        Step::Retire { new, old } => {
            let shows = |a: &Authorities| a.signed_by == [new.print.clone()];
            let wanted = format!("has certificates of CA {} alone", short(&new.print));
            (
                format!(
                    "takes CA {} out of what nodes believe; whoever shows a certificate of it is refused then",
                    short(&old.print)
                ),
                unmet(&status, without, &wanted, shows),
            )
        }
    };
    let mut plan = format!("Plan: this step {what}\n");
    plan.extend(unmet.iter().map(|why| format!("  NOT MET: {why}\n")));
    if consent.plan || !consent.yes {
        remark(format, &plan);
    }
    if consent.plan {
        let is_met = unmet.is_empty();
        return Ok(if is_met {
            Ending::Done
        } else {
            Ending::NotWell
        });
    }
    if !unmet.is_empty() {
        bail!("nothing was changed: {}", unmet.join("; "));
    }
    if !consent.yes && !approved("cluster", &status.cluster)? {
        bail!("nothing was changed: not approved");
    }
    let text = carry_out(place, &held, &step, &status.cluster)?;
    if format == Format::Table {
        say(&text);
    }
    Ok(Ending::Done)
}

fn carry_out(place: &Place, held: &Held, step: &Step<'_>, cluster: &str) -> Result<String> {
    let (ca, key, next_key) = (
        tls(place, "ca.pem"),
        tls(place, "ca.key"),
        tls(place, NEXT_KEY),
    );
    let put_key = || std::fs::rename(&next_key, &key).with_context(|| key.display().to_string());
    let everywhere = "  karst node renew               on every node's host\n";
    Ok(match step {
        Step::Make { old } => {
            let new = Authority::make(cluster)?;
            let made = Trusted::read(&new.certificate)?;
            let both = [&*old.pem, &*new.certificate].concat();
            let lists = match &held.revoked {
                Some(lists) => Some(format!("{}\n{}", lists.trim_end(), new.revokes_nothing()?)),
                None => None,
            };
            let crl = lists
                .iter()
                .map(|lists| (tls(place, "crl.pem"), lists.as_str(), 0o644));
            let mut files: Vec<_> = crl.collect();
            files.push((next_key, new.key.as_str(), 0o600));
            files.push((ca, both.as_str(), 0o644));
            replace(&files)?;
            let print = short(&made[0].print);
            format!(
                "CA {print} is made, and signs nothing yet. Next, so that everybody believes it:\n{everywhere}  \
                 karst ca renew                 here again, to have it sign\n\
                 Whoever connects from elsewhere needs the new ca.pem too, before nodes show its certificates.\n"
            )
        }
        Step::Sign { new, old } => {
            let both = [&*new.pem, &*old.pem].concat();
            replace(&[(ca, both.as_str(), 0o644)])?;
            put_key()?;
            signs(new, everywhere)
        }
        Step::PutKey { new } => {
            put_key()?;
            signs(new, everywhere)
        }
        Step::Retire { new, old } => {
            replace(&[(ca, new.pem.as_str(), 0o644)])?;
            format!(
                "This host believes CA {} alone. Next, so that nobody believes CA {} any more:\n{everywhere}",
                short(&new.print),
                short(&old.print)
            )
        }
    })
}

fn signs(new: &Trusted, everywhere: &str) -> String {
    format!(
        "CA {} signs from now on. Next, so that everybody has certificates of it:\n{everywhere}  \
         karst ca renew                 here again, to take the old one out\n",
        short(&new.print)
    )
}

/// A CA, and who has to do with it.
#[derive(Serialize)]
struct Seen<'a> {
    ca: &'a str,
    believed_by: BTreeSet<&'a str>,
    certificates_of: BTreeSet<&'a str>,
}

pub async fn show(client: &Client, format: Format) -> Result<Ending> {
    let status = client.status().await?.status;
    let mut all: BTreeMap<&str, Seen> = BTreeMap::new();
    let mut silent = Vec::new();
    for (node, authorities) in said(&status) {
        let Some(authorities) = authorities else {
            silent.push(node);
            continue;
        };
        let seen = |ca| Seen {
            ca,
            believed_by: BTreeSet::new(),
            certificates_of: BTreeSet::new(),
        };
        for ca in &authorities.trusted {
            let entry = all.entry(ca).or_insert_with(|| seen(ca));
            entry.believed_by.insert(node);
        }
        for ca in &authorities.signed_by {
            let entry = all.entry(ca).or_insert_with(|| seen(ca));
            entry.certificates_of.insert(node);
        }
    }
    let list: Vec<Seen> = all.into_values().collect();
    print(format, &list, |list| {
        let names = |set: &BTreeSet<&str>| match set.len() {
            0 => "nobody".to_string(),
            _ => set.iter().copied().collect::<Vec<_>>().join(", "),
        };
        let rows = list.iter().map(|seen| {
            [
                short(seen.ca).to_string(),
                names(&seen.believed_by),
                names(&seen.certificates_of),
            ]
        });
        columns(["CA", "BELIEVED BY", "CERTIFICATES OF"], rows)
    })?;
    if !silent.is_empty() {
        let text = format!("Not heard, so that nobody knows: {}\n", silent.join(", "));
        remark(format, &text);
    }
    Ok(Ending::Done)
}
