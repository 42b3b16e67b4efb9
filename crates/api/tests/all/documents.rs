//! The documents and the code agree: no comment cites a rule that is not explained, no rule names
//! what does not exist.

use karst_core::spec::FindingKind;
use karst_core::steward::candidates::Exclusion;
use karst_core::view::{Condition, NeedKind};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn sources(dir: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(dir).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, found);
        } else if path.extension().is_some_and(|kind| kind == "rs") {
            found.push(path);
        }
    }
}

/// `S1` to `F13`, as comments cite them: a capital, one or two digits, and no letter or digit on
/// either side.
fn codes(text: &str) -> BTreeSet<String> {
    let words = text.split(|c: char| !c.is_ascii_alphanumeric() && c != '_');
    let is_code = |word: &&str| {
        let (first, digits) = word.split_at_checked(1).unwrap_or_default();
        "SLABCDEF".contains(first)
            && (1..=2).contains(&digits.len())
            && digits.chars().all(|c| c.is_ascii_digit())
    };
    words.filter(is_code).map(String::from).collect()
}

fn comments(text: &str) -> String {
    text.lines()
        .filter_map(|line| line.split_once("//"))
        .map(|(_, said)| said)
        .collect::<Vec<_>>()
        .join("\n")
}

#[test]
fn every_rule_that_is_cited_is_explained() {
    let document = std::fs::read_to_string(root().join("docs/safety.md")).unwrap();
    let first = |line: &str| {
        line.strip_prefix("| ")
            .and_then(|row| row.split(" | ").next())
            .map(String::from)
    };
    let explained: BTreeSet<String> = document.lines().filter_map(first).collect();
    let mut files = Vec::new();
    sources(&root().join("crates"), &mut files);
    assert!(files.len() > 100, "{}", files.len());
    for file in files {
        let cited = codes(&comments(&std::fs::read_to_string(&file).unwrap()));
        let unknown: Vec<_> = cited.difference(&explained).collect();
        assert!(
            unknown.is_empty(),
            "{} cites {unknown:?}, which docs/safety.md does not explain",
            file.display()
        );
    }
}

/// Whoever reads a message, a finding or a page need not know them.
#[test]
fn users_see_no_rule_codes() {
    let mut files = Vec::new();
    for part in [
        "adapters/src",
        "api/src",
        "cli/src",
        "core/src",
        "daemon/src",
        "history/src",
    ] {
        sources(&root().join("crates").join(part), &mut files);
    }
    let documents = [
        "README.md",
        "docs/hosts.md",
        "docs/limits.md",
        "docs/security.md",
        "docs/spec.md",
    ];
    files.extend(documents.map(|name| root().join(name)));
    for file in files {
        let text = std::fs::read_to_string(&file).unwrap();
        for line in text
            .lines()
            .map(|line| line.split_once("//").map_or(line, |(code, _)| code))
        {
            let bracketed = line
                .split('(')
                .skip(1)
                .filter_map(|rest| rest.split_once(')'));
            let seen: Vec<&str> = bracketed
                .map(|(inside, _)| inside)
                .filter(|word| codes(word).contains(*word))
                .collect();
            assert!(
                seen.is_empty(),
                "{} shows {seen:?} to users: {line}",
                file.display()
            );
        }
    }
}

#[test]
fn every_rule_names_what_exists() {
    let document = std::fs::read_to_string(root().join("docs/safety.md")).unwrap();
    let quoted: Vec<&str> = document.split('`').skip(1).step_by(2).collect();
    for path in quoted.iter().filter(|word| word.ends_with(".rs")) {
        assert!(
            root().join("crates").join(path).exists(),
            "docs/safety.md names {path}, which is not there"
        );
    }
    let planted = std::fs::read_to_string(root().join("crates/core/src/planted.rs")).unwrap();
    let variants = planted
        .lines()
        .filter_map(|line| line.trim().strip_suffix(','))
        .filter(|word| !word.contains(' '));
    for variant in variants {
        assert!(
            quoted.contains(&variant),
            "docs/safety.md does not say what the planted bug {variant} shows"
        );
    }
}

/// A hop is `FILE:FUNCTION` below `crates/`.
#[test]
fn every_hop_is_there() {
    let document = std::fs::read_to_string(root().join("ARCHITECTURE.md")).unwrap();
    let quoted = document.split('`').skip(1).step_by(2);
    let hops: Vec<(&str, &str)> = quoted.filter_map(|word| word.split_once(".rs:")).collect();
    assert!(hops.len() > 30, "{hops:?}");
    for (file, function) in hops {
        let path = root().join("crates").join(format!("{file}.rs"));
        let text = std::fs::read_to_string(&path)
            .unwrap_or_else(|error| panic!("{}: {error}", path.display()));
        let starts = ["(", "<"].map(|next| format!("fn {function}{next}"));
        assert!(
            starts.iter().any(|start| text.contains(start)),
            "{file}.rs has no function {function}"
        );
    }
}

/// Whoever reads a word on the screen at night finds what to do about it.
#[test]
fn every_word_on_the_screen_has_its_section_in_the_runbook() {
    fn names<T: serde::Serialize>(all: &[T]) -> Vec<String> {
        let name = |kind: &T| {
            serde_json::to_value(kind)
                .unwrap()
                .as_str()
                .unwrap()
                .to_string()
        };
        all.iter().map(name).collect()
    }
    let text = std::fs::read_to_string(root().join("docs/runbook.md")).unwrap();
    let heads: Vec<&str> = text
        .lines()
        .filter_map(|line| line.strip_prefix("### `")?.strip_suffix('`'))
        .collect();
    let wanted = [
        names(&Condition::ALL),
        names(&NeedKind::ALL),
        names(&FindingKind::ALL),
        names(&Exclusion::ALL),
    ]
    .concat();
    let missing: Vec<&String> = wanted
        .iter()
        .filter(|w| !heads.contains(&w.as_str()))
        .collect();
    assert!(missing.is_empty(), "no section for {missing:?}");
    let stale: Vec<&&str> = heads
        .iter()
        .filter(|h| !wanted.iter().any(|w| w == *h))
        .collect();
    assert!(stale.is_empty(), "nothing is called {stale:?} any more");
}
