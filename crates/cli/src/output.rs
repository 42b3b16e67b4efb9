//! Tables for people, JSON and YAML for programs.

use anyhow::Result;
use clap::ValueEnum;
use comfy_table::{Cell, ContentArrangement, Table, presets};
use karst_api::core::text::is_one_line;
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
        Format::Table => say(&harmless(&format!("{}\n", table(value).trim_end()))),
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
        Format::Table => say(&harmless(&table(value))),
        Format::Json => say(&format!("{}\n", serde_json::to_string(value)?)),
        Format::Yaml => say(&format!("---\n{}", serde_yaml_ng::to_string(value)?)),
    }
    Ok(())
}

/// What is said beside the result: on standard output only where people read that.
pub fn remark(format: Format, text: &str) {
    let text = harmless(text);
    if format == Format::Table {
        say(&text);
    } else {
        eprint!("{text}");
    }
}

/// A text for people, with every character escaped that would move a terminal's cursor or turn the
/// direction of writing. A server, a device or a step may have said anything. The colours of this file
/// stay.
pub fn harmless(text: &str) -> String {
    let stays = |c: char| c == '\n' || c == '\t' || is_one_line(c.encode_utf8(&mut [0; 4]));
    let (mut out, mut rest) = (String::with_capacity(text.len()), text);
    while let Some(c) = rest.chars().next() {
        let colour = COLOURS.iter().find(|colour| rest.starts_with(*colour));
        let taken = match colour {
            Some(colour) => {
                out.push_str(colour);
                colour.len()
            }
            None if stays(c) => {
                out.push(c);
                c.len_utf8()
            }
            None => {
                out.extend(c.escape_default());
                c.len_utf8()
            }
        };
        rest = &rest[taken..];
    }
    out
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

/// Select graphic rendition (ECMA-48, section 8.3.117): the end of a colour, and each that is used here.
const COLOURS: [&str; 7] = [
    PLAIN,
    CYAN,
    BLUE,
    YELLOW,
    FAINT,
    STRONG_MAGENTA,
    STRONG_YELLOW,
];
const PLAIN: &str = "\x1b[0m";
const CYAN: &str = "\x1b[36m";
const BLUE: &str = "\x1b[34m";
const YELLOW: &str = "\x1b[33m";
const FAINT: &str = "\x1b[2m";
const STRONG_MAGENTA: &str = "\x1b[1;35m";
const STRONG_YELLOW: &str = "\x1b[1;33m";

fn painted(text: &str, colour: &str) -> String {
    if *COLOUR {
        format!("{colour}{text}{PLAIN}")
    } else {
        text.into()
    }
}

/// The word of a state, in square brackets; coloured as the console has it.
pub fn state(condition: Condition) -> String {
    let code = match condition {
        Condition::Healthy => CYAN,
        Condition::Recovering => BLUE,
        Condition::Degraded => YELLOW,
        Condition::Unknown => FAINT,
        Condition::Down => STRONG_MAGENTA,
    };
    painted(&format!("[{}]", condition.word()), code)
}

/// What somebody has to see.
pub fn loud(text: &str) -> String {
    painted(text, STRONG_YELLOW)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_moves_no_cursor_and_keeps_its_colours() {
        let said = format!("{CYAN}[healthy]{PLAIN} a\tb\n\u{1b}[2J\u{9b}2J\r\u{202e}\u{8}é");
        let shown = harmless(&said);
        let expected = "[healthy]\u{1b}[0m a\tb\n\\u{1b}[2J\\u{9b}2J\\r\\u{202e}\\u{8}é";
        assert_eq!(shown, format!("{CYAN}{expected}"));
    }
}
