//! Secrets are references, so that the spec can be shown to anybody.

/// What `file:PATH` or `env:NAME` holds, without the white space around it.
///
/// # Errors
/// Why there is nothing; never any part of the secret.
pub fn read(reference: &str) -> Result<String, String> {
    let value = match reference.split_once(':') {
        Some(("file", path)) => {
            std::fs::read_to_string(path).map_err(|e| format!("{path}: {e}"))?
        }
        Some(("env", name)) => std::env::var(name).map_err(|e| format!("{name}: {e}"))?,
        _ => return Err("use a reference, `file:PATH` or `env:NAME`".into()),
    };
    match value.trim() {
        "" => Err("it is empty".into()),
        value => Ok(value.into()),
    }
}
