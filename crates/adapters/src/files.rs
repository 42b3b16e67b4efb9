//! Files in places where the server's user may write. This daemon is root: whatever that user
//! planted there, a link, a pipe, a device, must lead nowhere that the user could not go by itself,
//! and must not make anybody wait.
//!
//! So what is done there is done with that user's rights: on a thread of its own whose file
//! accesses are that user's (setfsuid(2)). Only where the user may not write, nor swap a directory
//! above, this process acts as itself, and gives away what it made by its handle. Paths in the spec
//! have to be the real ones therefore: a link on the way is never followed with this process's own
//! rights.

use nix::unistd::{Gid, Uid, setfsgid, setfsuid};
use rustix::fs::{Mode, OFlags, fchmod, fchown, open};
use std::fs::{File, Metadata};
use std::io::{self, ErrorKind, Read, Write};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// Nothing that is read whole is larger: settings, histories, a server's process file.
const LARGEST: u64 = 16 << 20;

/// A user and its group, by number.
pub type Owner = (u32, u32);

/// For the server's user, or for this process's own where a server runs as that.
#[derive(Clone, Copy, Debug)]
pub struct Files {
    pub owner: Option<Owner>,
}

impl Files {
    /// With the server's user's rights and no more.
    fn as_owner<T: Send>(self, act: impl FnOnce() -> io::Result<T> + Send) -> io::Result<T> {
        let Some((uid, gid)) = self.owner else {
            return act();
        };
        let (uid, gid) = (Uid::from_raw(uid), Gid::from_raw(gid));
        let body = || {
            rustix::thread::set_thread_groups(&[])?;
            setfsgid(gid);
            setfsuid(uid);
            // It does not say whether it did; asked again, it says what is so.
            if setfsgid(gid) != gid || setfsuid(uid) != uid {
                return Err(io::Error::from(ErrorKind::PermissionDenied));
            }
            act()
        };
        std::thread::scope(|scope| {
            let thread = std::thread::Builder::new()
                .name("as-owner".into())
                .spawn_scoped(scope, body)?;
            thread.join().unwrap_or_else(|_| {
                Err(io::Error::other(
                    "the thread that acts for the server's user panicked",
                ))
            })
        })
    }

    /// Changes something in the directory that holds `path`: as whoever may write there.
    fn beside<T: Send>(
        self,
        path: &Path,
        act: impl FnOnce() -> io::Result<T> + Send,
    ) -> io::Result<T> {
        if self.is_closed_to_owner(path)? {
            act()
        } else {
            self.as_owner(act)
        }
    }

    /// Whether the user can neither write into the directory that holds `path` nor put another in
    /// the place of one above it.
    fn is_closed_to_owner(self, path: &Path) -> io::Result<bool> {
        let Some((uid, gid)) = self.owner else {
            return Ok(true);
        };
        let named = path.parent().unwrap_or(Path::new("/"));
        let parent = named.canonicalize()?;
        // A link on the way may be the user's: where it leads to is then no place for this process.
        if parent != named {
            return Ok(false);
        }
        let writes = |m: &Metadata| {
            m.uid() == uid || (m.gid() == gid && m.mode() & 0o020 != 0) || m.mode() & 0o002 != 0
        };
        for (above, dir) in parent.ancestors().enumerate() {
            let metadata = std::fs::symlink_metadata(dir)?;
            // In a directory with the sticky bit nobody renames what is another's.
            let sticky = above > 0 && metadata.uid() != uid && metadata.mode() & 0o1000 != 0;
            if writes(&metadata) && !sticky {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// A file for reading. Nothing else is opened: to open a pipe is to wait for its other end.
    pub fn open(self, path: &Path) -> io::Result<File> {
        self.as_owner(|| open_plain(path, OFlags::RDONLY))
    }

    /// The same where it may have several names, as backups that share what has not changed: nothing
    /// is read that the user could not read.
    pub fn open_linked(self, path: &Path) -> io::Result<File> {
        self.as_owner(|| {
            let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
            let file = File::from(open(path, flags, Mode::empty())?);
            match file.metadata()?.is_file() {
                true => Ok(file),
                false => Err(io::Error::other("it is not a plain file")),
            }
        })
    }

    /// A new file that is the server's user's alone.
    pub fn create(self, path: &Path) -> io::Result<File> {
        self.beside(path, || {
            let flags =
                OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            let file = File::from(open(path, flags, Mode::from(0o600))?);
            self.give_away(&file, 0o600)?;
            Ok(file)
        })
    }

    /// A link to another place.
    pub fn link(self, path: &Path, to: &Path) -> io::Result<()> {
        self.as_owner(|| std::os::unix::fs::symlink(to, path))
    }

    /// Everything below a directory by its path within, a directory before what is in it, and of
    /// files their lengths. A link or whatever else lies there is an error: what it leads to is not
    /// in the directory.
    pub fn tree(self, dir: &Path) -> io::Result<Vec<(PathBuf, Option<u64>)>> {
        self.as_owner(|| {
            let (mut all, mut next) = (Vec::new(), 0);
            let mut within = PathBuf::new();
            loop {
                for entry in std::fs::read_dir(dir.join(&within))? {
                    let entry = entry?;
                    let (path, metadata) = (within.join(entry.file_name()), entry.metadata()?);
                    let length = match metadata.file_type() {
                        kind if kind.is_dir() => None,
                        kind if kind.is_file() => Some(metadata.len()),
                        _ => {
                            let what =
                                format!("{} is neither a file nor a directory", path.display());
                            return Err(io::Error::other(what));
                        }
                    };
                    all.push((path, length));
                }
                let dirs = |(at, (path, length)): (usize, &(PathBuf, Option<u64>))| {
                    length.is_none().then(|| (at, path.clone()))
                };
                match all.iter().enumerate().skip(next).find_map(dirs) {
                    Some((at, path)) => (next, within) = (at + 1, path),
                    None => return Ok(all),
                }
            }
        })
    }

    pub fn read(self, path: &Path) -> io::Result<Vec<u8>> {
        let mut content = Vec::new();
        self.open(path)?.take(LARGEST).read_to_end(&mut content)?;
        Ok(content)
    }

    pub fn read_text(self, path: &Path) -> io::Result<String> {
        String::from_utf8(self.read(path)?).map_err(|_| io::Error::from(ErrorKind::InvalidData))
    }

    /// Whether there is something of that name, whatever it is.
    pub fn exists(self, path: &Path) -> io::Result<bool> {
        self.exist([path]).map(|[there]| there)
    }

    /// The same of several, at the price of one.
    pub fn exist<const N: usize>(self, paths: [&Path; N]) -> io::Result<[bool; N]> {
        self.as_owner(|| {
            let mut there = [false; N];
            for (there, path) in there.iter_mut().zip(paths) {
                *there = match std::fs::symlink_metadata(path) {
                    Ok(_) => true,
                    Err(error) if error.kind() == ErrorKind::NotFound => false,
                    Err(error) => {
                        return Err(io::Error::new(
                            error.kind(),
                            format!("{}: {error}", path.display()),
                        ));
                    }
                };
            }
            Ok(there)
        })
    }

    /// Puts a new file in the place of whatever has that name. The directory is synced too where it
    /// has to outlive a power cut.
    pub fn put(self, path: &Path, content: &[u8], durable: bool) -> io::Result<()> {
        let next = with_ending(path, "next");
        self.beside(path, || {
            gone(std::fs::remove_file(&next))?;
            let flags =
                OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            let mut file = File::from(open(&next, flags, Mode::from(0o600))?);
            self.give_away(&file, 0o600)?;
            file.write_all(content)?;
            if durable {
                file.sync_all()?;
            }
            std::fs::rename(&next, path)?;
            if durable {
                File::open(path.parent().unwrap_or(Path::new("/")))?.sync_all()
            } else {
                Ok(())
            }
        })
    }

    /// A file to write on behind what is there.
    pub fn append(self, path: &Path) -> io::Result<File> {
        self.beside(path, || {
            let file = open_plain(path, OFlags::WRONLY | OFlags::APPEND | OFlags::CREATE)?;
            self.give_away(&file, 0o600)?;
            Ok(file)
        })
    }

    pub fn remove(self, path: &Path) -> io::Result<()> {
        self.beside(path, || gone(std::fs::remove_file(path)))
    }

    /// An empty directory that is the server's user's alone, in the place of what had that name.
    pub fn make_dir(self, path: &Path) -> io::Result<()> {
        self.clear(path)?;
        self.make_parents(path.parent().unwrap_or(Path::new("/")))?;
        self.beside(path, || {
            std::fs::create_dir(path)?;
            self.own_dir(path)
        })
    }

    /// The directory, made if it is not there.
    pub fn ensure_dir(self, path: &Path) -> io::Result<()> {
        if self.exists(path)? {
            self.beside(path, || self.own_dir(path))
        } else {
            self.make_dir(path)
        }
    }

    fn own_dir(self, path: &Path) -> io::Result<()> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        self.give_away(&File::from(open(path, flags, Mode::empty())?), 0o700)
    }

    fn make_parents(self, dir: &Path) -> io::Result<()> {
        if self.exists(dir)? {
            return Ok(());
        }
        self.make_parents(dir.parent().unwrap_or(Path::new("/")))?;
        self.beside(dir, || std::fs::create_dir(dir))
    }

    /// Nothing of that name is left, nor of what was in it. The standard library follows no link on
    /// its way down.
    pub fn clear(self, path: &Path) -> io::Result<()> {
        if !self.exists(path)? {
            return Ok(());
        }
        self.beside(path, || match std::fs::symlink_metadata(path)?.is_dir() {
            true => std::fs::remove_dir_all(path),
            false => std::fs::remove_file(path),
        })
    }

    pub fn rename(self, from: &Path, to: &Path) -> io::Result<()> {
        self.beside(to, || std::fs::rename(from, to))
    }

    pub fn sync_dir(self, path: &Path) -> io::Result<()> {
        self.as_owner(|| File::open(path)?.sync_all())
    }

    pub fn names(self, dir: &Path) -> io::Result<Vec<String>> {
        self.as_owner(|| {
            let entries = std::fs::read_dir(dir)?;
            entries
                .map(|entry| Ok(entry?.file_name().to_string_lossy().into_owned()))
                .collect()
        })
    }

    fn give_away(self, file: &File, mode: u32) -> io::Result<()> {
        if let Some((uid, gid)) = self.owner
            && file.metadata()?.uid() != uid
        {
            fchown(
                file,
                Some(rustix::fs::Uid::from_raw(uid)),
                Some(rustix::fs::Gid::from_raw(gid)),
            )?;
        }
        Ok(fchmod(file, Mode::from(mode))?)
    }
}

/// `a.b` becomes `a.b.ending`.
pub fn with_ending(path: &Path, ending: &str) -> PathBuf {
    let mut name = path.as_os_str().to_os_string();
    name.push(format!(".{ending}"));
    name.into()
}

fn open_plain(path: &Path, flags: OFlags) -> io::Result<File> {
    let flags = flags | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let file = File::from(open(path, flags, Mode::from(0o600))?);
    // Several names for one file: it may be another's.
    let metadata = file.metadata()?;
    if !metadata.is_file() || metadata.nlink() > 1 {
        return Err(io::Error::other("it is not a plain file"));
    }
    Ok(file)
}

fn gone(removed: io::Result<()>) -> io::Result<()> {
    match removed {
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(()),
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::{PermissionsExt, chown, symlink};
    use std::time::{Duration, Instant};

    const USER: (u32, u32) = (65_534, 65_534);

    struct Place {
        _dir: tempfile::TempDir,
        outside: PathBuf,
        data: PathBuf,
        files: Files,
    }

    /// A directory of the user's, and beside it a file of root's that it would like to have.
    fn place() -> Place {
        let dir = tempfile::tempdir().unwrap();
        std::fs::set_permissions(dir.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
        let (outside, data) = (dir.path().join("shadow"), dir.path().join("data"));
        std::fs::write(&outside, "root's").unwrap();
        std::fs::set_permissions(&outside, std::fs::Permissions::from_mode(0o600)).unwrap();
        std::fs::create_dir(&data).unwrap();
        let is_root = rustix::process::geteuid().is_root();
        if is_root {
            chown(&data, Some(USER.0), Some(USER.1)).unwrap();
        }
        Place {
            outside,
            data,
            files: Files {
                owner: is_root.then_some(USER),
            },
            _dir: dir,
        }
    }

    impl Place {
        fn untouched(&self) {
            let metadata = std::fs::metadata(&self.outside).unwrap();
            assert_eq!(std::fs::read(&self.outside).unwrap(), b"root's");
            assert_eq!(
                (metadata.uid(), metadata.mode() & 0o777),
                (rustix::process::geteuid().as_raw(), 0o600)
            );
        }

        /// Everything that is ever done to a name.
        fn all(&self, name: &str) {
            let (path, files) = (self.data.join(name), self.files);
            let _ = files.read(&path);
            let _ = files
                .append(&path)
                .and_then(|mut file| file.write_all(b"x"));
            let _ = files.ensure_dir(&path);
            let _ = files.rename(&path, &self.data.join("elsewhere"));
            let _ = files.rename(&self.data.join("elsewhere"), &path);
            files
                .put(&path, b"ours", true)
                .or_else(|_| files.clear(&path))
                .unwrap();
            files.put(&path, b"ours", true).unwrap();
            assert_eq!(files.read(&path).unwrap(), b"ours", "{name}");
            files.make_dir(&path).unwrap();
            files.clear(&path).unwrap();
            self.untouched();
        }
    }

    /// What the user may plant leads nowhere, and holds nobody up.
    #[test]
    fn links_and_pipes_lead_nowhere() {
        let place = place();
        let begun = Instant::now();
        type Plant<'a> = (&'a str, &'a dyn Fn(&Path));
        let make: [Plant<'_>; 5] = [
            ("plain", &|_| {}),
            ("link", &|path| symlink(&place.outside, path).unwrap()),
            ("hard", &|path| {
                drop(std::fs::hard_link(&place.outside, path))
            }),
            ("pipe", &|path| {
                nix::unistd::mkfifo(path, nix::sys::stat::Mode::S_IRWXU).unwrap()
            }),
            ("dir", &|path| {
                symlink(place.outside.parent().unwrap(), path).unwrap()
            }),
        ];
        for (name, make) in make {
            for planted in [name.to_string(), format!("{name}.next")] {
                make(&place.data.join(&planted));
                place.all(name);
                let _ = std::fs::remove_file(place.data.join(planted));
            }
        }
        // The directory itself was swapped for one of root's.
        std::fs::remove_dir_all(&place.data).unwrap();
        symlink(place.outside.parent().unwrap(), &place.data).unwrap();
        if place.files.owner.is_some() {
            assert!(
                place
                    .files
                    .put(&place.data.join("shadow"), b"mine", false)
                    .is_err()
            );
        }
        place.untouched();
        assert!(begun.elapsed() < Duration::from_secs(5), "somebody waited");
    }

    /// Where only root may write, root makes what the user is to have.
    #[test]
    fn what_root_makes_is_given_away() {
        let place = place();
        let Some((uid, gid)) = place.files.owner else {
            return;
        };
        let copy = with_ending(&place.data, "copy");
        place.files.make_dir(&copy).unwrap();
        place
            .files
            .rename(&copy, &with_ending(&place.data, "old"))
            .unwrap();
        let log = with_ending(&place.data, "log");
        place.files.append(&log).unwrap();
        for (path, mode) in [(with_ending(&place.data, "old"), 0o700), (log, 0o600)] {
            let m = std::fs::metadata(path).unwrap();
            assert_eq!((m.uid(), m.gid(), m.mode() & 0o777), (uid, gid, mode));
        }
    }
}
