//! What people are told of specs that cannot be: every message as a whole, as it stands in
//! `wrong_specs.txt`. With `KARST_WRITE=1` that is written anew, to be read before it is committed.

use karst_api::specfile::read;
use std::fmt::Write as _;
use std::path::Path;

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
loss = "none"
keep = 0
needs = []
[workload.sailings.settings]
secret = "file:/etc/karst/replication"
set.work_mem = "8MB"
[workload.sailings.replica.doline]
address = "10.30.0.11:5432"
data = "/srv/sailings"
rank = 1
[workload.sailings.replica.polje]
address = "10.30.0.12:5432"
data = "/srv/sailings"
[workload.sailings.gate]
ponor = "10.30.0.13:26900"
[workload.sailings.reads]
age = "10s"
primary = true
[workload.sailings.reads.gate]
ponor = "10.30.0.13:26950"
[workload.sailings.name]
record = "sailings.ferries.example"
zone = "ferries.example"
server = "10.30.0.53:53"
key = "karst-update"
secret = "file:/etc/karst/dns"
ttl = "5s"
[step.warm]
at = "after-promotion"
program = "warm"
limit = "30s"
[workload.fares]
needs = ["sailings"]
settings.secret = "file:/etc/karst/replication"
replica.doline = { address = "10.30.0.11:5440", data = "/srv/fares" }
replica.polje = { address = "10.30.0.12:5440", data = "/srv/fares" }
gate.ponor = "10.30.0.13:26910"
"#;

/// One line of it, and what somebody wrote in its place.
const MISTAKES: &[(&str, &str)] = &[
    ("cluster = \"skerry\"", ""),
    ("cluster = \"skerry\"", "cluster = \"Skerry Coast\""),
    ("cluster = \"skerry\"", "cluster = 7"),
    ("zone = \"ferries.example\"", "zone = \"other.example\""),
    (
        "record = \"sailings.ferries.example\"",
        "record = \"sailings of the ferries.example\"",
    ),
    ("server = \"10.30.0.53:53\"", ""),
    ("secret = \"file:/etc/karst/dns\"", "secret = \"c2VjcmV0\""),
    ("ttl = \"5s\"", "ttl = \"1500ms\""),
    ("ttl = \"5s\"", "leads = \"address\""),
    ("ttl = \"5s\"", "algorithm = \"hmac-md5\""),
    ("at = \"after-promotion\"", ""),
    ("at = \"after-promotion\"", "at = \"after-promotions\""),
    (
        "at = \"after-promotion\"",
        "at = \"after-promotion\"\nif_fails = \"stop\"",
    ),
    (
        "at = \"after-promotion\"",
        "at = \"before-fence\"\nworkloads = [\"sailings\"]",
    ),
    (
        "at = \"after-promotion\"",
        "at = \"after-promotion\"\nnodes = [\"poljes\"]",
    ),
    (
        "at = \"after-promotion\"",
        "at = \"after-promotion\"\nargs = \"--all\"",
    ),
    ("program = \"warm\"", "program = \"/usr/bin/warm\""),
    ("limit = \"30s\"", "limit = \"10ms\""),
    ("timings = \"default\"", "timings = \"fast\""),
    ("timings = \"default\"", "timing.lease = \"2\""),
    ("timings = \"default\"", "timing.lease = \"2 hours\""),
    ("timings = \"default\"", "timing.leese = \"2s\""),
    ("timings = \"default\"", "timing.lease = \"700ms\""),
    ("timings = \"default\"", "version = 9"),
    ("witness = true", "witness = \"yes\""),
    ("witness = true", "witness = true\nvotes = 12"),
    ("witness = true", "witness = true\nvotes = -1"),
    ("zone = \"southquay\"", "zone = \"southkey\""),
    ("zone = \"southquay\"", ""),
    ("10.20.0.12:26700", "10.20.0.11:26700"),
    ("10.20.0.12:26700", "polje:26700"),
    ("10.20.0.12:26700", "10.20.0.12"),
    ("[node.polje]", "[node.doline]"),
    ("[node.polje]", "[node.Polje]"),
    ("loss = \"none\"", "loss = \"little\""),
    ("loss = \"none\"", "loss = \"-4MB\""),
    ("keep = 0", "keep = \"two\""),
    ("needs = []", "needs = \"fares\""),
    ("needs = []", "needs = [\"fairs\"]"),
    ("needs = []", "needs = [\"fares\"]"),
    ("needs = []", "needs = [\"sailings\"]"),
    ("needs = []", "spread = [\"fares\"]\ntogether = [\"fares\"]"),
    ("rank = 1", "rank = 0"),
    ("rank = 1", "rank = 1\nlog = \"/srv/sailings/log\""),
    ("rank = 1", "rank = 1\ncopy_from = \"doline\""),
    ("rank = 1", "rank = 1\ncopy_from = \"uvala\""),
    ("rank = 1", "rank = 1\nbase_backup = \"monday\""),
    (
        "rank = 1",
        "rank = 1\nbase_backup = \"/srv/sailings/monday\"",
    ),
    (
        "[workload.sailings.replica.polje]",
        "[workload.sailings.replica.ponor]",
    ),
    (
        "[workload.sailings.replica.polje]",
        "[workload.sailings.replica.uvala]",
    ),
    (
        "data = \"/srv/sailings\"\nrank",
        "data = \"srv/sailings\"\nrank",
    ),
    (
        "data = \"/srv/sailings\"\nrank",
        "data = \"/srv/fares/new\"\nrank",
    ),
    ("set.work_mem = \"8MB\"", "set.fsync = \"off\""),
    ("set.work_mem = \"8MB\"", "set.port = \"5433\""),
    ("set.work_mem = \"8MB\"", "set.work_mem = 8"),
    (
        "secret = \"file:/etc/karst/replication\"\nset",
        "secret = \"opensesame\"\nset",
    ),
    (
        "ponor = \"10.30.0.13:26900\"",
        "ponor = \"10.30.0.13:26910\"",
    ),
    ("age = \"10s\"", "age = \"1s\""),
    ("age = \"10s\"", "age = \"ten\""),
    ("age = \"10s\"", "behind = \"64\""),
    ("age = \"10s\"", "except = \"polje\""),
    ("age = \"10s\"", "except = [\"poljee\"]"),
    ("age = \"10s\"", "lag = \"10s\""),
    ("primary = true", "primary = \"yes\""),
    ("primary = true", "except = [\"polje\"]"),
    ("ponor = \"10.30.0.13:26950\"", ""),
    (
        "ponor = \"10.30.0.13:26950\"",
        "pnor = \"10.30.0.13:26950\"",
    ),
    (
        "ponor = \"10.30.0.13:26950\"",
        "ponor = \"10.30.0.13:26900\"",
    ),
    ("replica.polje = { address", "replica.polje = { adress"),
    ("needs = [\"sailings\"]", "driver = \"abacus\""),
];

fn told() -> String {
    let mut all = String::new();
    for (from, to) in MISTAKES {
        assert!(GOOD.contains(from), "{from} is not there");
        let wrong = read(&GOOD.replacen(from, to, 1));
        assert!(wrong.spec.is_none(), "{to} is taken");
        let shown = if to.is_empty() {
            format!("without {from}")
        } else {
            to.replace('\n', " | ")
        };
        let _ = writeln!(all, "{shown}");
        for error in wrong.errors() {
            let _ = writeln!(all, "    {error}");
        }
    }
    all
}

#[test]
fn each_mistake_is_told_as_it_stands_written() {
    let good = read(GOOD);
    let errors: Vec<String> = good.errors().map(ToString::to_string).collect();
    assert!(good.spec.is_some(), "{errors:?}");
    let (told, file) = (
        told(),
        Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/all/wrong_specs.txt"),
    );
    if std::env::var_os("KARST_WRITE").is_some() {
        std::fs::write(&file, &told).unwrap();
    }
    let written = std::fs::read_to_string(&file).unwrap_or_default();
    assert_eq!(told, written, "read it, and write it with KARST_WRITE=1");
    let mut said = told.lines().filter(|line| line.starts_with("    "));
    assert!(
        said.all(|line| !line.contains("opensesame")),
        "a secret is not repeated"
    );
}
