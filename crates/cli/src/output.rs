//! Tables for people, JSON and YAML for programs.

use anyhow::Result;
use clap::ValueEnum;
use comfy_table::{Cell, ContentArrangement, Table, presets};
use karst_api::core::view::Condition;
use serde::Serialize;
use std::io::{IsTerminal as _, Write as _};
use std::sync::LazyLock;

pub use karst_api::core::text::{at_stake, size, span, utc};

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    Table,
    Json,
    Yaml,
}

/// What programs end with that a closed pipe ends: 128 and the signal's number.
const NOBODY_READS: i32 = 141;

/// Prints this. Whoever reads may have seen enough (`karst status | head -1`): then there is
/// nothing more to do, nor to complain of.
pub fn say(text: &str) {
    let mut out = std::io::stdout().lock();
    if let Err(error) = out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
        if error.kind() == std::io::ErrorKind::BrokenPipe {
            std::process::exit(NOBODY_READS);
        }
        eprintln!("karst: the output cannot be written: {error}");
        std::process::exit(1);
    }
}

/// Prints the value itself, or what `table` makes of it.
pub fn print<T: Serialize>(
    format: Format,
    value: &T,
    table: impl FnOnce(&T) -> String,
) -> Result<()> {
    match format {
        Format::Table => say(&format!("{}\n", table(value).trim_end())),
        Format::Json => say(&format!("{}\n", serde_json::to_string_pretty(value)?)),
        Format::Yaml => say(&serde_yaml_ng::to_string(value)?),
    }
    Ok(())
}

/// One value of several that follow each other: a line of JSON, a document of YAML.
pub fn print_next<T: Serialize>(
    format: Format,
    value: &T,
    table: impl FnOnce(&T) -> String,
) -> Result<()> {
    match format {
        Format::Table => say(&table(value)),
        Format::Json => say(&format!("{}\n", serde_json::to_string(value)?)),
        Format::Yaml => say(&format!("---\n{}", serde_yaml_ng::to_string(value)?)),
    }
    Ok(())
}

/// What is said beside the result: on standard output only where people read that.
pub fn remark(format: Format, text: &str) {
    if format == Format::Table {
        say(text);
    } else {
        eprint!("{text}");
    }
}

/// Columns without lines between them, the way a terminal shows them best; on a terminal that is
/// too narrow the last one is broken.
pub fn columns<const N: usize>(
    heads: [&str; N],
    rows: impl IntoIterator<Item = [String; N]>,
) -> String {
    let mut table = Table::new();
    table
        .load_preset(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Disabled);
    if let Some((terminal_size::Width(wide), _)) = terminal_size::terminal_size() {
        table
            .set_content_arrangement(ContentArrangement::Dynamic)
            .set_width(wide);
    }
    table.set_header(heads.map(Cell::new));
    for row in rows {
        table.add_row(row);
    }
    if let Some(column) = table.column_mut(0) {
        column.set_padding((2, 1));
    }
    table.trim_fmt()
}

/// Names and their values, one below the other.
pub fn facts(rows: &[(&str, String)]) -> String {
    let wide = rows.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
    let line = |(name, value): &(&str, String)| format!("  {name:<wide$}  {value}\n");
    rows.iter().map(line).collect()
}

/// Colour only where a person looks at a terminal, and does not say otherwise (no-color.org).
static COLOUR: LazyLock<bool> = LazyLock::new(|| {
    let refused = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
    let dumb = std::env::var_os("TERM").is_some_and(|term| term == "dumb");
    std::io::stdout().is_terminal() && !refused && !dumb
});

/// Select graphic rendition (ECMA-48, section 8.3.117).
fn painted(text: &str, code: &str) -> String {
    if *COLOUR {
        format!("\x1b[{code}m{text}\x1b[0m")
    } else {
        text.into()
    }
}

/// The word of a state, in square brackets; coloured as the console has it.
pub fn state(condition: Condition) -> String {
    let code = match condition {
        Condition::Healthy => "36",
        Condition::Recovering => "34",
        Condition::Degraded => "33",
        Condition::Unknown => "2",
        Condition::Down => "1;35",
    };
    painted(&format!("[{}]", condition.word()), code)
}

/// What somebody has to see.
pub fn loud(text: &str) -> String {
    painted(text, "1;33")
}
