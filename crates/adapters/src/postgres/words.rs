//! What a server's own log says of its end.

use crate::driver::Life;

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

#[cfg(test)]
mod tests {
    use super::*;

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
