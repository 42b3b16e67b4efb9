//! Tables for people, JSON and YAML for programs.

use anyhow::Result;
use clap::ValueEnum;
use comfy_table::{Cell, ContentArrangement, Table, presets};
use serde::Serialize;

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    Table,
    Json,
    Yaml,
}

/// Prints the value itself, or what `table` makes of it.
pub fn print<T: Serialize>(format: Format, value: &T, table: impl FnOnce(&T) -> String) -> Result<()> {
    match format {
        Format::Table => println!("{}", table(value).trim_end()),
        Format::Json => println!("{}", serde_json::to_string_pretty(value)?),
        Format::Yaml => print!("{}", serde_yaml_ng::to_string(value)?),
    }
    Ok(())
}

/// Columns without lines between them, the way a terminal shows them best.
pub fn columns<const N: usize>(heads: [&str; N], rows: impl IntoIterator<Item = [String; N]>) -> String {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(heads.map(Cell::new));
    for row in rows {
        table.add_row(row);
    }
    if let Some(column) = table.column_mut(0) {
        column.set_padding((2, 1));
    }
    table.trim_fmt()
}

/// Bytes with a unit.
pub fn size(bytes: u64) -> String {
    match bytes {
        0..1024 => format!("{bytes} B"),
        1024..1_048_576 => format!("{:.1} kB", bytes as f64 / 1024.0),
        _ => format!("{:.1} MB", bytes as f64 / 1_048_576.0),
    }
}
