//! A server's list of clients, with what it includes written out: the spec is all that hosts have.

use anyhow::{Context, Result, bail, ensure};
use std::path::Path;

/// Files within files.
const DEEPEST: u32 = 10;

/// The lines of a list (manual, section 21.1): names of files in it (`@FILE`, `include FILE`,
/// `include_if_exists FILE`, `include_dir DIRECTORY`) are taken from beside it.
///
/// # Errors
/// Which file cannot be read.
pub fn written_out(file: &Path) -> Result<String> {
    let mut text = String::new();
    take(file, 0, &mut text)?;
    Ok(text)
}

fn take(file: &Path, depth: u32, into: &mut String) -> Result<()> {
    ensure!(
        depth <= DEEPEST,
        "nothing was changed: {} includes itself, or too deep",
        file.display()
    );
    let dir = file.parent().unwrap_or(Path::new("/"));
    for line in read(file)?.replace("\\\n", " ").lines() {
        let words: Vec<&str> = line.split_whitespace().collect();
        match words.as_slice() {
            [] => {}
            [comment, ..] if comment.starts_with('#') => {}
            ["include", other] => take(&dir.join(other.trim_matches('"')), depth + 1, into)?,
            ["include_if_exists", other] => {
                let other = dir.join(other.trim_matches('"'));
                if other
                    .try_exists()
                    .with_context(|| other.display().to_string())?
                {
                    take(&other, depth + 1, into)?;
                }
            }
            ["include_dir", other] => {
                let other = dir.join(other.trim_matches('"'));
                let entries = std::fs::read_dir(&other);
                let entries = entries.with_context(|| other.display().to_string())?;
                let mut all = entries
                    .map(|entry| Ok(entry?.path()))
                    .collect::<Result<Vec<_>>>()?;
                all.sort();
                for one in all
                    .iter()
                    .filter(|one| one.extension().is_some_and(|e| e == "conf"))
                {
                    take(one, depth + 1, into)?;
                }
            }
            _ => {
                let words = words.iter().map(|word| names(word, dir, depth));
                let words = words.collect::<Result<Vec<String>>>()?;
                *into += &words.join(" ");
                into.push('\n');
            }
        }
    }
    Ok(())
}

/// A list of names, with those of a file in the place of `@FILE`.
fn names(word: &str, dir: &Path, depth: u32) -> Result<String> {
    if !word.contains('@') || word.starts_with('"') {
        return Ok(word.into());
    }
    ensure!(
        depth <= DEEPEST,
        "nothing was changed: {word} includes itself"
    );
    let mut all = Vec::new();
    for part in word.split(',') {
        let Some(file) = part.strip_prefix('@') else {
            all.push(part.to_string());
            continue;
        };
        for line in read(&dir.join(file))?.lines() {
            let line = line.split('#').next().unwrap_or_default();
            let parts = line.split([',', ' ', '\t']).filter(|part| !part.is_empty());
            for part in parts {
                all.push(names(part, dir, depth + 1)?);
            }
        }
    }
    if all.is_empty() {
        bail!("nothing was changed: {word} names nobody");
    }
    Ok(all.join(","))
}

fn read(file: &Path) -> Result<String> {
    std::fs::read_to_string(file)
        .with_context(|| format!("nothing was changed: {}", file.display()))
}

#[cfg(test)]
mod tests {
    use super::written_out;

    #[test]
    fn what_a_list_includes_is_written_out() {
        let dir = std::env::temp_dir().join(format!("karst-clients-{}", std::process::id()));
        std::fs::create_dir_all(dir.join("more")).unwrap();
        let put = |name: &str, text: &str| std::fs::write(dir.join(name), text).unwrap();
        put("mates", "gull, tern # at sea\n@others\n");
        put("others", "auk\n");
        put("quay", "host all all 192.0.2.0/24 reject\n");
        put("more/a.conf", "host all all all ldap ldapserver=d1\n");
        put("more/b.txt", "nothing\n");
        put(
            "list",
            "# ours\n\nlocal all captain,@mates peer\ninclude quay\ninclude_if_exists nothing\ninclude_dir more\n",
        );
        let text = written_out(&dir.join("list")).unwrap();
        assert_eq!(
            text,
            "local all captain,gull,tern,auk peer\nhost all all 192.0.2.0/24 reject\nhost all all all ldap ldapserver=d1\n"
        );
        put("round", "include round\n");
        let round = written_out(&dir.join("round")).unwrap_err().to_string();
        assert!(round.contains("includes itself"), "{round}");
        put("lacks", "host all @nobody all md5\n");
        let lacks = written_out(&dir.join("lacks")).unwrap_err().to_string();
        assert!(lacks.contains("nobody"), "{lacks}");
        std::fs::remove_dir_all(&dir).unwrap();
    }
}
