//! What of a server's own settings the spec may say: not what Karst writes itself, and not what its
//! promises rest on.

/// Karst writes these itself.
const OURS: &[&str] = &[
    "port",
    "unix_socket_directories",
    "data_directory",
    "config_file",
    "hba_file",
    "ssl",
    "ssl_ca_file",
    "ssl_cert_file",
    "ssl_key_file",
    "primary_conninfo",
    "primary_slot_name",
    "synchronous_standby_names",
    "hot_standby",
    "restart_after_crash",
    "promote_trigger_file",
];
/// What the server may recover to is a clone's or a rewind's business.
const RECOVERY: &str = "recovery_";
/// Promises rest on these: what they may be (D1, D7, F11).
const BOUND: &[(&str, &[&str])] = &[
    ("fsync", &["on"]),
    ("full_page_writes", &["on"]),
    ("wal_log_hints", &["on"]),
    ("synchronous_commit", &["on", "remote_apply"]),
    ("wal_level", &["replica", "logical"]),
];

/// Why a setting of PostgreSQL is not taken, if so, and what to do about it.
pub fn refused(name: &str, value: &str) -> Option<(String, &'static str)> {
    let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '_' | '.');
    if name.is_empty() || !name.chars().all(plain) {
        let what = format!("`{name}` is not the name of a setting");
        return Some((what, "use lower-case letters, digits, underscores and dots"));
    }
    if value.chars().any(char::is_control) {
        let what = format!("the value of `{name}` has a control character");
        return Some((what, "write it in one line, without tabs"));
    }
    if OURS.contains(&name) || name.starts_with(RECOVERY) {
        let what = format!("`{name}` is written by Karst itself");
        return Some((what, "take it out"));
    }
    let (_, good) = BOUND.iter().find(|(bound, _)| *bound == name)?;
    (!good.contains(&value)).then(|| {
        let what = format!(
            "`{name} = {value}` would end what Karst promises: it may be {}",
            good.join(" or ")
        );
        (what, "take it out, or write one of those")
    })
}

/// The first line that a list of clients (manual, section 21.1) cannot have, or that says where more
/// lines are: hosts have no other files than the spec.
pub fn wrong_client(text: &str) -> Option<&str> {
    let kinds = [
        "local",
        "host",
        "hostssl",
        "hostnossl",
        "hostgssenc",
        "hostnogssenc",
    ];
    let plain = |c: char| !c.is_control() || c == '\t';
    let mut lines = text.lines().map(str::trim);
    lines.find(|line| {
        let mut words = line.split_whitespace();
        let written = !line.is_empty() && !line.starts_with('#');
        let is_one = words.next().is_some_and(|kind| kinds.contains(&kind)) && words.count() >= 3;
        written && (!is_one || line.contains('@') || !line.chars().all(plain))
    })
}

#[cfg(test)]
mod tests {
    use super::refused;

    #[test]
    fn what_a_promise_rests_on_cannot_be_set_and_the_rest_can() {
        for (name, value) in [
            ("port", "5433"),
            ("recovery_target_time", "x"),
            ("fsync", "off"),
            ("synchronous_commit", "local"),
            ("wal_level", "minimal"),
            ("Work_Mem", "8MB"),
            ("", "x"),
            ("work_mem", "8MB'\nfsync = off"),
        ] {
            assert!(refused(name, value).is_some(), "{name} = {value}");
        }
        for (name, value) in [
            ("work_mem", "8MB"),
            ("wal_level", "logical"),
            ("auto_explain.log_min_duration", "1s"),
            ("log_line_prefix", "%m it's "),
        ] {
            assert_eq!(refused(name, value), None, "{name} = {value}");
        }
    }
}
