//! Tests that need a network of their own: no packet, table or address of theirs is seen on the
//! machine.

use std::process::Command;

const INSIDE: &str = "KARST_TEST_INSIDE";

/// Runs a program of the system, whose words have no spaces, and gives what it says.
pub fn run(program: &str, words: &str) -> String {
    let mut command = Command::new(program);
    let output = command
        .args(words.split(' '))
        .env("PATH", "/usr/sbin:/sbin:/usr/bin:/bin")
        .output();
    let output = output.unwrap_or_else(|e| panic!("{program}: {e}"));
    assert!(
        output.status.success(),
        "{program} {words}: {}",
        String::from_utf8_lossy(&output.stderr)
    );
    String::from_utf8(output.stdout).expect("it speaks UTF-8")
}

/// The test starts itself again in a namespace; true in there.
pub fn in_own_network(name: &str) -> bool {
    if std::env::var_os(INSIDE).is_some() {
        return true;
    }
    let output = Command::new("unshare")
        .args(["--map-root-user", "--net"])
        .arg(std::env::current_exe().expect("a test has a file"))
        .args(["--exact", name, "--nocapture"])
        .env(INSIDE, "1")
        .output()
        .expect("unshare runs (package util-linux)");
    let said =
        [output.stdout, output.stderr].map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
    assert!(output.status.success(), "{}", said.concat());
    false
}
