//! Takes the console's build into the binary. It is built before cargo runs (`make`); without it a
//! debug binary serves a page that says so, and a release build fails.

use std::path::{Path, PathBuf};
use std::{env, fs, io};

fn main() -> io::Result<()> {
    // Asked for at each run: this script may have been compiled for another checkout, with the same
    // target directory.
    let told = |name: &str| PathBuf::from(env::var_os(name).expect("cargo sets it"));
    let built = told("CARGO_MANIFEST_DIR").join("../../console/dist");
    let out = told("OUT_DIR").join("console");
    println!("cargo::rerun-if-changed={}", built.display());
    let _ = fs::remove_dir_all(&out);
    fs::create_dir_all(&out)?;
    if built.join("index.html").exists() {
        return copy(&built, &out);
    }
    if env::var("PROFILE").as_deref() == Ok("release") {
        println!("cargo::error=the console is not built: run `make console` first");
        return Ok(());
    }
    fs::write(
        out.join("index.html"),
        "<!doctype html><title>Karst</title><p>This debug build has no console: run <code>make console</code>, then build again.",
    )
}

fn copy(from: &Path, to: &Path) -> io::Result<()> {
    fs::create_dir_all(to)?;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let target = to.join(entry.file_name());
        if entry.file_type()?.is_dir() {
            copy(&entry.path(), &target)?;
        } else {
            fs::copy(entry.path(), target)?;
        }
    }
    Ok(())
}
