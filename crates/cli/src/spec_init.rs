//! A first spec file: from options, and from answers to what they leave open.

use crate::arguments::SpecInit;
use crate::ending::Ending;
use crate::output::say;
use anyhow::{Context, Result, bail};
use karst_api::core::spec::Severity;
use karst_api::firstspec::{AnsweredNode, AnsweredWorkload, Answers};
use karst_api::specfile;
use std::fs::OpenOptions;
use std::io::{BufRead as _, IsTerminal as _, Write as _};

pub fn run(init: &SpecInit) -> Result<Ending> {
    let answers = answers(init)?;
    let text = answers.spec();
    let read = specfile::read(&text);
    let errors = read.findings.iter();
    let errors = errors.filter(|f| f.finding.severity == Severity::Error);
    let errors: Vec<String> = errors.map(|f| f.finding.what.clone()).collect();
    if !errors.is_empty() {
        bail!("nothing was written: {}", errors.join("; "));
    }
    let Some(file) = &init.write else {
        say(&text);
        return Ok(Ending::Done);
    };
    // What is there may be in use.
    let made = OpenOptions::new().write(true).create_new(true).open(file);
    let mut made = made.with_context(|| {
        format!(
            "nothing was written: {}; name a file that is not there",
            file.display()
        )
    })?;
    made.write_all(text.as_bytes())?;
    say(&format!(
        "{} is written. Next: read it, `karst spec check {0}`, and put it on every host;\n\
         `karst doctor --spec {0}` there says what the host lacks.\n",
        file.display()
    ));
    Ok(Ending::Done)
}

/// What the options leave open is asked for, where there is somebody to ask.
fn answers(init: &SpecInit) -> Result<Answers> {
    let cluster = match &init.cluster {
        Some(cluster) => cluster.clone(),
        None => ask("the cluster's name", "--cluster")?,
    };
    let mut nodes = init.hosts.clone();
    let witnesses = init.witnesses.iter().cloned();
    nodes.extend(witnesses.map(|node| AnsweredNode {
        witness: true,
        ..node
    }));
    while init.hosts.is_empty() {
        let text = ask(
            "a host, as NAME=ADDRESS or NAME=ADDRESS@ZONE (nothing: that was all)",
            "--host",
        )?;
        match text.as_str() {
            "" if nodes.is_empty() => eprintln!("one at least"),
            "" => break,
            text => match text.parse() {
                Ok(node) => nodes.push(node),
                Err(why) => eprintln!("{why}"),
            },
        }
    }
    let workload = init.workload.as_ref().map(|name| AnsweredWorkload {
        name: name.clone(),
        data: init
            .data
            .clone()
            .unwrap_or_else(|| format!("/var/lib/postgresql/15/{name}")),
        floating: init.address.clone(),
    });
    Ok(Answers {
        cluster,
        nodes,
        workload,
    })
}

fn ask(what: &str, option: &str) -> Result<String> {
    if !std::io::stdin().is_terminal() {
        bail!("{what} is not given, and there is no terminal to ask: use {option}");
    }
    eprint!("{what}: ");
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer)?;
    Ok(answer.trim().into())
}
