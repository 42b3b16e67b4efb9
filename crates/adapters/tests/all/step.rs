//! The site's own steps, as real programs: what they are told, how they end, and that nothing of them
//! is left.

use karst_adapters::Steps;
use karst_core::ownstep::{Ended, IfFails, Occasion, OwnStep, Point, Ran};
use std::fs::Permissions;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::time::{Duration, Instant};

struct Host {
    dir: tempfile::TempDir,
    steps: Steps,
}

impl Host {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        std::fs::set_permissions(dir.path(), Permissions::from_mode(0o755)).unwrap();
        let steps = Steps {
            dir: dir.path().join("steps"),
            cluster: "skerry".into(),
            me: "polje".into(),
        };
        std::fs::create_dir(&steps.dir).unwrap();
        Self { dir, steps }
    }

    fn put(&self, name: &str, script: &str, mode: u32) {
        let path = self.steps.dir.join(name);
        std::fs::write(&path, format!("#!/bin/sh\n{script}\n")).unwrap();
        std::fs::set_permissions(&path, Permissions::from_mode(mode)).unwrap();
    }

    async fn run(&self, step: &OwnStep) -> Ran {
        let at = Point::AfterPromotion;
        let occasion = Occasion {
            epoch: Some(karst_core::Epoch(7)),
            ..Occasion::of(at, Some("sailings".into()), "polje".into())
        };
        self.steps.run("warm", step, &occasion, false).await
    }

    /// A script run as a step.
    async fn script(&self, script: &str) -> Ran {
        self.put("warm", script, 0o755);
        self.run(&step("warm")).await
    }
}

fn step(program: &str) -> OwnStep {
    OwnStep {
        at: Point::AfterPromotion,
        program: program.into(),
        args: vec!["one".into(), "two words".into()],
        user: None,
        limit: Duration::from_secs(10),
        if_fails: IfFails::GoOn,
        workloads: Default::default(),
        nodes: Default::default(),
    }
}

#[tokio::test]
async fn it_is_told_what_for_and_what_it_writes_is_kept() {
    let host = Host::new();
    std::fs::write(host.dir.path().join("x"), "").unwrap();
    let ran = host
        .script("env | sort; echo \"$2 $#\" >&2; pwd; exit 3")
        .await;
    assert_eq!(ran.ended, Ended::Exit(3));
    for line in [
        "KARST_CLUSTER=skerry",
        "KARST_EPOCH=7",
        "KARST_HOST=polje",
        "KARST_NODE=polje",
        "KARST_OPERATION=",
        "KARST_POINT=after-promotion",
        "KARST_STEP=warm",
        "KARST_WORKLOAD=sailings",
        "two words 2",
        "/",
    ] {
        assert!(
            ran.output.lines().any(|l| l == line),
            "{line}: {}",
            ran.output
        );
    }
    assert!(!ran.output.contains("CARGO"), "{}", ran.output);
    let ran = host.script("kill -TERM $$").await;
    assert_eq!(ran.ended, Ended::Signal(15));
    // The end of much output, without what would move a cursor.
    let ran = host
        .script(
            "i=0; while [ $i -lt 3000 ]; do echo line $i; i=$((i+1)); done; printf 'a\\033[2Jb'",
        )
        .await;
    assert_eq!(ran.ended, Ended::Exit(0));
    assert!(ran.output.len() <= Ran::MOST_OUTPUT && ran.output.ends_with("line 2999\na [2Jb"));
}

fn runs(mark: &Path) -> bool {
    let mark = mark.display().to_string();
    let all = std::fs::read_dir("/proc").unwrap().filter_map(Result::ok);
    let mut words = all.filter_map(|p| std::fs::read(p.path().join("cmdline")).ok());
    words.any(|w| String::from_utf8_lossy(&w).contains(&mark))
}

#[tokio::test]
async fn past_its_limit_all_of_it_is_ended() {
    let host = Host::new();
    let mark = host.dir.path().join("beside");
    std::os::unix::fs::symlink("/bin/sleep", &mark).unwrap();
    let beside = mark.display();
    host.put(
        "warm",
        &format!("echo begun; {beside} 600 & {beside} 600"),
        0o755,
    );
    let slow = OwnStep {
        limit: Duration::from_millis(700),
        ..step("warm")
    };
    let begun = Instant::now();
    let ran = host.run(&slow).await;
    assert_eq!((ran.ended, ran.output.as_str()), (Ended::Late, "begun"));
    assert!(begun.elapsed() < Duration::from_secs(5), "{:?}", ran.took);
    gone(&mark).await;
    // One that ends leaves nothing behind either, and whoever has its pipe is not waited for.
    let begun = Instant::now();
    let ran = host.script(&format!("{beside} 600 &\necho over")).await;
    assert_eq!((ran.ended, ran.output.as_str()), (Ended::Exit(0), "over"));
    assert!(begun.elapsed() < Duration::from_secs(5));
    gone(&mark).await;
    // Nor does one that nobody waits for any more.
    host.put("warm", &format!("{beside} 600"), 0o755);
    let patient = step("warm");
    let waited = tokio::time::timeout(Duration::from_millis(300), host.run(&patient));
    assert!(waited.await.is_err());
    gone(&mark).await;
}

async fn gone(mark: &Path) {
    let begun = Instant::now();
    while runs(mark) {
        assert!(
            begun.elapsed() < Duration::from_secs(10),
            "something runs on"
        );
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}

#[tokio::test]
async fn only_what_the_hosts_owner_put_there_runs() {
    let host = Host::new();
    let why = async |step: &OwnStep| match host.run(step).await.ended {
        Ended::NotBegun(why) => why,
        other => panic!("{other:?}"),
    };
    assert!(why(&step("absent")).await.contains("is not there"));
    host.put("open", "true", 0o777);
    assert!(
        why(&step("open"))
            .await
            .contains("writable for nobody else")
    );
    host.put("plain", "true", 0o644);
    assert!(why(&step("plain")).await.contains("is no program"));
    std::os::unix::fs::symlink("/bin/true", host.steps.dir.join("link")).unwrap();
    let linked = why(&step("link")).await;
    assert!(
        linked.contains("is no program") || linked.contains("writable for nobody"),
        "{linked}"
    );
    host.put("fine", "id -un", 0o755);
    let stranger = OwnStep {
        user: Some("nobody-of-this-name".into()),
        ..step("fine")
    };
    assert!(why(&stranger).await.contains("there is no user"));
    let lesser = OwnStep {
        user: Some("nobody".into()),
        ..step("fine")
    };
    if rustix::process::geteuid().is_root() {
        let ran = host.run(&lesser).await;
        assert_eq!(ran.output, "nobody", "{ran:?}");
    } else {
        assert!(why(&lesser).await.contains("only root"));
    }
    std::fs::set_permissions(&host.steps.dir, Permissions::from_mode(0o777)).unwrap();
    assert!(
        why(&step("fine"))
            .await
            .contains("writable for nobody else")
    );
}
