//! The program: everything is in the library beside it.

fn main() -> anyhow::Result<()> {
    karst_daemon::run()
}
