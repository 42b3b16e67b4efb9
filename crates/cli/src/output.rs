//! Tables for people, JSON and YAML for programs.

use anyhow::Result;
use clap::ValueEnum;
use comfy_table::{Cell, ContentArrangement, Table, presets};
use serde::Serialize;
use std::io::Write as _;

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

/// Columns without lines between them, the way a terminal shows them best.
pub fn columns<const N: usize>(
    heads: [&str; N],
    rows: impl IntoIterator<Item = [String; N]>,
) -> String {
    let mut table = Table::new();
    table
        .load_preset(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(heads.map(Cell::new));
    for row in rows {
        table.add_row(row);
    }
    if let Some(column) = table.column_mut(0) {
        column.set_padding((2, 1));
    }
    table.trim_fmt()
}

pub use karst_api::core::text::{size, span, utc};
