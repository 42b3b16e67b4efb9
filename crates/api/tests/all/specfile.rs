//! Bad specs are refused with line, column, reason and the nearest name; no text makes the reader
//! panic.

use karst_api::specfile::{Read, read};
use karst_core::spec::Severity;
use proptest::prelude::*;
use std::fmt::Write as _;
use std::time::{Duration, Instant};

const GOOD: &str = r#"cluster = "skerry"
timings = "default"
[zone.northquay]
[zone.southquay]
[zone.lighthouse]
[node.doline]
zone = "northquay"
peer = "10.20.0.11:26700"
[node.polje]
zone = "southquay"
peer = "10.20.0.12:26700"
[node.ponor]
zone = "lighthouse"
witness = true
peer = "10.20.0.13:26700"
[workload.sailings]
driver = "postgres"
loss = "none"
alone = "block"
[workload.sailings.settings]
secret = "file:/etc/karst/replication"
[workload.sailings.replica.doline]
address = "10.30.0.11:5432"
data = "/var/lib/karst/sailings"
rank = 1
[workload.sailings.replica.polje]
address = "10.30.0.12:5432"
data = "/var/lib/karst/sailings"
[workload.sailings.gate]
ponor = "10.30.0.13:26900"
"#;

/// The first error of the spec with one line replaced: (line, column, text).
fn first_error(from: &str, to: &str) -> (usize, usize, String) {
    assert!(
        GOOD.contains(from),
        "the test replaces something that is there"
    );
    let read = read(&GOOD.replacen(from, to, 1));
    assert!(read.spec.is_none());
    let first = read.errors().next().expect("it is refused").clone();
    (first.line, first.column, first.to_string())
}

#[test]
fn the_good_one_is_good() {
    let Read { spec, findings } = read(GOOD);
    let spec = spec.expect("it is taken");
    assert_eq!(spec.votes().total(), 3);
    assert_eq!(
        spec.workloads[&"sailings".into()].replicas[&"polje".into()].rank,
        50
    );
    assert!(
        findings
            .iter()
            .all(|f| f.finding.severity == Severity::Warning)
    );
}

#[test]
fn each_mistake_is_named_where_it_is() {
    let cases = [
        (
            "witness = true",
            "wittness = true",
            (14, 1),
            "did you mean `witness`?",
        ),
        (
            "replica.polje",
            "replica.polij",
            (26, 28),
            "did you mean `polje`?",
        ),
        (
            "zone = \"southquay\"",
            "zone = \"southkay\"",
            (10, 1),
            "did you mean `southquay`?",
        ),
        (
            "10.20.0.12:26700",
            "10.20.0.11:26700",
            (11, 1),
            "`node.doline.peer` has it already",
        ),
        (
            "witness = true",
            "votes = 0",
            (1, 1),
            "an even number of votes (2) and no witness",
        ),
        (
            "replica.polje",
            "replica.ponor",
            (26, 28),
            "a witness never runs a workload",
        ),
        (
            "timings = \"default\"",
            "timing.lease = \"900ms\"",
            (2, 8),
            "impossible timings",
        ),
        (
            "timings = \"default\"",
            "timing.lease = \"soon\"",
            (2, 8),
            "write a number and a unit",
        ),
        (
            "\"file:/etc/karst/replication\"",
            "\"opensesame\"",
            (21, 1),
            "a secret is never written in the spec",
        ),
        (
            "address = \"10.30.0.12:5432\"",
            "address = \"polje\"",
            (27, 1),
            "is not an address with a port",
        ),
        ("rank = 1", "rank = [", (26, 2), "not TOML"),
    ];
    for (from, to, place, words) in cases {
        let (line, column, text) = first_error(from, to);
        assert!(text.contains(words), "{text}");
        assert_eq!((line, column), place, "{text}");
        assert!(
            !text.contains("opensesame"),
            "a secret is not repeated: {text}"
        );
    }
}

/// Reading a spec of a kilobyte takes no more memory than this.
const MEMORY: usize = 2 << 20;

/// Values that a key may be given, few of which fit it.
const VALUES: [&str; 18] = [
    "1e400",
    "-9223372036854775808",
    "9223372036854775807",
    "nan",
    "1979-05-27T07:32:00Z",
    "[]",
    "{}",
    "[[[[[[]]]]]]",
    "{a={b={c=1}}}",
    r#""\u0000""#,
    r#""../../etc/shadow""#,
    r#""file:/etc/shadow""#,
    "true",
    r#""[::]:99999""#,
    r#""999999999999 d""#,
    r#""-1 ms""#,
    r#""18446744073709551616 GB""#,
    "\"\u{202e}\"",
];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(10_000))]

    /// Whatever is cut out, doubled or put in: a spec that is taken has no error, a refused one
    /// says where and why.
    #[test]
    fn mutated_files_are_refused_or_sound(
        cuts in prop::collection::vec((0usize..900, 0usize..40, "[a-z=\"\\[\\].0-9\n ]{0,8}"), 0..4),
        values in prop::collection::vec((any::<prop::sample::Index>(), prop::sample::select(VALUES.to_vec())), 0..4),
        doubles in prop::collection::vec((any::<prop::sample::Index>(), any::<prop::sample::Index>()), 0..3),
    ) {
        let mut all: Vec<String> = GOOD.lines().map(String::from).collect();
        for (at, value) in values {
            let at = at.index(all.len());
            let key = all[at].split_once(" = ").map_or(all[at].as_str(), |(key, _)| key);
            all[at] = format!("{key} = {value}");
        }
        for (from, to) in doubles {
            let line = from.get(&all).clone();
            all.insert(to.index(all.len()), line);
        }
        let mut text = all.join("\n") + "\n";
        for (at, len, put) in cuts {
            let place = |mut at: usize| {
                while !text.is_char_boundary(at) {
                    at -= 1;
                }
                at
            };
            let at = place(at.min(text.len()));
            let end = place((at + len).min(text.len()));
            text.replace_range(at..end, &put);
        }
        let before = crate::MEMORY.current_usage();
        crate::MEMORY.reset_peak_usage();
        let read = read(&text);
        prop_assert!(crate::MEMORY.peak_usage() < before + MEMORY);
        prop_assert_eq!(read.spec.is_none(), read.errors().next().is_some());
        let lines = text.lines().count().max(1);
        for finding in &read.findings {
            prop_assert!((1..=lines + 1).contains(&finding.line), "{finding}");
            prop_assert!(finding.column >= 1 && !finding.finding.what.is_empty() && !finding.finding.remedy.is_empty());
        }
    }
}

/// A finding's line was counted from the first one each time: 5,000 of them took seconds.
#[test]
fn a_long_spec_with_a_finding_on_each_line_is_read_at_once() {
    let mut text = String::from("cluster = \"skerry\"\n[zone.quay]\n");
    for i in 0..20_000 {
        let _ = write!(text, "[node.n{i}]\nzone = \"nowhere\"\npeer = {i}\n");
    }
    let begun = Instant::now();
    let read = read(&text);
    assert!(read.findings.len() >= 20_000);
    let last = read.findings.iter().map(|finding| finding.line).max();
    assert_eq!(last, Some(60_002));
    assert!(
        begun.elapsed() < Duration::from_secs(5),
        "{:?}",
        begun.elapsed()
    );
}
