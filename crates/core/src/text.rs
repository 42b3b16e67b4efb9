//! How quantities are written for people, everywhere: bytes, lengths of time, moments.

use std::time::Duration;

const KIB: u64 = 1 << 10;
const MIB: u64 = 1 << 20;
const GIB: u64 = 1 << 30;

/// Bytes with a binary unit (IEC 80000-13): a `MiB` has 1,048,576 of them, on screens as in a spec.
pub fn size(bytes: u64) -> String {
    let (of, unit) = match bytes {
        0..KIB => return format!("{bytes} B"),
        KIB..MIB => (KIB, "KiB"),
        MIB..GIB => (MIB, "MiB"),
        _ => (GIB, "GiB"),
    };
    format!("{:.1} {unit}", bytes as f64 / of as f64)
}

/// Bytes as a spec and a person write them: a whole number and a unit. `kB`, `MB` and `GB` are earlier
/// spellings of the binary units.
pub fn read_size(text: &str) -> Option<u64> {
    let digits = text.len() - text.trim_start_matches(|c: char| c.is_ascii_digit()).len();
    let unit = match text[digits..].trim() {
        "B" => 1,
        "KiB" | "kB" => KIB,
        "MiB" | "MB" => MIB,
        "GiB" | "GB" => GIB,
        _ => return None,
    };
    text[..digits].parse::<u64>().ok()?.checked_mul(unit)
}

/// Whether a text stays on its line wherever it is shown: no control characters, which move a
/// terminal's cursor or end a line of a log, and none that turn the direction of writing (Unicode
/// Standard Annex 9, section 2). PostgreSQL's text takes no NUL, which is one of them.
pub fn is_one_line(text: &str) -> bool {
    let turns = |c: char| matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    let ends = |c: char| matches!(c, '\u{2028}' | '\u{2029}');
    !text.chars().any(|c| c.is_control() || turns(c) || ends(c))
}

/// Bytes that may be lost; the largest number stands for nobody knows how many.
pub fn at_stake(bytes: u64) -> String {
    match bytes {
        u64::MAX => "an unknown amount".into(),
        bytes => size(bytes),
    }
}

/// A length of time in the two units that matter: `850 ms`, `4.2 s`, `12 min 5 s`, `6 h`, `3 d 4 h`.
pub fn span(time: Duration) -> String {
    let seconds = time.as_secs();
    let two = |large: u64, unit: &str, small: u64, rest: &str| match small {
        0 => format!("{large} {unit}"),
        small => format!("{large} {unit} {small} {rest}"),
    };
    match seconds {
        0 => format!("{} ms", time.as_millis()),
        1..10 => format!("{:.1} s", time.as_secs_f64()),
        10..60 => format!("{seconds} s"),
        60..3_600 => two(seconds / 60, "min", seconds % 60, "s"),
        3_600..86_400 => two(seconds / 3_600, "h", seconds % 3_600 / 60, "min"),
        _ => two(seconds / 86_400, "d", seconds % 86_400 / 3_600, "h"),
    }
}

/// Seconds since the Unix epoch as date and time, UTC. The day is counted as in Howard Hinnant's
/// `civil_from_days`.
pub fn utc(unix: u64) -> String {
    let (days, rest) = (unix / 86_400, unix % 86_400);
    let shifted = days + 719_468;
    let (era, of_era) = (shifted / 146_097, shifted % 146_097);
    let year_of_era = (of_era - of_era / 1_460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month_from_march = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month_from_march + 2) / 5 + 1;
    let month = (month_from_march + 2) % 12 + 1;
    let year = era * 400 + year_of_era + u64::from(month <= 2);
    format!(
        "{year}-{month:02}-{day:02} {:02}:{:02} UTC",
        rest / 3_600,
        rest % 3_600 / 60
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quantities_are_written_as_people_read_them() {
        let sizes = [0, 1_023, 1_024, 16_777_216, 4_500_000_000].map(size);
        assert_eq!(sizes, ["0 B", "1023 B", "1.0 KiB", "16.0 MiB", "4.2 GiB"]);
        for (text, bytes) in [
            ("16MiB", Some(16 << 20)),
            ("16 MB", Some(16 << 20)),
            ("3kB", Some(3 << 10)),
            ("1GiB", Some(1 << 30)),
            ("0B", Some(0)),
            ("16", None),
            ("-1MiB", None),
            ("1.5GiB", None),
            ("18446744073709551615KiB", None),
        ] {
            assert_eq!(read_size(text), bytes, "{text}");
        }
        let spans = [850, 4_200, 59_900, 725_000, 21_600_000, 273_600_000]
            .map(|ms| span(Duration::from_millis(ms)));
        assert_eq!(
            spans,
            ["850 ms", "4.2 s", "59 s", "12 min 5 s", "6 h", "3 d 4 h"]
        );
        let moments = [0, 951_782_400, 1_709_164_800, 1_795_910_400].map(utc);
        assert_eq!(
            moments,
            [
                "1970-01-01 00:00 UTC",
                "2000-02-29 00:00 UTC",
                "2024-02-29 00:00 UTC",
                "2026-11-29 00:00 UTC"
            ]
        );
    }
}
