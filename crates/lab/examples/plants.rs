//! Breaks rules on purpose, one after the other, and sees that the named test fails each time:
//! `make plants`, or `PLANTS=R1,V6 make plants` for some of them. `plants.toml` beside this file has
//! the list. Here are the rules that no switch of `core/src/planted.rs` can break: those of apply,
//! of the adapters and of the daemon, where a switch would be a part of the product.
//!
//! It edits the sources in place and puts each back; it refuses sources with changes of their own.

use anyhow::{Context, Result, bail, ensure};
use std::path::PathBuf;
use std::process::{Command, ExitCode, Stdio};
use toml_edit::{DocumentMut, Table};

/// As nextest says that tests ran and failed, and that they passed.
const FAILED: i32 = 100;
const PASSED: i32 = 0;

struct Plant {
    rule: String,
    what: String,
    file: PathBuf,
    was: String,
    is: String,
    test: Vec<String>,
}

/// The source as it was, put back at the end.
struct Broken {
    file: PathBuf,
    was: String,
}

impl Drop for Broken {
    fn drop(&mut self) {
        if let Err(error) = std::fs::write(&self.file, &self.was) {
            eprintln!("{} is still broken: {error}", self.file.display());
        }
    }
}

fn main() -> Result<ExitCode> {
    let wanted = std::env::var("PLANTS").unwrap_or_default();
    let wanted: Vec<&str> = wanted.split(',').filter(|name| !name.is_empty()).collect();
    let all = read()?;
    let chosen = |plant: &&Plant| wanted.is_empty() || wanted.contains(&plant.rule.as_str());
    let mut missed = Vec::new();
    for plant in all.iter().filter(chosen) {
        match play(plant) {
            Ok(()) => println!("found   {:4} {}", plant.rule, plant.what),
            Err(error) => {
                println!("MISSED  {:4} {}: {error:#}", plant.rule, plant.what);
                missed.push(&plant.rule);
            }
        }
    }
    Ok(if missed.is_empty() {
        ExitCode::SUCCESS
    } else {
        ExitCode::FAILURE
    })
}

fn read() -> Result<Vec<Plant>> {
    let list: DocumentMut = include_str!("plants.toml").parse()?;
    let plants = list["plant"].as_array_of_tables().context("no plants")?;
    plants.iter().map(plant).collect()
}

fn plant(table: &Table) -> Result<Plant> {
    let text = |key: &str| {
        let value = table.get(key).and_then(|item| item.as_str());
        value
            .map(String::from)
            .with_context(|| format!("a plant without `{key}`: {table}"))
    };
    let root = PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."));
    Ok(Plant {
        rule: text("rule")?,
        what: text("what")?,
        file: root.join("crates").join(text("file")?),
        was: text("was")?.trim_end().into(),
        is: text("is")?.trim_end().into(),
        test: text("test")?.split(' ').map(String::from).collect(),
    })
}

fn play(plant: &Plant) -> Result<()> {
    let file = plant.file.display();
    let changed = Command::new("git")
        .args(["diff", "--quiet", "HEAD", "--"])
        .arg(&plant.file)
        .status()?;
    ensure!(changed.success(), "{file} has changes: commit them first");
    let was = std::fs::read_to_string(&plant.file).with_context(|| file.to_string())?;
    let found = was.matches(&plant.was).count();
    ensure!(
        found == 1,
        "{file} has the text of this plant {found} times: mend `was`"
    );
    let broken = was.replacen(&plant.was, &plant.is, 1);
    let guard = Broken {
        file: plant.file.clone(),
        was,
    };
    std::fs::write(&plant.file, broken)?;
    let mut tests = Command::new("cargo");
    tests
        .args(["nextest", "run", "--no-fail-fast", "--package"])
        .args(&plant.test)
        .stdout(Stdio::null());
    let output = tests.output()?;
    drop(guard);
    match output.status.code() {
        Some(FAILED) => Ok(()),
        Some(PASSED) => bail!("`{}` passes", plant.test.join(" ")),
        _ => bail!("{}", String::from_utf8_lossy(&output.stderr)),
    }
}
