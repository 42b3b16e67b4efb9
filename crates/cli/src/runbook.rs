//! The runbook, at hand where there is no browser.

use crate::ending::Ending;
use crate::output::say;
use anyhow::{Result, bail};

static TEXT: &str = include_str!("../../../docs/runbook.md");

/// One section of it, or the names of all.
pub fn show(name: Option<&str>) -> Result<Ending> {
    let sections = || TEXT.split("\n### ").skip(1);
    let name_of = |section: &str| -> String {
        let head = section.lines().next().unwrap_or_default();
        head.trim_matches('`').into()
    };
    let Some(name) = name else {
        let names: Vec<String> = sections().map(name_of).collect();
        say(&format!(
            "karst runbook NAME, with one of:\n  {}\n",
            names.join("\n  ")
        ));
        return Ok(Ending::Done);
    };
    let Some(section) = sections().find(|section| name_of(section) == name) else {
        bail!("the runbook has no section `{name}`; `karst runbook` names all");
    };
    let text = section.split("\n## ").next().unwrap_or(section);
    say(&format!("{}\n", text.trim_end()));
    Ok(Ending::Done)
}
