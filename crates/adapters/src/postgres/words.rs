//! What a server's own log says of its end, and what its programs say of how far they are.

use crate::driver::Life;
use karst_core::replica::Copied;

/// The last message of this run that ends a server (manual, section 20.8, message severity levels).
/// FATAL ends a session, which matters only where the server was never up; the sessions of those
/// who dialled too early do not.
pub(super) fn reason(log: &str, life: Life) -> Option<String> {
    let run = log.rsplit("starting PostgreSQL").next()?;
    let ends = |line: &'_ str| {
        let early = |said: &(&str, &str)| said.1.contains("the database system is");
        let fatal = || {
            line.split_once("FATAL: ")
                .filter(|said| life == Life::NeverUp && !early(said))
        };
        Some(
            line.split_once("PANIC: ")
                .or_else(fatal)?
                .1
                .trim()
                .to_string(),
        )
    };
    Some(format!(
        "its log says: {}",
        run.lines().rev().find_map(ends)?
    ))
}

/// A line of progress, as pg_basebackup and pg_rewind write it with `--progress`: `  2048/8192 kB
/// (25%) copied`.
pub(super) fn copied(line: &str) -> Option<Copied> {
    let (numbers, _) = line.trim_start().split_once(" kB (")?;
    let (done, total) = numbers.split_once('/')?;
    let bytes = |kilobytes: &str| kilobytes.trim().parse::<u64>().ok()?.checked_mul(1024);
    Some(Copied {
        done: bytes(done)?,
        total: bytes(total)?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn progress_is_told_from_what_went_wrong() {
        let far = Some(Copied {
            done: 2 << 20,
            total: 8 << 20,
        });
        assert_eq!(copied("   2048/8192 kB (25%) copied"), far);
        assert_eq!(copied(" 2048/8192 kB (25%), 0/1 tablespace"), far);
        assert_eq!(
            copied("pg_rewind: error: could not connect to server"),
            None
        );
    }

    #[test]
    fn the_last_panic_is_the_reason() {
        let log = "2026-11-21 09:00:00 UTC [7] LOG:  starting\n\
                   2026-11-21 09:01:00 UTC [9] PANIC:  could not write to file \"pg_wal/xlogtemp.9\": No space left on device\n\
                   2026-11-21 09:01:00 UTC [7] LOG:  server process (PID 9) was terminated by signal 6: Aborted\n";
        let said = reason(log, Life::Served).unwrap();
        assert_eq!(
            said,
            "its log says: could not write to file \"pg_wal/xlogtemp.9\": No space left on device"
        );
        let again = format!("{log}LOG:  starting PostgreSQL 15.18\n");
        assert_eq!(
            reason(&again, Life::Served),
            None,
            "that was an earlier run"
        );
        let fatal = format!(
            "{again}2026-11-21 09:02:00 UTC [11] FATAL:  recovery aborted because of insufficient parameter settings\n\
             2026-11-21 09:02:00 UTC [12] FATAL:  the database system is not yet accepting connections\n"
        );
        assert_eq!(reason(&fatal, Life::Served), None, "some client's session");
        let said = reason(&fatal, Life::NeverUp).unwrap();
        assert_eq!(
            said,
            "its log says: recovery aborted because of insufficient parameter settings"
        );
    }
}
