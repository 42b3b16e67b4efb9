//! Server settings that the spec gives: whether a server of this host takes them, before it is asked
//! to.

use super::keeper::Postgres;
use super::words::copied;
use crate::trouble::Trouble;
use karst_core::spec::WorkloadSpec;
use std::collections::BTreeMap;

/// Before the names of settings in the spec.
const SET: &str = "set.";
/// A standby does not start with less of these than its primary has (manual, section 27.4.5), and
/// what Karst writes where the spec says nothing, or else what the server has then.
const NOT_LOWERED: &[(&str, u64)] = &[
    ("max_connections", 200),
    ("max_wal_senders", 16),
    ("max_worker_processes", 8),
    ("max_prepared_transactions", 0),
    ("max_locks_per_transaction", 64),
];

pub(super) fn given(settings: &BTreeMap<String, String>) -> BTreeMap<String, String> {
    let all = settings.iter();
    all.filter_map(|(k, v)| Some((k.strip_prefix(SET)?.into(), v.clone())))
        .collect()
}

/// Which of those would be less than they are.
fn lowered(before: &BTreeMap<String, String>, after: &BTreeMap<String, String>) -> Vec<String> {
    let number = |of: &BTreeMap<String, String>, name: &str, usual: u64| {
        of.get(name).map_or(Some(usual), |text| text.parse().ok())
    };
    let less = |(name, usual): &(&str, u64)| {
        let (was, is) = (number(before, name, *usual)?, number(after, name, *usual)?);
        (is < was).then(|| {
            format!(
                "{name} would be {is} in place of {was}, and a standby does not start with less than its primary has: leave it at {was}"
            )
        })
    };
    NOT_LOWERED.iter().filter_map(less).collect()
}

impl Postgres {
    /// What of the settings a server here would refuse, as its own program says, and what of them
    /// its standbys would.
    pub(super) async fn refused_settings(&self, before: Option<&WorkloadSpec>) -> Vec<String> {
        let before = before.map(|spec| given(&spec.settings));
        let mut all = before
            .as_ref()
            .map_or_else(Vec::new, |before| lowered(before, &self.plan.extra));
        for (name, value) in &self.plan.extra {
            let known = before.as_ref().and_then(|before| before.get(name));
            if known == Some(value) {
                continue;
            }
            if let Err(error) = self.try_setting(name, value).await {
                all.push(format!("set.{name} = \"{value}\" is refused: {error}"));
            }
        }
        all
    }

    /// The program reads its command line, says the name of a file, and ends: it needs a directory
    /// with a file of settings, and touches nothing there.
    async fn try_setting(&self, name: &str, value: &str) -> Result<(), String> {
        let host = &self.host;
        let scratch = host.site.runtime.join("trial");
        let made = host
            .make_runtime()
            .and_then(|()| {
                std::fs::create_dir_all(&scratch)
                    .map_err(Trouble::io(scratch.display().to_string()))
            })
            .and_then(|()| host.lay_out("trial/postgresql.conf", "", 0o640));
        made.map_err(|e| e.to_string())?;
        let mut command = host.program(&self.plan.programs.join("postgres"));
        command
            .args(["-C", "config_file", "-c"])
            .arg(format!("{name}={value}"))
            .arg("-D")
            .arg(&scratch);
        match host.run(command, "postgres", copied).await {
            Ok(_) => Ok(()),
            Err(Trouble::Program { output, .. }) => Err(words_of(&output)),
            Err(other) => Err(other.to_string()),
        }
    }
}

/// Without the time, the process and the level before each line.
fn words_of(output: &str) -> String {
    let lines = output.split("; ").filter_map(|line| {
        let (_, said) = line
            .split_once("FATAL:")
            .or_else(|| line.split_once("HINT:"))?;
        Some(said.trim())
    });
    let said: Vec<&str> = lines.collect();
    if said.is_empty() {
        output.to_string()
    } else {
        said.join(" ")
    }
}

#[cfg(test)]
mod tests {
    use super::{lowered, words_of};
    use std::collections::BTreeMap;

    #[test]
    fn what_a_standby_needs_as_much_of_as_its_primary_is_not_lowered() {
        let of = |list: &[(&str, &str)]| -> BTreeMap<String, String> {
            list.iter()
                .map(|(k, v)| (k.to_string(), v.to_string()))
                .collect()
        };
        let (nothing, more) = (
            of(&[]),
            of(&[("max_connections", "300"), ("work_mem", "8MB")]),
        );
        assert!(lowered(&nothing, &more).is_empty());
        let back = lowered(&more, &nothing);
        assert!(
            back.len() == 1 && back[0].contains("200 in place of 300"),
            "{back:?}"
        );
    }

    #[test]
    fn a_refusal_is_the_servers_own_sentence() {
        let said = "2026-11-02 08:00:00 GMT [12] FATAL:  invalid value for parameter \"log_min_messages\": \"x\"; \
                    2026-11-02 08:00:00 GMT [12] HINT:  Available values: debug5.";
        let words = words_of(said);
        assert_eq!(
            words,
            "invalid value for parameter \"log_min_messages\": \"x\" Available values: debug5."
        );
    }
}
